//! `two-doors`: actions declared `alike` lead to the same data, and users are restricted for one and not for the other.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::sweep::{AnyGather, Gather, Here};
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
    check: Check::Resource(check),
};

/// What a statement shuts, and what stays open beside it.
type Doors = (StatementId, ActionId, ActionId);

/// How many triples, by whom, and one of them.
type Through = (u64, FixedBitSet, Triple);

/// By statement and pair of actions.
#[derive(Clone)]
struct Shut {
    by: BTreeMap<Doors, Through>,
    allowed: FixedBitSet,
    through: FixedBitSet,
}

fn check(case: &Case, _: &Survey) -> Option<Box<dyn AnyGather>> {
    let nobody = || FixedBitSet::with_capacity(case.estate.people().len());
    let shut = || Shut { by: BTreeMap::new(), allowed: nobody(), through: nobody() };
    (!case.estate.proofs().alike.is_empty()).then(|| Box::new(shut()) as _)
}

impl Gather for Shut {
    fn look(&mut self, case: &Case, _: &Survey, here: &mut Here) {
        let estate = case.estate;
        let Shut { by, allowed, through } = self;
        let kind = estate.catalog().kind(here.resource);
        for doors in &estate.proofs().alike {
            let doors: Vec<ActionId> =
                doors.actions.ones().map(ActionId::new).filter(|a| estate.schema().fits(*a, kind)).collect();
            for open in &doors {
                here.allowed(*open, allowed);
                for shut in doors.iter().filter(|shut| *shut != open) {
                    here.engine.each_part(&mut here.work, *shut, |reason, by_what, words| {
                        let Some(id) = by_what.filter(|_| matches!(reason, Reason::Denied | Reason::Capped)) else {
                            return;
                        };
                        put(words, through);
                        through.intersect_with(allowed);
                        let Some(user) = through.minimum() else { return };
                        let none = || FixedBitSet::with_capacity(estate.people().len());
                        let example = (UserId::new(user), *open, here.resource);
                        let entry = by.entry((id, *shut, *open)).or_insert_with(|| (0, none(), example));
                        entry.0 += through.count_ones(..) as u64;
                        entry.1.union_with(through);
                    });
                }
            }
        }
    }

    fn join(&mut self, later: Shut) {
        for (doors, (triples, users, example)) in later.by {
            let own = self.by.entry(doors).or_insert((0, FixedBitSet::new(), example));
            own.0 += triples;
            own.1.union_with(&users);
        }
    }

    fn found(self, case: &Case, _: &Survey) -> Vec<Found> {
        let estate = case.estate;
        let name = |a: ActionId| &estate.schema().actions[a.index()].name;
        let told = self.by.into_iter().map(|((id, shut, open), (triples, users, example))| {
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
        });
        told.collect()
    }
}
