//! Changes that are tried: small edits of an estate, none of which touches a file.
//!
//! [`apply`] gives a second estate that shares everything a change leaves alone with the first, so
//! that it costs little, and so that what is the same in both can be told by looking at where it is
//! kept.

mod after;
mod apply;
mod describe;
mod parts;
mod read;
mod subset;

pub use after::Refused;
pub use apply::apply;
pub(crate) use describe::gist;
pub use describe::{Described, cell_text, describe, entry_cells, undo};
pub use read::entry;
pub use read::{ReadError, actions, except, give, join, leave, set, statement, window};
pub use subset::{UserCopies, UserSubset, narrowed};

use bastide_model::groups::Member;
use bastide_model::statement::Statement;
use bastide_model::*;
use jiff::civil::Date;
use std::sync::Arc;

/// One change.
#[derive(Clone, Debug)]
pub enum Change {
    /// A statement no longer applies: a rule is switched off, an entry is taken out.
    Off(StatementId),
    /// A rule that is off is switched on.
    On(StatementId),
    /// A statement applies on other days: from the first to the last, both included.
    Window(StatementId, Option<Date>, Option<Date>),
    /// A statement speaks of these actions, in ascending order, and of no others.
    Actions(StatementId, Vec<ActionId>),
    /// A user or a group becomes a direct member of a group.
    Join(Member, GroupId),
    /// A user or a group is no direct member of a group any more.
    Leave(Member, GroupId),
    /// A user gets a value, or loses the one there is.
    User(UserId, UserCell, Option<Value>),
    /// A resource gets a value of its own, or loses the one it has.
    Resource(ResourceId, ResourceCell, Option<Value>),
    /// An access entry is added.
    Give(Arc<Statement>),
    /// A rule no longer means one user: `user.id != "..."` joins its who-clause.
    Except(StatementId, UserId),
}

/// What of a user can be changed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum UserCell {
    /// Whether the user is active.
    Active,
    /// `person`, `guest` or `service`.
    Kind,
    /// The directory.
    Realm,
    /// A declared attribute.
    Attribute(UserAttributeId),
}

/// What of a resource can be changed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum ResourceCell {
    /// The owner's id.
    Owner,
    /// The state.
    State,
    /// Whether what is given above reaches it.
    Inherits,
    /// A declared attribute.
    Attribute(ResourceAttributeId),
}

/// Why a change cannot be made.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum ChangeError {
    /// It would change nothing: the statement is off, the user is a member, the value is there.
    #[error("{0}")]
    Already(String),
    /// There is nothing to take away.
    #[error("{0}")]
    Absent(String),
    /// A computed group has no members to add or take out.
    #[error("the members of group `{0}` are computed: who is in it follows from its rule")]
    Computed(String),
    /// The membership would close a circle through a computed group.
    #[error("{0}")]
    Circle(String),
    /// A value that must be there would be taken away.
    #[error("{0}")]
    Required(String),
    /// The attribute follows from memberships.
    #[error("`{0}` holds the groups that a user is in: it changes with them")]
    Filled(String),
    /// The attribute is not one of this kind's.
    #[error("{0}")]
    NotHere(String),
}
