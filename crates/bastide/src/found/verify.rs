//! What `verify` answers.

use bastide_engine::access::Agreement;

/// Decisions of a platform beside ours.
pub struct Verified {
    /// How far they agree.
    pub agreement: Agreement,
    /// Decisions of which a user, a resource or an action is not in the estate; they cannot be compared.
    pub not_here: Vec<NotHere>,
}

impl Verified {
    /// Whether everything could be compared, and is the same.
    pub fn holds(&self) -> bool {
        self.agreement.agree == self.agreement.asked && self.not_here.is_empty()
    }
}

/// What decisions speak of and is not in the estate.
pub struct NotHere {
    /// `user`, `resource` or `action`.
    pub what: String,
    /// How many decisions speak of one.
    pub decisions: usize,
    /// How many there are.
    pub count: usize,
    /// Some of them.
    pub some: Vec<String>,
}
