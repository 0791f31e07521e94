//! What is wrong: findings, how bad each is, and what would mend it.

use crate::difference::{Described, Radius};
use crate::{Tell, answer};
use schemars::JsonSchema;
use serde::Serialize;

answer! {
    /// What falls to one value of an attribute.
    pub struct Share of bastide_audit::Share {
        /// The value; empty: none.
        pub value: String,
        /// Findings about users or resources that have it.
        pub findings: usize,
        /// Users, or resources, that have it.
        pub size: usize,
        /// Triples of more than harmless actions.
        pub broad: u64,
        /// Users with such triples.
        pub powerful: usize,
    }

    /// Statements that can go together.
    pub struct Fewest of bastide_audit::Fewest {
        /// Statements in force.
        pub statements: usize,
        /// How many of them give the same access today.
        pub enough: usize,
        /// What can go, all of it together: permissions, in policy order.
        pub permissions: Vec<Described>,
        /// And restrictions, which take nothing away today and may be there for tomorrow.
        pub restrictions: Vec<Described>,
        /// In how many sessions that conditions tell apart access is the same without them: the one asked for among them.
        pub sessions: usize,
        /// Attributes of the session of which not every value that matters was tried.
        pub open: Vec<String>,
        /// Statements that ask for one of these, and were left aside.
        pub aside: usize,
    }

    /// What a finding is about.
    #[serde(rename_all = "kebab-case")]
    pub enum Group of bastide_audit::Group {
        /// More than anybody meant to give.
        OverBroad,
        /// Statements that disagree, or say the same.
        Conflict,
        /// What was right once.
        Stale,
        /// What will be wrong soon.
        Brittle,
        /// Data that gets out by another way.
        Leak,
        /// Duties that should be kept apart.
        Duties,
    }

    /// How bad a finding is; the worst first.
    #[serde(rename_all = "lowercase")]
    pub enum Level of bastide_audit::Level {
        /// It must be mended.
        Error,
        /// Somebody should look at it.
        Warning,
        /// Good to know.
        Note,
        /// It is not reported.
        None,
    }

    /// A decision that shows a finding; `why` says the same of it.
    pub struct Example of bastide_audit::Example {
        /// The user's id.
        pub user: String,
        /// The action.
        pub action: String,
        /// The resource's id.
        pub resource: String,
        /// The decision in one sentence.
        pub sentence: String,
    }

    /// What would mend a finding, evaluated.
    pub struct Suggestion of bastide_audit::Suggestion {
        /// The goal.
        pub words: String,
        /// The changes, as `try` takes them; empty where it takes a hand.
        pub changes: Vec<Described>,
        /// What changes by them.
        pub radius: Option<Radius>,
    }
}

/// A finding as it is reported.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct Finding {
    /// The finding's name.
    pub name: String,
    /// Its level.
    pub level: Level,
    /// Its group.
    pub group: Group,
    /// File and line.
    pub place: Option<String>,
    /// The statement or thing it is about.
    pub about: String,
    /// One line.
    pub message: String,
    /// Numbers that show it.
    pub evidence: Vec<String>,
    /// A decision that shows it.
    pub example: Option<Example>,
    /// What would mend it.
    pub suggestion: Option<Suggestion>,
    /// The reason for which it is waived today; none where it is not.
    pub waived: Option<String>,
    /// Stays the same when lines move: for following a finding over time.
    pub fingerprint: String,
}

impl From<&bastide_audit::Finding> for Finding {
    fn from(of: &bastide_audit::Finding) -> Finding {
        let bastide_audit::Finding {
            name,
            level,
            group,
            place,
            about,
            message,
            evidence,
            example,
            suggestion,
            waived,
            fingerprint,
            places: _,
        } = of;
        Finding {
            name: name.tell(),
            level: level.tell(),
            group: group.tell(),
            place: place.tell(),
            about: about.tell(),
            message: message.tell(),
            evidence: evidence.tell(),
            example: example.tell(),
            suggestion: suggestion.tell(),
            waived: waived.tell(),
            fingerprint: fingerprint.tell(),
        }
    }
}

impl Tell<Finding> for bastide_audit::Finding {
    fn tell(&self) -> Finding {
        Finding::from(self)
    }
}
