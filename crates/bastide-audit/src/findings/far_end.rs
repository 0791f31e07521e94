//! `far-end`: a last day that nobody will live to see kept.

use super::{Descriptor, Group};
use crate::{Case, Found, Survey};
use jiff::ToSpan;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "far-end",
    group: Group::Brittle,
    level: crate::Level::Note,
    what: "an `until` that is further away than a set number of years",
    why: "It says that it is for a while, and is for ever. Whoever counts what is temporary counts it.",
    mind: "A contract says this very day.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let years = case.limits.far_end_years;
    let last = case.moment.date.saturating_add((years as i64).years());
    let far = case.live().filter(|(_, s)| s.until.is_some_and(|until| until > last));
    far.map(|(id, s)| {
        let until = s.until.map_or(String::new(), |day| day.to_string());
        Found::of(case, id, format!("{} ends on {until}, more than {years} years from now", case.named(id)))
            .naming([until])
            .example(survey.of(id).example)
    })
    .collect()
}
