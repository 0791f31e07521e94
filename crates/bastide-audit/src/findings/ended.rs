//! `ended`: a statement past its `until`.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "ended",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "a statement past its `until`",
    why: "It says nothing any more, and is read as if it did.",
    mind: "It is kept as a record.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let all = StatementId::all(case.estate.statements().len()).map(|id| (id, case.estate.statement(id)));
    let past =
        all.filter_map(|(id, s)| s.until.filter(|until| *until < case.moment.date && !s.off).map(|until| (id, until)));
    past.map(|(id, until)| {
        Found::of(case, id, format!("{} ended on {until}", case.named(id)))
            .suggest_harmless("to take it out, which changes nothing today", vec![Change::Off(id)])
    })
    .collect()
}
