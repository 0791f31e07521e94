//! `switched-off`: a rule that is switched off.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::statement::Sort;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "switched-off",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "a rule that is switched off",
    why: "What was a trial in spring is nobody's by autumn.",
    mind: "The trial goes on, and its reason says until when.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let all = StatementId::all(case.estate.statements().len()).map(|id| (id, case.estate.statement(id)));
    all.filter(|(_, s)| s.off && s.sort == Sort::Rule)
        .map(|(id, s)| {
            let because = s.because.as_ref().map_or(String::new(), |b| format!(": \"{b}\""));
            Found::of(case, id, format!("{} is switched off{because}", case.named(id)))
                .suggest("to see what it would do, `bastide reach`; switched on", vec![Change::On(id)])
        })
        .collect()
}
