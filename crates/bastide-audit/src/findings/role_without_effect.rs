//! `role-without-effect`: a statement that is on and lists no action, since every role in its list is off or empty.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "role-without-effect",
    group: Group::Stale,
    level: crate::Level::Warning,
    what: "a rule or an entry that says nothing, since every role it lists is off or empty",
    why: "It stands there as if it gave or took something. On the day the role is switched on, it does.",
    mind: "The role is off for a while, and that is the reason for it.",
    check: Check::Policy(check),
};

fn check(case: &Case, _: &Survey) -> Vec<Found> {
    let all = StatementId::all(case.estate.statements().len()).map(|id| (id, case.estate.statement(id)));
    let idle = all.filter(|(_, s)| !s.off && s.actions.is_clear() && s.in_date(case.moment.date));
    idle.map(|(id, s)| {
        let what = if s.modality.permits() { "gives nothing" } else { "takes nothing away" };
        Found::of(case, id, format!("{} {what}: every role it lists is off or empty", case.named(id))).suggest_harmless(
            "to switch the role on, or take this out, which changes nothing today",
            vec![Change::Off(id)],
        )
    })
    .collect()
}
