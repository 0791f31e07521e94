//! `two-doors`: actions declared `alike` lead to the same data, and users are restricted for one and not for the other.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::Reason;
use bastide_model::*;
use std::collections::{BTreeMap, BTreeSet};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "two-doors",
    group: Group::Leak,
    level: crate::Level::Warning,
    what: "actions declared `alike` lead to the same data, and users are restricted for one and not for the other",
    why: "A locked door beside an open one.",
    mind: "What the second door shows is less than what the first one would.",
    check,
};

/// What a statement shuts, and what stays open beside it.
type Doors = (StatementId, ActionId, ActionId);

/// How many triples, by whom, and one of them.
type Through = (u64, BTreeSet<usize>, Triple);

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut engine = survey.engine.borrow_mut();
    let mut by: BTreeMap<Doors, Through> = BTreeMap::new();
    for resource in estate.catalog.all() {
        let kind = estate.catalog.kind(resource);
        for doors in &estate.proofs.alike {
            let doors: Vec<ActionId> =
                doors.actions.ones().map(ActionId::new).filter(|a| estate.schema.fits(*a, kind)).collect();
            for shut in &doors {
                let parts = engine.parts(resource, *shut);
                for part in parts.iter().filter(|p| matches!(p.reason, Reason::Denied | Reason::Capped)) {
                    for open in doors.iter().filter(|open| *open != shut) {
                        let allowed = engine.allowed(resource, *open);
                        let through = engine.both(allowed, part.users);
                        let count = u64::from(engine.sets().count(through));
                        let (Some(user), Some(id)) = (engine.sets().users(through).next(), part.by) else { continue };
                        let entry = by
                            .entry((id, *shut, *open))
                            .or_insert_with(|| (0, BTreeSet::new(), (UserId::new(user), *open, resource)));
                        entry.0 += count;
                        entry.1.extend(engine.sets().users(through));
                    }
                }
            }
        }
    }
    let name = |a: ActionId| &estate.schema.actions[a.index()].name;
    by.into_iter()
        .map(|((id, shut, open), (triples, users, example))| {
            let message = format!(
                "{} shuts {} and leaves {} open, which leads to the same data",
                case.named(id),
                name(shut),
                name(open)
            );
            Found::of(case, id, message)
                .naming_users(estate, users)
                .evidence(many(triples, "triple"))
                .example(Some(example))
        })
        .collect()
}
