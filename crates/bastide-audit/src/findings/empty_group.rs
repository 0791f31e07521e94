//! `empty-group`: a group without members that a statement names, or that nobody is in any more.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::ReferenceEvaluator;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "empty-group",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "a group without members that a statement names, or that nobody is in any more",
    why: "Whatever is given to it is given to nobody, and whoever is put into it next gets it all.",
    mind: "It is filled and emptied with the season.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let reference = survey.reference();
    let estate = case.estate;
    let mut found = Vec::new();
    let by_group = case.by_group();
    for group in estate.groups().all() {
        if estate.groups().computed(group).is_some() || has_members(&reference, group) {
            continue;
        }
        let id = estate.groups().id(group);
        let named = by_group.get(&group).map_or(0, Vec::len);
        found.push(
            Found::new(id, None, format!("group `{id}` has no members"))
                .evidence(format!("named by {}", many(named as u64, "statement"))),
        );
    }
    found
}

/// Whether anybody is in a group, by data or through computed groups.
fn has_members(reference: &ReferenceEvaluator, group: GroupId) -> bool {
    let estate = reference.estate();
    let through = !estate.groups().through(group).is_empty();
    !estate.groups().users(group).is_clear()
        || through && estate.people().all().any(|user| reference.member(user, group).is_true())
}
