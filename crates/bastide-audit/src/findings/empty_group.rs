//! `empty-group`: a group without members that a statement names, or that nobody is in any more.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_model::condition::Term;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "empty-group",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "a group without members that a statement names, or that nobody is in any more",
    why: "Whatever is given to it is given to nobody, and whoever is put into it next gets it all.",
    mind: "It is filled and emptied with the season.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut engine = survey.engine.borrow_mut();
    let mut found = Vec::new();
    for group in estate.groups.all() {
        let members = engine.members_of(group);
        if engine.sets().count(members) > 0 || estate.groups.computed[group.index()].is_some() {
            continue;
        }
        let id = estate.groups.id(group);
        let named = case.live().filter(|(_, s)| s.who.terms.contains(&Term::Members(group))).count();
        found.push(
            Found::new(id, None, format!("group `{id}` has no members"))
                .evidence(format!("named by {}", many(named as u64, "statement"))),
        );
    }
    found
}
