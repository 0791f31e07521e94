//! `deny-without-need`: a `may not` where nothing is permitted anyway.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_engine::evaluate::Evaluator;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "deny-without-need",
    group: Group::Conflict,
    level: crate::Level::Note,
    what: "a `may not` where nothing is permitted anyway",
    why: "It forbids what nobody may. It reads as if somebody might.",
    mind: "It is there for the day on which somebody is given too much.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let (s, of) = (case.estate.statement(id), survey.of(id));
    if s.modality != Modality::MayNot || of.triples == 0 || of.idle != of.triples {
        return Vec::new();
    }
    let message = format!("{} forbids {} where nothing permits it", case.named(id), case.actions(s));
    let found = Found::of(case, id, message).evidence(many(of.triples, "triple")).example(of.example);
    vec![found.suggest_harmless("to take it out, which changes nothing today", vec![Change::Off(id)])]
}
