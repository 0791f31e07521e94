//! Why one decision is what it is: what decides, how it reaches the user and the resource, what
//! lost, what came close, which needs were asked, and which missing values left something open.

mod conditions;
mod gather;
mod origin;
mod statement;

pub use gather::{explain, in_a_sentence};
pub(crate) use origin::{of_resource, of_user, signed_in};
pub(crate) use statement::told;
pub use statement::{StatementRef, Way, ways};

use crate::decide::Reason;

/// One decision, explained.
#[derive(Debug)]
pub struct Explanation {
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
#[derive(Debug)]
pub struct UserRef {
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
#[derive(Debug)]
pub struct ResourceRef {
    /// The id.
    pub id: String,
    /// The path.
    pub path: String,
    /// The kind.
    pub kind: String,
    /// The state, where it has one.
    pub state: Option<String>,
}

/// What became of a statement that applies.
#[derive(Clone, Debug, PartialEq, Eq)]
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

/// A statement that applies.
#[derive(Debug)]
pub struct Applying {
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
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Holds {
    /// The comparison, as it is written.
    pub condition: String,
    /// The values that it looked up.
    pub values: Vec<Met>,
}

/// A value that was looked up.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Met {
    /// What was looked up, as in `resource.label`.
    pub name: String,
    /// The value; none where there is none.
    pub value: Option<String>,
    /// Where it comes from, in words; empty where that goes without saying.
    pub from: String,
}

/// A statement that passes the user by.
#[derive(Debug)]
pub struct Passing {
    /// The statement.
    pub statement: StatementRef,
    /// What does not hold.
    pub because: Vec<String>,
    /// Whether a missing value keeps a permission from applying.
    pub undecided: bool,
}

/// A need and whether it is met.
#[derive(Debug)]
pub struct NeedNode {
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
