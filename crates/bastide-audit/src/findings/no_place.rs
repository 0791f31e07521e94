//! `no-place`: a permission for more than harmless actions on anything, with neither a place nor a condition.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::condition::Term;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "no-place",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "a permission for more than harmless actions on anything, with neither a place nor a condition",
    why: "It covers what is there and what will come, whatever that is.",
    mind: "It is the rule of the team that keeps the platform, and `full-power` tells who is in it.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let bare = |s: &Statement| {
        s.modality.permits()
            && s.what.kinds.is_none()
            && s.what.places.is_none()
            && s.what.condition.is_none()
            && s.condition.is_none()
            && !s.who.terms.iter().all(|t| matches!(t, Term::Owner))
    };
    let live = case.live().filter(|(id, s)| bare(s) && case.is_harmful(s) && survey.of(*id).pairs > 0);
    live.map(|(id, s)| {
        let reach = survey.of(id);
        Found::of(case, id, format!("{} gives {} on anything, everywhere", case.named(id), case.actions(s)))
            .evidence(format!("{} on {}", many(reach.users as u64, "user"), many(reach.resources as u64, "resource")))
            .example(reach.example)
            .suggest("to narrow it, add `under` a place, or name kinds; without it", vec![Change::Off(id)])
    })
    .collect()
}
