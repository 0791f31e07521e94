//! What `filter` answers.

use bastide_answers::answer;
use bastide_answers::difference::RowsSeen;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

answer! {
    /// What one user gets of a dataset.
    #[schemars(rename = "Answer")]
    pub struct FilterAnswer of crate::found::filter::FilterAnswer {
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
    pub struct SliceSeen of crate::found::filter::SliceSeen {
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
    pub struct Everybody of crate::found::filter::Everybody {
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
    pub struct Same of crate::found::filter::Same {
        /// Their ids, in byte order.
        pub users: Vec<String>,
        /// How much.
        pub seen: RowsSeen,
    }
}

/// What is printed of the two.
#[derive(Serialize, JsonSchema)]
#[serde(untagged)]
pub enum Filtered {
    /// Of one user.
    One(Box<FilterAnswer>),
    /// Of everybody.
    All(Everybody),
}
