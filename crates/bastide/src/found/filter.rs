//! What `filter` answers.

use bastide_engine::inside::RowsSeen;
use std::collections::BTreeMap;

/// What one user gets of a dataset.
pub struct FilterAnswer {
    /// The user's id.
    pub user: String,
    /// The user's name.
    pub name: String,
    /// How much.
    pub seen: RowsSeen,
    /// The slices, in the order of the catalog.
    pub slices: Vec<SliceSeen>,
    /// The names of the columns, in the order of the data.
    pub columns: Vec<String>,
    /// The names of the other columns.
    pub without: Vec<String>,
    /// The query that gives just that.
    pub sql: String,
}

/// A slice that somebody gets.
pub struct SliceSeen {
    /// The resource's id.
    pub id: String,
    /// Its name.
    pub name: String,
    /// By column its value; none: there is no value.
    pub values: BTreeMap<String, Option<String>>,
    /// How many rows.
    pub rows: u64,
}

/// What everybody gets of a dataset.
pub struct Everybody {
    /// The dataset's id.
    pub dataset: String,
    /// Its path.
    pub path: String,
    /// The action.
    pub action: String,
    /// Active users by what they get, those who get most rows first.
    pub shares: Vec<Same>,
}

/// Users who get the same.
pub struct Same {
    /// Their ids, in byte order.
    pub users: Vec<String>,
    /// How much.
    pub seen: RowsSeen,
}
