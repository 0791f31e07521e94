//! What `audit` answers.

use bastide_answers::answer;
use bastide_answers::audit::{Fewest, Finding, Share};

answer! {
    /// What the audit found.
    pub struct Audited of crate::found::audit::Audited {
        /// The day it is for.
        pub date: String,
        /// The findings, the worst first.
        pub findings: Vec<Finding>,
        /// Findings that are waived today.
        pub waived: Vec<Finding>,
        /// Waivers that have ended, and waivers of nothing, each by its place.
        pub idle_waivers: Vec<String>,
        /// How many findings of the baseline are left out.
        pub known: usize,
        /// How many findings of the baseline are gone.
        pub gone: usize,
        /// By the values of an attribute, where that was asked for.
        pub by: Vec<Share>,
        /// The smallest set of statements that was found to give the same access, where that was asked for.
        pub fewest: Option<Fewest>,
    }
}
