//! The catalog from cells, whatever file they come from.

use crate::csv_table::{Block, Cells, CsvTable, Plain};
use bastide_model::column::{NONE, Values};
use bastide_model::rows::{CatalogRows, grid};
use bastide_model::schema::{CATALOG_COLUMNS, read_flag, split_set};
use bastide_model::strings::Pool;
use bastide_model::{KindId, ResourceAttributeId, Schema, Value};
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, FileId, codes};
use hashbrown::HashSet;
use rayon::prelude::*;

/// Bytes of a row in most catalogs, at least.
const USUAL_ROW: usize = 48;
/// A file is read in so many parts a core, so that none waits long for the other.
const PARTS: usize = 4;

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
        let part = self.rows.open();
        part.grid.reserve(rows);
        part.places.reserve(rows);
        part.texts.reserve(2 * rows, bytes / 3);
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
        let cores = rayon::current_num_threads();
        if out.is_empty()
            && let Some(parts) = table.plain(if cores == 1 { 1 } else { PARTS * cores })
            && self.in_parts(&layout, parts)
        {
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
    fn in_parts(&mut self, layout: &Layout, parts: Vec<Plain>) -> bool {
        let schema = self.schema;
        let read = |mut part: Plain| {
            let mut sink = CatalogSink::new(schema);
            sink.reserve(part.bytes());
            let mut block = part.block();
            while part.next(&mut block) {
                if block.is_empty() {
                    return Some(sink);
                }
                sink.block(layout, &block)?;
            }
            None
        };
        let sinks: Option<Vec<CatalogSink<'s>>> = parts.into_par_iter().with_max_len(1).map(read).collect();
        let Some(sinks) = sinks else { return false };
        self.append(sinks);
        true
    }

    /// Takes in the rows of a block, one column after the other. None where there is anything to report.
    fn block<'t>(&mut self, layout: &Layout, block: &Block<'t>) -> Option<()> {
        let (Some(id), Some(parent), Some(kind), Some(name)) = (layout.id, layout.parent, layout.kind, layout.name)
        else {
            return None;
        };
        // Of a column, the rows that have something there, and what that is.
        let mut rows: Vec<usize> = Vec::with_capacity(block.len());
        let mut texts: Vec<&str> = Vec::with_capacity(block.len());
        let fill = |column: usize, rows: &mut Vec<usize>, texts: &mut Vec<&'t str>| {
            rows.clear();
            texts.clear();
            for (row, text) in (0..block.len()).map(|row| (row, block.text(row, column))) {
                if !text.is_empty() {
                    rows.push(row);
                    texts.push(text);
                }
            }
        };
        let mut parents = vec![NONE; block.len()];
        fill(parent, &mut rows, &mut texts);
        rows.iter().zip(self.rows.parents.numbers(&texts)).for_each(|(row, number)| parents[*row] = number);
        let first = self.rows.len();
        let part = self.rows.open();
        let from = part.places.len();
        part.grid.extend(block.len());
        let mut kinds: Vec<KindId> = Vec::with_capacity(block.len());
        let mut last = ("", None);
        for row in 0..block.len() {
            let (id, name, kind) = (block.text(row, id), block.text(row, name), block.text(row, kind));
            if id.is_empty() || name.is_empty() {
                return None;
            }
            if last.0 != kind {
                last = (kind, self.schema.kind(kind));
            }
            kinds.push(last.1?);
            part.texts.push(id);
            part.texts.push(name);
            let place = block.place(row);
            part.places.push(place);
            let cells = part.grid.row_mut(from + row);
            cells[grid::PARENT] = parents[row];
            cells[grid::KIND] = kinds[row].0;
            cells[grid::FILE] = place.file.0;
            cells[grid::LINE] = place.line;
        }
        let schema = self.schema;
        for &(column, field) in &layout.others {
            fill(column, &mut rows, &mut texts);
            let (at, numbers) = match field {
                CatalogField::Owner => (grid::OWNER, self.owners.numbers(&texts, |t| Ok(Value::Text(t.into())))),
                CatalogField::State => {
                    (grid::STATE, self.states.numbers(&texts, |t| schema.read(schema.state_type(), t)))
                }
                CatalogField::Attribute(id) => {
                    let attribute = &schema.resource_attributes[id.index()];
                    if rows.iter().any(|row| !schema.is_any(kinds[*row], attribute.kinds.as_deref())) {
                        return None;
                    }
                    let numbers = self.attributes[id.index()].numbers(&texts, |t| schema.read_cell(attribute, t));
                    (grid::ATTRIBUTES + id.index(), numbers)
                }
                _ => {
                    for (row, text) in rows.iter().zip(&texts) {
                        if let Some((at, number)) = self.value(first + row, kinds[*row], field, text).ok()? {
                            self.rows.open().grid.row_mut(from + row)[at] = number;
                        }
                    }
                    continue;
                }
            };
            let grid = &mut self.rows.open().grid;
            rows.iter().zip(numbers.ok()?).for_each(|(row, number)| grid.row_mut(from + row)[at] = number);
        }
        Some(())
    }

    /// Adds what other sinks gathered, with which nothing was wrong.
    fn append(&mut self, others: Vec<CatalogSink<'s>>) {
        let mut others = others.into_iter();
        if self.rows.is_empty() && self.told.is_empty() && self.rows.broken.is_empty() {
            others.next().into_iter().for_each(|first| *self = first);
        }
        let (mut parents, mut rows) = (Vec::new(), Vec::new());
        let mut values: Vec<Vec<Values>> = vec![Vec::new(); 2 + self.attributes.len()];
        for mut other in others {
            parents.push(std::mem::take(&mut other.rows.parents));
            let all = [other.owners, other.states].into_iter().chain(other.attributes);
            values.iter_mut().zip(all).for_each(|(column, more)| column.push(more));
            rows.push(other.rows);
        }
        // Each list takes in those of all others; which are few, and so are the cores.
        let own = [&mut self.owners, &mut self.states].into_iter().chain(&mut self.attributes).collect::<Vec<_>>();
        let all_parents = &mut self.rows.parents;
        let (parents, values) = rayon::join(
            || {
                let numbers = |pool: &Pool| pool.texts().iter().map(|text| all_parents.number(text).0).collect();
                parents.iter().map(numbers).collect::<Vec<Vec<u32>>>()
            },
            || {
                let take_in = |(own, others): (&mut Values, Vec<Values>)| {
                    others.into_iter().map(|other| own.append(other)).collect()
                };
                own.into_par_iter().zip(values).map(take_in).collect::<Vec<Vec<Vec<u32>>>>()
            },
        );
        let mut values: Vec<_> = values.into_iter().map(Vec::into_iter).collect();
        for (mut other, parents) in rows.into_iter().zip(parents) {
            let mut codes = vec![None; other.width()];
            codes[grid::PARENT] = Some(parents);
            let columns = [grid::OWNER, grid::STATE].into_iter().chain(grid::ATTRIBUTES..other.width());
            columns.zip(&mut values).for_each(|(column, values)| codes[column] = values.next());
            let first = self.rows.len() as u32;
            let sources = std::mem::take(&mut other.sources);
            self.rows.sources.extend(sources.into_iter().map(|(row, sources)| (first + row, sources)));
            self.rows.append(other, codes);
        }
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
        let (row, place) = (self.rows.len(), cells.place());
        let parent = text(layout.parent);
        let parent = if parent.is_empty() { NONE } else { self.rows.parents.number(parent).0 };
        let part = self.rows.open();
        part.texts.push(id);
        part.texts.push(name);
        part.places.push(place);
        let numbers = part.grid.push();
        numbers[grid::PARENT] = parent;
        numbers[grid::KIND] = kind.0;
        numbers[grid::FILE] = place.file.0;
        numbers[grid::LINE] = place.line;
        for &(column, field) in &layout.others {
            let text = cells.text(column);
            if text.is_empty() {
                continue;
            }
            match self.value(row, kind, field, text) {
                Ok(Some((at, number))) => {
                    let part = self.rows.open();
                    part.grid.row_mut(part.places.len() - 1)[at] = number;
                }
                Ok(None) => {}
                Err((message, harmless)) => {
                    let code = if harmless { &codes::NO_EFFECT } else { &codes::BAD_VALUE };
                    out.push(Diagnostic::at(code, cells.span(column), message));
                }
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

    /// Reads one value: the column of the grid that it belongs in, and its number. The flag of an error says that it is only
    /// without effect.
    fn value(
        &mut self,
        row: usize,
        kind: KindId,
        field: CatalogField,
        text: &str,
    ) -> Result<Option<(usize, u32)>, (String, bool)> {
        let bad = |message: String| (message, false);
        Ok(Some(match field {
            CatalogField::Id | CatalogField::Parent | CatalogField::Kind | CatalogField::Name => return Ok(None),
            CatalogField::Owner => (grid::OWNER, self.owners.number(text, |t| Ok(Value::Text(t.into()))).map_err(bad)?),
            CatalogField::State => {
                let scalar = self.schema.state_type();
                let number = self.states.number(text, |t| self.schema.read(scalar, t));
                (grid::STATE, number.map_err(|m| bad(format!("`state`: {m}")))?)
            }
            CatalogField::Inherits => match read_flag(text) {
                Some(true) => return Ok(None),
                Some(false) => (grid::KIND, kind.0 | grid::BARRIER),
                None => return Err(bad(format!("`inherits`: expected `yes` or `no`, found `{text}`"))),
            },
            CatalogField::Sources => {
                let sources = split_set(text);
                if !sources.is_empty() {
                    self.rows.sources.push((row as u32, sources));
                }
                return Ok(None);
            }
            CatalogField::Attribute(id) => {
                let attribute = &self.schema.resource_attributes[id.index()];
                if !self.schema.is_any(kind, attribute.kinds.as_deref()) {
                    let kind = &self.schema.kinds[kind.index()].name;
                    let message = format!("kind `{kind}` has no attribute `{}`: the value is left out", attribute.name);
                    return if self.told.insert(message.clone()) { Err((message, true)) } else { Ok(None) };
                }
                let number = self.attributes[id.index()].number(text, |t| self.schema.read_cell(attribute, t));
                let number = number.map_err(|m| bad(format!("`{}`: {m}", attribute.name)))?;
                (grid::ATTRIBUTES + id.index(), number)
            }
        }))
    }

    /// The whole catalog.
    pub fn finish(self) -> CatalogRows {
        let mut rows = self.rows;
        rows.owners = self.owners.finish();
        rows.states = self.states.finish();
        rows.attributes = self.attributes.into_iter().map(Values::finish).collect();
        rows
    }
}
