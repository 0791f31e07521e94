//! How users sign in: a user, then attributes of the session, as CSV, one JSON object a line, or entries of a directory.
//!
//! A log holds many sign-ins of one user. Where its rows say `when`, the newest one stands, and of two of the same time the
//! one that comes later in the file; where they do not, each user stands once. What a sign-in does not tell is missing, even
//! where an older one told it. Each attribute is told by one source: of two, neither could be believed.

use crate::cells::{LooseCells, join_set};
use crate::csv_table::{Cells, CsvTable, unknown_column};
use crate::json::{cell, objects};
use crate::ldif;
use crate::manifest::{DataSource, Format};
use crate::shape::{Shape, look};
use bastide_model::rows::{RowPlace, SignInRow, SignInRows};
use bastide_model::{Schema, SessionAttributeId};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Span, codes};
use hashbrown::HashMap;
use jiff::Timestamp;
use std::collections::BTreeMap;

/// A field of a sign-in.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Field {
    User,
    When,
    Attribute(SessionAttributeId),
}

/// Gathers sign-ins.
pub struct SignInSink<'s> {
    schema: &'s Schema,
    /// What the source at hand says of each user.
    newest: HashMap<String, (Option<Timestamp>, SignInRow)>,
    /// The attributes that the source at hand tells.
    tells: Vec<SessionAttributeId>,
    rows: SignInRows,
    /// By attribute, the source that tells it.
    told: BTreeMap<SessionAttributeId, Span>,
    /// How many rows were read.
    count: usize,
}

impl<'s> SignInSink<'s> {
    /// Of nobody yet.
    pub fn new(schema: &'s Schema) -> Self {
        let (newest, tells, rows) = Default::default();
        SignInSink { schema, newest, tells, rows, told: BTreeMap::new(), count: 0 }
    }

    /// How many rows were read.
    pub fn count(&self) -> usize {
        self.count
    }

    fn field(&self, name: &str) -> Option<Field> {
        match name {
            "user" => Some(Field::User),
            "when" => Some(Field::When),
            name => self.schema.session_attribute(name).map(Field::Attribute),
        }
    }

    fn known(&self) -> Vec<String> {
        let declared = self.schema.session_attributes.iter().map(|a| a.name.clone());
        ["user", "when"].map(str::to_string).into_iter().chain(declared).collect()
    }

    fn is_set(&self, field: Field) -> bool {
        matches!(field, Field::Attribute(id) if self.schema.session_attributes[id.index()].set)
    }

    /// Reads a file of a source.
    pub fn read(&mut self, file: FileId, format: Format, text: &str, source: &DataSource, out: &mut Diagnostics) {
        look(source, &self.known(), out);
        match format {
            Format::JsonLines => self.json_lines(file, text, source, out),
            Format::Ldif => self.ldif(file, text, source, out),
            Format::Csv | Format::Workbook | Format::Scim | Format::Parquet => self.csv(file, text, source, out),
        }
    }

    fn csv(&mut self, file: FileId, text: &str, source: &DataSource, out: &mut Diagnostics) {
        let Some(mut table) = CsvTable::open(file, text, out) else { return };
        let field = |name: &str| self.field(source.ours(name)).filter(|_| !source.ignores(name));
        let is_aside = |name: &str| source.ignores(name);
        let known = self.known();
        let fields = table.fields_but(field, &known, &["user"], &is_aside, out);
        self.tell(fields.iter().copied().flatten());
        let names: Vec<Option<String>> = table.header.iter().map(|c| Some(source.ours(&c.text).to_string())).collect();
        let shape = Shape::new(source, &names, &|name| self.field(name).is_some_and(|field| self.is_set(field)));
        let mut row = table.row();
        while table.next(&mut row, out) {
            self.row(&fields, &shape.row(&row), out);
        }
    }

    fn json_lines(&mut self, file: FileId, text: &str, source: &DataSource, out: &mut Diagnostics) {
        let known = self.known();
        objects(file, text, out, |place, object, out| {
            let (mut fields, mut texts) = (Vec::new(), Vec::new());
            for (name, value) in object.iter().filter(|(name, _)| !source.ignores(name)) {
                let ours = source.ours(name);
                let Some(field) = self.field(ours) else {
                    out.push(unknown_column(name, place.span(), &known));
                    continue;
                };
                match cell(value) {
                    Ok(text) => {
                        texts.push(source.value(ours, self.is_set(field), &text).unwrap_or(text));
                        fields.push(Some(field));
                    }
                    Err(message) => {
                        out.push(Diagnostic::at(&codes::BAD_VALUE, place.span(), format!("`{name}`: {message}")))
                    }
                }
            }
            self.tell(fields.iter().copied().flatten());
            self.row(&fields, &LooseCells { texts, place }, out);
        });
    }

    /// Every entry that has a `uid`, or what is mapped to `user`, and tells any attribute of the session.
    fn ldif(&mut self, file: FileId, text: &str, source: &DataSource, out: &mut Diagnostics) {
        let mapped = source.attributes.iter().map(|(theirs, ours)| (theirs.to_lowercase(), ours.text.as_str()));
        let mut wanted: Vec<(String, Field)> =
            mapped.filter_map(|(theirs, ours)| Some((theirs, self.field(ours)?))).collect();
        if !wanted.iter().any(|(_, field)| *field == Field::User) {
            wanted.push(("uid".to_string(), Field::User));
        }
        for (at, attribute) in self.schema.session_attributes.iter().enumerate() {
            let field = Field::Attribute(SessionAttributeId::new(at));
            if !wanted.iter().any(|(_, known)| *known == field) {
                wanted.push((attribute.name.to_lowercase(), field));
            }
        }
        wanted.retain(|(theirs, _)| !source.ignore.iter().any(|name| name.text.to_lowercase() == *theirs));
        self.tell(source.attributes.iter().filter_map(|(_, ours)| self.field(&ours.text)).collect::<Vec<_>>());
        ldif::values(file, text, out, &mut |values, place, out| {
            let (mut fields, mut texts) = (Vec::new(), Vec::new());
            for (theirs, field) in &wanted {
                let found = values(theirs, out);
                if let Some(first) = found.first() {
                    let text = if self.is_set(*field) { join_set(found.iter().copied()) } else { first.to_string() };
                    let ours = match field {
                        Field::User => "user",
                        Field::When => "when",
                        Field::Attribute(id) => &self.schema.session_attributes[id.index()].name,
                    };
                    texts.push(source.value(ours, self.is_set(*field), &text).unwrap_or(text));
                    fields.push(Some(*field));
                }
            }
            let tells = fields.iter().flatten().any(|field| matches!(field, Field::Attribute(_)));
            if tells && fields.contains(&Some(Field::User)) {
                self.tell(fields.iter().copied().flatten());
                self.row(&fields, &LooseCells { texts, place }, out);
            }
        });
    }

    fn tell(&mut self, fields: impl IntoIterator<Item = Field>) {
        for field in fields {
            if let Field::Attribute(id) = field
                && !self.tells.contains(&id)
            {
                self.tells.push(id);
            }
        }
    }

    fn row(&mut self, fields: &[Option<Field>], cells: &impl Cells, out: &mut Diagnostics) {
        self.count += 1;
        let (mut user, mut when, mut values) = ("", None, Vec::new());
        let mut says_when = false;
        for (c, field) in fields.iter().enumerate() {
            let text = cells.text(c);
            match field {
                Some(Field::User) => user = text,
                Some(Field::When) => {
                    says_when = true;
                    when = time(text);
                    if when.is_none() {
                        let message = format!("expected a time such as `2026-11-02T09:15:00Z`, found `{text}`");
                        out.push(Diagnostic::at(&codes::BAD_DATE, cells.span(c), message));
                    }
                }
                Some(Field::Attribute(id)) if !text.is_empty() => {
                    let attribute = &self.schema.session_attributes[id.index()];
                    match self.schema.read_cell(attribute, text) {
                        Ok(value) => values.push((*id, value)),
                        Err(message) => {
                            let message = format!("`{}`: {message}", attribute.name);
                            out.push(Diagnostic::at(&codes::BAD_VALUE, cells.span(c), message));
                        }
                    }
                }
                Some(Field::Attribute(_)) | None => {}
            }
        }
        let place = cells.place();
        if user.is_empty() {
            out.push(Diagnostic::at(
                &codes::MISSING_VALUE,
                place.span(),
                "a sign-in that does not say of which `user`",
            ));
            return;
        }
        let row = SignInRow { user: user.to_string(), values, place };
        match self.newest.get_mut(user) {
            None => {
                self.newest.insert(row.user.clone(), (when, row));
            }
            Some((known, standing)) if says_when && known.is_some() => {
                if when >= *known {
                    (*known, *standing) = (when, row);
                }
            }
            Some((_, standing)) => out.push(twice(user, standing.place, place)),
        }
    }

    /// Ends a source.
    pub fn end(&mut self, source: &DataSource, out: &mut Diagnostics) {
        for id in std::mem::take(&mut self.tells) {
            if let Some(other) = self.told.insert(id, source.file.span) {
                let name = &self.schema.session_attributes[id.index()].name;
                let message = format!("`session.{name}` is told by two sources");
                let told = Diagnostic::at(&codes::DUPLICATE_ID, source.file.span, message).other(other, "the first");
                out.push(told.help("leave the column of one of them out with `ignore`"));
            }
        }
        self.rows.rows.extend(self.newest.drain().map(|(_, (_, row))| row));
    }

    /// All of them.
    pub fn finish(mut self) -> SignInRows {
        self.rows.rows.sort_by(|a, b| (&a.user, a.place).cmp(&(&b.user, b.place)));
        self.rows.tells = self.told.into_keys().collect();
        self.rows
    }
}

fn twice(user: &str, first: RowPlace, second: RowPlace) -> Diagnostic {
    let message = format!("two sign-ins of user `{user}`, and nothing that says which is the newer");
    Diagnostic::at(&codes::DUPLICATE_ID, second.span(), message)
        .other(first.span(), "the first")
        .help("map the column of the time to `when`: then the newest one stands")
}

/// An RFC 3339 time, or a generalized time (RFC 4517) in universal time, as directories keep it.
fn time(text: &str) -> Option<Timestamp> {
    if let Some(digits) = text.strip_suffix('Z')
        && let Some(whole) = digits.get(..14).filter(|whole| whole.bytes().all(|b| b.is_ascii_digit()))
    {
        let fraction = &digits[14..];
        let (day, clock) = whole.split_at(8);
        let day = format!("{}-{}-{}", &day[..4], &day[4..6], &day[6..]);
        let clock = format!("{}:{}:{}", &clock[..2], &clock[2..4], &clock[4..]);
        return format!("{day}T{clock}{fraction}Z").parse().ok();
    }
    text.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::Placed;
    use bastide_model::Value;

    fn schema() -> Schema {
        let text = "attribute network of session: text\nattribute ticket of session: set of text\n";
        let parsed = bastide_syntax::parse(FileId(0), text);
        let declared = bastide_resolve::declarations(&[parsed.tree]);
        assert!(declared.diagnostics.iter().all(|d| !d.is_error()), "{:?}", declared.diagnostics);
        declared.schema
    }

    fn source(columns: &[(&str, &str)]) -> DataSource {
        let placed = |text: &str| Placed { text: text.into(), span: Span::new(FileId(0), 0, 0) };
        let attributes = columns.iter().map(|(theirs, ours)| (theirs.to_string(), placed(ours))).collect();
        DataSource { attributes, ..DataSource::of(placed("x")) }
    }

    fn read(format: Format, text: &str, columns: &[(&str, &str)]) -> (Vec<(String, Vec<Value>)>, Vec<String>) {
        let (schema, mut out) = (schema(), Diagnostics::new());
        let mut sink = SignInSink::new(&schema);
        let source = source(columns);
        sink.read(FileId(0), format, text, &source, &mut out);
        sink.end(&source, &mut out);
        let rows = sink.finish().rows;
        let values = |row: SignInRow| (row.user, row.values.into_iter().map(|(_, value)| value).collect());
        (rows.into_iter().map(values).collect(), out.finish().into_iter().map(|d| d.message).collect())
    }

    #[test]
    fn the_newest_sign_in_stands() {
        let text = |text: &str| Value::Text(text.into());
        let tickets = |all: &[&str]| Value::set(all.iter().map(|one| text(one)));
        let expected = vec![("ann".to_string(), vec![text("office"), tickets(&["T1", "T2"])]), ("bob".into(), vec![])];
        let csv = "user,at,network,ticket\nann,2026-01-02T00:00:00Z,guest,\nann,2026-03-02T00:00:00+01:00,office,T2;T1\n\
                   ann,2026-02-02T00:00:00Z,other,T9\nbob,2026-01-01T00:00:00Z,,\n";
        assert_eq!(read(Format::Csv, csv, &[("at", "when")]), (expected.clone(), vec![]));
        let json = "{\"user\":\"bob\",\"when\":\"20260101000000Z\"}\n\
                    {\"user\":\"ann\",\"when\":\"2026-03-02T00:00:00Z\",\"network\":\"office\",\"ticket\":[\"T1\",\"T2\"]}\n\
                    {\"user\":\"ann\",\"when\":\"20260301235959.9Z\",\"network\":\"guest\"}\n";
        assert_eq!(read(Format::JsonLines, json, &[]), (expected.clone(), vec![]));
        let ldif = "dn: uid=ann,dc=x\nuid: ann\nlastNetwork: office\nticket: T1\nticket: T2\n\ndn: cn=printers,dc=x\ncn: printers\n";
        assert_eq!(read(Format::Ldif, ldif, &[("lastNetwork", "network")]), (expected[..1].to_vec(), vec![]));
    }

    #[test]
    fn nothing_is_passed_over() {
        for (format, text, message) in [
            (Format::Csv, "user,network\nann,a\nann,b\n", "two sign-ins of user `ann`"),
            (Format::Csv, "user,network\n,a\n", "a sign-in that does not say of which `user`"),
            (Format::Csv, "user,netwrok\nann,a\n", "unknown column `netwrok`"),
            (Format::Csv, "network\na\n", "there is no column `user`"),
            (Format::Csv, "user,when,network\nann,yesterday,a\n", "expected a time"),
            (Format::JsonLines, "{\"user\":\"ann\",\"netwrok\":\"a\"}\n", "unknown column `netwrok`"),
            (Format::JsonLines, "{\"user\":\"ann\",\"when\":\"\",\"network\":\"a\"}\n", "expected a time"),
            (Format::JsonLines, "{\"user\":\n", "JSON"),
        ] {
            let (_, said) = read(format, text, &[]);
            assert!(said.iter().any(|said| said.contains(message)), "{text}: {said:?}");
        }
    }
}
