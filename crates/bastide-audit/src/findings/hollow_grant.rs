//! `hollow-grant`: a grant of an action whose needs its users never meet there.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_engine::evaluate::Evaluator;
use bastide_model::StatementId;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "hollow-grant",
    group: Group::Conflict,
    level: crate::Level::Warning,
    what: "a grant of an action whose needs its users never meet there",
    why: "They may update what they cannot read: they will call, and the rule will look right.",
    mind: "What is needed is given by something that is not in this estate.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let (s, of) = (case.estate.statement(id), survey.of(id));
    if !s.modality.permits() || of.triples == 0 || of.agree > 0 || of.blocked != of.triples {
        return Vec::new();
    }
    // Elsewhere it may hold others back, or say which layer controls.
    let idle = if of.sole.triples() == 0 { ", which changes nothing today" } else { "" };
    let message = format!("{} gives {}, and its users never meet what that needs", case.named(id), case.actions(s));
    let found = Found::of(case, id, message)
        .evidence(format!("{}, all blocked", many(of.triples, "triple")))
        .example(of.against)
        .suggest(format!("to mend it, give what is needed, or take it out{idle}"), vec![Change::Off(id)]);
    vec![found]
}
