//! `rows-by-another-door`: users who get rows in something derived from a dataset, and not in the dataset.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::inside::{Contents, contents};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "rows-by-another-door",
    group: Group::Leak,
    level: crate::Level::Error,
    what: "users who get rows of what is derived from a dataset, and not the rows with the same values of the dataset itself",
    why: "Two doors lead to the same rows, and one is open that the other keeps shut.",
    mind: "What is derived holds nothing of the rows but sums: then do not name the dataset as its source.",
    check: Check::Policy(check),
};

/// Values by which both sides tell rows apart.
type Key<'k> = Vec<Option<&'k str>>;

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let Some(read) = case.reading() else { return Vec::new() };
    let all = contents(estate);
    let by_dataset: HashMap<ResourceId, &Contents> = all.iter().map(|contents| (contents.dataset, contents)).collect();
    let mut engine = survey.evaluator();
    let mut allowed = engine.nobody();
    let mut found = Vec::new();
    for derived in &all {
        for source in estate.catalog().sources(derived.dataset) {
            let Source::Resource(source) = source else { continue };
            let Some(source) = by_dataset.get(source) else { continue };
            let shared: Vec<(usize, usize)> = (derived.inside.by.iter().enumerate())
                .filter_map(|(at, by)| {
                    let other = source.inside.by.iter().position(|other| other.attribute == by.attribute)?;
                    Some((at, other))
                })
                .collect();
            if shared.is_empty() {
                continue;
            }
            // Who gets any of the source's rows with these values.
            let mut there: HashMap<Key, FixedBitSet> = HashMap::new();
            for slice in &source.slices {
                engine.allowed(slice.resource, read, &mut allowed);
                let key: Key = shared.iter().map(|(_, at)| slice.values[*at].as_deref()).collect();
                match there.get_mut(&key) {
                    Some(users) => users.union_with(&allowed),
                    None => drop(there.insert(key, allowed.clone())),
                }
            }
            let (mut users, mut example) = (FixedBitSet::with_capacity(estate.people().len()), None);
            let (mut slices, mut rows) = (Vec::new(), 0);
            for slice in &derived.slices {
                let key: Key = shared.iter().map(|(at, _)| slice.values[*at].as_deref()).collect();
                let Some(of_source) = there.get(&key) else { continue };
                engine.allowed(slice.resource, read, &mut allowed);
                allowed.difference_with(of_source);
                let Some(user) = allowed.minimum() else { continue };
                example = example.or(Some((UserId::new(user), read, slice.resource)));
                users.union_with(&allowed);
                slices.push(slice.resource);
                rows += slice.rows;
            }
            if slices.is_empty() {
                continue;
            }
            let (path, from) = (estate.catalog().path(derived.dataset), estate.catalog().path(source.dataset));
            let message = format!(
                "{} get rows of `{path}`, which comes from `{from}`, and not these rows there",
                many(users.count_ones(..) as u64, "user")
            );
            found.push(
                Found::new(
                    format!("{} from {}", derived.inside.dataset, source.inside.dataset),
                    Some(estate.catalog().origins[derived.dataset.index()]),
                    message,
                )
                .evidence(format!("{} in {}", many(rows, "row"), many(slices.len() as u64, "slice")))
                .evidence(format!("of the users, {}", many(users.intersection_count(&survey.guests) as u64, "guest")))
                .naming_users(estate, users.ones())
                .naming_resources(estate, slices)
                .example(example),
            );
        }
    }
    found
}
