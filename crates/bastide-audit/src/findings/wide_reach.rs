//! `wide-reach`: a permission whose sole doing covers more than a set share of users and of resources, for more than harmless actions.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_engine::evaluate::Evaluator;
use bastide_model::condition::Term;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "wide-reach",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "a permission whose sole doing covers more than a set share of users and of resources, for more than harmless actions",
    why: "One line gives a great part of the house a great part of the estate. Whatever goes wrong with it goes wrong everywhere.",
    mind: "It is the rule by which everybody does their daily work, and everybody knows it.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let (users, resources) = (case.estate.people().len() as f64, case.estate.catalog().len() as f64);
    let s = case.estate.statement(id);
    let sole = survey.of(id).sole;
    // Everybody on a little each, as owners have it, is not wide.
    let share = case.limits.wide_users * case.limits.wide_resources;
    let wide = sole.lost as f64 > share * users * resources
        && sole.users as f64 > case.limits.wide_users * users
        && sole.resources as f64 > case.limits.wide_resources * resources;
    let owners = s.who.terms.iter().all(|t| matches!(t, Term::Owner));
    if !s.modality.permits() || !case.is_harmful(s) || owners || !wide {
        return Vec::new();
    }
    let message = format!("{} alone gives {} to a great part of the house", case.named(id), case.actions(s));
    let found = Found::of(case, id, message)
        .evidence(format!(
            "{} of {users} users, {} of {resources} resources, {}",
            sole.users,
            sole.resources,
            many(sole.lost, "triple")
        ))
        .example(survey.of(id).example)
        .suggest("to narrow it, name places, kinds or a condition on the user; without it", vec![Change::Off(id)]);
    vec![found]
}
