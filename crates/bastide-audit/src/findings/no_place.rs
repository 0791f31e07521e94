//! `no-place`: a permission for more than harmless actions on anything, with neither a place nor a condition.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_engine::evaluate::Evaluator;
use bastide_model::condition::Term;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "no-place",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "a permission for more than harmless actions on anything, with neither a place nor a condition",
    why: "It covers what is there and what will come, whatever that is.",
    mind: "It is the rule of the team that keeps the platform, and `full-power` tells who is in it.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let s = case.estate.statement(id);
    let bare = s.modality.permits()
        && s.what.kinds.is_none()
        && s.what.places.is_none()
        && s.what.condition.is_none()
        && s.condition.is_none()
        && !s.who.terms.iter().all(|t| matches!(t, Term::Owner));
    let reach = survey.of(id);
    if !bare || !case.is_harmful(s) || reach.pairs == 0 {
        return Vec::new();
    }
    let message = format!("{} gives {} on anything, everywhere", case.named(id), case.actions(s));
    let found = Found::of(case, id, message)
        .evidence(format!("{} on {}", many(reach.users as u64, "user"), many(reach.resources as u64, "resource")))
        .example(reach.example)
        .suggest("to narrow it, add `under` a place, or name kinds; without it", vec![Change::Off(id)]);
    vec![found]
}
