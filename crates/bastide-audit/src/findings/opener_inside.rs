//! `opener-inside`: a resource that can be read by users who cannot read the container it lies in.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_model::*;
use std::collections::{BTreeMap, BTreeSet};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "opener-inside",
    group: Group::Leak,
    level: crate::Level::Warning,
    what: "a resource that can be read by users who cannot read the container it lies in",
    why: "What lies in a closed container is expected to be closed.",
    mind: "It is reached by a link, and meant to be.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let Some(read) = estate.schema.actions.iter().position(|a| case.harmless.contains(&a.name)).map(ActionId::new)
    else {
        return Vec::new();
    };
    let mut engine = survey.engine.borrow_mut();
    let mut by: BTreeMap<ResourceId, (Vec<ResourceId>, BTreeSet<usize>, u32, Triple)> = BTreeMap::new();
    for resource in estate.catalog.all() {
        let Some(parent) = estate.catalog.parent(resource) else { continue };
        let (here, above) = (engine.allowed(resource, read), engine.allowed(parent, read));
        let here = engine.both(here, survey.active);
        let more = engine.but(here, above);
        if let Some(user) = engine.sets().users(more).next() {
            let count = engine.sets().count(more);
            let entry = by
                .entry(parent)
                .or_insert_with(|| (Vec::new(), BTreeSet::new(), 0, (UserId::new(user), read, resource)));
            entry.0.push(resource);
            entry.1.extend(engine.sets().users(more));
            entry.2 = entry.2.max(count);
        }
    }
    by.into_iter()
        .map(|(parent, (resources, whom, users, example))| {
            let path = estate.catalog.path(parent);
            let message = format!("in `{path}`, {} more open than it is", many(resources.len() as u64, "resource"));
            Found::new(estate.catalog.id(parent), Some(estate.catalog.origins[parent.index()]), message)
                .evidence(format!(
                    "up to {} can read one of them and not the container",
                    many(u64::from(users), "user")
                ))
                .naming_resources(estate, resources)
                .naming_users(estate, whom)
                .example(Some(example))
        })
        .collect()
}
