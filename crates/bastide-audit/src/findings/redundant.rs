//! `redundant`: a statement without which nothing would change, since others give or take the same.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_engine::evaluate::Evaluator;
use bastide_model::StatementId;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "redundant",
    group: Group::Conflict,
    level: crate::Level::Note,
    what: "a statement without which nothing would change, since others give or take the same",
    why: "What is said twice is changed once.",
    mind: "The two have different owners, and each must stand by itself.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, engine: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let (s, of) = (case.estate.statement(id), survey.of(id));
    let idle = !s.modality.permits() && of.idle == of.triples;
    if of.agree == 0
        || of.sole.triples() > 0
        || idle
        || super::pointless_narrowing::broader(case, survey, engine, id).is_some()
    {
        return Vec::new();
    }
    let other = of.example.and_then(|(u, a, r)| engine.cause_on(u, a, r).1).filter(|by| *by != id);
    let other = other.map_or(String::new(), |by| format!("; {} says it, too", case.named(by)));
    let found = Found::of(case, id, format!("without {} nothing would change{other}", case.named(id)))
        .evidence(format!("{}, none solely its doing", many(of.triples, "triple")))
        .example(of.example)
        .suggest_harmless("to take it out, which changes nothing today", vec![Change::Off(id)]);
    vec![found]
}
