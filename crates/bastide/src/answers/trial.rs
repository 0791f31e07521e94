//! What `try` answers.

use bastide_answers::answer;
use bastide_answers::audit::Finding;
use bastide_answers::difference::{Blocks, Described, Radius, RowsMoved};
use bastide_answers::prove::Proof;

answer! {
    /// What changes would do.
    pub struct Trial of crate::found::trial::Trial {
        /// The changes.
        pub changes: Vec<Described>,
        /// Policy texts laid over.
        pub added: Vec<String>,
        /// Users and resources that are added.
        pub newcomers: Vec<String>,
        /// How far it reaches, in words, where that is beyond the limits of the manifest.
        pub far: Option<String>,
        /// The blast radius.
        pub radius: Radius,
        /// Of few users concerned, how many pairs of action and resource each is allowed, before and after.
        pub users: Vec<Held>,
        /// Gains and losses, the most consequential first.
        pub blocks: Blocks,
        /// Whose rows of datasets change, those first for whom most does.
        #[serde(skip_serializing_if = "Vec::is_empty")]
        #[schemars(default)]
        pub rows: Vec<RowsMoved>,
        /// Expectations and guarantees that hold today and would not any more.
        pub broken: Vec<Proof>,
        /// Findings that appear, where the audit was asked for.
        pub appear: Vec<Finding>,
        /// Findings that disappear, where the audit was asked for.
        pub disappear: Vec<Finding>,
        /// Files that were written.
        pub written: Vec<String>,
        /// What it took.
        pub seconds: Seconds,
    }

    /// What a user is allowed, before and after.
    pub struct Held of crate::found::trial::Held {
        /// The user's id.
        pub user: String,
        /// Allowed pairs of action and resource before.
        pub before: u64,
        /// And after.
        pub after: u64,
    }

    /// Seconds by the clock.
    pub struct Seconds of crate::found::trial::Seconds {
        /// Reading the estate.
        pub load: f64,
        /// Making the changes and finding out what differs, tests aside.
        pub evaluate: f64,
    }
}
