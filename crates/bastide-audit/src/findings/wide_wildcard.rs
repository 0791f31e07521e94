//! `wide-wildcard`: a place with `*` that covers several times what others like it do, or a great part of the catalog.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_model::*;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "wide-wildcard",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "a permission at a place with `*` that covers several times what the other such places do, or more than a set share of all resources",
    why: "A `*` one level too high looks like the others and opens a whole branch, and what will be put into it.",
    mind: "It is meant to cover all of it: then name the container instead of what lies in it.",
    check: Check::Policy(check),
};

/// So many times what the others cover in the middle is several times; and so many resources are few.
const SEVERAL: usize = 4;
const FEW: usize = 12;

/// What one place with `*` covers.
struct Wild {
    id: StatementId,
    places: Vec<ResourceId>,
    covers: usize,
}

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let catalog = case.estate.catalog();
    let mut all: Vec<Wild> = Vec::new();
    for (id, s) in case.live().filter(|(_, s)| s.modality.permits()) {
        // The resources of one written place have it in common where they are written.
        let mut by: BTreeMap<(u32, u32), Vec<statement::Place>> = BTreeMap::new();
        for place in s.what.places.iter().flatten() {
            by.entry((place.span.start, place.span.end)).or_default().push(*place);
        }
        for places in by.into_values().filter(|places| places.len() > 1) {
            let covers = |p: &statement::Place| match p.reach {
                Reach::At => 1,
                Reach::Under => catalog.subtree(p.resource).len(),
                Reach::Below => catalog.subtree(p.resource).len() - 1,
            };
            let covers = places.iter().map(covers).sum();
            all.push(Wild { id, places: places.iter().map(|p| p.resource).collect(), covers });
        }
    }
    let mut sizes: Vec<usize> = all.iter().map(|wild| wild.covers).collect();
    sizes.sort_unstable();
    let mut found = Vec::new();
    for Wild { id, places, covers } in &all {
        // The one that is looked at is not among the others: those behind it move up.
        let (own, others) = (sizes.binary_search(covers).expect("it is among them"), sizes.len() - 1);
        let middle = sizes.get(others / 2 + usize::from(own <= others / 2)).copied();
        let several = others >= 2 && *covers > FEW && middle.is_some_and(|m| *covers >= SEVERAL * m.max(1));
        let share = *covers as f64 > case.limits.wide_resources * catalog.len() as f64 && *covers > FEW;
        if !several && !share || survey.of(*id).pairs == 0 {
            continue;
        }
        let message = format!(
            "a place with `*` of {} covers {}, at {} places",
            case.named(*id),
            many(*covers as u64, "resource"),
            places.len()
        );
        let first: Vec<String> = places.iter().take(3).map(|p| format!("`{}`", catalog.path(*p))).collect();
        let mut one = Found::of(case, *id, message)
            .naming_resources(case.estate, places.iter().copied())
            .evidence(format!("among them {}", first.join(", ")))
            .example(survey.of(*id).example);
        if let Some(middle) = middle.filter(|_| several) {
            one = one.evidence(format!("other places with `*` cover {middle} in the middle"));
        }
        if share {
            one = one.evidence(format!("of {} in all", many(catalog.len() as u64, "resource")));
        }
        found.push(one.suggest("to narrow it, write the path out as far as it is meant", Vec::new()));
    }
    found
}
