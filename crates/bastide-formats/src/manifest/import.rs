//! `[[import]]`: the systems that people and content are read from, and how to reach them.

use super::{Reader, TomlEntry};
use crate::text::Placed;
use bastide_net::secret::Secret;
use bastide_syntax::{Diagnostic, Span, codes};
use toml::Spanned;
use toml::de::DeValue;

/// A system by the protocol it is spoken to with.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum System {
    /// A directory: LDAPv3 (RFC 4511).
    Directory,
    /// A provisioning service: SCIM 2.0 (RFC 7644).
    Scim,
    /// A PostgreSQL database.
    Database,
    /// A tree of folders and files with POSIX permissions and access control lists.
    Tree,
}

impl System {
    const SCHEMES: [(&'static str, System); 7] = [
        ("ldap", System::Directory),
        ("ldaps", System::Directory),
        ("ldapi", System::Directory),
        ("https", System::Scim),
        ("postgres", System::Database),
        ("postgresql", System::Database),
        ("file", System::Tree),
    ];

    fn of(from: &str) -> Option<System> {
        // A file may be named relative to the manifest, and then has no `//`.
        let scheme =
            from.split_once("://").map(|(scheme, _)| scheme).or_else(|| from.strip_prefix("file:").map(|_| "file"))?;
        System::SCHEMES.iter().find(|(known, _)| *known == scheme).map(|(_, system)| *system)
    }

    /// The keys that mean something for it, besides `name`, `from` and `into`.
    fn keys(self) -> &'static [&'static str] {
        match self {
            System::Directory => {
                &["base", "bind", "secret", "authority", "starttls", "filter", "page", "wait", "clear", "at_most"]
            }
            System::Scim => &["secret", "authority", "wait", "at_most", "page"],
            System::Database => &["secret", "authority", "wait", "clear", "at_most", "prefix", "schemas"],
            System::Tree => &["at_most", "prefix", "users", "groups"],
        }
    }
}

/// What an import finds out about a table.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Counting {
    /// Each part of its name.
    pub table: Vec<String>,
    /// The columns by whose values rows are told apart.
    pub slices: Vec<String>,
}

/// One `[[import]]`.
#[derive(Clone, Debug)]
pub struct Import {
    /// What it is called.
    pub name: Placed,
    /// Where it is.
    pub from: Placed,
    /// The protocol.
    pub system: System,
    /// The file or folder that it is written to, relative to the estate.
    pub into: Placed,
    /// Where in a directory to search.
    pub base: Option<Placed>,
    /// Whom to sign in as, where the address does not say.
    pub bind: Option<Placed>,
    /// The secret to sign in with.
    pub secret: Option<Secret>,
    /// A file with the certificates of the authorities that are believed, in place of the system's.
    pub authority: Option<Placed>,
    /// Whether a connection that begins in clear is made a secret one.
    pub starttls: bool,
    /// Which entries of a directory.
    pub filter: Option<Placed>,
    /// How many entries are asked for at a time.
    pub page: Option<u64>,
    /// How many seconds an answer may take.
    pub wait: Option<u64>,
    /// Whether a secret may cross a network in clear.
    pub clear: bool,
    /// More than so many rows are an error.
    pub at_most: Option<u64>,
    /// What every id is given in front.
    pub prefix: String,
    /// The schemas of a database; all but the system's own otherwise.
    pub schemas: Vec<Placed>,
    /// The file of accounts of a tree, in place of the system's.
    pub users: Option<Placed>,
    /// The file of groups of a tree, in place of the system's.
    pub groups: Option<Placed>,
    /// Where a table of a database is to be looked into, and nothing else of it.
    pub counting: Option<Counting>,
}

impl Import {
    /// Of an address; nothing else is said yet.
    fn of(from: Placed, system: System, span: Span) -> Import {
        let none = Placed { text: String::new(), span };
        Import {
            name: none.clone(),
            from,
            system,
            into: none,
            base: None,
            bind: None,
            secret: None,
            authority: None,
            starttls: false,
            filter: None,
            page: None,
            wait: None,
            clear: false,
            at_most: None,
            prefix: String::new(),
            schemas: Vec::new(),
            users: None,
            groups: None,
            counting: None,
        }
    }
}

const EVERYWHERE: [&str; 3] = ["name", "from", "into"];

impl Reader<'_> {
    pub(super) fn imports(&mut self, value: &Spanned<DeValue>) -> Vec<Import> {
        let DeValue::Array(list) = value.get_ref() else {
            self.wrong(value, "expected `[[import]]`: there may be several");
            return Vec::new();
        };
        let mut found: Vec<Import> = Vec::new();
        for value in list {
            let Some(import) = self.import(value) else { continue };
            if let Some(other) = found.iter().find(|other| other.name.text == import.name.text) {
                let message = format!("two imports are named `{}`", import.name.text);
                let told = Diagnostic::at(&codes::MANIFEST, import.name.span, message);
                self.out.push(told.other(other.name.span, "here is the other one"));
            }
            if let Some(other) = found.iter().find(|other| overlap(&other.into.text, &import.into.text)) {
                let message = format!("two imports write to `{}`", import.into.text);
                let told = Diagnostic::at(&codes::MANIFEST, import.into.span, message);
                self.out.push(told.other(other.into.span, "here is the other one"));
            }
            found.push(import);
        }
        found
    }

    fn import(&mut self, value: &Spanned<DeValue>) -> Option<Import> {
        let table = self.table(value)?;
        let from = table.iter().find(|(key, _)| key.get_ref() == "from").map(|(_, value)| value);
        let Some(from) = from else {
            self.wrong(value, "an import that does not say `from` where");
            return None;
        };
        let from = self.text(from)?;
        let Some(system) = System::of(&from.text) else {
            let names = System::SCHEMES.map(|(name, _)| format!("{name}://"));
            let message = format!("`{}` is no address that can be imported from", from.text);
            let told = Diagnostic::at(&codes::MANIFEST, from.span, message);
            self.out.push(told.note(format!("an address begins with one of {}", names.join(", "))));
            return None;
        };
        let mut import = Import::of(from, system, self.span(value));
        let known: Vec<&str> = EVERYWHERE.iter().chain(system.keys()).copied().collect();
        for entry in self.entries(table, &known) {
            self.setting(&mut import, entry);
        }
        for (key, given) in [("name", &import.name), ("into", &import.into)] {
            if given.text.is_empty() {
                self.out.push(Diagnostic::at(
                    &codes::MANIFEST,
                    given.span,
                    format!("an import that does not say `{key}`"),
                ));
            }
        }
        if system == System::Directory && import.base.is_none() {
            let told = Diagnostic::at(
                &codes::MANIFEST,
                import.from.span,
                "an import from a directory that does not say `base`",
            );
            self.out.push(
                told.help("`base` is the entry beneath which to search, as in `base = \"dc=fourtides,dc=example\"`"),
            );
        }
        if !import.into.text.is_empty() {
            self.written_to(&import);
        }
        self.no_secret_in(&import.from);
        (!import.name.text.is_empty() && !import.into.text.is_empty()).then_some(import)
    }

    /// An import from an address that must be one of a system.
    pub(super) fn reached(&mut self, from: &Spanned<DeValue>, system: System) -> Option<Import> {
        let from = self.text(from)?;
        if System::of(&from.text) != Some(system) {
            let message = format!("`{}` is no address of a database: `postgres://NAME@HOST/DATABASE`", from.text);
            self.out.push(Diagnostic::at(&codes::MANIFEST, from.span, message));
            return None;
        }
        self.no_secret_in(&from);
        let span = from.span;
        Some(Import::of(from, system, span))
    }

    pub(super) fn no_secret_in(&mut self, from: &Placed) {
        if carries_secret(&from.text) {
            let told = Diagnostic::at(&codes::MANIFEST, from.span, "an address with a secret in it");
            let help =
                "a secret stands in no file that is kept: write `secret = \"env:NAME\"`, `\"file:PATH\"` or `\"ask\"`";
            self.out.push(told.help(help));
        }
    }

    pub(super) fn setting(&mut self, import: &mut Import, (key, value): TomlEntry) {
        match key.get_ref().as_ref() {
            "name" => import.name = self.text(value).unwrap_or_else(|| import.name.clone()),
            "into" => import.into = self.text(value).unwrap_or_else(|| import.into.clone()),
            "base" => import.base = self.text(value),
            "bind" => import.bind = self.text(value),
            "secret" => import.secret = self.secret(value),
            "authority" => import.authority = self.text(value),
            "filter" => import.filter = self.text(value),
            "users" => import.users = self.text(value),
            "groups" => import.groups = self.text(value),
            "prefix" => import.prefix = self.text(value).map(|t| t.text).unwrap_or_default(),
            "schemas" => import.schemas = self.texts(value),
            "page" => import.page = self.number(value),
            "wait" => import.wait = self.number(value),
            "at_most" => import.at_most = self.number(value),
            "starttls" => import.starttls = self.flag(value),
            "clear" => import.clear = self.flag(value),
            // It was read first.
            _ => {}
        }
    }

    pub(super) fn number(&mut self, value: &Spanned<DeValue>) -> Option<u64> {
        let number = match value.get_ref() {
            DeValue::Integer(number) => number.as_str().replace('_', "").parse::<u64>().ok().filter(|n| *n > 0),
            _ => None,
        };
        if number.is_none() {
            self.wrong(value, "expected a whole number from 1 up");
        }
        number
    }

    pub(super) fn flag(&mut self, value: &Spanned<DeValue>) -> bool {
        match value.get_ref() {
            DeValue::Boolean(flag) => *flag,
            _ => {
                self.wrong(value, "expected `true` or `false`");
                false
            }
        }
    }

    pub(super) fn secret(&mut self, value: &Spanned<DeValue>) -> Option<Secret> {
        let text = self.text(value)?;
        let secret = match text.text.split_once(':') {
            Some(("env", name)) if !name.is_empty() => Some(Secret::Environment(name.to_string())),
            Some(("file", path)) if !path.is_empty() => Some(Secret::File(path.to_string())),
            None if text.text == "ask" => Some(Secret::Ask),
            _ => None,
        };
        if secret.is_none() {
            // What stands there may be the secret: it is not said again.
            let told =
                Diagnostic::at(&codes::MANIFEST, text.span, "expected where the secret is, never the secret itself");
            self.out.push(told.note("write `\"env:NAME\"` (a variable), `\"file:PATH\"` or `\"ask\"`"));
        }
        secret
    }

    fn written_to(&mut self, import: &Import) {
        let path = &import.into.text;
        let plain =
            |segment: &str| !segment.is_empty() && !segment.starts_with('.') && !segment.contains(['*', '?', '[']);
        let mut problem = (!path.split('/').all(plain) || path.contains(['\\', '\0']))
            .then(|| format!("`{path}` is no plain path inside the estate"));
        if import.system == System::Directory && !path.ends_with(".ldif") {
            problem =
                problem.or_else(|| Some(format!("what comes from a directory is LDIF: `{path}` must end in `.ldif`")));
        }
        if import.system == System::Scim && !path.ends_with(".scim.jsonl") {
            let told =
                format!("what comes from there is SCIM, one resource a line: `{path}` must end in `.scim.jsonl`");
            problem = problem.or(Some(told));
        }
        if let Some(problem) = problem {
            self.out.push(Diagnostic::at(&codes::MANIFEST, import.into.span, problem));
        }
    }
}

/// Whether one path is the other, or lies in it.
fn overlap(one: &str, other: &str) -> bool {
    let within = |inner: &str, outer: &str| {
        inner.strip_prefix(outer).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    within(one, other) || within(other, one)
}

/// Whether the part of an address that names somebody holds a secret, too.
fn carries_secret(from: &str) -> bool {
    let rest = from.split_once("://").map_or("", |(_, rest)| rest);
    let place = rest.split(['/', '?']).next().unwrap_or_default();
    let query = rest.split_once('?').map_or("", |(_, query)| query);
    place.rsplit_once('@').is_some_and(|(who, _)| who.contains(':'))
        || query.split('&').any(|part| part.starts_with("password"))
}
