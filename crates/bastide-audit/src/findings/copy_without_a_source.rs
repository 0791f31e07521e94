//! `copy-without-a-source`: resources of like name and kind, one with a high label, that are not declared as derived.

use super::label::from_top;
use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::*;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "copy-without-a-source",
    group: Group::Leak,
    level: crate::Level::Note,
    what: "a resource named like one of a high label and of its kind, with a lower label, where neither is declared as derived from the other",
    why: "A copy holds what its original holds, and no label follows it.",
    mind: "They have the name in common and nothing else.",
    check: Check::Policy(check),
};

/// Of so many resources of one name nobody can tell which is a copy of which.
const MOST: usize = 6;

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let catalog = estate.catalog();
    let mut by: BTreeMap<(KindId, String), Vec<ResourceId>> = BTreeMap::new();
    for resource in catalog.all().filter(|r| from_top(estate, *r).is_some()) {
        let name = plain(catalog.name(resource));
        if name.chars().filter(|c| c.is_alphabetic()).count() >= 4 {
            by.entry((catalog.kind(resource), name)).or_default().push(resource);
        }
    }
    let high = |r: ResourceId| from_top(estate, r).is_some_and(|steps| f64::from(steps) < case.limits.exposure_steps);
    let derived = |a: ResourceId, b: ResourceId| {
        let from = |x: ResourceId, y: ResourceId| catalog.sources(x).contains(&Source::Resource(y));
        from(a, b) || from(b, a)
    };
    let mut engine = survey.evaluator();
    let [mut more, mut there] = std::array::from_fn(|_| engine.nobody());
    let mut found = Vec::new();
    for resources in by.into_values().filter(|list| list.len() > 1 && list.len() <= MOST) {
        for original in resources.iter().copied().filter(|r| high(*r)) {
            for copy in resources.iter().copied().filter(|r| !high(*r) && !derived(*r, original)) {
                // Both derived from a third are told there.
                let shares = |s: &Source| catalog.sources(original).contains(s);
                if catalog.sources(copy).iter().any(shares) {
                    continue;
                }
                let (path, from) = (catalog.path(copy), catalog.path(original));
                let about = format!("{} like {}", catalog.id(copy), catalog.id(original));
                let message = format!("`{path}` is named like `{from}`, has a lower label, and is not derived from it");
                let read = case.reading();
                let mut one = Found::new(about, Some(catalog.origins[copy.index()]), message);
                if let Some(read) = read {
                    engine.allowed(copy, read, &mut more);
                    engine.allowed(original, read, &mut there);
                    more.difference_with(&there);
                    let (count, user) = (more.count_ones(..), more.minimum());
                    one = one
                        .naming_users(estate, more.ones())
                        .evidence(format!("{count} can read it who cannot read the other"))
                        .example(user.map(|user| (UserId::new(user), read, copy)));
                }
                found.push(one.suggest("if it is a copy, name its source in the catalog", Vec::<Change>::new()));
            }
        }
    }
    found
}

/// A name without what people and programs add to that of a copy.
fn plain(name: &str) -> String {
    let lower = name.to_lowercase();
    let words: Vec<&str> = lower
        .split(|c: char| !c.is_alphanumeric())
        .filter(|word| !word.is_empty() && !["copy", "of", "final", "new", "old", "draft"].contains(word))
        .collect();
    let digits = |word: &&&str| word.chars().all(|c| c.is_ascii_digit()) && word.len() == 1;
    let kept = words.len() - words.iter().rev().take_while(digits).count().min(1);
    words[..kept].join(" ")
}

#[cfg(test)]
mod tests {
    use super::plain;

    #[test]
    fn names_of_copies_are_alike() {
        for name in ["Budget 2027", "Copy of Budget 2027", "budget-2027 (2)", "Budget 2027 - Copy", "BUDGET 2027 final"]
        {
            assert_eq!(plain(name), "budget 2027", "{name}");
        }
        assert_ne!(plain("Room 12"), plain("Room 13"));
        assert_ne!(plain("Budget 2027"), plain("Budget 2026"));
    }
}
