//! `opener-inside`: a resource that can be read by users who cannot read the container it lies in.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use std::collections::BTreeMap;

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
    let Some(read) = case.reading() else { return Vec::new() };
    let mut engine = survey.evaluator();
    let [mut more, mut above] = std::array::from_fn(|_| engine.nobody());
    let mut last = None;
    let mut by: BTreeMap<ResourceId, (Vec<ResourceId>, FixedBitSet, usize, Triple)> = BTreeMap::new();
    for resource in estate.catalog.all() {
        let Some(parent) = estate.catalog.parent(resource) else { continue };
        if last != Some(parent) {
            engine.allowed(parent, read, &mut above);
            last = Some(parent);
        }
        engine.allowed(resource, read, &mut more);
        more.difference_with(&above);
        if let Some(user) = more.minimum() {
            let entry = by
                .entry(parent)
                .or_insert_with(|| (Vec::new(), engine.nobody(), 0, (UserId::new(user), read, resource)));
            entry.0.push(resource);
            entry.1.union_with(&more);
            entry.2 = entry.2.max(more.count_ones(..));
        }
    }
    by.into_iter()
        .map(|(parent, (resources, whom, users, example))| {
            let path = estate.catalog.path(parent);
            let message = format!("in `{path}`, {} more open than it is", many(resources.len() as u64, "resource"));
            Found::new(estate.catalog.id(parent), Some(estate.catalog.origins[parent.index()]), message)
                .evidence(format!("up to {} can read one of them and not the container", many(users as u64, "user")))
                .naming_resources(estate, resources)
                .naming_users(estate, whom.ones())
                .example(Some(example))
        })
        .collect()
}
