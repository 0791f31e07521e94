//! One decision, explained.

use crate::{Tell, answer};
use schemars::JsonSchema;
use serde::Serialize;

answer! {
    /// Why an outcome is what it is, in the order of the steps.
    #[serde(rename_all = "lowercase")]
    pub enum Reason of bastide_engine::Reason {
        /// Permitted by a `may`.
        Granted,
        /// Permitted by a `may always`.
        Assured,
        /// The user is not active.
        Inactive,
        /// A `may never`, or a `may only` that does not list the action.
        Capped,
        /// A `may not` decides.
        Denied,
        /// Nothing permits it, or the action has no meaning here.
        Silent,
        /// Permitted, but a need is not met.
        Blocked,
    }

    /// One decision, explained.
    pub struct Explanation of bastide_engine::explain::Explanation {
        /// The user.
        pub user: UserRef,
        /// The action.
        pub action: String,
        /// The resource.
        pub resource: ResourceRef,
        /// The day asked about.
        pub date: String,
        /// Whether it is allowed.
        pub allowed: bool,
        /// The reason that is reported.
        pub reason: Reason,
        /// Every reason that fits, in the order of the steps.
        pub reasons: Vec<Reason>,
        /// The decision in one sentence.
        pub sentence: String,
        /// The layer that controls the resource, where the estate has layers.
        pub layer: Option<String>,
        /// The path of the barrier that cuts off what is granted above it.
        pub barrier: Option<String>,
        /// Statements that mean this user and speak of the action, cut off by the barrier.
        pub cut_off: Vec<StatementRef>,
        /// Statements that apply to the user and speak of the action, in policy order.
        pub applying: Vec<Applying>,
        /// Statements that reach the resource and speak of the action, but do not apply to the user.
        pub passing: Vec<Passing>,
        /// Needs, as a tree.
        pub needs: Vec<NeedNode>,
        /// Whether the outcome could differ if missing values were known.
        pub undecided: bool,
    }

    /// A user by id and name.
    pub struct UserRef of bastide_engine::explain::UserRef {
        /// The id.
        pub id: String,
        /// The name.
        pub name: String,
        /// `person`, `guest` or `service`.
        pub kind: String,
        /// Whether the user is active.
        pub active: bool,
    }

    /// A resource by id and path.
    pub struct ResourceRef of bastide_engine::explain::ResourceRef {
        /// The id.
        pub id: String,
        /// The path.
        pub path: String,
        /// The kind.
        pub kind: String,
        /// The state, where it has one.
        pub state: Option<String>,
    }

    /// A statement that applies.
    pub struct Applying of bastide_engine::explain::Applying {
        /// The statement.
        pub statement: StatementRef,
        /// What became of it.
        pub fate: Fate,
        /// How it reaches the user.
        pub ways: Vec<Way>,
        /// From its place down to the resource; empty where it has no place.
        pub place: Vec<String>,
        /// Why its conditions hold: the comparisons that make them so, each with the values that it met.
        pub holds: Vec<Holds>,
        /// Missing values because of which it applies (a restriction) although that cannot be said for certain.
        pub missing: Vec<String>,
    }

    /// A comparison that holds.
    pub struct Holds of bastide_engine::explain::Holds {
        /// The comparison, as it is written.
        pub condition: String,
        /// The values that it looked up.
        pub values: Vec<Met>,
    }

    /// A value that was looked up.
    pub struct Met of bastide_engine::explain::Met {
        /// What was looked up, as in `resource.label`.
        pub name: String,
        /// The value; none where there is none.
        pub value: Option<String>,
        /// Where it comes from, in words; empty where that goes without saying.
        pub from: String,
    }

    /// A statement that passes the user by.
    pub struct Passing of bastide_engine::explain::Passing {
        /// The statement.
        pub statement: StatementRef,
        /// What does not hold.
        pub because: Vec<String>,
        /// Whether a missing value keeps a permission from applying.
        pub undecided: bool,
    }

    /// A need and whether it is met.
    pub struct NeedNode of bastide_engine::explain::NeedNode {
        /// The action needed.
        pub action: String,
        /// Where, as the declaration says.
        pub target: String,
        /// The resource it leads to; none where there is none.
        pub path: Option<String>,
        /// Whether it is met.
        pub met: bool,
        /// The reason of the decision on it.
        pub reason: Option<Reason>,
        /// The statement that decides on it.
        pub by: Option<StatementRef>,
        /// What it needs in turn.
        pub needs: Vec<NeedNode>,
    }

    /// A rule or an entry.
    pub struct StatementRef of bastide_engine::explain::StatementRef {
        /// The rule's name, or the entry's file and line.
        pub name: String,
        /// `rule` or `entry`.
        pub sort: String,
        /// File and line.
        pub place: String,
        /// Its modality.
        pub modality: String,
        /// Its who-clause.
        pub who: String,
        /// Its reason.
        pub because: Option<String>,
    }

    /// One way in which a statement means a user.
    pub struct Way of bastide_engine::explain::Way {
        /// `anyone`, `owner`, `named`, or `member`.
        pub by: String,
        /// For a member: from the group that names the user (or is computed) to the statement's group.
        pub chain: Vec<String>,
        /// Where the memberships of the chain are written, as far as they are data.
        pub places: Vec<String>,
        /// False where a missing value leaves it open.
        pub certain: bool,
    }
}

/// What became of a statement that applies.
#[derive(Clone, Debug, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase", tag = "is")]
pub enum Fate {
    /// It decides.
    Decides,
    /// It says the same as what decides.
    Agrees,
    /// It lost.
    Lost {
        /// To what.
        to: String,
    },
}

impl Tell<Fate> for bastide_engine::explain::Fate {
    fn tell(&self) -> Fate {
        match self {
            Self::Decides => Fate::Decides,
            Self::Agrees => Fate::Agrees,
            Self::Lost { to } => Fate::Lost { to: to.clone() },
        }
    }
}
