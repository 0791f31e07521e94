//! What may turn a decision, and what it is charged.

use crate::change::Change;

/// Something that could help.
#[derive(Clone, Debug)]
pub struct Idea {
    /// What to change.
    pub changes: Vec<Change>,
    /// The fixed part of its cost.
    pub charge: u32,
    /// What speaks for it.
    pub hint: Option<String>,
    /// Whether what it does to others and elsewhere is likely to be right, too: it mends a cause.
    pub mends: bool,
}

impl Idea {
    pub fn new(change: Change, charge: u32) -> Idea {
        Idea { changes: vec![change], charge, hint: None, mends: false }
    }
}

/// Fixed charges by sort of change; see [`super::cost`].
pub mod charge {
    /// A value that is missing.
    pub const FILL_IN: u32 = 0;
    /// An entry that speaks of this user alone is taken out.
    pub const OWN_ENTRY: u32 = 0;
    /// A membership is taken away of somebody unlike the other members.
    pub const LEAVE_ODD: u32 = 0;
    /// Another membership is taken away.
    pub const LEAVE: u32 = 14;
    /// A user joins a group of people like that user.
    pub const JOIN_ALIKE: u32 = 2;
    /// A user joins another group.
    pub const JOIN: u32 = 22;
    /// A group gets again, beneath a barrier, what the barrier cut off.
    pub const GIVE_AGAIN: u32 = 14;
    /// A container inherits again.
    pub const INHERIT: u32 = 12;
    /// A user is active again.
    pub const ACTIVE: u32 = 0;
    /// A user's attribute is set to another value.
    pub const USER_VALUE: u32 = 24;
    /// A resource's attribute is set to another value.
    pub const RESOURCE_VALUE: u32 = 24;
    /// Another entry is taken out.
    pub const ENTRY: u32 = 12;
    /// A statement applies on other days.
    pub const WINDOW: u32 = 6;
    /// An entry that gives guests more than harmless actions is taken out.
    pub const GUEST_ENTRY: u32 = 2;
    /// A rule is switched on.
    pub const RULE_ON: u32 = 14;
    /// A rule is switched off.
    pub const RULE_OFF: u32 = 24;
    /// A rule makes an exception of one user.
    pub const EXCEPT: u32 = 40;
    /// One user gets an entry.
    pub const GIVE: u32 = 44;
    /// One user is kept out by an entry.
    pub const KEEP_OUT: u32 = 44;
}
