//! The catalog from cells, whatever file they come from.

use crate::cells::LooseCells;
use crate::csv_table::{Block, Cells, CsvRow, CsvTable, Plain};
use crate::manifest::DataSource;
use crate::shape::{ByPath, Paths, Shape, inside, look};
use crate::untidy::untidy_name;
use bastide_model::column::{NONE, Values};
use bastide_model::rows::{CatalogPart, CatalogRows, Codes, SourceRows, grid};
use bastide_model::schema::{Attribute, CATALOG_COLUMNS, read_flag, split_set};
use bastide_model::tidy::untidy;
use bastide_model::{KindId, ResourceAttributeId, Schema, Value};
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};
use hashbrown::HashSet;
use rayon::prelude::*;
use std::ops::Range;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Bytes of a row in most catalogs, at least.
const USUAL_ROW: usize = 48;
/// A file is read in parts of about so many bytes, so that no core waits long for the other.
const PART: usize = 1 << 19;
/// But in so many a core at least.
const LEAST_PARTS: usize = 4;
/// Rows that come from no text are taken in so many at a time.
const CHUNK: usize = 1 << 14;

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

/// What a sink has gathered, to go on from any number of times.
#[derive(Clone)]
pub(crate) struct Gathered {
    rows: CatalogRows,
    owners: Values,
    states: Values,
    attributes: Vec<Values>,
}

/// Where the fields stand in a row, so that no row looks for them.
pub struct Layout {
    id: Option<usize>,
    parent: Option<usize>,
    kind: Option<usize>,
    name: Option<usize>,
    others: Vec<(usize, CatalogField)>,
}

/// The id of an owner.
fn owner(text: &str) -> Result<Value, String> {
    match untidy(text) {
        Some((why, better)) => Err(format!("`owner`: the id {why}: write `{better}`")),
        None => Ok(Value::Text(text.into())),
    }
}

/// Where the values of an attribute are gathered.
fn values_of(attribute: &Attribute) -> Values {
    if attribute.set { Values::of_sets() } else { Values::default() }
}

/// A part of a file that was read.
struct Piece {
    /// Which one.
    number: usize,
    rows: CatalogPart,
    /// Sources of its rows, numbered within it.
    sources: SourceRows,
    /// How many lines it has.
    lines: u32,
    /// How many distinct texts its sink had met after it: of parents, then of each list of values.
    distinct: Vec<usize>,
}

impl<'s> CatalogSink<'s> {
    /// An empty catalog.
    pub fn new(schema: &'s Schema) -> Self {
        CatalogSink {
            schema,
            rows: CatalogRows::new(schema.resource_attributes.len()),
            owners: Values::default(),
            states: Values::default(),
            attributes: schema.resource_attributes.iter().map(values_of).collect(),
            told: HashSet::new(),
        }
    }

    /// A catalog that goes on from what another has gathered, of the same declarations.
    pub(crate) fn with(schema: &'s Schema, gathered: Gathered) -> Self {
        let Gathered { rows, owners, states, attributes } = gathered;
        CatalogSink { schema, rows, owners, states, attributes, told: HashSet::new() }
    }

    /// What came so far.
    pub(crate) fn gathered(&self) -> Gathered {
        let (rows, attributes) = (self.rows.clone(), self.attributes.clone());
        Gathered { rows, owners: self.owners.clone(), states: self.states.clone(), attributes }
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

    /// The lists of values.
    fn values(&self) -> impl Iterator<Item = &Values> {
        [&self.owners, &self.states].into_iter().chain(&self.attributes)
    }

    /// How many rows came.
    pub fn count(&self) -> usize {
        self.rows.len()
    }

    /// Which of these ids are among the rows that came.
    pub fn among<'n>(&self, ids: impl Iterator<Item = &'n str>) -> HashSet<String> {
        let wanted: HashSet<&str> = ids.collect();
        if wanted.is_empty() {
            return HashSet::new();
        }
        (0..self.rows.len()).map(|row| self.rows.id(row)).filter(|id| wanted.contains(id)).map(str::to_string).collect()
    }

    /// Makes room for the rows of a text of so many bytes, so that what is there need not move while more comes.
    fn reserve(&mut self, bytes: usize) {
        let rows = bytes / USUAL_ROW;
        let part = self.rows.begin();
        part.grid.reserve(rows);
        part.spans.reserve(rows);
        Arc::make_mut(&mut part.texts).reserve(2 * rows, bytes / 3);
    }

    /// Where fields stand.
    pub fn layout(fields: &[Option<CatalogField>]) -> Layout {
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

    /// The field of a column of a source.
    fn field_of(&self, source: &DataSource, theirs: &str) -> Option<CatalogField> {
        self.field(source.ours(theirs)).filter(|_| !source.ignores(theirs))
    }

    /// Whether a column holds a set.
    pub fn is_set(&self, name: &str) -> bool {
        name == "sources"
            || matches!(self.field(name), Some(CatalogField::Attribute(id)) if self.schema.resource_attributes[id.index()].set)
    }

    /// Gathers what is at which path, of a CSV file whose rows give their parents so. What is wrong with it is told when it is
    /// read.
    pub fn paths(&self, file: FileId, text: &str, source: &DataSource, paths: &mut Paths) {
        let mut out = Diagnostics::new();
        let Some(mut table) = CsvTable::open(file, text, &mut out) else { return };
        let column =
            |wanted: CatalogField| table.header.iter().position(|c| self.field_of(source, &c.text) == Some(wanted));
        let (Some(parent), Some(name)) = (column(CatalogField::Parent), column(CatalogField::Name)) else { return };
        let id = column(CatalogField::Id);
        let mut row = table.row();
        while table.next(&mut row, &mut out) {
            let path = inside(row.text(parent), row.text(name));
            let id = id.map_or_else(|| path.clone(), |id| row.text(id).to_string());
            paths
                .entry(path)
                .and_modify(|known| *known = known.take().filter(|known| *known == id))
                .or_insert(Some(id));
        }
    }

    /// Reads a CSV file.
    pub fn csv(&mut self, file: FileId, text: &str, source: &DataSource, paths: &Paths, out: &mut Diagnostics) {
        let Some(mut table) = CsvTable::open(file, text, out) else { return };
        let known = self.known();
        look(source, &known, out);
        let mut required = vec!["parent", "name"];
        required.extend((!source.by_path).then_some("id"));
        required.extend(source.kind.is_none().then_some("kind"));
        let ignored = |name: &str| source.ignores(name);
        let mut fields = table.fields_but(|n| self.field_of(source, n), &known, &required, &ignored, out);
        let ours = |cell: &bastide_model::rows::Cell| {
            (!source.ignores(&cell.text)).then(|| source.ours(&cell.text).to_string())
        };
        let names: Vec<Option<String>> = table.header.iter().map(ours).collect();
        let mut shape = Shape::new(source, &names, &|name| self.is_set(name));
        let at = |fields: &[Option<CatalogField>], wanted| fields.iter().position(|f| *f == Some(wanted));
        if shape.with_kind(at(&fields, CatalogField::Kind)) == Some(fields.len()) {
            fields.push(Some(CatalogField::Kind));
        }
        if let (true, Some(parent), Some(name)) =
            (source.by_path, at(&fields, CatalogField::Parent), at(&fields, CatalogField::Name))
            && shape.with_paths(ByPath { parent, name, paths }, at(&fields, CatalogField::Id)) == fields.len()
        {
            fields.push(Some(CatalogField::Id));
        }
        let layout = Self::layout(&fields);
        let parts = (text.len() / PART).max(LEAST_PARTS * rayon::current_num_threads());
        if out.is_empty()
            && shape.is_plain()
            && let Some(parts) = table.plain(parts)
            && self.in_parts(&layout, &parts, table.first_line())
        {
            return;
        }
        let mut row = table.row();
        while table.next(&mut row, out) {
            if shape.is_plain() {
                self.row(&layout, &row, out);
            } else {
                self.row(&layout, &shape.row(&row), out);
            }
        }
    }

    /// Reads the parts of a file, the first of which begins at a line, at the same time. False, and nothing taken in,
    /// where there is anything to report: then the file is read once more from front to back, so that it is reported the
    /// same however many parts there are.
    fn in_parts(&mut self, layout: &Layout, parts: &[Plain], line: u32) -> bool {
        let schema = self.schema;
        // Each core takes the next part, and numbers the values of all its parts together.
        let next = AtomicUsize::new(0);
        let read = |_| {
            let mut sink = CatalogSink::new(schema);
            let mut pieces = Vec::new();
            loop {
                let number = next.fetch_add(1, Ordering::Relaxed);
                let Some(part) = parts.get(number) else { return Some((sink, pieces)) };
                let Some(piece) = sink.piece(layout, part.clone(), number) else {
                    // Nobody needs the others then.
                    next.store(parts.len(), Ordering::Relaxed);
                    return None;
                };
                pieces.push(piece);
            }
        };
        let cores = (0..rayon::current_num_threads()).into_par_iter().with_max_len(1);
        let Some(sinks) = cores.map(read).collect::<Option<Vec<_>>>() else { return false };
        self.take_in(sinks, line);
        true
    }

    /// Reads a part of a file, which it gives back. None where there is anything to report.
    fn piece(&mut self, layout: &Layout, mut part: Plain, number: usize) -> Option<Piece> {
        self.reserve(part.bytes());
        let mut block = part.block();
        let mut out = Diagnostics::new();
        while !part.is_read() {
            if !part.next(&mut block) {
                return None;
            }
            if !block.is_empty() {
                self.block(layout, &block)?;
            } else if !part.is_read() {
                let mut take = |row: &CsvRow| {
                    self.row(layout, row, &mut out);
                    out.is_empty()
                };
                part.quoted(&mut take).then_some(())?;
            }
        }
        self.piece_of(number, part.lines())
    }

    /// What was read since the part was begun, of so many lines.
    fn piece_of(&mut self, number: usize, lines: u32) -> Option<Piece> {
        let (rows, sources) = self.rows.take()?;
        let values = self.values().map(Values::text_count);
        let distinct = std::iter::once(self.rows.parents.texts().len()).chain(values).collect();
        Some(Piece { number, rows, sources, lines, distinct })
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
            for row in (0..block.len()).filter(|row| !block.is_missing(*row, column)) {
                rows.push(row);
                texts.push(block.text(row, column));
            }
        };
        let mut parents = vec![NONE; block.len()];
        fill(parent, &mut rows, &mut texts);
        rows.iter().zip(self.rows.parents.numbers(&texts)).for_each(|(row, number)| parents[*row] = number);
        let first = self.rows.len();
        let part = self.rows.open();
        let from = part.spans.len();
        part.grid.extend(block.len());
        let labels = Arc::make_mut(&mut part.texts);
        let mut kinds: Vec<KindId> = Vec::with_capacity(block.len());
        let mut last = ("", None);
        for row in 0..block.len() {
            let (id, name, kind) = (block.text(row, id), block.text(row, name), block.text(row, kind));
            if id.is_empty() || name.is_empty() || untidy(id).is_some() || untidy(name).is_some() {
                return None;
            }
            if last.0 != kind {
                last = (kind, self.schema.kind(kind));
            }
            kinds.push(last.1?);
            labels.push(id);
            labels.push(name);
            let place = block.place(row);
            part.spans.push((place.start, place.end));
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
                CatalogField::Owner => (grid::OWNER, self.owners.numbers(&texts, owner)),
                CatalogField::State => {
                    (grid::STATE, self.states.numbers(&texts, |t| schema.read(schema.state_type(), t)))
                }
                CatalogField::Attribute(id) => {
                    let attribute = &schema.resource_attributes[id.index()];
                    if rows.iter().any(|row| !schema.is_any(kinds[*row], attribute.kinds.as_deref())) {
                        return None;
                    }
                    let numbers = self.attributes[id.index()].numbers(&texts, |t| schema.read(attribute.scalar, t));
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

    /// Takes in what other sinks read, from a line on, in the order of the file. Values are numbered as if one had read all
    /// of it: each sink took its parts in order, so what is new to it in a part stands in no earlier part that it read.
    fn take_in(&mut self, sinks: Vec<(CatalogSink<'s>, Vec<Piece>)>, mut line: u32) {
        let (sinks, pieces): (Vec<CatalogSink>, Vec<Vec<Piece>>) = sinks.into_iter().unzip();
        // Of each part the sink, and of each list the texts that were new to it.
        let mut order: Vec<(usize, Vec<Range<usize>>, Piece)> = Vec::new();
        for (sink, pieces) in pieces.into_iter().enumerate() {
            let mut before = vec![0; 3 + self.attributes.len()];
            for piece in pieces {
                let new = before.iter().zip(&piece.distinct).map(|(from, to)| *from..*to).collect();
                before.clone_from(&piece.distinct);
                order.push((sink, new, piece));
            }
        }
        order.sort_by_key(|(.., piece)| piece.number);
        let parents = &mut self.rows.parents;
        let number_parents = || {
            let mut codes: Vec<Vec<u32>> = vec![Vec::new(); sinks.len()];
            for (sink, new, _) in &order {
                let texts = sinks[*sink].rows.parents.texts();
                codes[*sink].extend(new[0].clone().map(|text| parents.number(texts.get(text)).0));
            }
            codes
        };
        let others: Vec<Vec<&Values>> = sinks.iter().map(|sink| sink.values().collect()).collect();
        let own: Vec<&mut Values> =
            [&mut self.owners, &mut self.states].into_iter().chain(&mut self.attributes).collect();
        let number_values = || {
            let number = |(list, own): (usize, &mut Values)| {
                let mut codes: Vec<Vec<u32>> = vec![Vec::new(); sinks.len()];
                for (sink, new, _) in &order {
                    own.take_in(others[*sink][list], new[1 + list].clone(), &mut codes[*sink]);
                }
                codes
            };
            own.into_par_iter().enumerate().map(|(list, own)| number((list, own))).collect::<Vec<_>>()
        };
        // The lists are few, and so are the cores.
        let (parents, values) = rayon::join(number_parents, number_values);
        let mut codes: Vec<Codes> = vec![vec![None; self.rows.width()]; sinks.len()];
        let columns = [grid::PARENT, grid::OWNER, grid::STATE].into_iter().chain(grid::ATTRIBUTES..self.rows.width());
        for (column, of_sinks) in columns.zip(std::iter::once(parents).chain(values)) {
            codes.iter_mut().zip(of_sinks).for_each(|(codes, of_sink)| codes[column] = Some(of_sink));
        }
        let codes: Vec<Arc<Codes>> = codes.into_iter().map(Arc::new).collect();
        for (sink, _, piece) in order {
            self.rows.put(piece.rows, piece.sources, line, Arc::clone(&codes[sink]));
            line += piece.lines;
        }
    }

    /// Takes many resources in that lie in the same fields. `each` gives those of a part of them in order, until it is told
    /// that no more are wanted; parts are read at the same time, and in order once more where there is anything to report.
    pub fn in_chunks<E>(&mut self, layout: &Layout, count: usize, out: &mut Diagnostics, each: E)
    where
        E: Fn(Range<usize>, &mut dyn FnMut(&LooseCells) -> bool) + Sync,
    {
        let schema = self.schema;
        let next = AtomicUsize::new(0);
        let read = |_| {
            let mut sink = CatalogSink::new(schema);
            let (mut pieces, mut told) = (Vec::new(), Diagnostics::new());
            loop {
                let number = next.fetch_add(1, Ordering::Relaxed);
                let from = number.saturating_mul(CHUNK);
                if from >= count {
                    return Some((sink, pieces));
                }
                sink.rows.begin();
                each(from..count.min(from + CHUNK), &mut |cells| {
                    sink.row(layout, cells, &mut told);
                    told.is_empty()
                });
                if !told.is_empty() {
                    next.store(count, Ordering::Relaxed);
                    return None;
                }
                pieces.push(sink.piece_of(number, 0)?);
            }
        };
        let cores = (0..rayon::current_num_threads()).into_par_iter().with_max_len(1);
        match cores.map(read).collect::<Option<Vec<_>>>() {
            Some(sinks) => self.take_in(sinks, 0),
            None => each(0..count, &mut |cells| {
                self.row(layout, cells, out);
                true
            }),
        }
    }

    /// Takes one resource in that was not read from CSV.
    pub fn loose(&mut self, fields: &[Option<CatalogField>], cells: &impl Cells, out: &mut Diagnostics) {
        self.row(&Self::layout(fields), cells, out);
    }

    fn row(&mut self, layout: &Layout, cells: &impl Cells, out: &mut Diagnostics) {
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
        let parts =
            [("id", id, layout.id), ("name", name, layout.name), ("parent", text(layout.parent), layout.parent)];
        for (what, text, column) in parts {
            if let Some(told) = untidy_name("resource", id, what, text) {
                out.push(Diagnostic { place: Some(span(column)), ..told });
            }
        }
        let Some(kind) = self.kind(text(layout.kind), id, || span(layout.kind), out) else {
            self.rows.broken.insert(id.to_string());
            return;
        };
        let (row, place) = (self.rows.len(), cells.place());
        let parent = text(layout.parent);
        let parent = if parent.is_empty() { NONE } else { self.rows.parents.number(parent).0 };
        let part = self.rows.open();
        let texts = Arc::make_mut(&mut part.texts);
        texts.push(id);
        texts.push(name);
        part.spans.push((place.start, place.end));
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
                    part.grid.row_mut(part.spans.len() - 1)[at] = number;
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
        out: &mut Diagnostics,
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
            CatalogField::Owner => (grid::OWNER, self.owners.number(text, owner).map_err(bad)?),
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
                if let Some((why, better)) = sources.iter().find_map(|source| untidy(source)) {
                    return Err(bad(format!("`sources`: an id of them {why}: write `{better}`")));
                }
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
                let number = self.attributes[id.index()].number(text, |t| self.schema.read(attribute.scalar, t));
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
