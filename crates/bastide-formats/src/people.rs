//! People from cells: the one place where a user's values are read, whatever file they come from.

use crate::activity::ActiveRule;
use crate::csv_table::{Cells, CsvTable, unknown_column};
use crate::farewell::Farewells;
use crate::manifest::DataSource;
use crate::shape::Shape;
use crate::untidy::untidy_name;
use bastide_model::column::ColumnBuilder;
use bastide_model::rows::PeopleRows;
use bastide_model::schema::{PEOPLE_COLUMNS, Scalar, USER_KINDS, read_flag};
use bastide_model::{Schema, UserAttributeId, Value};
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};
use jiff::civil::Date;
use std::collections::BTreeMap;

/// A field of a user.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum PeopleField {
    /// `id`
    Id,
    /// `name`
    Name,
    /// `kind`
    Kind,
    /// `active`
    Active,
    /// `realm`
    Realm,
    /// A declared attribute.
    Attribute(UserAttributeId),
}

/// Gathers people.
pub struct PeopleSink<'s> {
    schema: &'s Schema,
    rows: PeopleRows,
    realms: ColumnBuilder,
    attributes: Vec<ColumnBuilder>,
    farewells: Farewells,
    /// The day for which accounts end.
    today: Date,
    /// What was not taken along, by class.
    passed: BTreeMap<String, usize>,
}

impl<'s> PeopleSink<'s> {
    /// Nobody yet; the words by which somebody is gone, and the day for which accounts end.
    pub fn new(schema: &'s Schema, gone: &[String], today: Date) -> Self {
        let attributes = schema.user_attributes.iter().map(|_| ColumnBuilder::default()).collect();
        PeopleSink {
            schema,
            rows: PeopleRows::default(),
            realms: ColumnBuilder::default(),
            attributes,
            farewells: Farewells::of(gone),
            today,
            passed: BTreeMap::new(),
        }
    }

    /// The field of a name of ours.
    pub fn field(&self, name: &str) -> Option<PeopleField> {
        Some(match name {
            "id" => PeopleField::Id,
            "name" => PeopleField::Name,
            "kind" => PeopleField::Kind,
            "active" => PeopleField::Active,
            "realm" => PeopleField::Realm,
            name => PeopleField::Attribute(self.schema.user_attribute(name)?),
        })
    }

    /// Our name of a field.
    fn name_of(&self, field: PeopleField) -> &str {
        match field {
            PeopleField::Id => "id",
            PeopleField::Name => "name",
            PeopleField::Kind => "kind",
            PeopleField::Active => "active",
            PeopleField::Realm => "realm",
            PeopleField::Attribute(id) => &self.schema.user_attributes[id.index()].name,
        }
    }

    /// How the rows of a source are shaped that have these fields; a column of the kind may come behind them.
    pub fn shape<'f>(&self, source: &'f DataSource, fields: &mut Vec<Option<PeopleField>>) -> Shape<'f> {
        let names: Vec<Option<String>> =
            fields.iter().map(|field| field.map(|field| self.name_of(field).to_string())).collect();
        let mut shape = Shape::new(source, &names, &|name| self.field(name).is_some_and(|field| self.is_set(field)));
        let kind = fields.iter().position(|field| *field == Some(PeopleField::Kind));
        if shape.with_kind(kind) == Some(fields.len()) {
            fields.push(Some(PeopleField::Kind));
        }
        shape
    }

    /// Whether a field holds a set.
    pub fn is_set(&self, field: PeopleField) -> bool {
        matches!(field, PeopleField::Attribute(id) if self.schema.user_attributes[id.index()].set)
    }

    /// Every name of ours.
    pub fn known(&self) -> Vec<String> {
        let declared = self.schema.user_attributes.iter().map(|a| a.name.clone());
        PEOPLE_COLUMNS.iter().map(|c| c.to_string()).chain(declared).collect()
    }

    /// The mapping of a source, its right sides looked up. Unknown ones are reported.
    pub fn mapping(&self, source: &DataSource, out: &mut Diagnostics) -> Vec<(String, PeopleField)> {
        let mut found = Vec::new();
        for (of, _) in source.values.iter().filter(|(of, _)| self.field(&of.text).is_none()) {
            out.push(unknown_column(&of.text, of.span, &self.known()));
        }
        if let Some(kind) = source.kind.as_ref().filter(|kind| !USER_KINDS.contains(&kind.text.as_str())) {
            let message = format!("`{}` is no kind of user: `person`, `guest` or `service`", kind.text);
            out.push(Diagnostic::at(&codes::BAD_VALUE, kind.span, message));
        }
        for (theirs, ours) in &source.attributes {
            match self.field(&ours.text) {
                Some(field) => found.push((theirs.clone(), field)),
                None => out.push(unknown_column(&ours.text, ours.span, &self.known())),
            }
        }
        found
    }

    /// Takes one user in, and says whether there was one. `fields` says what each column is; columns without a field
    /// are passed over.
    pub fn row(
        &mut self,
        fields: &[Option<PeopleField>],
        cells: &impl Cells,
        realm: Option<&str>,
        out: &mut Diagnostics,
    ) -> bool {
        let row = self.rows.ids.len();
        let column = |wanted: PeopleField| fields.iter().position(|f| *f == Some(wanted));
        let text = |wanted: PeopleField| column(wanted).map_or("", |c| cells.text(c));
        let id = text(PeopleField::Id);
        if id.is_empty() {
            let span = column(PeopleField::Id).map_or(cells.place().span(), |c| cells.span(c));
            out.push(Diagnostic::at(&codes::MISSING_VALUE, span, "a user without an id"));
            return false;
        }
        for (what, field) in [("id", PeopleField::Id), ("name", PeopleField::Name)] {
            if let Some(told) = untidy_name("user", id, what, text(field)) {
                out.push(Diagnostic { place: column(field).map(|c| cells.span(c)).or(told.place), ..told });
            }
        }
        self.rows.ids.push(id);
        self.rows.names.push(text(PeopleField::Name));
        self.rows.places.push(cells.place());
        self.rows.kinds.push(0);
        self.rows.active.grow_and_insert(row);
        let from_source = column(PeopleField::Realm).map(|c| cells.text(c)).filter(|t| !t.is_empty());
        if let Some(realm) = from_source.or(realm) {
            let _ = self.realms.put(row, realm, |t| Ok(Value::Text(t.into())));
        }
        for (c, field) in fields.iter().enumerate() {
            let text = cells.text(c);
            let Some(field) = field.filter(|_| !text.is_empty()) else { continue };
            let problem = match field {
                PeopleField::Id | PeopleField::Name | PeopleField::Realm => None,
                PeopleField::Kind => match USER_KINDS.iter().position(|k| *k == text) {
                    Some(kind) => {
                        self.rows.kinds[row] = kind as u8;
                        None
                    }
                    None => Some((
                        format!("`{text}` is no kind of user: `person`, `guest` or `service`"),
                        nearest(text, USER_KINDS),
                    )),
                },
                PeopleField::Active => match read_flag(text) {
                    Some(active) => {
                        self.rows.active.set(row, active);
                        None
                    }
                    None => Some((format!("`active`: expected `yes` or `no`, found `{text}`"), None)),
                },
                PeopleField::Attribute(id) => {
                    let attribute = &self.schema.user_attributes[id.index()];
                    let read = self.attributes[id.index()].put(row, text, |t| self.schema.read_cell(attribute, t));
                    read.err().map(|message| (format!("`{}`: {message}", attribute.name), None))
                }
            };
            if let Some((message, near)) = problem {
                let diagnostic = Diagnostic::at(&codes::BAD_VALUE, cells.span(c), message);
                out.push(match near {
                    Some(near) => diagnostic.help(format!("did you mean `{near}`?")),
                    None => diagnostic,
                });
            } else if let Some(name) = self.worded(field)
                && self.farewells.says(name, text)
            {
                self.rows.farewells.push((row as u32, name.to_string(), text.to_string()));
            }
        }
        true
    }

    /// The name of a field that holds free text about a user. A choice is none: rules go by it.
    fn worded(&self, field: PeopleField) -> Option<&'s str> {
        match field {
            PeopleField::Name => Some("name"),
            PeopleField::Attribute(id) => {
                let attribute = &self.schema.user_attributes[id.index()];
                (attribute.scalar == Scalar::Text).then_some(attribute.name.as_str())
            }
            PeopleField::Id | PeopleField::Kind | PeopleField::Active | PeopleField::Realm => None,
        }
    }

    /// How many there are.
    pub fn count(&self) -> usize {
        self.rows.ids.len()
    }

    /// Takes note of something of a class that is not taken along.
    pub fn pass_over(&mut self, class: &str) {
        *self.passed.entry(class.to_string()).or_default() += 1;
    }

    /// What was not taken along, by class.
    pub fn passed(&self) -> &BTreeMap<String, usize> {
        &self.passed
    }

    /// Asks the rules of a source whether the user taken in last is active; any that says no decides. `values` gives
    /// the values of an attribute.
    pub fn activity(&mut self, rules: &[ActiveRule], values: &dyn Fn(&str) -> Vec<String>) {
        let Some(last) = self.rows.ids.len().checked_sub(1) else { return };
        let active = rules.iter().all(|rule| {
            let values = values(&rule.attribute.text);
            rule.is_active(values.iter().map(String::as_str), self.today)
        });
        if !active {
            self.rows.active.set(last, false);
        }
    }

    /// Looks at what a source says, besides the values that are read, of the user taken in last.
    pub fn remark(&mut self, field: &str, text: &str) {
        if let Some(last) = self.rows.ids.len().checked_sub(1).filter(|_| self.farewells.says(field, text)) {
            self.rows.farewells.push((last as u32, field.to_string(), text.to_string()));
        }
    }

    /// Reads a CSV file.
    pub fn csv(&mut self, file: FileId, text: &str, source: &DataSource, out: &mut Diagnostics) {
        let mapping = self.mapping(source, out);
        let Some(mut table) = CsvTable::open(file, text, out) else { return };
        let field = |name: &str| {
            let mapped = mapping.iter().find(|(theirs, _)| theirs == name).map(|(_, f)| *f);
            mapped.or_else(|| self.field(name)).filter(|_| !source.ignores(name))
        };
        // Columns that say whether somebody is active need be nothing else.
        let header: Vec<String> = table.header.iter().map(|c| c.text.clone()).collect();
        let mut known = self.known();
        let asked = |name: &str| source.ignores(name) || source.active.iter().any(|rule| rule.attribute.text == name);
        known.extend(header.iter().filter(|name| asked(name)).cloned());
        for rule in source.active.iter().filter(|rule| !header.contains(&rule.attribute.text)) {
            out.push(unknown_column(&rule.attribute.text, rule.attribute.span, &header));
        }
        let mut fields = table.fields_but(field, &known, &["id"], &asked, out);
        let shape = self.shape(source, &mut fields);
        let mut row = table.row();
        while table.next(&mut row, out) {
            if self.row(&fields, &shape.row(&row), source.realm.as_deref(), out) {
                let values = |name: &str| {
                    let cell = header.iter().position(|h| h == name).map(|at| row.text(at).to_string());
                    cell.filter(|text| !text.is_empty()).into_iter().collect()
                };
                self.activity(&source.active, &values);
            }
        }
    }

    /// Everybody.
    pub fn finish(self) -> PeopleRows {
        let attributes = self.attributes.into_iter().map(ColumnBuilder::finish).collect();
        PeopleRows { realms: self.realms.finish(), attributes, ..self.rows }
    }
}
