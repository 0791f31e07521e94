//! `no-reach`: a statement in force that reaches no user or no resource today.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_engine::evaluate::Evaluator;
use bastide_model::condition::Term;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "no-reach",
    group: Group::Stale,
    level: crate::Level::Warning,
    what: "a statement in force that reaches no user or no resource today",
    why: "It was right once. What it was for is gone, or a word in it is wrong.",
    mind: "It waits for something: a session attribute, a resource of next year.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let s = case.estate.statement(id);
    let session = s.conditions().any(|c| c.mentions().session);
    let unknown =
        s.who.terms.iter().any(|t| matches!(t, Term::Nobody(_))) || s.what.places.as_ref().is_some_and(Vec::is_empty);
    if survey.of(id).means || session || unknown {
        return Vec::new();
    }
    let message = if survey.of(id).touches {
        format!("{} says {} where that has no meaning, and nothing else", case.named(id), case.actions(s))
    } else {
        format!("{} reaches nobody, or nothing", case.named(id))
    };
    vec![Found::of(case, id, message).suggest_harmless(
        "to see at which word it happens, `bastide reach`; taken out, nothing changes today",
        vec![Change::Off(id)],
    )]
}
