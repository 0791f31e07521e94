//! `unknown-name`: a user, group, owner, place or source that does not exist, or not any more.

use super::{Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_syntax::codes;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "unknown-name",
    group: Group::Stale,
    level: crate::Level::Error,
    what: "a user, group, owner, place or source that does not exist, or not any more",
    why: "A restriction for somebody who does not exist restricts nobody; a grant for one waits for whoever gets the name next.",
    mind: "Never: mend the name or take it out.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let wanted = [&codes::UNKNOWN_REFERENCE, &codes::UNKNOWN_SUBJECT, &codes::STALE_PLACE, &codes::LOST_RESTRICTION];
    let all =
        case.diagnostics.iter().zip(&case.lines).filter(|(d, _)| wanted.iter().any(|code| code.name == d.code.name));
    all.map(|(d, origin)| Found::new(d.message.clone(), *origin, d.message.clone())).collect()
}
