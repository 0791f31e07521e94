//! `bastide.toml`: what an estate is made of.

mod import;
mod inside;
mod storage;

pub use import::{Counting, Import, System};
pub use inside::{InsideSource, table_name};
pub use storage::ObjectStorage;

use crate::activity::{ActiveRule, Off};
use crate::farewell::WORDS;
use crate::text::Placed;
use bastide_model::value::Pattern;
use bastide_model::{Combining, Reach};
use bastide_syntax::codes::Code;
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Severity, Span, codes};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// The name of the file.
pub const NAME: &str = "bastide.toml";

/// How a data file is written.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Format {
    /// RFC 4180.
    Csv,
    /// One JSON object a line.
    JsonLines,
    /// SCIM 2.0 (RFC 7643, RFC 7644).
    Scim,
    /// RFC 2849.
    Ldif,
    /// A sheet of a workbook: Office Open XML (ISO/IEC 29500) or OpenDocument (ISO/IEC 26300).
    Workbook,
    /// Apache Parquet.
    Parquet,
}

impl Format {
    const NAMES: [(&'static str, Format); 4] =
        [("csv", Format::Csv), ("jsonl", Format::JsonLines), ("scim", Format::Scim), ("ldif", Format::Ldif)];

    /// The format that a file's name speaks of, `.gz` left aside.
    pub fn of_name(name: &str) -> Option<Format> {
        let name = name.strip_suffix(".gz").unwrap_or(name);
        let endings = [
            (".csv", Format::Csv),
            (".scim.json", Format::Scim),
            (".scim.jsonl", Format::Scim),
            (".jsonl", Format::JsonLines),
            (".ldif", Format::Ldif),
            (".xlsx", Format::Workbook),
            (".ods", Format::Workbook),
            (".parquet", Format::Parquet),
        ];
        endings.iter().find(|(ending, _)| name.ends_with(ending)).map(|(_, format)| *format)
    }
}

/// One `[[people]]`, `[[groups]]`, `[[catalog]]`, `[[entries]]`, `[[sessions]]` or `[[usage]]`.
#[derive(Clone, Debug)]
pub struct DataSource {
    /// A path or glob.
    pub file: Placed,
    /// Where the name of the file does not tell.
    pub format: Option<Format>,
    /// The realm of people that name none.
    pub realm: Option<String>,
    /// Names in the source, and ours.
    pub attributes: Vec<(String, Placed)>,
    /// Fewer rows than this are an error.
    pub at_least: Option<(usize, Span)>,
    /// The attribute that is a group's id, where it is not its name.
    pub group_id: Option<Placed>,
    /// What says whether an account is active.
    pub active: Vec<ActiveRule>,
    /// Columns that are left aside.
    pub ignore: Vec<Placed>,
    /// By our name of a column, their words and ours.
    pub values: Vec<(Placed, Words)>,
    /// The kind of rows that say none.
    pub kind: Option<Placed>,
    /// Whether parents are given as paths.
    pub by_path: bool,
    /// The sheet of a workbook; the first one otherwise.
    pub sheet: Option<Placed>,
    /// Whether it is a grid of users by places, and how far what is in it reaches.
    pub grid: Option<Reach>,
    /// Whether each of its files is a part that stands on its own.
    pub parts: bool,
}

/// Their words, and ours.
pub type Words = Vec<(String, Placed)>;

impl DataSource {
    /// A file, read as it is.
    pub fn of(file: Placed) -> DataSource {
        DataSource {
            file,
            format: None,
            realm: None,
            attributes: Vec::new(),
            at_least: None,
            group_id: None,
            active: Vec::new(),
            ignore: Vec::new(),
            values: Vec::new(),
            kind: None,
            by_path: false,
            sheet: None,
            grid: None,
            parts: false,
        }
    }

    /// Whether it reads a file, by its path in the estate.
    pub fn names(&self, path: &str) -> bool {
        names(&self.file.text, path)
    }
}

/// Whether a path or pattern of the manifest names a file.
pub fn names(pattern: &str, path: &str) -> bool {
    let options = glob::MatchOptions { require_literal_separator: true, ..glob::MatchOptions::new() };
    let pattern = pattern.trim_start_matches("./");
    pattern == path || glob::Pattern::new(pattern).is_ok_and(|pattern| pattern.matches_with(path, options))
}

/// The manifest.
#[derive(Debug)]
pub struct Manifest {
    /// The estate's name.
    pub name: String,
    /// Paths and globs of policy files.
    pub policy: Vec<Placed>,
    /// The combining algorithm.
    pub combining: Combining,
    /// Layers in order.
    pub layers: Vec<String>,
    /// People.
    pub people: Vec<DataSource>,
    /// Groups.
    pub groups: Vec<DataSource>,
    /// The catalog.
    pub catalog: Vec<DataSource>,
    /// Access entries.
    pub entries: Vec<DataSource>,
    /// How users sign in.
    pub sessions: Vec<DataSource>,
    /// Who did what.
    pub usage: Vec<DataSource>,
    /// The attribute of users that holds the ids of all groups they are in.
    pub member_of: Option<Placed>,
    /// What lies inside datasets.
    pub insides: Vec<InsideSource>,
    /// The systems that people and content are read from.
    pub imports: Vec<Import>,
    /// Where parts of the catalog lie that are no files.
    pub storage: Option<ObjectStorage>,
    /// What the audit goes by.
    pub audit: AuditSettings,
    /// Whether files may lie outside of the estate.
    pub outside: bool,
    /// Diagnostics and the levels they are reported at.
    pub levels: Vec<(&'static Code, Severity)>,
}

/// What the audit goes by.
#[derive(Clone, Debug)]
pub struct AuditSettings {
    /// Findings and the levels they are reported at.
    pub levels: Vec<(Placed, String)>,
    /// Limits by name.
    pub limits: Vec<(Placed, f64)>,
    /// Actions that do no harm.
    pub harmless: Vec<String>,
    /// Words that a text begins with which says of a user to be gone.
    pub gone: Vec<String>,
}

impl Default for AuditSettings {
    fn default() -> Self {
        AuditSettings {
            levels: Vec::new(),
            limits: Vec::new(),
            harmless: vec!["read".to_string()],
            gone: WORDS.map(str::to_string).to_vec(),
        }
    }
}

/// What every source may say.
const FILE: &[&str] = &["file", "format", "at_least"];
/// What sources may say whose rows are shaped.
const SHAPE: &[&str] = &["attributes", "ignore", "values", "sheet"];

/// Reads a manifest. What cannot be used is reported.
pub fn read(file: FileId, text: &str, out: &mut Diagnostics) -> Manifest {
    out.extend(bastide_syntax::hidden::check(file, text, &[]));
    let mut reader = Reader { file, out };
    let (table, errors) = DeTable::parse_recoverable(text);
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        let message = error.message().to_string();
        reader.out.push(Diagnostic::at(&codes::MANIFEST, Span::new(file, span.start, span.end), message));
    }
    reader.manifest(table.get_ref())
}

struct Reader<'o> {
    file: FileId,
    out: &'o mut Diagnostics,
}

type TomlEntry<'a, 'i> = (&'a Spanned<std::borrow::Cow<'i, str>>, &'a Spanned<DeValue<'i>>);

impl Reader<'_> {
    fn span<T>(&self, of: &Spanned<T>) -> Span {
        Span::new(self.file, of.span().start, of.span().end)
    }

    fn wrong<T>(&mut self, of: &Spanned<T>, message: impl Into<String>) {
        let span = self.span(of);
        self.out.push(Diagnostic::at(&codes::MANIFEST, span, message));
    }

    fn entries<'a, 'i>(&mut self, table: &'a DeTable<'i>, known: &[&str]) -> Vec<TomlEntry<'a, 'i>> {
        let mut found = Vec::new();
        for (key, value) in table {
            let name = key.get_ref().as_ref();
            if known.contains(&name) {
                found.push((key, value));
                continue;
            }
            let span = self.span(key);
            let near = nearest(name, known.iter().copied());
            let diagnostic = Diagnostic::at(&codes::MANIFEST, span, format!("unknown key `{name}`"));
            self.out.push(match near {
                Some(near) => diagnostic.help(format!("did you mean `{near}`?")),
                None => diagnostic.note(format!("the keys known here are {}", known.join(", "))),
            });
        }
        found
    }

    fn text(&mut self, value: &Spanned<DeValue>) -> Option<Placed> {
        match value.get_ref() {
            DeValue::String(text) => Some(Placed { text: text.to_string(), span: self.span(value) }),
            _ => {
                self.wrong(value, "expected a text in quotes");
                None
            }
        }
    }

    fn texts(&mut self, value: &Spanned<DeValue>) -> Vec<Placed> {
        match value.get_ref() {
            DeValue::Array(list) => list.iter().filter_map(|v| self.text(v)).collect(),
            _ => {
                self.wrong(value, "expected a list of texts: `[\"...\"]`");
                Vec::new()
            }
        }
    }

    fn table<'a, 'i>(&mut self, value: &'a Spanned<DeValue<'i>>) -> Option<&'a DeTable<'i>> {
        if let DeValue::Table(table) = value.get_ref() {
            return Some(table);
        }
        self.wrong(value, "expected a table");
        None
    }

    fn manifest(&mut self, table: &DeTable) -> Manifest {
        let mut manifest = Manifest {
            name: String::new(),
            policy: Vec::new(),
            combining: Combining::DenyOverrides,
            layers: Vec::new(),
            people: Vec::new(),
            groups: Vec::new(),
            catalog: Vec::new(),
            entries: Vec::new(),
            sessions: Vec::new(),
            usage: Vec::new(),
            insides: Vec::new(),
            imports: Vec::new(),
            storage: None,
            member_of: None,
            audit: AuditSettings::default(),
            outside: false,
            levels: Vec::new(),
        };
        let known = [
            "name",
            "policy",
            "decide",
            "people",
            "groups",
            "catalog",
            "entries",
            "sessions",
            "usage",
            "inside",
            "import",
            "storage",
            "audit",
            "allow",
            "check",
            "member_of",
        ];
        for (key, value) in self.entries(table, &known) {
            match key.get_ref().as_ref() {
                "name" => manifest.name = self.text(value).map(|t| t.text).unwrap_or_default(),
                "policy" => manifest.policy = self.texts(value),
                "decide" => self.decide(value, &mut manifest),
                "people" => {
                    manifest.people =
                        self.sources(value, &[FILE, SHAPE, &["realm", "kind", "group_id", "active"]].concat())
                }
                "groups" => {
                    manifest.groups = self.sources(value, &[FILE, SHAPE, &["group_id"]].concat());
                }
                "catalog" => {
                    manifest.catalog = self.sources(value, &[FILE, SHAPE, &["kind", "parents", "parts"]].concat())
                }
                "entries" => manifest.entries = self.sources(value, &[FILE, SHAPE, &["layout", "reach"]].concat()),
                "sessions" => manifest.sessions = self.sources(value, &[FILE, SHAPE].concat()),
                "usage" => manifest.usage = self.sources(value, FILE),
                "member_of" => manifest.member_of = self.text(value),
                "inside" => {
                    let (insides, imports) = self.insides(value);
                    manifest.insides = insides;
                    manifest.imports.extend(imports);
                }
                "import" => manifest.imports.extend(self.imports(value)),
                "storage" => manifest.storage = self.storage(value),
                "allow" => self.allow(value, &mut manifest),
                "check" => self.check(value, &mut manifest),
                _ => self.audit(value, &mut manifest.audit),
            }
        }
        self.addresses(&mut manifest);
        if manifest.policy.is_empty() {
            let span = Span::new(self.file, 0, 0);
            let help = "to name the policy files, write `policy = [\"policy/**/*.bastide\"]`";
            self.out.push(Diagnostic::at(&codes::MANIFEST, span, "the manifest names no policy files").help(help));
        }
        manifest
    }

    fn decide(&mut self, value: &Spanned<DeValue>, manifest: &mut Manifest) {
        let Some(table) = self.table(value) else { return };
        for (key, value) in self.entries(table, &["combining", "layers"]) {
            if key.get_ref() == "layers" {
                for layer in self.texts(value) {
                    let message = match layer.text.as_str() {
                        "rest" => "`rest` is reserved: it is the layer of statements that name none",
                        text if manifest.layers.iter().any(|l| l == text) => "the layer stands twice",
                        _ => {
                            manifest.layers.push(layer.text);
                            continue;
                        }
                    };
                    self.out.push(Diagnostic::at(&codes::MANIFEST, layer.span, message));
                }
                continue;
            }
            let Some(text) = self.text(value) else { continue };
            match Combining::NAMES.iter().find(|(name, _)| *name == text.text) {
                Some((_, combining)) => manifest.combining = *combining,
                None => {
                    let names = Combining::NAMES.map(|(name, _)| name);
                    let message = format!("`{}` is no combining algorithm", text.text);
                    let mut diagnostic = Diagnostic::at(&codes::MANIFEST, text.span, message);
                    if let Some(near) = nearest(&text.text, names) {
                        diagnostic = diagnostic.help(format!("did you mean `{near}`?"));
                    }
                    self.out.push(diagnostic.note(format!("the four are {}", names.join(", "))));
                }
            }
        }
    }

    /// `[allow]`: what is refused otherwise.
    fn allow(&mut self, value: &Spanned<DeValue>, manifest: &mut Manifest) {
        let Some(table) = self.table(value) else { return };
        for (_, value) in self.entries(table, &["outside"]) {
            match value.get_ref() {
                DeValue::Boolean(outside) => manifest.outside = *outside,
                _ => self.wrong(value, "expected `true` or `false`: whether files may lie outside of the estate"),
            }
        }
    }

    /// `[check]`: at which level a diagnostic is reported.
    fn check(&mut self, value: &Spanned<DeValue>, manifest: &mut Manifest) {
        let Some(table) = self.table(value) else { return };
        for (_, value) in self.entries(table, &["levels"]) {
            let Some(levels) = self.table(value) else { continue };
            for (name, level) in levels {
                let Some(named) = self.text(level) else { continue };
                let severity = match named.text.as_str() {
                    "warning" => Severity::Warning,
                    "error" => Severity::Error,
                    _ => {
                        self.wrong(level, "a level is `warning` or `error`");
                        continue;
                    }
                };
                let Some(code) = codes::find(name.get_ref()) else {
                    let span = self.span(name);
                    let message = format!("there is no diagnostic `{}`", name.get_ref());
                    let near = nearest(name.get_ref(), codes::ALL.iter().map(|code| code.name));
                    let diagnostic = Diagnostic::at(&codes::MANIFEST, span, message);
                    self.out.push(match near {
                        Some(near) => diagnostic.help(format!("did you mean `{near}`?")),
                        None => diagnostic,
                    });
                    continue;
                };
                if severity == Severity::Warning && code.severity == Severity::Error && !code.can_be_lowered() {
                    self.wrong(level, format!("`{}` is always an error: nothing can be decided with it", code.name));
                    continue;
                }
                manifest.levels.push((code, severity));
            }
        }
    }

    /// `[audit]`: whether its names are known is for the audit to say.
    fn audit(&mut self, value: &Spanned<DeValue>, audit: &mut AuditSettings) {
        let Some(table) = self.table(value) else { return };
        for (key, value) in self.entries(table, &["levels", "limits", "harmless", "gone"]) {
            match key.get_ref().as_ref() {
                "levels" => {
                    let Some(levels) = self.table(value) else { continue };
                    for (name, level) in levels {
                        let Some(named) = self.text(level) else { continue };
                        if !["none", "note", "warning", "error"].contains(&named.text.as_str()) {
                            self.wrong(level, "a level is `none`, `note`, `warning` or `error`");
                            continue;
                        }
                        let name = Placed { text: name.get_ref().to_string(), span: self.span(name) };
                        audit.levels.push((name, named.text));
                    }
                }
                "limits" => {
                    let Some(limits) = self.table(value) else { continue };
                    for (name, limit) in limits {
                        let number = match limit.get_ref() {
                            DeValue::Integer(number) => number.as_str().replace('_', "").parse::<f64>().ok(),
                            DeValue::Float(number) => number.as_str().replace('_', "").parse::<f64>().ok(),
                            _ => None,
                        };
                        let Some(number) = number.filter(|n| n.is_finite() && *n >= 0.0) else {
                            self.wrong(limit, "a limit is a number from 0 up");
                            continue;
                        };
                        let name = Placed { text: name.get_ref().to_string(), span: self.span(name) };
                        audit.limits.push((name, number));
                    }
                }
                "gone" => audit.gone = self.texts(value).into_iter().map(|t| t.text).collect(),
                _ => audit.harmless = self.texts(value).into_iter().map(|t| t.text).collect(),
            }
        }
    }

    /// A source of which only some keys are looked at: whoever asks looks at the others.
    fn part_of(&mut self, value: &Spanned<DeValue>, keys: &[&str]) -> Option<DataSource> {
        self.source_among(value, keys, true)
    }

    fn sources(&mut self, value: &Spanned<DeValue>, known: &[&str]) -> Vec<DataSource> {
        let DeValue::Array(list) = value.get_ref() else {
            self.wrong(value, "expected `[[...]]`: there may be several sources of one sort");
            return Vec::new();
        };
        list.iter().filter_map(|value| self.source(value, known)).collect()
    }

    fn source(&mut self, value: &Spanned<DeValue>, known: &[&str]) -> Option<DataSource> {
        self.source_among(value, known, false)
    }

    fn source_among(&mut self, value: &Spanned<DeValue>, known: &[&str], others: bool) -> Option<DataSource> {
        let table = self.table(value)?;
        let (mut file, mut format, mut realm, mut attributes) = (None, None, None, Vec::new());
        let (mut at_least, mut group_id, mut active) = (None, None, Vec::new());
        let (mut ignore, mut values, mut kind, mut by_path) = (Vec::new(), Vec::new(), None, false);
        let mut parts = false;
        let (mut sheet, mut is_grid, mut reach) = (None, false, None);
        let entries = match others {
            true => table.iter().filter(|(key, _)| known.contains(&key.get_ref().as_ref())).collect(),
            false => self.entries(table, known),
        };
        for (key, value) in entries {
            match key.get_ref().as_ref() {
                "file" => file = self.text(value),
                "realm" => realm = self.text(value).map(|t| t.text),
                "group_id" => group_id = self.text(value),
                "active" => active = self.activity(value),
                "ignore" => ignore = self.texts(value),
                "kind" => kind = self.text(value),
                "sheet" => sheet = self.text(value),
                "parts" => match value.get_ref() {
                    DeValue::Boolean(said) => parts = *said,
                    _ => self.wrong(value, "expected `true` or `false`: whether each file is a part of its own"),
                },
                "values" => values = self.words(value),
                "parents" => match self.text(value) {
                    Some(text) if text.text == "paths" => by_path = true,
                    Some(text) if text.text == "ids" => {}
                    Some(_) => self.wrong(value, "expected `\"paths\"` or `\"ids\"`: how parents are given"),
                    None => {}
                },
                "layout" => match self.text(value) {
                    Some(text) if text.text == "grid" => is_grid = true,
                    Some(text) if text.text == "rows" => {}
                    Some(_) => self.wrong(value, "expected `\"grid\"` (users down, places across) or `\"rows\"`"),
                    None => {}
                },
                "reach" => {
                    let text = self.text(value).map(|t| t.text).unwrap_or_default();
                    match [Reach::Under, Reach::Below, Reach::At].into_iter().find(|reach| reach.word() == text) {
                        Some(found) => reach = Some((found, self.span(value))),
                        None => self.wrong(value, "a reach is `under`, `below` or `at`"),
                    }
                }
                "at_least" => {
                    let number = match value.get_ref() {
                        DeValue::Integer(number) => number.as_str().replace('_', "").parse::<usize>().ok(),
                        _ => None,
                    };
                    match number {
                        Some(number) => at_least = Some((number, self.span(value))),
                        None => self.wrong(value, "expected a whole number: how many rows there are at least"),
                    }
                }
                "format" => {
                    let Some(text) = self.text(value) else { continue };
                    format = Format::NAMES.iter().find(|(name, _)| *name == text.text).map(|(_, format)| *format);
                    if format.is_none() {
                        self.wrong(value, format!("`{}` is no format: `csv`, `jsonl`, `scim` or `ldif`", text.text));
                    }
                }
                _ => {
                    let Some(names) = self.table(value) else { continue };
                    for (theirs, ours) in names {
                        attributes.extend(self.text(ours).map(|ours| (theirs.get_ref().to_string(), ours)));
                    }
                }
            }
        }
        if file.is_none() {
            let span = self.span(value);
            self.out.push(Diagnostic::at(&codes::MANIFEST, span, "a source that does not say `file`"));
        }
        if let Some((_, span)) = reach.filter(|_| !is_grid) {
            let message = "`reach` is said of a grid alone: of rows each says its own";
            self.out.push(Diagnostic::at(&codes::MANIFEST, span, message));
        }
        let grid = is_grid.then(|| reach.map_or(Reach::Under, |(reach, _)| reach));
        Some(DataSource {
            format,
            realm,
            attributes,
            at_least,
            group_id,
            active,
            ignore,
            values,
            kind,
            by_path,
            sheet,
            grid,
            parts,
            ..DataSource::of(file?)
        })
    }

    /// `[people.values.active]`: their words and ours, by our name of the column.
    fn words(&mut self, value: &Spanned<DeValue>) -> Vec<(Placed, Words)> {
        let mut found = Vec::new();
        let Some(table) = self.table(value) else { return found };
        for (name, words) in table {
            let of = Placed { text: name.get_ref().to_string(), span: self.span(name) };
            let Some(table) = self.table(words) else { continue };
            let mut list = Words::new();
            for (theirs, ours) in table {
                list.extend(self.text(ours).map(|ours| (theirs.get_ref().to_string(), ours)));
            }
            found.push((of, list));
        }
        found
    }

    /// `[people.active]`, or several of them.
    fn activity(&mut self, value: &Spanned<DeValue>) -> Vec<ActiveRule> {
        if let DeValue::Array(list) = value.get_ref() {
            return list.iter().filter_map(|value| self.active_rule(value)).collect();
        }
        self.active_rule(value).into_iter().collect()
    }

    fn active_rule(&mut self, value: &Spanned<DeValue>) -> Option<ActiveRule> {
        let table = self.table(value)?;
        let (mut attribute, mut off, mut missing) = (None, Vec::new(), None);
        let known = ["attribute", "off_bit", "off_when", "on_when", "off_since", "missing"];
        for (key, value) in self.entries(table, &known) {
            match key.get_ref().as_ref() {
                "attribute" => attribute = self.text(value),
                "off_bit" => {
                    let bit = match value.get_ref() {
                        DeValue::Integer(number) => number.as_str().replace('_', "").parse::<u64>().ok(),
                        _ => None,
                    };
                    match bit.filter(|bit| bit.is_power_of_two()) {
                        Some(bit) => off.push(Off::Bit(bit)),
                        None => self.wrong(value, "expected the value of one bit: 1, 2, 4, 8, ..."),
                    }
                }
                "off_when" => off.extend(self.text(value).map(|t| Off::Fits(Pattern::new(&t.text, true)))),
                "on_when" => off.extend(self.text(value).map(|t| Off::FitsNot(Pattern::new(&t.text, true)))),
                "off_since" => match value.get_ref() {
                    DeValue::Boolean(true) => off.push(Off::Since),
                    _ => self.wrong(value, "expected `true`: the value is a day, or a time"),
                },
                _ => {
                    let text = self.text(value).map(|t| t.text).unwrap_or_default();
                    match text.as_str() {
                        "active" => missing = Some(true),
                        "inactive" => missing = Some(false),
                        _ => self.wrong(value, "expected `active` or `inactive`"),
                    }
                }
            }
        }
        let span = self.span(value);
        let Some(attribute) = attribute else {
            let message = "`active` does not say which `attribute` decides it";
            self.out.push(Diagnostic::at(&codes::MANIFEST, span, message));
            return None;
        };
        let Ok([off]) = <[Off; 1]>::try_from(off) else {
            let message = "`active` wants one of `off_bit`, `off_when`, `on_when` and `off_since`";
            self.out.push(Diagnostic::at(&codes::MANIFEST, span, message));
            return None;
        };
        // That a lock or an end is not there means that there is none; anything else that is not there is not known.
        let missing_is_active = missing.unwrap_or(matches!(off, Off::Fits(_) | Off::Since));
        Some(ActiveRule { attribute, off, missing_is_active })
    }
}
