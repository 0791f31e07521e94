//! `label-exposure`: resources of a high label that more than a set number of users, or any guest, may read; the most exposed first.

use super::label::from_top;
use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::sets::count;
use bastide_engine::sets::store::{SetId, SetStore};
use bastide_model::*;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "label-exposure",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "resources of a high label that more than a set number of users, or any guest, may read; the most exposed first",
    why: "A label says who should see a thing; what counts is who does.",
    mind: "The label is wider than its name: then set `exposure-steps` or `exposure-users`.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let Some(read) = case.reading() else { return Vec::new() };
    let mut engine = survey.evaluator();
    let mut sets = SetStore::new(estate.people.len());
    let mut readers = engine.nobody();
    let mut by: BTreeMap<(u32, u32, SetId), Vec<ResourceId>> = BTreeMap::new();
    for resource in estate
        .catalog
        .all()
        .filter(|r| from_top(estate, *r).is_some_and(|steps| (steps as f64) < case.limits.exposure_steps))
    {
        engine.allowed(resource, read, &mut readers);
        let (users, guests) = (count::listed(&readers), count::both(&readers, &survey.guests));
        if f64::from(users) > case.limits.exposure_users || guests > 0 {
            by.entry((users, guests, sets.of_users(&readers))).or_default().push(resource);
        }
    }
    let found = by.into_iter().rev().map(|((users, guests, readers), resources)| {
        let readers: Vec<usize> = sets.users(readers).collect();
        let first = resources[0];
        let path = estate.catalog.path(first);
        let others = if resources.len() == 1 { String::new() } else { format!(" and {} more", resources.len() - 1) };
        let about = estate.catalog.id(first).to_string();
        let message = format!("`{path}`{others} of a high label can be read by {users} users, {guests} of them guests");
        let shows = |user: &&usize| guests == 0 || survey.guests.contains(**user);
        let example = readers.iter().find(shows).map(|user| (UserId::new(*user), read, first));
        let by = example.and_then(|(user, action, resource)| {
            let mut work = engine.look(resource);
            engine.decide_on(&mut work, action);
            let (_, by) = engine.cause_in(&mut work, action, user);
            engine.done(work);
            by
        });
        let mut one = Found::new(about, Some(estate.catalog.origins[first.index()]), message)
            .example(example)
            .naming_users(estate, readers)
            .naming_resources(estate, resources.iter().copied());
        if let Some(id) = by {
            one = one.evidence(format!("by {}, among others", case.named(id)));
        }
        one.evidence(many(resources.len() as u64, "resource"))
    });
    found.collect()
}
