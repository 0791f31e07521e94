//! `guest-among-staff`: a guest or a service in a group whose other members are all persons of the house.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::change::Change;
use bastide_model::groups::Member;
use bastide_model::*;
use hashbrown::HashMap;
use std::collections::BTreeSet;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "guest-among-staff",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "a guest or a service in a group whose other members are all persons, and what the group gives",
    why: "A group of staff gets what staff may have. Whoever is put into it from outside gets that, too, now and later.",
    mind: "The guest does the work of one of them.",
    check: Check::Policy(check),
};

/// So many others make a group of staff.
const FEWEST: usize = 4;
/// For each stranger there are at least so many others.
const OTHERS: usize = 5;

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut found = Vec::new();
    let by_group = case.by_group();
    let mut engine = survey.evaluator();
    let mut allowed = engine.nobody();
    for group in estate.groups().all().filter(|g| estate.groups().computed(*g).is_none()) {
        let members = estate.groups().users(group).ones().map(UserId::new);
        let members: Vec<UserId> = members.filter(|u| estate.people().is_active(*u)).collect();
        let (persons, strangers): (Vec<UserId>, Vec<UserId>) =
            members.into_iter().partition(|u| estate.people().kind(*u) == "person");
        if strangers.is_empty() || persons.len() < FEWEST || persons.len() < OTHERS * strangers.len() {
            continue;
        }
        let naming = by_group.get(&group).into_iter().flatten().map(|id| (*id, estate.statement(*id)));
        let giving: Vec<(StatementId, &Statement)> = naming.filter(|(_, s)| s.modality.permits()).collect();
        let actions: BTreeSet<usize> = giving.iter().flat_map(|(_, s)| s.actions.ones()).collect();
        if actions.is_empty() {
            continue;
        }
        // The first of what the group is given that shows each stranger with it.
        let mut examples: HashMap<UserId, Triple> = HashMap::new();
        for (_, action, resource) in giving.iter().filter_map(|(id, _)| survey.of(*id).example) {
            if examples.len() == strangers.len() {
                break;
            }
            engine.allowed(resource, action, &mut allowed);
            for stranger in strangers.iter().filter(|stranger| allowed.contains(stranger.index())) {
                examples.entry(*stranger).or_insert((*stranger, action, resource));
            }
        }
        for stranger in strangers {
            // The membership that is meant is the one in this group itself; what is nested is told at its own group.
            if !estate.groups().direct(stranger).contains(&group) {
                continue;
            }
            let (id, kind) = (estate.people().id(stranger), estate.people().kind(stranger));
            let name = estate.groups().id(group);
            let names: Vec<&str> = actions.iter().map(|a| estate.schema().actions[*a].name.as_str()).collect();
            let message = format!("`{id}`, a {kind}, is in `{name}` with {}", many(persons.len() as u64, "person"));
            let origin = estate.groups().origin(group, Member::User(stranger));
            found.push(
                Found::new(format!("{id} in {name}"), origin, message)
                    .naming(names.iter().map(|n| n.to_string()))
                    .evidence(format!("the group gives {}", names.join(", ")))
                    .example(examples.get(&stranger).copied())
                    .suggest("to take the stranger out", vec![Change::Leave(Member::User(stranger), group)]),
            );
        }
    }
    found
}
