//! `unknown-name`: a user, group, owner, place or source that does not exist, or not any more.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_model::Origin;
use bastide_syntax::codes;
use hashbrown::HashMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "unknown-name",
    group: Group::Stale,
    level: crate::Level::Error,
    what: "a user, group, owner, place or source that does not exist, or not any more",
    why: "A restriction for somebody who does not exist restricts nobody; a grant for one waits for whoever gets the name next.",
    mind: "Never: mend the name or take it out.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let wanted = [&codes::UNKNOWN_REFERENCE, &codes::UNKNOWN_SUBJECT, &codes::STALE_PLACE];
    let is = |d: &bastide_syntax::Diagnostic| wanted.iter().any(|code| [d.was, Some(d.code)].contains(&Some(code)));
    let all = case.diagnostics.iter().zip(&case.lines).filter(|(d, _)| is(d));
    // How many more there are stands at the last that is listed; it is told at the first, where it is read.
    let key = |d: &bastide_syntax::Diagnostic| (d.code.name, d.place.map(|place| place.file));
    let mut more: HashMap<_, usize> = HashMap::new();
    case.diagnostics.iter().filter(|d| d.more > 0).for_each(|d| *more.entry(key(d)).or_default() += d.more);
    let told = |(d, origin): (&bastide_syntax::Diagnostic, &Option<Origin>)| {
        let one = Found::new(d.message.clone(), *origin, d.message.clone());
        match more.remove(&key(d)) {
            None => one,
            Some(more) => one.evidence(format!("and {more} more like it in its file")),
        }
    };
    all.map(told).collect()
}
