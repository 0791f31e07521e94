//! `opener-inside`: a resource that can be read by users who cannot read the container it lies in.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::sweep::{AnyGather, Gather, Here};
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
    check: Check::Resource(check),
};

/// What is more open than its container: the resources, whom to, for how many at most, and an example.
type Openers = (Vec<ResourceId>, FixedBitSet, usize, Triple);

/// By container.
#[derive(Clone)]
struct Inside {
    read: ActionId,
    by: BTreeMap<ResourceId, Openers>,
    /// The container that was asked about last, and who reads it.
    last: Option<ResourceId>,
    above: FixedBitSet,
    more: FixedBitSet,
}

fn check(case: &Case, _: &Survey) -> Option<Box<dyn AnyGather>> {
    let read = case.reading()?;
    let nobody = || FixedBitSet::with_capacity(case.estate.people().len());
    Some(Box::new(Inside { read, by: BTreeMap::new(), last: None, above: nobody(), more: nobody() }))
}

impl Gather for Inside {
    fn look(&mut self, case: &Case, _: &Survey, here: &mut Here) {
        let Some(parent) = case.estate.catalog().parent(here.resource) else { return };
        let Inside { read, by, last, above, more } = self;
        if *last != Some(parent) {
            here.engine.allowed(parent, *read, above);
            *last = Some(parent);
        }
        here.allowed(*read, more);
        more.difference_with(above);
        if let Some(user) = more.minimum() {
            let none = || FixedBitSet::with_capacity(more.len());
            let example = (UserId::new(user), *read, here.resource);
            let entry = by.entry(parent).or_insert_with(|| (Vec::new(), none(), 0, example));
            entry.0.push(here.resource);
            entry.1.union_with(more);
            entry.2 = entry.2.max(more.count_ones(..));
        }
    }

    fn join(&mut self, later: Inside) {
        for (parent, (resources, whom, users, example)) in later.by {
            let own = self.by.entry(parent).or_insert((Vec::new(), FixedBitSet::new(), 0, example));
            own.0.extend(resources);
            own.1.union_with(&whom);
            own.2 = own.2.max(users);
        }
    }

    fn found(self, case: &Case, _: &Survey) -> Vec<Found> {
        let estate = case.estate;
        let told = self.by.into_iter().map(|(parent, (resources, whom, users, example))| {
            let path = estate.catalog().path(parent);
            let message = format!("in `{path}`, {} more open than it is", many(resources.len() as u64, "resource"));
            Found::new(estate.catalog().id(parent), Some(estate.catalog().origins[parent.index()]), message)
                .evidence(format!("up to {} can read one of them and not the container", many(users as u64, "user")))
                .naming_resources(estate, resources)
                .naming_users(estate, whom.ones())
                .example(Some(example))
        });
        told.collect()
    }
}
