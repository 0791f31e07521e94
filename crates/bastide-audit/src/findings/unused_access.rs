//! `unused-access`: with usage data: a grant of which nobody used anything in the window.

use super::usage::used;
use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "unused-access",
    group: Group::OverBroad,
    level: crate::Level::Note,
    what: "with usage data: a grant of which nobody used anything in the window",
    why: "What nobody uses is only there to be misused.",
    mind: "It is for an emergency, or for once a year.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let Some(by) = used(case, survey) else { return Vec::new() };
    let unused = by.into_iter().filter(|(id, (users, _))| users.is_empty() && survey.of(*id).pairs > 0);
    unused
        .map(|(id, _)| {
            let of = survey.of(id);
            Found::of(case, id, format!("nobody used {} in {} days", case.named(id), case.limits.usage_days))
                .evidence(format!(
                    "it reaches {} on {}",
                    many(of.users as u64, "user"),
                    many(of.resources as u64, "resource")
                ))
                .evidence(format!("solely its doing: {}", many(of.sole.triples(), "triple")))
                .example(of.example)
                .suggest("to take it out", vec![Change::Off(id)])
        })
        .collect()
}
