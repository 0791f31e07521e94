//! `deny-without-need`: a `may not` where nothing is permitted anyway.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "deny-without-need",
    group: Group::Conflict,
    level: crate::Level::Note,
    what: "a `may not` where nothing is permitted anyway",
    why: "It forbids what nobody may. It reads as if somebody might.",
    mind: "It is there for the day on which somebody is given too much.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let live = case.live().filter(|(id, s)| {
        let of = survey.of(*id);
        s.modality == Modality::MayNot && of.triples > 0 && of.idle == of.triples
    });
    live.map(|(id, s)| {
        let of = survey.of(id);
        Found::of(case, id, format!("{} forbids {} where nothing permits it", case.named(id), case.actions(s)))
            .evidence(many(of.triples, "triple"))
            .example(of.example)
            .suggest_harmless("to take it out, which changes nothing today", vec![Change::Off(id)])
    })
    .collect()
}
