//! `ownerless`: resources whose owner is unknown or inactive.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_model::*;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "ownerless",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "resources whose owner is unknown or inactive",
    why: "Nobody answers for them, and rules for owners pass them by.",
    mind: "Nobody is meant to own them.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let estate = case.estate;
    let mut by: BTreeMap<String, (Vec<ResourceId>, &'static str)> = BTreeMap::new();
    for resource in estate.catalog().all() {
        let Some(owner) = estate.catalog().owner(resource) else { continue };
        let why = match owner {
            None => "does not exist",
            Some(user) if !estate.people().is_active(user) => "is inactive",
            Some(_) => continue,
        };
        let Some(Value::Text(name)) = estate.catalog().owners.get(resource.index()) else { continue };
        by.entry(name.to_string()).or_insert_with(|| (Vec::new(), why)).0.push(resource);
    }
    by.into_iter()
        .map(|(owner, (resources, why))| {
            let first = resources[0];
            let message = format!("{} with the owner `{owner}`, who {why}", many(resources.len() as u64, "resource"));
            Found::new(owner, Some(estate.catalog().origins[first.index()]), message)
                .evidence(format!("the first is `{}`", estate.catalog().path(first)))
        })
        .collect()
}
