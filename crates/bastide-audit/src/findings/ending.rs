//! `ending`: a statement that ends within the set number of days.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::evaluate::Evaluator;
use bastide_model::StatementId;
use jiff::ToSpan;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "ending",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "a statement that ends within the set number of days",
    why: "On that day people lose what they have today.",
    mind: "It is meant to end on that day.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let last = case.moment.date.saturating_add((case.limits.ending_days as i64).days());
    let Some(until) = case.estate.statement(id).until.filter(|until| *until <= last) else { return Vec::new() };
    let sole = survey.of(id).sole;
    let lost = format!("lost then, by {}: {}", many(sole.users as u64, "user"), many(sole.lost, "triple"));
    vec![Found::of(case, id, format!("{} ends on {until}", case.named(id))).evidence(lost)]
}
