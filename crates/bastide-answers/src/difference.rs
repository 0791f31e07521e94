//! What changes: how far it reaches, for whom, where, and what brought it about.

use crate::answer;

answer! {
    /// A change as people and programs read it.
    pub struct Described of bastide_engine::change::Described {
        /// What to do, as a sentence without a full stop.
        pub words: String,
        /// The same as an option of `bastide try` and its value.
        pub option: [String; 2],
        /// File and line it is about, where it is about a line.
        pub place: Option<String>,
    }

    /// What brought triples about.
    pub struct Cause of bastide_engine::difference::Cause {
        /// `new`, `gone`, `changed` or `data`.
        pub how: CauseHow,
        /// `rule`, `entry` or `membership`; empty for other data.
        pub sort: String,
        /// The rule's name, what the entry says, or who is in which group; empty for other data.
        pub statement: String,
        /// File and line, in the estate that has it; empty for data.
        pub place: String,
    }

    /// How a statement changed.
    #[serde(rename_all = "lowercase")]
    pub enum CauseHow of bastide_engine::difference::CauseHow {
        /// It is new.
        New,
        /// It is gone.
        Gone,
        /// It is worded otherwise, or was switched on or off.
        Changed,
        /// No statement: memberships, attributes, the tree.
        Data,
    }

    /// A cause and what it brought about.
    pub struct Effect of bastide_engine::difference::Effect {
        /// The cause.
        pub cause: Cause,
        /// Triples gained.
        pub gained: u64,
        /// Triples lost.
        pub lost: u64,
    }

    /// How one sort of data moved.
    pub struct Movement of bastide_engine::difference::Movement {
        /// `users`, `groups`, `memberships`, `resources` or `entries`.
        pub of: String,
        /// Only in the later estate.
        pub come: Moved,
        /// Only in the earlier one.
        pub gone: Moved,
        /// In both, with other values.
        pub changed: Moved,
    }

    /// How many, and some of them by name, in order.
    pub struct Moved of bastide_engine::difference::Moved {
        /// How many.
        pub count: usize,
        /// The first of them.
        pub some: Vec<String>,
    }

    /// Resources that are told together.
    pub struct Fold of bastide_engine::difference::Fold {
        /// The path of the one resource, or of the one they all lie in.
        pub path: String,
        /// How many they are.
        pub resources: usize,
        /// `one`: this resource; `whole`: it and everything beneath it; `within`: some of what it
        /// holds, itself perhaps included.
        pub how: How,
    }

    /// How a name stands for resources.
    #[serde(rename_all = "lowercase")]
    pub enum How of bastide_engine::difference::How {
        /// This resource.
        One,
        /// It and everything beneath it.
        Whole,
        /// Some of what it holds.
        Within,
    }

    /// The blast radius of a change.
    pub struct Radius of bastide_engine::difference::Radius {
        /// Users for whom anything differs.
        pub users: usize,
        /// Resources on which anything differs.
        pub resources: usize,
        /// Triples that are allowed after and were not before.
        pub gained: u64,
        /// Triples that were allowed before and are not after.
        pub lost: u64,
    }

    /// Gained or lost.
    #[serde(rename_all = "lowercase")]
    pub enum Side of bastide_engine::difference::Side {
        /// Allowed after, refused before.
        Gained,
        /// Refused after, allowed before.
        Lost,
    }

    /// The same users gain or lose the same actions on these resources.
    pub struct Block of bastide_engine::difference::Block {
        /// Gained or lost.
        pub side: Side,
        /// The users' ids, in byte order.
        pub users: Vec<String>,
        /// The group whose members, and nobody else, they are; where there is one.
        pub group: Option<String>,
        /// Of them, the guests.
        pub guests: usize,
        /// The actions, in declared order.
        pub actions: Vec<String>,
        /// Whether one of them is more than harmless.
        pub harmful: bool,
        /// The places.
        pub places: Vec<Fold>,
        /// How many resources.
        pub resources: usize,
        /// Of them, those with a label above the lowest step of its scale.
        pub labelled: usize,
        /// Users times actions times resources.
        pub triples: u64,
    }

    /// Blocks of a difference.
    pub struct Blocks of bastide_engine::difference::Blocks {
        /// Gains, then losses; of each the most consequential first.
        pub list: Vec<Block>,
        /// How many more blocks of gains there are.
        pub more_gained: usize,
        /// How many more blocks of losses there are.
        pub more_lost: usize,
    }

    /// What somebody gets of a dataset by an action, in numbers.
    pub struct RowsSeen of bastide_engine::inside::RowsSeen {
        /// The dataset's id.
        pub dataset: String,
        /// Its path.
        pub path: String,
        /// The action.
        pub action: String,
        /// How many rows.
        pub rows: u64,
        /// Of how many.
        pub all_rows: u64,
        /// In how many slices.
        pub slices: usize,
        /// Of how many; none: rows are not told apart.
        pub all_slices: usize,
        /// How many columns.
        pub columns: usize,
        /// Of how many.
        pub all_columns: usize,
    }

    /// Users for whom the rows of a dataset change in the same way.
    pub struct RowsMoved of bastide_engine::inside::RowsMoved {
        /// The dataset's id.
        pub dataset: String,
        /// Its path.
        pub path: String,
        /// The action.
        pub action: String,
        /// The users' ids, in byte order.
        pub users: Vec<String>,
        /// How many rows they get before.
        pub before: u64,
        /// And after.
        pub after: u64,
        /// Rows they get after and not before.
        pub gained: u64,
        /// Rows they get before and not after.
        pub lost: u64,
        /// How many rows there are after.
        pub all_rows: u64,
    }
}
