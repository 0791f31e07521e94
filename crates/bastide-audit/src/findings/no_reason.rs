//! `no-reason`: a rule or an entry without a reason.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::evaluate::Evaluator;
use bastide_model::StatementId;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "no-reason",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "a rule or an entry without a reason",
    why: "In two years nobody can say whether it may go.",
    mind: "The reason is in its name.",
    check: Check::Statement(check),
};

fn check(case: &Case, _: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    match case.estate.statement(id).because {
        Some(_) => Vec::new(),
        None => vec![Found::of(case, id, format!("{} does not say why", case.named(id)))],
    }
}
