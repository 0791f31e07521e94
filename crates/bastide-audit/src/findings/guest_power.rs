//! `guest-power`: a guest may do more than what is harmless.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::change::Change;
use bastide_model::*;
use std::collections::{BTreeMap, BTreeSet};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "guest-power",
    group: Group::OverBroad,
    level: crate::Level::Error,
    what: "a guest may do more than what is harmless",
    why: "Guests are people of other houses: what they change, publish or take away is out of the house's hands.",
    mind: "It is what the guests are there for: then list the action in `[audit] harmless`, or waive the rule that gives it.",
    check,
};

/// What one statement lets guests do.
struct Power {
    users: BTreeSet<usize>,
    actions: BTreeSet<usize>,
    triples: u64,
    example: Triple,
}

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut engine = survey.engine.borrow_mut();
    let mut by: BTreeMap<StatementId, Power> = BTreeMap::new();
    for resource in estate.catalog.all() {
        let decided = engine.row(resource);
        for action in ActionId::all(estate.schema.actions.len()).filter(|a| !case.is_harmless(*a)) {
            let allowed = engine.allowed(resource, action);
            let guests = engine.both(allowed, survey.guests);
            let users: Vec<usize> = engine.sets().users(guests).collect();
            for user in users {
                let Some(id) = engine.part(decided, UserId::new(user), action).by else { continue };
                let entry = by.entry(id).or_insert_with(|| Power {
                    users: BTreeSet::new(),
                    actions: BTreeSet::new(),
                    triples: 0,
                    example: (UserId::new(user), action, resource),
                });
                entry.users.insert(user);
                entry.actions.insert(action.index());
                entry.triples += 1;
            }
        }
    }
    by.into_iter()
        .map(|(id, Power { users, actions, triples, example })| {
            let names = actions.iter().map(|a| estate.schema.actions[*a].name.clone()).collect::<Vec<_>>();
            let actions: Vec<&str> = actions.iter().map(|a| estate.schema.actions[*a].name.as_str()).collect();
            let message = format!("{} lets guests {}", case.named(id), actions.join(", "));
            Found::of(case, id, message)
                .naming(names)
                .naming_users(estate, users.iter().copied())
                .evidence(format!("{}, {}", many(users.len() as u64, "guest"), many(triples, "triple")))
                .example(Some(example))
                .suggest("to keep guests to what is harmless", vec![Change::Off(id)])
        })
        .collect()
}
