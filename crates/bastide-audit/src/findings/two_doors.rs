//! `two-doors`: actions declared `alike` lead to the same data, and users are restricted for one and not for the other.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::Reason;
use bastide_engine::evaluate::put;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use std::collections::BTreeMap;

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
type Through = (u64, FixedBitSet, Triple);

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    if estate.proofs.alike.is_empty() {
        return Vec::new();
    }
    let mut engine = survey.evaluator();
    let [mut allowed, mut through] = std::array::from_fn(|_| engine.nobody());
    let mut by: BTreeMap<Doors, Through> = BTreeMap::new();
    for resource in estate.catalog.all() {
        let kind = estate.catalog.kind(resource);
        let mut work = engine.look(resource);
        for doors in &estate.proofs.alike {
            let doors: Vec<ActionId> =
                doors.actions.ones().map(ActionId::new).filter(|a| estate.schema.fits(*a, kind)).collect();
            for open in &doors {
                engine.decide_on(&mut work, *open);
                engine.allowed_users(&work, *open, &mut allowed);
                for shut in doors.iter().filter(|shut| *shut != open) {
                    engine.decide_on(&mut work, *shut);
                    engine.each_part(&mut work, *shut, |reason, by_what, words| {
                        let Some(id) = by_what.filter(|_| matches!(reason, Reason::Denied | Reason::Capped)) else {
                            return;
                        };
                        put(words, &mut through);
                        through.intersect_with(&allowed);
                        let Some(user) = through.minimum() else { return };
                        let entry = by.entry((id, *shut, *open)).or_insert_with(|| {
                            (0, FixedBitSet::with_capacity(estate.people.len()), (UserId::new(user), *open, resource))
                        });
                        entry.0 += through.count_ones(..) as u64;
                        entry.1.union_with(&through);
                    });
                }
            }
        }
        engine.done(work);
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
                .naming_users(estate, users.ones())
                .evidence(many(triples, "triple"))
                .example(Some(example))
        })
        .collect()
}
