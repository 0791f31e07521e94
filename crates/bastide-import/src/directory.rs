//! Directories: LDAPv3 (RFC 4511), read page by page (RFC 2696) and written as LDIF (RFC 2849).
//!
//! Only the attributes come that the manifest maps, and those that tell people from groups. Costs a text of what came, held
//! once to be put in order, and once to be compared.

use crate::{Asking, Failed, Fetched, LeftOut, MOST_ROWS, authority, secret_of};
use base64::Engine;
use bastide_formats::manifest::{DataSource, Import};
use bastide_net::secret::Hidden;
use bastide_net::{is_here, said, tls};
use ldap3::adapters::{Adapter, PagedResults};
use ldap3::asn1::{PL, StructureTag};
use ldap3::{LdapConn, LdapConnSettings, LdapError, LdapResult, ResultEntry, Scope};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
use url::Url;

/// How many entries are asked for at a time.
const PAGE: u64 = 500;
/// How many seconds an answer may take.
const WAIT: u64 = 60;
/// A longer value is an error: it is no name, and no member.
const LONGEST_VALUE: usize = 1 << 20;
/// More than this in all is an error.
const MOST_BYTES: usize = 4 << 30;
/// What tells people from groups, and who is in them.
const ALWAYS: [&str; 7] = ["objectClass", "uid", "cn", "description", "member", "uniqueMember", "memberUid"];
/// What is never asked for, whatever the manifest says. Anything with `password` in its name is not, either.
const NEVER: [&str; 8] = [
    "unicodepwd",
    "userpkcs12",
    "krbprincipalkey",
    "supplementalcredentials",
    "ntpwdhistory",
    "lmpwdhistory",
    "dbcspwd",
    "pwdhistory",
];

/// An entry: attributes by name in lower case, options kept.
type Attributes = BTreeMap<String, BTreeSet<Vec<u8>>>;

pub fn fetch(import: &Import, asking: &Asking) -> Result<Fetched, Failed> {
    let wanted = wanted(import, asking)?;
    let mut connection = connect(import, asking)?;
    let mut reading =
        DirectoryReading { entries: BTreeMap::new(), open: BTreeMap::new(), bytes: 0, left: LeftOut::default() };
    let base = import.base.as_ref().map_or("", |base| &base.text);
    let filter = import.filter.as_ref().map_or("(objectClass=*)", |filter| &filter.text);
    let found = search(&mut connection, import, (base, Scope::Subtree, filter), &wanted, &mut |entry| {
        reading.take(entry, &wanted)?;
        let most = import.at_most.unwrap_or(MOST_ROWS);
        match reading.entries.len() as u64 > most {
            true => Err(Failed::new(format!("it gives more than {most} entries; if so many are right, set `at_most`"))),
            false => Ok(()),
        }
    })?;
    for other in found {
        reading.left.note("other servers that it names, which were not asked", other);
    }
    if reading.entries.is_empty() {
        return Err(Failed::new("it gives nobody"));
    }
    rest_of_ranges(&mut connection, import, &mut reading)?;
    let _ = connection.unbind();
    let files = [(import.into.text.clone(), ldif(reading.entries))].into();
    Ok(Fetched { files, left: reading.left.finish(), decisions: Vec::new() })
}

/// The attributes that are asked for.
fn wanted(import: &Import, asking: &Asking) -> Result<Vec<String>, Failed> {
    let mut names: BTreeMap<String, String> = BTreeMap::new();
    let mut want = |name: &str| -> Result<(), Failed> {
        let lower = name.to_lowercase();
        if lower.contains("password") || NEVER.contains(&lower.as_str()) {
            return Err(Failed::new(format!("`{name}` is a secret of somebody: it is never read")));
        }
        names.entry(lower).or_insert_with(|| name.to_string());
        Ok(())
    };
    ALWAYS.iter().try_for_each(|name| want(name))?;
    for source in sources(import, asking) {
        source.attributes.iter().try_for_each(|(theirs, _)| want(theirs))?;
        source.active.iter().try_for_each(|rule| want(&rule.attribute.text))?;
        source.group_id.iter().filter(|id| id.text != "dn").try_for_each(|id| want(&id.text))?;
    }
    Ok(names.into_values().collect())
}

/// The sources of the manifest that read what is written here.
fn sources<'a>(import: &'a Import, asking: &'a Asking) -> impl Iterator<Item = &'a DataSource> {
    let manifest = asking.manifest;
    manifest
        .people
        .iter()
        .chain(&manifest.groups)
        .chain(&manifest.sessions)
        .filter(|source| source.names(&import.into.text))
}

fn connect(import: &Import, asking: &Asking) -> Result<LdapConn, Failed> {
    let url =
        Url::parse(&import.from.text).map_err(|e| Failed::new(format!("`{}` is no address: {e}", import.from.text)))?;
    let bind = import.bind.as_ref().map(|bind| bind.text.as_str());
    let secret = secret_of(import, asking)?;
    let clear = url.scheme() == "ldap" && !import.starttls;
    let host = url.host_str().unwrap_or_default();
    if secret.is_some() && clear && !import.clear && !is_here(host) {
        return Err(Failed::new(
            "the secret would cross the network in clear: write `ldaps://`, or `starttls = true`; where the network is trusted, \
             `clear = true`",
        ));
    }
    let wait = Duration::from_secs(import.wait.unwrap_or(WAIT));
    let mut settings = LdapConnSettings::new().set_conn_timeout(wait).set_starttls(import.starttls);
    if url.scheme() == "ldaps" || import.starttls {
        settings = settings.set_config(tls::config(authority(import), asking.root)?);
    }
    let mut connection = LdapConn::from_url_with_settings(settings, &url)
        .map_err(|error| Failed::new(format!("`{}` cannot be reached: {}", import.from.text, said(&error))))?;
    connection.with_timeout(wait);
    let result = match (bind, &secret) {
        (Some(bind), Some(secret)) => connection.simple_bind(bind, Hidden::reveal(secret)),
        (Some(_), None) => {
            return Err(Failed::new("`bind` names somebody, and `secret` does not say where the secret is"));
        }
        (None, Some(_)) => return Err(Failed::new("there is a secret, and `bind` does not say whose it is")),
        (None, None) if url.scheme() == "ldapi" => connection.sasl_external_bind(),
        // Nobody in particular: what a directory shows to everybody.
        (None, None) => return Ok(connection),
    };
    let result = result.map_err(|error| Failed::new(format!("signing in failed: {}", said(&error))))?;
    match result.rc {
        0 => Ok(connection),
        49 => Err(Failed::new("the directory does not know this name with this secret")),
        _ => Err(Failed::new(format!("signing in was refused: {}", told(&result)))),
    }
}

/// What a search goes through: a base, how deep, and which entries.
type Where<'w> = (&'w str, Scope, &'w str);

/// Gives every entry to `take`; the addresses of other servers that the directory names come back.
fn search(
    connection: &mut LdapConn,
    import: &Import,
    (base, scope, filter): Where,
    wanted: &[String],
    take: &mut dyn FnMut(ResultEntry) -> Result<(), Failed>,
) -> Result<Vec<String>, Failed> {
    let page = i32::try_from(import.page.unwrap_or(PAGE)).unwrap_or(i32::MAX);
    let attributes: Vec<String> = wanted.to_vec();
    let adapters: Vec<Box<dyn Adapter<String, Vec<String>>>> = match scope {
        Scope::Base => Vec::new(),
        _ => vec![Box::new(PagedResults::new(page))],
    };
    let broken = |error: LdapError| match error {
        LdapError::FilterParsing => Failed::new(format!("`{filter}` is no filter (RFC 4515)")),
        error => Failed::new(format!("the directory broke off: {}", said(&error))),
    };
    connection.with_timeout(Duration::from_secs(import.wait.unwrap_or(WAIT)));
    let mut stream = connection.streaming_search_with(adapters, base, scope, filter, attributes).map_err(broken)?;
    let mut others = Vec::new();
    while let Some(entry) = stream.next().map_err(broken)? {
        if entry.is_ref() {
            others.extend(texts(&entry.0));
        } else if !entry.is_intermediate() {
            take(entry)?;
        }
    }
    let result = stream.result();
    match result.rc {
        0 => Ok(others),
        3 | 4 | 11 => Err(Failed::new(format!(
            "the directory gave a part only, and stopped at a limit of its own: {}",
            told(&result)
        ))),
        10 => Err(Failed::new(format!(
            "`{base}` is kept by another server, which was not asked: {}",
            result.refs.join(", ")
        ))),
        32 => Err(Failed::new(format!("the directory has no entry `{base}` that may be seen"))),
        _ => Err(Failed::new(format!("the directory refused: {}", told(&result)))),
    }
}

/// The primitive parts of a structure, as texts.
fn texts(tag: &StructureTag) -> Vec<String> {
    let text = |part: &StructureTag| match &part.payload {
        PL::P(bytes) => String::from_utf8_lossy(bytes).into_owned(),
        PL::C(_) => "an address that cannot be read".to_string(),
    };
    match &tag.payload {
        PL::C(parts) => parts.iter().map(text).collect(),
        PL::P(_) => vec![text(tag)],
    }
}

fn told(result: &LdapResult) -> String {
    let text = if result.text.is_empty() { String::new() } else { format!(", {}", result.text) };
    format!("result {}{text}", result.rc)
}

struct DirectoryReading {
    /// By distinguished name, the lines of an entry.
    entries: BTreeMap<String, Box<str>>,
    /// Entries of which a list came in part.
    open: BTreeMap<String, Attributes>,
    bytes: usize,
    left: LeftOut,
}

impl DirectoryReading {
    /// Takes an entry in: what was asked for of it. A server is not believed to keep to that.
    fn take(&mut self, entry: ResultEntry, wanted: &[String]) -> Result<(), Failed> {
        let (name, attributes) = parts(entry).ok_or_else(|| Failed::new("the directory gave an entry that is none"))?;
        let mut kept = Attributes::new();
        for (attribute, values) in attributes {
            let attribute = attribute.to_lowercase();
            let plain = attribute.split(';').next().unwrap_or_default();
            if !wanted.iter().any(|wanted| wanted.eq_ignore_ascii_case(plain)) {
                continue;
            }
            for value in &values {
                self.bytes += value.len() + attribute.len();
                if value.len() > LONGEST_VALUE {
                    let long = value.len();
                    return Err(Failed::new(format!(
                        "`{attribute}` of `{name}` holds a value of {long} bytes: it is no name, and no member"
                    )));
                }
            }
            kept.entry(attribute).or_default().extend(values);
        }
        self.bytes += name.len();
        if self.bytes > MOST_BYTES {
            return Err(Failed::new(format!("it gives more than {} GiB", MOST_BYTES >> 30)));
        }
        let lines = lines(&name, &kept);
        if self.entries.insert(name.clone(), lines.into()).is_some() {
            return Err(Failed::new(format!("`{name}` came twice: the directory changes while it is read")));
        }
        if kept.keys().any(|attribute| range(attribute).is_some()) {
            self.open.insert(name, kept);
        }
        Ok(())
    }
}

/// An attribute as it came, and its values.
type Given = (String, Vec<Vec<u8>>);

/// The name and the attributes of an entry; none where it is malformed.
fn parts(entry: ResultEntry) -> Option<(String, Vec<Given>)> {
    let mut parts = entry.0.match_id(4)?.expect_constructed()?.into_iter();
    let name = String::from_utf8(parts.next()?.expect_primitive()?).ok()?;
    let attribute = |tag: StructureTag| {
        let mut parts = tag.expect_constructed()?.into_iter();
        let name = String::from_utf8(parts.next()?.expect_primitive()?).ok()?;
        let values: Option<Vec<Vec<u8>>> =
            parts.next()?.expect_constructed()?.into_iter().map(StructureTag::expect_primitive).collect();
        Some((name, values?))
    };
    let attributes: Option<Vec<_>> = parts.next()?.expect_constructed()?.into_iter().map(attribute).collect();
    Some((name, attributes?))
}

/// Some directories give a long list in parts (`member;range=0-1499`): the rest is asked for.
fn rest_of_ranges(connection: &mut LdapConn, import: &Import, reading: &mut DirectoryReading) -> Result<(), Failed> {
    for (name, mut entry) in std::mem::take(&mut reading.open) {
        let first: Vec<String> = entry.keys().filter(|attribute| range(attribute).is_some()).cloned().collect();
        for first in first {
            let mut at = first;
            while let Some((plain, last)) = range(&at) {
                let values = entry.remove(&at).unwrap_or_default();
                entry.entry(plain.clone()).or_default().extend(values);
                let Some(last) = last else { break };
                let next = [format!("{plain};range={}-*", last + 1)];
                let mut more = None;
                let place: Where = (&name, Scope::Base, "(objectClass=*)");
                search(connection, import, place, &next, &mut |entry| {
                    let of_list = |(name, _): &Given| range(name).is_some_and(|(of, _)| of == plain);
                    more = parts(entry).and_then(|(_, attributes)| attributes.into_iter().find(of_list));
                    Ok(())
                })?;
                let ends = || {
                    let message = format!("the list `{plain}` of `{name}` ends with number {last}, and there are more");
                    Failed::new(message)
                };
                let (more, values) = more.ok_or_else(ends)?;
                let more = more.to_lowercase();
                // A part that does not go on would be asked for without end.
                if values.is_empty() || range(&more).is_some_and(|(_, until)| until.is_some_and(|until| until <= last))
                {
                    return Err(ends());
                }
                reading.bytes += values.iter().map(Vec::len).sum::<usize>();
                if reading.bytes > MOST_BYTES {
                    return Err(Failed::new(format!("it gives more than {} GiB", MOST_BYTES >> 30)));
                }
                entry.insert(more.clone(), values.into_iter().collect());
                at = more;
            }
        }
        let whole = lines(&name, &entry).into();
        reading.entries.insert(name, whole);
    }
    Ok(())
}

/// The attribute of a part of a list, and the number of its last value; none where it goes to the end.
fn range(attribute: &str) -> Option<(String, Option<u64>)> {
    let mut options = attribute.split(';');
    let plain = options.next()?;
    let (_, until) = options.find_map(|option| {
        option.to_lowercase().strip_prefix("range=")?.split_once('-').map(|(a, b)| (a.to_string(), b.to_string()))
    })?;
    Some((plain.to_lowercase(), if until == "*" { None } else { Some(until.parse().ok()?) }))
}

/// Entries in the order of their names.
fn ldif(entries: BTreeMap<String, Box<str>>) -> String {
    let mut out = String::from("version: 1\n");
    for lines in entries.into_values() {
        out.push('\n');
        out.push_str(&lines);
    }
    out
}

/// The lines of an entry: its attributes and their values in order.
fn lines(name: &str, attributes: &Attributes) -> String {
    let mut out = String::new();
    line(&mut out, "dn", name.as_bytes());
    for (attribute, values) in attributes {
        for value in values {
            line(&mut out, attribute, value);
        }
    }
    out
}

/// A line is folded after so many bytes.
const FOLD: usize = 76;

fn line(out: &mut String, name: &str, value: &[u8]) {
    let safe = |b: &u8| matches!(b, b' '..=b'~');
    let begins = value.first().is_some_and(|b| matches!(b, b' ' | b':' | b'<'));
    let plain = value.iter().all(safe) && !begins && value.last() != Some(&b' ');
    let whole = match std::str::from_utf8(value).ok().filter(|_| plain) {
        Some(text) => format!("{name}: {text}"),
        None => format!("{name}:: {}", base64::engine::general_purpose::STANDARD.encode(value)),
    };
    // All of it is ASCII, but for names of attributes, which a server might make of anything.
    let mut room = FOLD;
    for c in whole.chars() {
        if room < c.len_utf8() {
            out.push_str("\n ");
            room = FOLD - 1;
        }
        out.push(c);
        room -= c.len_utf8();
    }
    out.push('\n');
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_safe_and_folded() {
        let shown = |value: &[u8]| {
            let mut out = String::new();
            line(&mut out, "cn", value);
            out
        };
        assert_eq!(shown(b"Ann Lee"), "cn: Ann Lee\n");
        assert_eq!(shown(b" Ann"), "cn:: IEFubg==\n");
        assert_eq!(shown("S\u{f8}ren".as_bytes()), "cn:: U8O4cmVu\n");
        assert_eq!(shown(b"a\ndn: o=x"), "cn:: YQpkbjogbz14\n");
        let long = shown(&[b'x'; 200]);
        assert!(long.lines().all(|line| line.len() <= FOLD), "{long}");
        assert_eq!(long.replace("\n ", ""), format!("cn: {}\n", "x".repeat(200)));
    }

    #[test]
    fn parts_of_lists_are_known() {
        assert_eq!(range("member;range=0-1499"), Some(("member".to_string(), Some(1499))));
        assert_eq!(range("member;Range=1500-*"), Some(("member".to_string(), None)));
        assert_eq!(range("member"), None);
        assert_eq!(range("cn;lang-de"), None);
    }
}
