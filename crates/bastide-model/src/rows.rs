//! Tables as read, before anything is linked: what readers hand over. Values are read by their
//! declared types already; references are still text.

use crate::column::{Column, Distinct, Grid, NONE};
use crate::ids::SessionAttributeId;
use crate::strings::{Pool, Strings};
use crate::value::Value;
use bastide_syntax::{FileId, Span};
use fixedbitset::FixedBitSet;
use hashbrown::HashSet;
use std::sync::Arc;

/// Where a row stands.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct RowPlace {
    /// The file.
    pub file: FileId,
    /// The line, from 1.
    pub line: u32,
    /// First byte of the row.
    pub start: u32,
    /// One past its last byte, line end left out.
    pub end: u32,
}

impl RowPlace {
    /// The whole row.
    pub fn span(self) -> Span {
        Span { file: self.file, start: self.start, end: self.end }
    }

    /// The line alone.
    pub fn origin(self) -> crate::ids::Origin {
        crate::ids::Origin { file: self.file, line: self.line }
    }
}

/// People.
#[derive(Default)]
pub struct PeopleRows {
    /// Ids.
    pub ids: Strings,
    /// Names; empty: none.
    pub names: Strings,
    /// Positions in [`crate::schema::USER_KINDS`].
    pub kinds: Vec<u8>,
    /// Who is active.
    pub active: FixedBitSet,
    /// Realms.
    pub realms: Column,
    /// One column a user attribute.
    pub attributes: Vec<Column>,
    /// Where each stands.
    pub places: Vec<RowPlace>,
    /// Words by which somebody is gone: the row, the field and what stands there.
    pub farewells: Vec<(u32, String, String)>,
}

/// How a user signs in.
#[derive(Clone, Debug)]
pub struct SignInRow {
    /// The user's id.
    pub user: String,
    /// What is known of the session.
    pub values: Vec<(SessionAttributeId, Value)>,
    /// Where it stands.
    pub place: RowPlace,
}

/// How users sign in.
#[derive(Default, Debug)]
pub struct SignInRows {
    /// In order of users; of one user several, where several sources tell of different attributes.
    pub rows: Vec<SignInRow>,
    /// The attributes that any source tells, in order, each told by one.
    pub tells: Vec<SessionAttributeId>,
}

/// What a membership names.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum MemberRow {
    /// A user id.
    User(String),
    /// A group id.
    Group(String),
    /// Something that leads nowhere, as written (a distinguished name that is not in the file).
    Nobody(String),
}

/// Groups.
#[derive(Default)]
pub struct GroupRows {
    /// Every group named, with its name where one is given, in the order of the rows; doubles allowed.
    pub groups: Vec<(String, Option<String>)>,
    /// Group id, member, place.
    pub members: Vec<(String, MemberRow, RowPlace)>,
}

/// The catalog: whatever is looked up together lies together, since putting a million rows into another order takes as
/// long as looking them up.
#[derive(Clone)]
pub struct CatalogRows {
    /// The rows, in the order in which they came.
    parts: Vec<CatalogPart>,
    /// How many columns a grid has.
    width: usize,
    /// Distinct ids of parents, by number.
    pub parents: Pool,
    /// Owners' ids, by number.
    pub owners: Distinct,
    /// States, by number.
    pub states: Distinct,
    /// Values of each resource attribute, by number.
    pub attributes: Vec<Distinct>,
    /// Sources' ids.
    pub sources: SourceRows,
    /// Ids of rows that could not be taken in, so that what lies in them is not reported again.
    pub broken: HashSet<String>,
}

/// Ids of sources, by the numbers of the rows that have any, which ascend.
pub type SourceRows = Vec<(u32, Vec<String>)>;

/// Rows of the catalog that were read together.
#[derive(Clone)]
pub struct CatalogPart {
    /// The number of the first of them.
    first: usize,
    /// Of each row the id, then the name.
    pub texts: Arc<Strings>,
    /// Of each row the numbers of its values; [`grid`] says which column is which.
    pub grid: Grid,
    /// Where each begins and ends in its file.
    pub spans: Vec<(u32, u32)>,
    /// How many lines of the file come before those that are counted here.
    lines: u32,
    /// What its numbers are in the whole catalog; none where they are the same.
    codes: Option<Arc<Codes>>,
}

/// By column of a grid, what its numbers are in the whole catalog; none for columns in which they are the same.
pub type Codes = Vec<Option<Vec<u32>>>;

impl CatalogPart {
    /// The number in the whole catalog of what stands in a column.
    pub fn code(&self, column: usize, cell: u32) -> u32 {
        match self.codes(column) {
            Some(codes) if cell != NONE => codes[cell as usize],
            _ => cell,
        }
    }

    /// By number in a column, the number in the whole catalog; none where they are the same.
    pub fn codes(&self, column: usize) -> Option<&[u32]> {
        self.codes.as_ref()?[column].as_deref()
    }

    /// The numbers of the rows.
    pub fn rows(&self) -> std::ops::Range<usize> {
        self.first..self.first + self.spans.len()
    }

    /// How many lines of its file come before those that the grid counts.
    pub fn lines_before(&self) -> u32 {
        self.lines
    }

    /// Where a row stands.
    fn place(&self, at: usize) -> RowPlace {
        let (cells, (start, end)) = (self.grid.row(at), self.spans[at]);
        RowPlace { file: FileId(cells[grid::FILE]), line: self.lines + cells[grid::LINE], start, end }
    }
}

/// The columns of [`CatalogPart::grid`].
pub mod grid {
    /// The parent's number; none for a root.
    pub const PARENT: usize = 0;
    /// The kind, and [`BARRIER`].
    pub const KIND: usize = 1;
    /// The file.
    pub const FILE: usize = 2;
    /// The line.
    pub const LINE: usize = 3;
    /// The owner.
    pub const OWNER: usize = 4;
    /// The state.
    pub const STATE: usize = 5;
    /// The first resource attribute; the others follow.
    pub const ATTRIBUTES: usize = 6;
    /// Added to the kind of a row that does not inherit.
    pub const BARRIER: u32 = 1 << 31;
}

impl CatalogRows {
    /// No rows yet, of so many resource attributes.
    pub fn new(attributes: usize) -> CatalogRows {
        CatalogRows {
            parts: Vec::new(),
            width: grid::ATTRIBUTES + attributes,
            parents: Pool::default(),
            owners: Distinct::default(),
            states: Distinct::default(),
            attributes: Vec::new(),
            sources: Vec::new(),
            broken: HashSet::new(),
        }
    }

    /// The rows in the parts in which they were read.
    pub fn parts(&self) -> &[CatalogPart] {
        &self.parts
    }

    /// The part that takes in the next row.
    pub fn open(&mut self) -> &mut CatalogPart {
        if self.parts.last().is_none_or(|part| part.codes.is_some()) {
            self.begin();
        }
        self.parts.last_mut().expect("just made")
    }

    /// Begins a part.
    pub fn begin(&mut self) -> &mut CatalogPart {
        let (first, grid) = (self.len(), Grid::new(self.width));
        let (texts, spans) = (Arc::default(), Vec::new());
        self.parts.push(CatalogPart { first, texts, grid, spans, lines: 0, codes: None });
        self.parts.last_mut().expect("just made")
    }

    /// Takes out the part that was begun last, with the sources of its rows, numbered within it.
    pub fn take(&mut self) -> Option<(CatalogPart, SourceRows)> {
        let part = self.parts.pop()?;
        let from = self.sources.partition_point(|(row, _)| (*row as usize) < part.first);
        let sources = self.sources.split_off(from);
        let first = part.first as u32;
        Some((part, sources.into_iter().map(|(row, sources)| (row - first, sources)).collect()))
    }

    /// Takes in a part that was read elsewhere, and the number of lines before those that it counts.
    pub fn put(&mut self, mut part: CatalogPart, sources: SourceRows, lines: u32, codes: Arc<Codes>) {
        debug_assert!(part.codes.is_none(), "nothing was taken in there");
        (part.first, part.lines, part.codes) = (self.len(), lines, Some(codes));
        let first = part.first as u32;
        self.sources.extend(sources.into_iter().map(|(row, sources)| (first + row, sources)));
        self.parts.push(part);
    }

    /// How many columns a grid has.
    pub fn width(&self) -> usize {
        self.width
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.parts.last().map_or(0, |part| part.rows().end)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The part of a row, and its position there.
    fn find(&self, row: usize) -> (&CatalogPart, usize) {
        let part = &self.parts[self.parts.partition_point(|part| part.first <= row) - 1];
        (part, row - part.first)
    }

    /// The id of a row.
    pub fn id(&self, row: usize) -> &str {
        let (part, at) = self.find(row);
        part.texts.get(2 * at)
    }

    /// The name of a row.
    pub fn name(&self, row: usize) -> &str {
        let (part, at) = self.find(row);
        part.texts.get(2 * at + 1)
    }

    /// Where a row stands.
    pub fn place(&self, row: usize) -> RowPlace {
        let (part, at) = self.find(row);
        part.place(at)
    }

    /// The number of a row's parent; [`NONE`] for a root.
    pub fn parent_number(&self, row: usize) -> u32 {
        let (part, at) = self.find(row);
        part.code(grid::PARENT, part.grid.row(at)[grid::PARENT])
    }

    /// The numbers of all parents, by row.
    pub fn parent_numbers(&self) -> impl Iterator<Item = u32> + '_ {
        self.parts.iter().flat_map(|part| part.grid.column(grid::PARENT).map(|cell| part.code(grid::PARENT, cell)))
    }

    /// The id of a row's parent; empty for a root.
    pub fn parent(&self, row: usize) -> &str {
        match self.parent_number(row) {
            NONE => "",
            number => self.parents.texts().get(number as usize),
        }
    }
}

/// A cell of an entry: its text and where it stands.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Cell {
    /// The text.
    pub text: String,
    /// Where.
    pub span: Span,
}

/// An access entry, cells as written; empty text: missing.
#[derive(Clone, Debug)]
pub struct EntryRow {
    /// `user:ID`, `group:ID`, `anyone`, `owner`.
    pub subject: Cell,
    /// One of the five.
    pub modality: Cell,
    /// Actions and roles joined by `;`.
    pub actions: Cell,
    /// A catalog id; empty: everywhere.
    pub place: Cell,
    /// Whether the place may be a path, too.
    pub by_path: bool,
    /// `under`, `below`, `at`.
    pub reach: Cell,
    /// A layer.
    pub layer: Cell,
    /// First day.
    pub from: Cell,
    /// Last day.
    pub until: Cell,
    /// The reason.
    pub note: Cell,
    /// Where it stands.
    pub row: RowPlace,
}
