//! `far-end`: a last day that nobody will live to see kept.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::evaluate::Evaluator;
use bastide_model::StatementId;
use jiff::ToSpan;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "far-end",
    group: Group::Brittle,
    level: crate::Level::Note,
    what: "an `until` that is further away than a set number of years",
    why: "It says that it is for a while, and is for ever. Whoever counts what is temporary counts it.",
    mind: "A contract says this very day.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let years = case.limits.far_end_years;
    let last = case.moment.date.saturating_add((years as i64).years());
    let Some(until) = case.estate.statement(id).until.filter(|until| *until > last) else { return Vec::new() };
    let message = format!("{} ends on {until}, more than {years} years from now", case.named(id));
    vec![Found::of(case, id, message).naming([until.to_string()]).example(survey.of(id).example)]
}
