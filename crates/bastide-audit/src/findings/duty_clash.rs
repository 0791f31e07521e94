//! `duty-clash`: a user may do both of two actions declared `apart` on the same resource.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::sets::store::{SetId, SetStore};
use bastide_model::*;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "duty-clash",
    group: Group::Duties,
    level: crate::Level::Error,
    what: "a user may do both of two actions declared `apart` on the same resource",
    why: "Whoever approves must not pay. One person who can do both can do it alone.",
    mind: "Nobody else is there to do it, and somebody looks at it afterwards.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    if estate.proofs.apart.is_empty() {
        return Vec::new();
    }
    let mut engine = survey.evaluator();
    let mut sets = SetStore::new(estate.people.len());
    let [mut both, mut other] = std::array::from_fn(|_| engine.nobody());
    // By declaration, pair of duties and users: on how many resources, and an example.
    let mut by: BTreeMap<(usize, [ActionId; 2], SetId), (usize, Triple)> = BTreeMap::new();
    for resource in estate.catalog.all() {
        let kind = estate.catalog.kind(resource);
        let mut work = engine.look(resource);
        for (at, apart) in estate.proofs.apart.iter().enumerate() {
            if !estate.schema.is_any(kind, apart.kinds.as_deref()) {
                continue;
            }
            let duties: Vec<ActionId> =
                apart.actions.ones().map(ActionId::new).filter(|a| estate.schema.fits(*a, kind)).collect();
            for (i, a) in duties.iter().enumerate() {
                for b in &duties[i + 1..] {
                    for (action, users) in [(*a, &mut both), (*b, &mut other)] {
                        engine.decide_on(&mut work, action);
                        engine.allowed_users(&work, action, users);
                    }
                    both.intersect_with(&other);
                    if let Some(user) = both.minimum() {
                        let key = (at, [*a, *b], sets.of_users(&both));
                        by.entry(key).or_insert((0, (UserId::new(user), *a, resource))).0 += 1;
                    }
                }
            }
        }
        engine.done(work);
    }
    by.into_iter()
        .map(|((at, duties, users), (resources, example))| {
            let names: Vec<&str> = sets.users(users).map(|u| estate.people.id(UserId::new(u))).collect();
            let duties: Vec<&str> = duties.iter().map(|a| estate.schema.actions[a.index()].name.as_str()).collect();
            let shown = names.iter().take(6).copied().collect::<Vec<_>>().join(", ");
            let more = if names.len() > 6 { format!(" and {} more", names.len() - 6) } else { String::new() };
            let message = format!("{shown}{more} may {} on the same resource", duties.join(" and "));
            let everybody: Vec<usize> = sets.users(users).collect();
            Found::new(format!("{} {shown}", duties.join(" and ")), Some(estate.proofs.apart[at].origin), message)
                .evidence(many(resources as u64, "resource"))
                .naming_users(estate, everybody)
                .example(Some(example))
        })
        .collect()
}
