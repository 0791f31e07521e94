//! Tables as read, before anything is linked: what readers hand over. Values are read by their
//! declared types already; references are still text.

use crate::column::Column;
use crate::ids::KindId;
use crate::strings::Strings;
use bastide_syntax::{FileId, Span};
use fixedbitset::FixedBitSet;
use hashbrown::HashSet;

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

/// The catalog.
#[derive(Default)]
pub struct CatalogRows {
    /// Ids.
    pub ids: Strings,
    /// Parents' ids; empty for a root.
    pub parents: Strings,
    /// Names.
    pub names: Strings,
    /// Kinds.
    pub kinds: Vec<KindId>,
    /// Owners' ids.
    pub owners: Column,
    /// States.
    pub states: Column,
    /// Rows that do not inherit.
    pub barriers: FixedBitSet,
    /// Sources' ids, for the rows that have any.
    pub sources: Vec<(u32, Vec<String>)>,
    /// One column a resource attribute.
    pub attributes: Vec<Column>,
    /// Where each stands.
    pub places: Vec<RowPlace>,
    /// Ids of rows that could not be taken in, so that what lies in them is not reported again.
    pub broken: HashSet<String>,
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
