//! `shadowed`: a statement that reaches somebody and never has its way, since others override it everywhere.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_engine::evaluate::Evaluator;
use bastide_model::StatementId;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "shadowed",
    group: Group::Conflict,
    level: crate::Level::Warning,
    what: "a statement that reaches somebody and never has its way, since others override it everywhere",
    why: "It looks as if it said something. Whoever relies on it is wrong.",
    mind: "It is kept for the day on which the other one goes.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, engine: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let (s, of) = (case.estate.statement(id), survey.of(id));
    let hollow = s.modality.permits() && of.blocked == of.triples;
    if of.triples == 0 || of.agree > 0 || of.sole.triples() > 0 || hollow {
        return Vec::new();
    }
    let over = of.against.and_then(|(u, a, r)| engine.cause_on(u, a, r).1);
    let over = over.map_or(String::new(), |by| format!(": {} among others overrides it", case.named(by)));
    let found = Found::of(case, id, format!("{} never has its way{over}", case.named(id)))
        .evidence(format!("{}, not one as it says", many(of.triples, "triple")))
        .example(of.against)
        .suggest_harmless("to take it out, which changes nothing today", vec![Change::Off(id)]);
    vec![found]
}
