//! `ending`: a statement that ends within the set number of days.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use jiff::ToSpan;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "ending",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "a statement that ends within the set number of days",
    why: "On that day people lose what they have today.",
    mind: "It is meant to end on that day.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let last = case.moment.date.saturating_add((case.limits.ending_days as i64).days());
    let live = case.live().filter_map(|(id, s)| s.until.filter(|until| *until <= last).map(|until| (id, until)));
    live.map(|(id, until)| {
        let sole = survey.of(id).sole;
        Found::of(case, id, format!("{} ends on {until}", case.named(id))).evidence(format!(
            "lost then, by {}: {}",
            many(sole.users as u64, "user"),
            many(sole.lost, "triple")
        ))
    })
    .collect()
}
