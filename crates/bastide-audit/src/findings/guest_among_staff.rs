//! `guest-among-staff`: a guest or a service in a group whose other members are all persons of the house.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::condition::Term;
use bastide_model::groups::Member;
use bastide_model::*;
use std::collections::BTreeSet;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "guest-among-staff",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "a guest or a service in a group whose other members are all persons, and what the group gives",
    why: "A group of staff gets what staff may have. Whoever is put into it from outside gets that, too, now and later.",
    mind: "The guest does the work of one of them.",
    check,
};

/// So many others make a group of staff.
const FEWEST: usize = 4;
/// For each stranger there are at least so many others.
const OTHERS: usize = 5;

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut found = Vec::new();
    for group in estate.groups.all().filter(|g| estate.groups.computed[g.index()].is_none()) {
        let members = estate.groups.users(group).ones().map(UserId::new);
        let members: Vec<UserId> = members.filter(|u| estate.people.is_active(*u)).collect();
        let (persons, strangers): (Vec<UserId>, Vec<UserId>) =
            members.into_iter().partition(|u| estate.people.kind(*u) == "person");
        if strangers.is_empty() || persons.len() < FEWEST || persons.len() < OTHERS * strangers.len() {
            continue;
        }
        let gives = |s: &Statement| s.modality.permits() && s.who.terms.contains(&Term::Members(group));
        let giving: Vec<(StatementId, &Statement)> = case.live().filter(|(_, s)| gives(s)).collect();
        let actions: BTreeSet<usize> = giving.iter().flat_map(|(_, s)| s.actions.ones()).collect();
        if actions.is_empty() {
            continue;
        }
        for stranger in strangers {
            // The membership that is meant is the one in this group itself; what is nested is told at its own group.
            if !estate.groups.direct(stranger).contains(&group) {
                continue;
            }
            let (id, kind) = (estate.people.id(stranger), estate.people.kind(stranger));
            let name = estate.groups.id(group);
            let names: Vec<&str> = actions.iter().map(|a| estate.schema.actions[*a].name.as_str()).collect();
            let message = format!("`{id}`, a {kind}, is in `{name}` with {}", many(persons.len() as u64, "person"));
            let example = giving.iter().find_map(|(id, _)| {
                let (_, action, resource) = survey.of(*id).example?;
                survey.judge.allows(stranger, action, resource).then_some((stranger, action, resource))
            });
            let origin = estate.groups.origin(group, Member::User(stranger));
            found.push(
                Found::new(format!("{id} in {name}"), origin, message)
                    .naming(names.iter().map(|n| n.to_string()))
                    .evidence(format!("the group gives {}", names.join(", ")))
                    .example(example)
                    .suggest("to take the stranger out", vec![Change::Leave(Member::User(stranger), group)]),
            );
        }
    }
    found
}
