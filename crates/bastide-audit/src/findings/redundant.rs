//! `redundant`: a statement without which nothing would change, since others give or take the same.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::{Statement, StatementId};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "redundant",
    group: Group::Conflict,
    level: crate::Level::Note,
    what: "a statement without which nothing would change, since others give or take the same",
    why: "What is said twice is changed once.",
    mind: "The two have different owners, and each must stand by itself.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let mut engine = survey.evaluator();
    let live = case.live().filter(|(id, s)| {
        let of = survey.of(*id);
        let idle = !s.modality.permits() && of.idle == of.triples;
        of.agree > 0
            && of.sole.triples() == 0
            && !idle
            && super::pointless_narrowing::broader(case, survey, &mut engine, *id).is_none()
    });
    let live: Vec<(StatementId, &Statement)> = live.collect();
    let told = live.into_iter().map(|(id, _)| {
        let of = survey.of(id);
        let other = of.example.and_then(|(u, a, r)| engine.cause_on(u, a, r).1).filter(|by| *by != id);
        let other = other.map_or(String::new(), |by| format!("; {} says it, too", case.named(by)));
        Found::of(case, id, format!("without {} nothing would change{other}", case.named(id)))
            .evidence(format!("{}, none solely its doing", many(of.triples, "triple")))
            .example(of.example)
            .suggest_harmless("to take it out, which changes nothing today", vec![Change::Off(id)])
    });
    told.collect()
}
