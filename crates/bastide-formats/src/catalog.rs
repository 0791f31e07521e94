//! The catalog from cells, whatever file they come from.

use crate::csv_table::{Cells, CsvTable};
use bastide_model::column::Values;
use bastide_model::rows::{CatalogRows, grid};
use bastide_model::schema::{CATALOG_COLUMNS, read_flag, split_set};
use bastide_model::{KindId, ResourceAttributeId, Schema, Value};
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, FileId, codes};
use hashbrown::HashSet;
use rayon::prelude::*;

/// Bytes of a row in most catalogs, at least.
const USUAL_ROW: usize = 48;

/// A field of a resource.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum CatalogField {
    /// `id`
    Id,
    /// `parent`
    Parent,
    /// `kind`
    Kind,
    /// `name`
    Name,
    /// `owner`
    Owner,
    /// `state`
    State,
    /// `inherits`
    Inherits,
    /// `sources`
    Sources,
    /// A declared attribute.
    Attribute(ResourceAttributeId),
}

/// Gathers the catalog.
pub struct CatalogSink<'s> {
    schema: &'s Schema,
    rows: CatalogRows,
    owners: Values,
    states: Values,
    attributes: Vec<Values>,
    /// Unknown kinds and misplaced attributes are told once each.
    told: HashSet<String>,
}

/// Where the fields stand in a row, so that no row looks for them.
struct Layout {
    id: Option<usize>,
    parent: Option<usize>,
    kind: Option<usize>,
    name: Option<usize>,
    others: Vec<(usize, CatalogField)>,
}

impl<'s> CatalogSink<'s> {
    /// An empty catalog.
    pub fn new(schema: &'s Schema) -> Self {
        CatalogSink {
            schema,
            rows: CatalogRows::new(schema.resource_attributes.len()),
            owners: Values::default(),
            states: Values::default(),
            attributes: schema.resource_attributes.iter().map(|_| Values::default()).collect(),
            told: HashSet::new(),
        }
    }

    /// The field of a column's name.
    pub fn field(&self, name: &str) -> Option<CatalogField> {
        Some(match name {
            "id" => CatalogField::Id,
            "parent" => CatalogField::Parent,
            "kind" => CatalogField::Kind,
            "name" => CatalogField::Name,
            "owner" => CatalogField::Owner,
            "state" => CatalogField::State,
            "inherits" => CatalogField::Inherits,
            "sources" => CatalogField::Sources,
            name => CatalogField::Attribute(self.schema.resource_attribute(name)?),
        })
    }

    /// Every column name.
    pub fn known(&self) -> Vec<String> {
        let declared = self.schema.resource_attributes.iter().map(|a| a.name.clone());
        CATALOG_COLUMNS.iter().map(|c| c.to_string()).chain(declared).collect()
    }

    /// Makes room for the rows of a text of so many bytes, so that what is there need not move while more comes.
    fn reserve(&mut self, bytes: usize) {
        let rows = bytes / USUAL_ROW;
        self.rows.grid.reserve(rows);
        self.rows.places.reserve(rows);
        self.rows.texts.reserve(2 * rows, bytes / 3);
    }

    fn layout(fields: &[Option<CatalogField>]) -> Layout {
        let at = |wanted: CatalogField| fields.iter().position(|f| *f == Some(wanted));
        let fixed = [CatalogField::Id, CatalogField::Parent, CatalogField::Kind, CatalogField::Name];
        let others = fields.iter().enumerate().filter_map(|(i, f)| f.filter(|f| !fixed.contains(f)).map(|f| (i, f)));
        Layout {
            id: at(fixed[0]),
            parent: at(fixed[1]),
            kind: at(fixed[2]),
            name: at(fixed[3]),
            others: others.collect(),
        }
    }

    /// Reads a CSV file.
    pub fn csv(&mut self, file: FileId, text: &str, out: &mut Vec<Diagnostic>) {
        let Some(mut table) = CsvTable::open(file, text, out) else { return };
        let fields = table.fields(|n| self.field(n), &self.known(), &["id", "parent", "kind", "name"], out);
        let layout = Self::layout(&fields);
        let parts = table.cut(rayon::current_num_threads());
        if out.is_empty() && parts.len() > 1 && self.in_parts(&table, &layout, parts) {
            return;
        }
        let mut row = table.row();
        while table.next(&mut row, out) {
            self.row(&layout, &row, out);
        }
    }

    /// Reads the parts of a file at the same time. False, and nothing taken in, where there is
    /// anything to report: then the file is read once more from front to back, so that it is
    /// reported the same however many parts there are.
    fn in_parts(&mut self, table: &CsvTable, layout: &Layout, parts: Vec<std::ops::Range<usize>>) -> bool {
        let schema = self.schema;
        let read = |part: std::ops::Range<usize>| {
            let (mut sink, mut out) = (CatalogSink::new(schema), Vec::new());
            sink.reserve(part.len());
            let mut table = table.part(part);
            let mut row = table.row();
            while out.is_empty() && table.next(&mut row, &mut out) {
                sink.row(layout, &row, &mut out);
            }
            out.is_empty().then_some(sink)
        };
        let sinks: Option<Vec<CatalogSink<'s>>> = parts.into_par_iter().map(read).collect();
        let Some(sinks) = sinks else { return false };
        sinks.into_iter().for_each(|sink| self.append(sink));
        true
    }

    /// Adds what another sink gathered. Nothing was wrong with it.
    fn append(&mut self, other: CatalogSink<'s>) {
        let rows = self.rows.places.len();
        if rows == 0 && self.told.is_empty() && self.rows.broken.is_empty() {
            *self = other;
            return;
        }
        let mut codes: Vec<Option<Vec<u32>>> = (0..grid::ATTRIBUTES).map(|_| None).collect();
        codes[grid::PARENT] =
            Some(other.rows.parents.texts().iter().map(|text| self.rows.parents.number(text).0).collect());
        codes[grid::OWNER] = Some(self.owners.append(other.owners));
        codes[grid::STATE] = Some(self.states.append(other.states));
        let attributes = self.attributes.iter_mut().zip(other.attributes);
        codes.extend(attributes.map(|(own, other)| Some(own.append(other))));
        rayon::join(
            || self.rows.grid.append(other.rows.grid, &codes),
            || {
                self.rows.texts.append(&other.rows.texts);
                self.rows.places.extend_from_slice(&other.rows.places);
            },
        );
        self.rows.sources.extend(other.rows.sources.into_iter().map(|(row, sources)| (rows as u32 + row, sources)));
    }

    /// Takes one resource in that was not read from CSV.
    pub fn loose(&mut self, fields: &[Option<CatalogField>], cells: &impl Cells, out: &mut Vec<Diagnostic>) {
        self.row(&Self::layout(fields), cells, out);
    }

    fn row(&mut self, layout: &Layout, cells: &impl Cells, out: &mut Vec<Diagnostic>) {
        let text = |column: Option<usize>| column.map_or("", |c| cells.text(c));
        let span = |column: Option<usize>| column.map_or(cells.place().span(), |c| cells.span(c));
        let id = text(layout.id);
        if id.is_empty() {
            out.push(Diagnostic::at(&codes::MISSING_VALUE, span(layout.id), "a resource without an id"));
            return;
        }
        let name = text(layout.name);
        if name.is_empty() {
            let message = format!("resource `{id}` has no name");
            out.push(Diagnostic::at(&codes::MISSING_VALUE, span(layout.name), message));
        }
        let Some(kind) = self.kind(text(layout.kind), id, || span(layout.kind), out) else {
            self.rows.broken.insert(id.to_string());
            return;
        };
        let (row, place) = (self.rows.places.len(), cells.place());
        self.rows.texts.push(id);
        self.rows.texts.push(name);
        let numbers = self.rows.grid.push();
        let parent = text(layout.parent);
        if !parent.is_empty() {
            numbers[grid::PARENT] = self.rows.parents.number(parent).0;
        }
        numbers[grid::KIND] = kind.0;
        numbers[grid::FILE] = place.file.0;
        numbers[grid::LINE] = place.line;
        self.rows.places.push(place);
        for &(column, field) in &layout.others {
            let text = cells.text(column);
            if !text.is_empty()
                && let Err(message) = self.value(row, kind, field, text)
            {
                let code = if message.1 { &codes::NO_EFFECT } else { &codes::BAD_VALUE };
                out.push(Diagnostic::at(code, cells.span(column), message.0));
            }
        }
    }

    fn kind(
        &mut self,
        text: &str,
        id: &str,
        span: impl Fn() -> bastide_syntax::Span,
        out: &mut Vec<Diagnostic>,
    ) -> Option<KindId> {
        let found = self.schema.kind(text);
        if found.is_none() {
            if text.is_empty() {
                out.push(Diagnostic::at(&codes::MISSING_VALUE, span(), format!("resource `{id}` has no kind")));
            } else if self.told.insert(format!("kind {text}")) {
                let near = nearest(text, self.schema.kinds.iter().map(|k| k.name.as_str()));
                let diagnostic = Diagnostic::at(&codes::UNKNOWN_KIND, span(), format!("unknown kind `{text}`"));
                out.push(match near {
                    Some(near) => diagnostic.help(format!("did you mean `{near}`?")),
                    None => diagnostic
                        .help(format!("to declare it, write `kind {} in ...`", bastide_syntax::quote::name(text))),
                });
            }
        }
        found
    }

    /// Reads one value. The flag of an error says that it is only without effect.
    fn value(&mut self, row: usize, kind: KindId, field: CatalogField, text: &str) -> Result<(), (String, bool)> {
        let bad = |message: String| (message, false);
        let (column, number) = match field {
            CatalogField::Id | CatalogField::Parent | CatalogField::Kind | CatalogField::Name => return Ok(()),
            CatalogField::Owner => (grid::OWNER, self.owners.number(text, |t| Ok(Value::Text(t.into()))).map_err(bad)?),
            CatalogField::State => {
                let scalar = self.schema.state_type();
                let number = self.states.number(text, |t| self.schema.read(scalar, t));
                (grid::STATE, number.map_err(|m| bad(format!("`state`: {m}")))?)
            }
            CatalogField::Inherits => match read_flag(text) {
                Some(true) => return Ok(()),
                Some(false) => (grid::KIND, kind.0 | grid::BARRIER),
                None => return Err(bad(format!("`inherits`: expected `yes` or `no`, found `{text}`"))),
            },
            CatalogField::Sources => {
                let sources = split_set(text);
                if !sources.is_empty() {
                    self.rows.sources.push((row as u32, sources));
                }
                return Ok(());
            }
            CatalogField::Attribute(id) => {
                let attribute = &self.schema.resource_attributes[id.index()];
                if !self.schema.is_any(kind, attribute.kinds.as_deref()) {
                    let kind = &self.schema.kinds[kind.index()].name;
                    let message = format!("kind `{kind}` has no attribute `{}`: the value is left out", attribute.name);
                    return if self.told.insert(message.clone()) { Err((message, true)) } else { Ok(()) };
                }
                let number = self.attributes[id.index()].number(text, |t| self.schema.read_cell(attribute, t));
                let number = number.map_err(|m| bad(format!("`{}`: {m}", attribute.name)))?;
                (grid::ATTRIBUTES + id.index(), number)
            }
        };
        self.rows.grid.last()[column] = number;
        Ok(())
    }

    /// The whole catalog.
    pub fn finish(self) -> CatalogRows {
        let attributes = self.attributes.into_iter().map(Values::finish).collect();
        CatalogRows { owners: self.owners.finish(), states: self.states.finish(), attributes, ..self.rows }
    }
}
