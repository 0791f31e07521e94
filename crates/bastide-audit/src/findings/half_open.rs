//! `half-open`: an action that needs two things at once, and users who have only one of them.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::Reason;
use bastide_engine::evaluate::put;
use bastide_engine::sets::count;
use bastide_model::schema::Target;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "half-open",
    group: Group::Conflict,
    level: crate::Level::Note,
    what: "an action that needs two things at once, and users who have only one of them",
    why: "Two gates must both be passed. Whoever passes one was probably meant to pass both, or neither.",
    mind: "The one gate is for something else as well.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut engine = survey.evaluator();
    let [mut some, mut missed, mut meets, mut blocked] = std::array::from_fn(|_| engine.nobody());
    let several = |schema: &Schema| schema.actions.iter().any(|action| action.needs.len() > 1);
    if !several(&estate.schema) {
        return Vec::new();
    }
    let mut by: BTreeMap<(StatementId, ActionId), (u64, FixedBitSet, Triple)> = BTreeMap::new();
    for resource in estate.catalog.all() {
        let kind = estate.catalog.kind(resource);
        let mut work = engine.look(resource);
        for (at, declared) in estate.schema.actions.iter().enumerate() {
            let action = ActionId::new(at);
            if declared.needs.len() < 2 || !estate.schema.fits(action, kind) {
                continue;
            }
            // Who meets one need and misses another; what is closed with its source is meant to be.
            some.clear();
            missed.clear();
            for need in &declared.needs {
                engine.meets(resource, *need, &mut meets);
                some.union_with(&meets);
                if need.target != Target::Source {
                    meets.toggle_range(..);
                    missed.union_with(&meets);
                }
            }
            some.intersect_with(&missed);
            if some.is_clear() {
                continue;
            }
            engine.decide_on(&mut work, action);
            engine.each_part(&mut work, action, |reason, by_what, words| {
                let Some(id) = by_what.filter(|_| reason == Reason::Blocked) else { return };
                put(words, &mut blocked);
                blocked.intersect_with(&some);
                let Some(user) = blocked.minimum() else { return };
                let none = || FixedBitSet::with_capacity(estate.people.len());
                let entry =
                    by.entry((id, action)).or_insert_with(|| (0, none(), (UserId::new(user), action, resource)));
                entry.0 += u64::from(count::listed(&blocked));
                entry.1.union_with(&blocked);
            });
        }
        engine.done(work);
    }
    by.into_iter()
        .map(|((id, action), (triples, users, example))| {
            let name = &estate.schema.actions[action.index()].name;
            let message =
                format!("{} gives {name}, and some of its users meet only a part of what that needs", case.named(id));
            Found::of(case, id, message)
                .naming_users(estate, users.ones())
                .evidence(many(triples, "triple"))
                .example(Some(example))
        })
        .collect()
}
