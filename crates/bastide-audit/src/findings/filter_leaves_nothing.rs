//! `filter-leaves-nothing`: users who read a dataset, and get none of its rows or none of its columns.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::inside::contents;
use bastide_model::*;
use fixedbitset::FixedBitSet;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "filter-leaves-nothing",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "users who can read a dataset whose rows or columns are told apart, and get none of these",
    why: "They open an empty page, and ask why everybody else sees something. Often a value is missing that a rule asks for.",
    mind: "Nothing of it is for them yet.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let Some(read) = case.reading() else { return Vec::new() };
    let mut engine = survey.evaluator();
    let [mut allowed, mut inside] = std::array::from_fn(|_| engine.nobody());
    let mut found = Vec::new();
    for contents in contents(estate) {
        engine.allowed(contents.dataset, read, &mut allowed);
        let slices: Vec<ResourceId> = contents.slices.iter().map(|slice| slice.resource).collect();
        let columns: Vec<ResourceId> = contents.columns.iter().map(|(column, _)| *column).collect();
        for (what, parts) in [("rows", slices), ("columns", columns)] {
            let Some(first) = parts.first() else { continue };
            let mut gets = FixedBitSet::with_capacity(estate.people().len());
            for part in &parts {
                engine.allowed(*part, read, &mut inside);
                gets.union_with(&inside);
            }
            let mut nothing = allowed.clone();
            nothing.difference_with(&gets);
            let Some(user) = nothing.minimum() else { continue };
            let path = estate.catalog().path(contents.dataset);
            let message =
                format!("{} can read `{path}`, and none of its {what}", many(nothing.count_ones(..) as u64, "user"));
            found.push(
                Found::new(
                    format!("{} {what}", contents.inside.dataset),
                    Some(estate.catalog().origins[contents.dataset.index()]),
                    message,
                )
                .evidence(format!("{} get some", many(gets.intersection_count(&allowed) as u64, "user")))
                .naming_users(estate, nothing.ones())
                .example(Some((UserId::new(user), read, *first))),
            );
        }
    }
    found
}
