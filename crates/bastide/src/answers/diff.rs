//! What `diff` answers.

use bastide_answers::answer;
use bastide_answers::difference::{Blocks, Effect, Radius, RowsMoved};
use bastide_answers::prove::Proof;

answer! {
    /// What differs between two estates.
    pub struct Differing of crate::found::diff::Differing {
        /// The earlier estate, as it was named.
        pub old: String,
        /// The later estate, as it was named.
        pub new: String,
        /// The day asked for.
        pub date: String,
        /// How far it reaches.
        pub radius: Radius,
        /// Users, resources and statements that are only in one of them.
        pub counts: Vec<Count>,
        /// What brought it about, the most triples first.
        pub causes: Vec<Effect>,
        /// Gains and losses, the most consequential first.
        pub blocks: Blocks,
        /// Whose rows of datasets change, those first for whom most does.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        #[schemars(default)]
        pub rows: Vec<RowsMoved>,
        /// Expectations and guarantees that held before and do not any more.
        pub broken: Vec<Proof>,
    }

    /// How many of something come and go.
    pub struct Count of crate::found::diff::Count {
        /// `users`, `resources` or `rules`.
        pub of: String,
        /// Only in the later estate.
        pub come: usize,
        /// Only in the earlier one.
        pub gone: usize,
    }
}
