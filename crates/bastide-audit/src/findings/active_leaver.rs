//! `active-leaver`: a user of whom the data says in words to be gone, who is active and may still do something.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::{Change, UserCell};
use bastide_model::*;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "active-leaver",
    group: Group::Stale,
    level: crate::Level::Warning,
    what: "an active user with access whose record says in words to be gone: suspended, disabled, left the house",
    why: "A remark in a title stops nobody. Whoever wrote it believes that the account is closed.",
    mind: "The text means something else: then list the words that count in `[audit] gone`.",
    check,
};

/// What such a user may still do.
#[derive(Default)]
struct Left {
    triples: u64,
    harmful: u64,
    example: Option<(ActionId, ResourceId)>,
}

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut said: BTreeMap<UserId, Vec<String>> = BTreeMap::new();
    for farewell in estate.people.farewells.iter().filter(|f| estate.people.is_active(f.user)) {
        said.entry(farewell.user).or_default().push(format!("{} says \"{}\"", farewell.field, farewell.text));
    }
    let mut left: BTreeMap<UserId, Left> = said.keys().map(|user| (*user, Left::default())).collect();
    if left.is_empty() {
        return Vec::new();
    }
    let mut engine = survey.evaluator();
    for resource in estate.catalog.all() {
        let work = engine.decide(resource);
        for action in ActionId::all(estate.schema.actions.len()) {
            for (user, left) in &mut left {
                if !engine.allows_in(&work, action, *user) {
                    continue;
                }
                let harmful = !case.is_harmless(action);
                // What does harm shows it best.
                if left.example.is_none() || (harmful && left.harmful == 0) {
                    left.example = Some((action, resource));
                }
                left.triples += 1;
                left.harmful += u64::from(harmful);
            }
        }
        engine.done(work);
    }
    left.into_iter()
        .filter_map(|(user, left)| {
            let (action, resource) = left.example?;
            let id = estate.people.id(user);
            let origin = Some(estate.people.origins[user.index()]);
            let message = format!("`{id}` is active, and {}", said[&user].join(", "));
            let allowed = many(left.triples, "decision");
            let found = Found::new(id, origin, message)
                .evidence(match left.harmful {
                    0 => format!("allowed in {allowed}, of harmless actions alone"),
                    harmful => format!("allowed in {allowed}, {harmful} of them of more than harmless actions"),
                })
                .example(Some((user, action, resource)));
            let change = Change::User(user, UserCell::Active, Some(Value::Flag(false)));
            Some(found.suggest("to close the account", vec![change]))
        })
        .collect()
}
