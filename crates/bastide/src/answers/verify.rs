//! What `verify` answers.

use bastide_answers::access::Agreement;
use bastide_answers::answer;

answer! {
    /// Decisions of a platform beside ours.
    pub struct Verified of crate::found::verify::Verified {
        /// How far they agree.
        pub agreement: Agreement,
        /// Decisions of which a user, a resource or an action is not in the estate; they cannot be compared.
        pub not_here: Vec<NotHere>,
    }

    /// What decisions speak of and is not in the estate.
    pub struct NotHere of crate::found::verify::NotHere {
        /// `user`, `resource` or `action`.
        pub what: String,
        /// How many decisions speak of one.
        pub decisions: usize,
        /// How many there are.
        pub count: usize,
        /// Some of them.
        pub some: Vec<String>,
    }
}
