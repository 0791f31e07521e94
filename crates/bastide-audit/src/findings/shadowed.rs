//! `shadowed`: a statement that reaches somebody and never has its way, since others override it everywhere.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "shadowed",
    group: Group::Conflict,
    level: crate::Level::Warning,
    what: "a statement that reaches somebody and never has its way, since others override it everywhere",
    why: "It looks as if it said something. Whoever relies on it is wrong.",
    mind: "It is kept for the day on which the other one goes.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let mut engine = survey.evaluator();
    let live = case.live().filter(|(id, s)| {
        let of = survey.of(*id);
        of.triples > 0 && of.agree == 0 && of.sole.triples() == 0 && !(s.modality.permits() && of.blocked == of.triples)
    });
    live.map(|(id, _)| {
        let of = survey.of(id);
        let over = of.against.and_then(|(u, a, r)| engine.cause_on(u, a, r).1);
        let over = over.map_or(String::new(), |by| format!(": {} among others overrides it", case.named(by)));
        Found::of(case, id, format!("{} never has its way{over}", case.named(id)))
            .evidence(format!("{}, not one as it says", many(of.triples, "triple")))
            .example(of.against)
            .suggest_harmless("to take it out, which changes nothing today", vec![Change::Off(id)])
    })
    .collect()
}
