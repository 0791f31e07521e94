//! What would turn a decision.

use crate::answer;
use crate::difference::{Blocks, Described, Radius};

answer! {
    /// What a remedy hands out beside the wish: gains of more than harmless actions.
    pub struct Power of bastide_engine::remedy::Power {
        /// How many triples.
        pub triples: u64,
        /// Who gains any of them, the user asked about among them.
        pub users: usize,
        /// On how many resources.
        pub resources: usize,
        /// The actions, in declared order.
        pub actions: Vec<String>,
    }

    /// One remedy.
    pub struct Remedy of bastide_engine::remedy::Remedy {
        /// What to change: one change, or two that only help together.
        pub changes: Vec<Described>,
        /// Why this one is likely, where something speaks for it.
        pub hint: Option<String>,
        /// Its whole blast radius, the wished triple included.
        pub radius: Radius,
        /// Who gains and who loses what, the most consequential first.
        pub blocks: Blocks,
        /// What it hands out beside the wish. Where something is to be allowed, less of it comes first.
        pub power: Power,
        /// What the order goes by where that is alike: less is better.
        pub cost: u32,
    }

    /// What would turn a decision.
    pub struct Remedies of bastide_engine::remedy::Remedies {
        /// Whether the wished outcome is allowed.
        pub wanted: bool,
        /// Whether the outcome is the wished one already.
        pub already: bool,
        /// How many changes were tried.
        pub tried: usize,
        /// The remedies, best first.
        pub list: Vec<Remedy>,
        /// How many more there are.
        pub left_out: usize,
    }
}
