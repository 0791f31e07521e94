//! What must always hold, and whether it does.

use crate::answer;

answer! {
    /// An expectation or a guarantee, and whether it holds.
    pub struct Proof of bastide_engine::prove::Proof {
        /// Its name.
        pub name: String,
        /// `expectation` or `guarantee`.
        pub sort: Sort,
        /// File and line.
        pub place: String,
        /// Its reason.
        pub because: Option<String>,
        /// The day it was asked for.
        pub date: String,
        /// Whether it holds.
        pub holds: bool,
        /// How many claims (of an expectation) or triples (of a guarantee) were looked at.
        pub checked: u64,
        /// How many do not hold.
        pub broken: u64,
        /// The first of them.
        pub breaches: Vec<Breach>,
    }

    /// What a proof is.
    #[serde(rename_all = "lowercase")]
    pub enum Sort of bastide_engine::prove::Sort {
        /// Of one user.
        Expectation,
        /// Over everybody.
        Guarantee,
    }

    /// One thing that is not as it must be.
    pub struct Breach of bastide_engine::prove::Breach {
        /// What is not as claimed, in words.
        pub claim: String,
        /// The decision in one sentence, where it is about one.
        pub why: Option<String>,
        /// The user's id, where it is about one.
        pub user: Option<String>,
        /// The action, where it is about one.
        pub action: Option<String>,
        /// The resource's id, where it is about one.
        pub resource: Option<String>,
        /// Whether the decision hangs on a missing value.
        pub undecided: bool,
    }
}
