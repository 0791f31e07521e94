//! `active-leaver`: a user of whom the data says in words to be gone, who is active and may still do something.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::sweep::{AnyGather, Gather, Here};
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
    check: Check::Resource(check),
};

/// What such a user may still do.
#[derive(Clone, Default)]
struct Left {
    triples: u64,
    harmful: u64,
    example: Option<(ActionId, ResourceId)>,
}

/// By user who is gone by the data, and active.
#[derive(Clone)]
struct Leavers(BTreeMap<UserId, Left>);

fn check(case: &Case, _: &Survey) -> Option<Box<dyn AnyGather>> {
    let people = case.estate.people();
    let gone = people.farewells().iter().filter(|f| people.is_active(f.user));
    let left: BTreeMap<UserId, Left> = gone.map(|farewell| (farewell.user, Left::default())).collect();
    (!left.is_empty()).then(|| Box::new(Leavers(left)) as _)
}

impl Gather for Leavers {
    fn look(&mut self, case: &Case, _: &Survey, here: &mut Here) {
        for action in ActionId::all(case.estate.schema().actions.len()) {
            for (user, left) in &mut self.0 {
                if !here.engine.allows_in(&here.work, action, *user) {
                    continue;
                }
                let harmful = !case.is_harmless(action);
                // What does harm shows it best.
                if left.example.is_none() || (harmful && left.harmful == 0) {
                    left.example = Some((action, here.resource));
                }
                left.triples += 1;
                left.harmful += u64::from(harmful);
            }
        }
    }

    fn join(&mut self, later: Leavers) {
        for (user, later) in later.0 {
            let own = self.0.entry(user).or_default();
            if own.example.is_none() || (later.harmful > 0 && own.harmful == 0) {
                own.example = later.example;
            }
            own.triples += later.triples;
            own.harmful += later.harmful;
        }
    }

    fn found(self, case: &Case, _: &Survey) -> Vec<Found> {
        let estate = case.estate;
        let mut said: BTreeMap<UserId, Vec<String>> = BTreeMap::new();
        for farewell in estate.people().farewells() {
            said.entry(farewell.user).or_default().push(format!("{} says \"{}\"", farewell.field, farewell.text));
        }
        let left = self.0.into_iter();
        left.filter_map(|(user, left)| {
            let (action, resource) = left.example?;
            let id = estate.people().id(user);
            let origin = Some(estate.people().origin(user));
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
}
