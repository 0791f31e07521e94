//! LDIF (RFC 2849) people and groups: folded lines, base64 values, attribute options.
//!
//! Entries of `inetOrgPerson` and its kin are users, machines aside; whatever else has members is a group, named by its
//! `cn`, or by another attribute that the manifest names. Members are distinguished names, joined once all files were
//! read; one that is nowhere leads nowhere. Everything else is passed over and counted by its class. An export that was
//! cut off, by a limit of the directory or in the middle of a list of members, is an error.

use crate::cells::{LooseCells, join_set};
use crate::manifest::DataSource;
use crate::people::{PeopleField, PeopleSink};
use crate::text::LONGEST_LINE;
use crate::untidy::untidy_name;
use base64::Engine;
use bastide_model::rows::{GroupRows, MemberRow, RowPlace};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Span, codes};
use hashbrown::HashMap;

/// What LDIF files leave to be joined once all of them were read.
#[derive(Default)]
pub struct LdifLinks {
    names: HashMap<String, MemberRow>,
    /// By distinguished name, where each entry was read.
    read: HashMap<String, RowPlace>,
    /// By source and id, the group's distinguished name as written.
    groups: HashMap<(Span, String), String>,
    members: Vec<(String, String, RowPlace)>,
}

impl LdifLinks {
    /// Resolves members by distinguished name.
    pub fn join(self, rows: &mut GroupRows) {
        for (group, name, place) in self.members {
            let member = self.names.get(&normal(&name)).cloned().unwrap_or(MemberRow::Nobody(name));
            rows.members.push((group, member, place));
        }
    }
}

/// One attribute of an entry.
struct Attribute {
    /// Lower case, options cut off.
    name: String,
    /// The first and the last value that a part of a list holds.
    range: Option<(String, String)>,
    value: String,
    /// The byte at which a base64 value is no UTF-8; its text is empty then.
    unread: Option<usize>,
    span: Span,
    line: u32,
}

/// One entry.
struct LdifEntry {
    attributes: Vec<Attribute>,
    place: RowPlace,
    /// Its distinguished name in one form, where it has one.
    name: Option<String>,
}

impl LdifEntry {
    fn values<'e>(&'e self, name: &str) -> impl Iterator<Item = &'e str> {
        let name = name.to_lowercase();
        self.attributes.iter().filter(move |a| a.name == name).map(|a| a.value.as_str())
    }

    /// The values of an attribute by its name in lower case.
    fn of<'e, 'n: 'e>(&'e self, lower: &'n str) -> impl Iterator<Item = &'e str> {
        self.attributes.iter().filter(move |a| a.name == lower).map(|a| a.value.as_str())
    }

    /// Reports values of an attribute that is read here and that are no text: pictures and certificates are of no use, and
    /// what is of use must be readable.
    fn must_be_text(&self, name: &str, out: &mut Diagnostics) {
        for attribute in self.attributes.iter().filter(|a| a.unread.is_some() && a.name.eq_ignore_ascii_case(name)) {
            if let Some(at) = attribute.unread {
                let message = format!("`{name}`: a base64 value that is not UTF-8 at byte {at}");
                out.push(Diagnostic::at(&codes::NOT_UTF8, attribute.span, message));
            }
        }
    }

    /// Whether it cannot be read as an entry: a change, or one of which the directory gave a part only. Reported.
    fn is_refused(&self, out: &mut Diagnostics) -> bool {
        if let Some(change) = self.attributes.iter().find(|a| a.name == "changetype") {
            let message = "a change record: only entries are read";
            let help = "to get a file of entries, export the directory instead of its change log";
            out.push(Diagnostic::at(&codes::UNSUPPORTED, change.span, message).help(help));
            return true;
        }
        if let Some((attribute, last)) = cut_short(self) {
            let message = format!("the values of `{attribute}` end with number {last}, and there are more");
            let help = "the directory gives so many at a time: export it with a tool that asks for the rest";
            out.push(Diagnostic::at(&codes::CUT_OFF, self.place.span(), message).help(help));
            return true;
        }
        false
    }

    /// The class that says the most: the last that is not an abstract one.
    fn class(&self) -> &str {
        self.of("objectclass").filter(|c| !c.eq_ignore_ascii_case("top")).last().unwrap_or("no class")
    }

    fn has_members(&self) -> bool {
        self.attributes.iter().any(|a| ["member", "uniquemember", "memberuid"].contains(&a.name.as_str()))
    }

    fn is(&self, class: &str) -> bool {
        self.of("objectclass").any(|c| c.eq_ignore_ascii_case(class))
    }
}

/// Reads an LDIF file.
pub fn read(
    file: FileId,
    text: &str,
    source: &DataSource,
    people: &mut PeopleSink,
    groups: &mut GroupRows,
    links: &mut LdifLinks,
    out: &mut Diagnostics,
) {
    if let Some(at) = memchr::memchr_iter(b'\r', text.as_bytes()).find(|at| text.as_bytes().get(at + 1) != Some(&b'\n'))
    {
        let message = "a line that ends in a carriage return alone";
        let help = "save the file with line feeds: what follows would be a line for some programs and a part of this one for others";
        out.push(Diagnostic::at(&codes::BAD_ROW, Span::new(file, at, at + 1), message).help(help));
    }
    // Names of theirs in lower case, the ones that are mapped first.
    let mut wanted: Vec<(String, PeopleField)> =
        people.mapping(source, out).into_iter().map(|(theirs, field)| (theirs.to_lowercase(), field)).collect();
    wanted.push(("uid".to_string(), PeopleField::Id));
    wanted.push(("cn".to_string(), PeopleField::Name));
    for name in people.known() {
        if let Some(field @ PeopleField::Attribute(_)) = people.field(&name) {
            wanted.push((name.to_lowercase(), field));
        }
    }
    let mapped: Vec<String> = source.attributes.iter().map(|(theirs, _)| theirs.to_lowercase()).collect();
    let mut met = vec![false; mapped.len()];
    // Entries are many: each is let go before the next one is read.
    entries(file, text, out, &mut |entry, out| {
        let entry = &entry;
        for (met, name) in met.iter_mut().zip(&mapped).filter(|(met, _)| !**met) {
            *met = entry.of(name).next().is_some();
        }
        if entry.is_refused(out) {
            return;
        }
        if let Some(name) = &entry.name
            && let Some(first) = links.read.insert(name.clone(), entry.place)
        {
            let message = format!("`{}` stands twice in the export", entry.of("dn").next().unwrap_or_default());
            out.push(
                Diagnostic::at(&codes::DUPLICATE_ID, entry.place.span(), message)
                    .other(first.span(), "here it stands first"),
            );
            return;
        }
        let is = |classes: &[&str]| classes.iter().any(|c| entry.is(c));
        if is(&["computer", "device"]) {
            people.pass_over(entry.class());
        } else if is(&["groupofnames", "groupofuniquenames", "posixgroup", "group", "groupofmembers"]) {
            group(entry, source, groups, links, out);
        } else if is(&["inetorgperson", "organizationalperson", "person", "account", "posixaccount", "uidobject"]) {
            user(entry, source, &wanted, people, links, out);
        } else if entry.has_members() {
            // Whatever a directory calls it.
            group(entry, source, groups, links, out);
        } else {
            people.pass_over(entry.class());
        }
    });
    for ((theirs, ours), _) in source.attributes.iter().zip(&met).filter(|(_, met)| !**met) {
        let message = format!("no entry of the file has the attribute `{theirs}`, which is mapped here");
        out.push(Diagnostic::at(&codes::NO_EFFECT, ours.span, message));
    }
}

fn user(
    entry: &LdifEntry,
    source: &DataSource,
    wanted: &[(String, PeopleField)],
    people: &mut PeopleSink,
    links: &mut LdifLinks,
    out: &mut Diagnostics,
) {
    let (mut fields, mut read): (Vec<Option<PeopleField>>, Vec<&str>) = Default::default();
    let mut cells = LooseCells { texts: Vec::new(), place: entry.place };
    let service = entry.is("applicationProcess");
    for (theirs, field) in wanted {
        let field = *field;
        entry.must_be_text(theirs, out);
        let values: Vec<&str> = entry.of(theirs).collect();
        if values.is_empty() || fields.contains(&Some(field)) {
            continue;
        }
        // Several values are a set; a field that holds one value takes the first.
        let single = matches!(
            field,
            PeopleField::Id | PeopleField::Name | PeopleField::Kind | PeopleField::Active | PeopleField::Realm
        );
        fields.push(Some(field));
        read.push(theirs);
        cells.texts.push(if single { values[0].to_string() } else { set_or_text(people, field, &values) });
    }
    if service && !fields.contains(&Some(PeopleField::Kind)) {
        fields.push(Some(PeopleField::Kind));
        cells.texts.push("service".to_string());
    }
    if let (Some(id), Some(name)) = (fields.iter().position(|f| *f == Some(PeopleField::Id)), &entry.name) {
        links.names.insert(name.clone(), MemberRow::User(cells.texts[id].clone()));
    }
    let shape = people.shape(source, &mut fields);
    if people.row(&fields, &shape.row(&cells), source.realm.as_deref(), out) {
        source.active.iter().for_each(|rule| entry.must_be_text(&rule.attribute.text, out));
        people.activity(&source.active, &|name| entry.values(name).map(str::to_string).collect());
        for other in entry.attributes.iter().filter(|a| a.name != "dn" && !read.contains(&a.name.as_str())) {
            people.remark(&other.name, &other.value);
        }
    }
}

fn set_or_text(people: &PeopleSink, field: PeopleField, values: &[&str]) -> String {
    if people.is_set(field) { join_set(values.iter().copied()) } else { values[0].to_string() }
}

fn group(entry: &LdifEntry, source: &DataSource, rows: &mut GroupRows, links: &mut LdifLinks, out: &mut Diagnostics) {
    let named = source.group_id.as_ref().map_or("cn", |id| &id.text);
    entry.must_be_text(named, out);
    entry.must_be_text("memberuid", out);
    let Some(id) = entry.values(named).find(|id| !id.is_empty()) else {
        let message = format!("a group without `{named}`, which is its id");
        out.push(Diagnostic::at(&codes::MISSING_VALUE, entry.place.span(), message));
        return;
    };
    if let Some(told) = untidy_name("group", id, "id", id) {
        out.push(Diagnostic { place: Some(entry.place.span()), ..told });
    }
    let dn = entry.values("dn").next().unwrap_or_default();
    if let Some(other) = links.groups.insert((source.file.span, id.to_string()), dn.to_string()) {
        out.push(same_group(id, (&other, dn), "dn", entry.place.span()));
    }
    let name = if source.group_id.is_some() { entry.values("cn").next() } else { None };
    let name = name.or_else(|| entry.values("description").next());
    rows.groups.push((id.to_string(), name.map(str::to_string)));
    if let Some(name) = &entry.name {
        links.names.insert(name.clone(), MemberRow::Group(id.to_string()));
    }
    for attribute in &entry.attributes {
        let place = RowPlace {
            file: attribute.span.file,
            line: attribute.line,
            start: attribute.span.start,
            end: attribute.span.end,
        };
        match attribute.name.as_str() {
            "member" => links.members.push((id.to_string(), attribute.value.clone(), place)),
            // A unique name may carry a bit string after `#`.
            "uniquemember" => {
                let name = attribute.value.rsplit_once("#'").map_or(attribute.value.as_str(), |(name, _)| name);
                links.members.push((id.to_string(), name.to_string(), place));
            }
            "memberuid" => rows.members.push((id.to_string(), MemberRow::User(attribute.value.clone()), place)),
            _ => {}
        }
    }
}

/// The values of an entry by the name of an attribute in lower case. What is asked for and is no text is reported.
pub type ReadValues<'v, 'e> = dyn Fn(&str, &mut Diagnostics) -> Vec<&'e str> + 'v;

/// Reads the entries of a file, whatever they are, and gives the values of each.
pub fn values(
    file: FileId,
    text: &str,
    out: &mut Diagnostics,
    each: &mut dyn FnMut(&ReadValues<'_, '_>, RowPlace, &mut Diagnostics),
) {
    entries(file, text, out, &mut |entry, out| {
        if entry.is_refused(out) {
            return;
        }
        let values = |name: &str, out: &mut Diagnostics| {
            entry.must_be_text(name, out);
            entry.attributes.iter().filter(|a| a.name == name).map(|a| a.value.as_str()).collect()
        };
        each(&values, entry.place, out);
    });
}

/// Two groups of one name in one export: taken as one, each would get the members of both.
pub(crate) fn same_group(id: &str, (first, second): (&str, &str), by: &str, span: Span) -> Diagnostic {
    Diagnostic::at(&codes::DUPLICATE_ID, span, format!("two groups of this export are named `{id}`"))
        .note(format!("they are `{first}` and `{second}`"))
        .help(format!("to tell them apart, give the source `group_id = \"{by}\"` in the manifest"))
}

/// A list of values of which the directory gave a part only (`member;range=0-999`), and where it ends.
fn cut_short(entry: &LdifEntry) -> Option<(&str, &str)> {
    let ranges: Vec<(&str, &str, &str)> = entry
        .attributes
        .iter()
        .filter_map(|a| {
            let (from, upto) = a.range.as_ref()?;
            Some((a.name.as_str(), from.as_str(), upto.as_str()))
        })
        .collect();
    ranges.iter().find_map(|(name, _, upto)| {
        let goes_on = |(other, from, _): &(&str, &str, &str)| {
            other == name && upto.parse::<u64>().ok().map(|last| (last + 1).to_string()).as_deref() == Some(*from)
        };
        (*upto != "*" && !ranges.iter().any(goes_on)).then_some((*name, *upto))
    })
}

/// A distinguished name in one form: types and values in lower case, blanks and escapes evened out
/// (RFC 4514); of a name with several values at one place, these are a set.
fn normal(name: &str) -> String {
    // Places, each of one or more types and values.
    let mut places: Vec<Vec<Vec<u8>>> = vec![vec![Vec::new()]];
    let mut bytes = name.bytes().peekable();
    while let Some(b) = bytes.next() {
        let parts = places.last_mut().expect("never empty");
        let last = parts.last_mut().expect("never empty");
        match b {
            b'\\' => {
                let Some(next) = bytes.next() else { break };
                let hex = |b: u8| (b as char).to_digit(16);
                match (hex(next), bytes.peek().and_then(|b| hex(*b))) {
                    (Some(high), Some(low)) => {
                        bytes.next();
                        last.push((high * 16 + low) as u8);
                    }
                    // An escaped comma must not be taken for a separator later: parts are cut already.
                    _ => last.push(next),
                }
            }
            b',' | b';' => places.push(vec![Vec::new()]),
            b'+' => parts.push(Vec::new()),
            b => last.push(b),
        }
    }
    let tidy = |part: &Vec<u8>| {
        let text = String::from_utf8_lossy(part).to_lowercase();
        let (kind, value) = text.split_once('=').unwrap_or((&text, ""));
        let value: Vec<&str> = value.split_whitespace().collect();
        format!("{}={}", kind.trim(), value.join(" "))
    };
    let place = |parts: &Vec<Vec<u8>>| {
        let mut parts: Vec<String> = parts.iter().map(tidy).collect();
        parts.sort();
        parts.join("\u{1}")
    };
    places.iter().map(place).collect::<Vec<_>>().join("\u{0}")
}

/// Cuts a file into entries, and gives them one by one.
fn entries(file: FileId, text: &str, out: &mut Diagnostics, each: &mut dyn FnMut(LdifEntry, &mut Diagnostics)) {
    let mut attributes: Vec<Attribute> = Vec::new();
    let mut close = |attributes: &mut Vec<Attribute>, out: &mut Diagnostics| {
        if let Some(first) = attributes.first() {
            let place = RowPlace { file, line: first.line, start: first.span.start, end: first.span.end };
            let name = attributes.iter().find(|a| a.name == "dn").map(|a| normal(&a.value));
            each(LdifEntry { attributes: std::mem::take(attributes), place, name }, out);
        }
    };
    for line in logical_lines(file, text) {
        if line.text.is_empty() {
            close(&mut attributes, out);
            continue;
        }
        if line.text.starts_with('#') && says_cut_off(&line.text) {
            let message = "the export was cut off: it says that a limit of the directory was reached";
            let help = "export it in pages, or with a higher limit";
            out.push(Diagnostic::at(&codes::CUT_OFF, line.span, message).help(help));
        }
        if line.text.starts_with('#') || (attributes.is_empty() && line.text.to_lowercase().starts_with("version:")) {
            continue;
        }
        if line.text.len() > LONGEST_LINE {
            out.push(Diagnostic::at(&codes::LINE_TOO_LONG, line.span, "a line of more than 16 MiB"));
            continue;
        }
        match attribute(&line) {
            Ok(found) => {
                if !attributes.is_empty() && found.name == "dn" {
                    let message = "a second `dn:` in one entry";
                    let help =
                        "entries are parted by an empty line; without it, one would be read as a part of the other";
                    out.push(Diagnostic::at(&codes::BAD_ROW, line.span, message).help(help));
                }
                if attributes.is_empty() && found.name != "dn" {
                    let message = "an entry that does not begin with `dn:`";
                    out.push(Diagnostic::at(&codes::BAD_ROW, line.span, message));
                }
                attributes.push(found);
            }
            Err(diagnostic) => out.push(*diagnostic),
        }
    }
    close(&mut attributes, out);
}

/// Whether a comment of an export says that a limit was reached (RFC 4511, result codes 3, 4 and 11).
fn says_cut_off(comment: &str) -> bool {
    let text = comment.to_lowercase();
    ["size limit", "sizelimit", "time limit", "timelimit", "admin limit", "administrative limit"]
        .iter()
        .any(|limit| text.contains(limit) && text.contains("exceeded"))
        || ["result: 3", "result: 4", "result: 11"]
            .iter()
            .any(|code| text.trim_start_matches(['#', ' ']).starts_with(&format!("{code} ")))
}

/// A line with its continuations joined.
struct Line {
    text: String,
    span: Span,
    line: u32,
}

fn logical_lines(file: FileId, text: &str) -> impl Iterator<Item = Line> {
    let mut start = if text.starts_with('\u{feff}') { 3 } else { 0 };
    let mut physical = text[start..].split_inclusive('\n').enumerate().peekable();
    let plain = |whole: &str| whole.trim_end_matches('\n').trim_end_matches('\r').len();
    std::iter::from_fn(move || {
        let (i, whole) = physical.next()?;
        let line = &whole[..plain(whole)];
        // The span is the first line alone: it is what can be shown.
        let span = Span::new(file, start, start + line.len());
        let mut text = line.to_string();
        start += whole.len();
        while let Some((_, more)) = physical.peek().filter(|(_, more)| !text.is_empty() && more.starts_with(' ')) {
            text.push_str(&more[1..plain(more).max(1)]);
            start += more.len();
            physical.next();
        }
        Some(Line { text, span, line: i as u32 + 1 })
    })
}

fn attribute(line: &Line) -> Result<Attribute, Box<Diagnostic>> {
    let bad = |code, message: &str| Box::new(Diagnostic::at(code, line.span, message));
    let Some((name, value)) = line.text.split_once(':') else {
        let help = "a line that goes on from the one before begins with a blank";
        return Err(Box::new(bad(&codes::BAD_ROW, "expected `attribute: value`").help(help)));
    };
    let mut options = name.split(';');
    let name = options.next().unwrap_or("").to_lowercase();
    let range = options.find_map(|option| {
        let option = option.to_lowercase();
        let (from, upto) = option.strip_prefix("range=")?.split_once('-')?;
        Some((from.to_string(), upto.to_string()))
    });
    let mut unread = None;
    let value = if let Some(encoded) = value.strip_prefix(':') {
        let decoded = base64::engine::general_purpose::STANDARD.decode(encoded.trim());
        let Ok(bytes) = decoded else { return Err(bad(&codes::BAD_ROW, "a value that is not valid base64")) };
        match String::from_utf8(bytes) {
            Ok(text) => text,
            // Pictures and certificates are of no use here; names must be readable.
            Err(error) if ["dn", "cn", "uid", "member", "uniquemember"].contains(&name.as_str()) => {
                let message = format!("a base64 value that is not UTF-8 at byte {}", error.utf8_error().valid_up_to());
                return Err(bad(&codes::NOT_UTF8, &message));
            }
            Err(error) => {
                unread = Some(error.utf8_error().valid_up_to());
                String::new()
            }
        }
    } else if value.starts_with('<') {
        let diagnostic = bad(&codes::UNSUPPORTED, "a value that stands in another file is not fetched");
        return Err(Box::new(diagnostic.help("to read it, export the directory with the values in the file")));
    } else {
        value.trim_start_matches(' ').to_string()
    };
    Ok(Attribute { name, range, value, unread, span: line.span, line: line.line })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn distinguished_names_compare_by_meaning() {
        assert_eq!(normal("CN=Ann  Lee, OU=People"), normal("cn=ann lee,ou=people"));
        assert_eq!(normal(r"cn=Lee\, Ann,o=x"), normal(r"cn=Lee\2c Ann,o=x"));
        assert_ne!(normal(r"cn=Lee\, Ann,o=x"), normal("cn=Lee,cn=Ann,o=x"));
        assert_eq!(normal(r"cn=S\C3\B8ren"), normal("cn=Søren"));
        assert_eq!(normal("CN=Ann+OU=x,o=y"), normal("ou=X + cn=ann , o=y"));
        assert_ne!(normal("cn=ann+ou=x,o=y"), normal("cn=ann,ou=x,o=y"));
    }

    #[test]
    fn lines_fold_and_values_decode() {
        let text = "version: 1\n# a comment\n  that goes on\ndn: cn=a,\n o=x\ncn;lang-de:: U8O4cmVu\njpegPhoto:: /9j/\n\n\ndn: o=y\n";
        let mut out = Diagnostics::new();
        let mut found = Vec::new();
        entries(FileId(0), text, &mut out, &mut |entry, _| found.push(entry));
        assert!(out.is_empty(), "{out:?}");
        assert_eq!(found.len(), 2);
        assert_eq!(found[0].values("dn").next(), Some("cn=a,o=x"));
        assert_eq!(found[0].values("CN").next(), Some("Søren"));
        assert_eq!(found[0].attributes[1].line, 6);
    }

    #[test]
    fn what_cannot_be_read_is_said() {
        for (text, message) in [
            ("dn: o=x\nnothing\n", "expected `attribute: value`"),
            ("cn: x\n", "an entry that does not begin with `dn:`"),
            ("dn: o=x\ncn: a\ndn: o=y\ncn: b\n", "a second `dn:` in one entry"),
            ("dn: o=x\ncn:: ***\n", "a value that is not valid base64"),
            ("dn: o=x\ncn:: /w==\n", "a base64 value that is not UTF-8 at byte 0"),
            ("dn: o=x\nphoto:< file:///x\n", "a value that stands in another file is not fetched"),
        ] {
            let mut out = Diagnostics::new();
            entries(FileId(0), text, &mut out, &mut |_, _| {});
            assert_eq!(out.iter().map(|d| d.message.as_str()).collect::<Vec<_>>(), [message], "{text}");
        }
    }
}
