//! `half-open`: an action that needs two things at once, and users who have only one of them.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::sweep::{AnyGather, Gather, Here};
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
    check: Check::Resource(check),
};

/// By statement and action, on how many triples, whom, and one of them.
#[derive(Clone)]
struct Halves {
    by: BTreeMap<(StatementId, ActionId), (u64, FixedBitSet, Triple)>,
    some: FixedBitSet,
    missed: FixedBitSet,
    meets: FixedBitSet,
    blocked: FixedBitSet,
}

fn check(case: &Case, _: &Survey) -> Option<Box<dyn AnyGather>> {
    let several = case.estate.schema().actions.iter().any(|action| action.needs.len() > 1);
    let nobody = || FixedBitSet::with_capacity(case.estate.people().len());
    let halves =
        || Halves { by: BTreeMap::new(), some: nobody(), missed: nobody(), meets: nobody(), blocked: nobody() };
    several.then(|| Box::new(halves()) as _)
}

impl Gather for Halves {
    fn look(&mut self, case: &Case, _: &Survey, here: &mut Here) {
        let estate = case.estate;
        let Halves { by, some, missed, meets, blocked } = self;
        let Here { resource, work, engine } = here;
        let kind = estate.catalog().kind(*resource);
        for (at, declared) in estate.schema().actions.iter().enumerate() {
            let action = ActionId::new(at);
            if declared.needs.len() < 2 || !estate.schema().fits(action, kind) || !engine.blocks(work, action) {
                continue;
            }
            // Who meets one need and misses another; what is closed with its source is meant to be.
            some.clear();
            missed.clear();
            for need in &declared.needs {
                engine.meets(*resource, *need, meets);
                some.union_with(meets);
                if need.target != Target::Source {
                    meets.toggle_range(..);
                    missed.union_with(meets);
                }
            }
            some.intersect_with(missed);
            if some.is_clear() {
                continue;
            }
            engine.each_part(work, action, |reason, by_what, words| {
                let Some(id) = by_what.filter(|_| reason == Reason::Blocked) else { return };
                put(words, blocked);
                blocked.intersect_with(some);
                let Some(user) = blocked.minimum() else { return };
                let none = || FixedBitSet::with_capacity(estate.people().len());
                let entry =
                    by.entry((id, action)).or_insert_with(|| (0, none(), (UserId::new(user), action, *resource)));
                entry.0 += u64::from(count::listed(blocked));
                entry.1.union_with(blocked);
            });
        }
    }

    fn join(&mut self, later: Halves) {
        for (key, (triples, users, example)) in later.by {
            let own = self.by.entry(key).or_insert((0, FixedBitSet::new(), example));
            own.0 += triples;
            own.1.union_with(&users);
        }
    }

    fn found(self, case: &Case, _: &Survey) -> Vec<Found> {
        let told = self.by.into_iter().map(|((id, action), (triples, users, example))| {
            let name = &case.estate.schema().actions[action.index()].name;
            let message =
                format!("{} gives {name}, and some of its users meet only a part of what that needs", case.named(id));
            Found::of(case, id, message)
                .naming_users(case.estate, users.ones())
                .evidence(many(triples, "triple"))
                .example(Some(example))
        });
        told.collect()
    }
}
