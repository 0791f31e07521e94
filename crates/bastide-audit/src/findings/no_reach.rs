//! `no-reach`: a statement in force that reaches no user or no resource today.

use super::{Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
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
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let session = |s: &Statement| s.conditions().any(|c| c.mentions().session);
    let unknown = |s: &Statement| {
        s.who.terms.iter().any(|t| matches!(t, Term::Nobody(_))) || s.what.places.as_ref().is_some_and(Vec::is_empty)
    };
    let live = case.live().filter(|(id, s)| !survey.of(*id).means && !session(s) && !unknown(s));
    live.map(|(id, s)| {
        let message = if survey.of(id).touches {
            format!("{} says {} where that has no meaning, and nothing else", case.named(id), case.actions(s))
        } else {
            format!("{} reaches nobody, or nothing", case.named(id))
        };
        Found::of(case, id, message).suggest_harmless(
            "to see at which word it happens, `bastide reach`; taken out, nothing changes today",
            vec![Change::Off(id)],
        )
    })
    .collect()
}
