//! LDIF (RFC 2849) people and groups: folded lines, base64 values, attribute options.
//!
//! Entries of `inetOrgPerson` and its kin, and whatever else has a `uid`, are users; entries of
//! `groupOfNames`, `groupOfUniqueNames` and `posixGroup` are groups, named by their `cn`. Members
//! are distinguished names, joined once all files were read; one that is nowhere leads nowhere.

use crate::json::{LooseCells, join_set};
use crate::manifest::DataSource;
use crate::people::{PeopleField, PeopleSink};
use crate::text::LONGEST_LINE;
use base64::Engine;
use bastide_model::rows::{GroupRows, MemberRow, RowPlace};
use bastide_syntax::{Diagnostic, FileId, Span, codes};
use hashbrown::HashMap;

/// What LDIF files leave to be joined once all of them were read.
#[derive(Default)]
pub struct LdifLinks {
    names: HashMap<String, MemberRow>,
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
    value: String,
    span: Span,
    line: u32,
}

/// One entry.
struct Entry {
    attributes: Vec<Attribute>,
    place: RowPlace,
}

impl Entry {
    fn values<'e>(&'e self, name: &str) -> impl Iterator<Item = &'e str> {
        let name = name.to_lowercase();
        self.attributes.iter().filter(move |a| a.name == name).map(|a| a.value.as_str())
    }

    fn is(&self, class: &str) -> bool {
        self.values("objectclass").any(|c| c.eq_ignore_ascii_case(class))
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
    out: &mut Vec<Diagnostic>,
) {
    let mapping = people.mapping(source, out);
    let entries = entries(file, text, out);
    for (theirs, ours) in &source.attributes {
        if !entries.iter().any(|e| e.values(theirs).next().is_some()) {
            let message = format!("no entry of the file has the attribute `{theirs}`, which is mapped here");
            out.push(Diagnostic::at(&codes::NO_EFFECT, ours.span, message));
        }
    }
    for entry in &entries {
        if let Some(change) = entry.attributes.iter().find(|a| a.name == "changetype") {
            let message = "a change record: only entries are read";
            let help = "to get a file of entries, export the directory instead of its change log";
            out.push(Diagnostic::at(&codes::UNSUPPORTED, change.span, message).help(help));
        } else if ["groupofnames", "groupofuniquenames", "posixgroup"].iter().any(|c| entry.is(c)) {
            group(entry, groups, links, out);
        } else if ["inetorgperson", "organizationalperson", "person", "account", "posixaccount", "uidobject"]
            .iter()
            .any(|c| entry.is(c))
        {
            user(entry, source, &mapping, people, links, out);
        }
    }
}

fn user(
    entry: &Entry,
    source: &DataSource,
    mapping: &[(String, PeopleField)],
    people: &mut PeopleSink,
    links: &mut LdifLinks,
    out: &mut Vec<Diagnostic>,
) {
    let (mut fields, mut read): (Vec<Option<PeopleField>>, Vec<String>) = Default::default();
    let mut cells = LooseCells { texts: Vec::new(), place: entry.place };
    let service = entry.is("applicationProcess");
    let mut wanted: Vec<(String, PeopleField)> = mapping.to_vec();
    wanted.push(("uid".to_string(), PeopleField::Id));
    wanted.push(("cn".to_string(), PeopleField::Name));
    for name in people.known() {
        if let Some(field @ PeopleField::Attribute(_)) = people.field(&name) {
            wanted.push((name, field));
        }
    }
    for (theirs, field) in wanted {
        let values: Vec<&str> = entry.values(&theirs).collect();
        if values.is_empty() || fields.contains(&Some(field)) {
            continue;
        }
        // Several values are a set; a field that holds one value takes the first.
        let single = matches!(
            field,
            PeopleField::Id | PeopleField::Name | PeopleField::Kind | PeopleField::Active | PeopleField::Realm
        );
        fields.push(Some(field));
        read.push(theirs.to_lowercase());
        cells.texts.push(if single { values[0].to_string() } else { set_or_text(people, field, &values) });
    }
    if service && !fields.contains(&Some(PeopleField::Kind)) {
        fields.push(Some(PeopleField::Kind));
        cells.texts.push("service".to_string());
    }
    if let (Some(id), Some(dn)) = (fields.iter().position(|f| *f == Some(PeopleField::Id)), entry.values("dn").next()) {
        links.names.insert(normal(dn), MemberRow::User(cells.texts[id].clone()));
    }
    if people.row(&fields, &cells, source.realm.as_deref(), out) {
        for other in entry.attributes.iter().filter(|a| a.name != "dn" && !read.contains(&a.name)) {
            people.remark(&other.name, &other.value);
        }
    }
}

fn set_or_text(people: &PeopleSink, field: PeopleField, values: &[&str]) -> String {
    if people.is_set(field) { join_set(values.iter().copied()) } else { values[0].to_string() }
}

fn group(entry: &Entry, rows: &mut GroupRows, links: &mut LdifLinks, out: &mut Vec<Diagnostic>) {
    let Some(id) = entry.values("cn").find(|id| !id.is_empty()) else {
        out.push(Diagnostic::at(&codes::MISSING_VALUE, entry.place.span(), "a group without `cn`, which is its id"));
        return;
    };
    rows.groups.push((id.to_string(), entry.values("description").next().map(str::to_string)));
    if let Some(dn) = entry.values("dn").next() {
        links.names.insert(normal(dn), MemberRow::Group(id.to_string()));
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

/// A distinguished name in one form: types and values in lower case, blanks and escapes evened out
/// (RFC 4514).
fn normal(name: &str) -> String {
    let mut parts: Vec<Vec<u8>> = vec![Vec::new()];
    let mut bytes = name.bytes().peekable();
    while let Some(b) = bytes.next() {
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
            b',' | b';' => parts.push(Vec::new()),
            b => last.push(b),
        }
    }
    let tidy = |part: &Vec<u8>| {
        let text = String::from_utf8_lossy(part).to_lowercase();
        let (kind, value) = text.split_once('=').unwrap_or((&text, ""));
        let value: Vec<&str> = value.split_whitespace().collect();
        format!("{}={}", kind.trim(), value.join(" "))
    };
    parts.iter().map(tidy).collect::<Vec<_>>().join("\u{0}")
}

/// Cuts a file into entries.
fn entries(file: FileId, text: &str, out: &mut Vec<Diagnostic>) -> Vec<Entry> {
    let mut entries: Vec<Entry> = Vec::new();
    let mut attributes: Vec<Attribute> = Vec::new();
    let mut close = |attributes: &mut Vec<Attribute>| {
        if let Some(first) = attributes.first() {
            let place = RowPlace { file, line: first.line, start: first.span.start, end: first.span.end };
            entries.push(Entry { attributes: std::mem::take(attributes), place });
        }
    };
    for line in logical_lines(file, text) {
        if line.text.is_empty() {
            close(&mut attributes);
            continue;
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
                if attributes.is_empty() && found.name != "dn" {
                    let message = "an entry that does not begin with `dn:`";
                    out.push(Diagnostic::at(&codes::BAD_ROW, line.span, message));
                }
                attributes.push(found);
            }
            Err(diagnostic) => out.push(*diagnostic),
        }
    }
    close(&mut attributes);
    entries
}

/// A line with its continuations joined.
struct Line {
    text: String,
    span: Span,
    line: u32,
}

fn logical_lines(file: FileId, text: &str) -> Vec<Line> {
    let mut lines: Vec<Line> = Vec::new();
    let mut start = if text.starts_with('\u{feff}') { 3 } else { 0 };
    for (i, whole) in text[start..].split_inclusive('\n').enumerate() {
        let line = whole.trim_end_matches('\n').trim_end_matches('\r');
        match (line.strip_prefix(' '), lines.last_mut()) {
            (Some(more), Some(last)) if !last.text.is_empty() => last.text.push_str(more),
            // The span is the first line alone: it is what can be shown.
            _ => lines.push(Line {
                text: line.to_string(),
                span: Span::new(file, start, start + line.len()),
                line: i as u32 + 1,
            }),
        }
        start += whole.len();
    }
    lines
}

fn attribute(line: &Line) -> Result<Attribute, Box<Diagnostic>> {
    let bad = |code, message: &str| Box::new(Diagnostic::at(code, line.span, message));
    let Some((name, value)) = line.text.split_once(':') else {
        let help = "a line that goes on from the one before begins with a blank";
        return Err(Box::new(bad(&codes::BAD_ROW, "expected `attribute: value`").help(help)));
    };
    let name = name.split(';').next().unwrap_or("").to_lowercase();
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
            Err(_) => String::new(),
        }
    } else if value.starts_with('<') {
        let diagnostic = bad(&codes::UNSUPPORTED, "a value that stands in another file is not fetched");
        return Err(Box::new(diagnostic.help("to read it, export the directory with the values in the file")));
    } else {
        value.trim_start_matches(' ').to_string()
    };
    Ok(Attribute { name, value, span: line.span, line: line.line })
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
    }

    #[test]
    fn lines_fold_and_values_decode() {
        let text = "version: 1\n# a comment\n  that goes on\ndn: cn=a,\n o=x\ncn;lang-de:: U8O4cmVu\njpegPhoto:: /9j/\n\n\ndn: o=y\n";
        let mut out = Vec::new();
        let found = entries(FileId(0), text, &mut out);
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
            ("dn: o=x\ncn:: ***\n", "a value that is not valid base64"),
            ("dn: o=x\ncn:: /w==\n", "a base64 value that is not UTF-8 at byte 0"),
            ("dn: o=x\nphoto:< file:///x\n", "a value that stands in another file is not fetched"),
        ] {
            let mut out = Vec::new();
            entries(FileId(0), text, &mut out);
            assert_eq!(out.iter().map(|d| d.message.as_str()).collect::<Vec<_>>(), [message], "{text}");
        }
    }
}
