//! What `diff` answers.

use bastide_engine::difference::{Blocks, Effect, Radius};
use bastide_engine::inside::RowsMoved;
use bastide_engine::prove::Proof;

/// What differs between two estates.
pub struct Differing {
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
    pub rows: Vec<RowsMoved>,
    /// Expectations and guarantees that held before and do not any more.
    pub broken: Vec<Proof>,
}

/// How many of something come and go.
pub struct Count {
    /// `users`, `resources` or `rules`.
    pub of: String,
    /// Only in the later estate.
    pub come: usize,
    /// Only in the earlier one.
    pub gone: usize,
}
