//! `guest-power`: a guest may do more than what is harmless.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::sweep::{AnyGather, Gather, Here};
use crate::{Case, Found, Survey, Triple};
use bastide_engine::change::Change;
use bastide_engine::evaluate::{Cell, Decided, OutcomeId, put};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::collections::{BTreeMap, BTreeSet};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "guest-power",
    group: Group::OverBroad,
    level: crate::Level::Error,
    what: "a guest may do more than what is harmless",
    why: "Guests are people of other houses: what they change, publish or take away is out of the house's hands.",
    mind: "It is what the guests are there for: then list the action in `[audit] harmless`, or waive the rule that gives it.",
    check: Check::Resource(check),
};

/// What one statement lets guests do.
#[derive(Clone)]
struct Power {
    users: FixedBitSet,
    actions: BTreeSet<usize>,
    triples: u64,
    example: Triple,
}

/// What each statement lets guests do.
#[derive(Clone)]
struct Powers {
    by: BTreeMap<StatementId, Power>,
    /// Of an outcome that was met: by which statements it lets how many guests in.
    known: HashMap<OutcomeId, Vec<(StatementId, u64)>>,
    guests: FixedBitSet,
    harmful: Vec<ActionId>,
}

fn check(case: &Case, survey: &Survey) -> Option<Box<dyn AnyGather>> {
    let harmful = ActionId::all(case.estate.schema().actions.len()).filter(|a| !case.is_harmless(*a)).collect();
    let guests = FixedBitSet::with_capacity(case.estate.people().len());
    let powers = || Powers { by: BTreeMap::new(), known: HashMap::new(), guests, harmful };
    (!survey.guests.is_clear()).then(|| Box::new(powers()) as _)
}

impl Gather for Powers {
    fn look(&mut self, _: &Case, survey: &Survey, here: &mut Here) {
        let Powers { by, known, guests, harmful } = self;
        let Here { resource, work, engine } = here;
        for action in harmful.iter().copied() {
            let outcome = match work.decided(action) {
                Decided::Base(outcome) => {
                    let own = |cell: &Cell| survey.guests.contains(cell.user as usize);
                    Some(outcome).filter(|_| !work.cells(action).iter().any(own))
                }
                Decided::Wide(_) | Decided::Open => None,
            };
            if let Some(known) = outcome.and_then(|outcome| known.get(&outcome)) {
                for (id, count) in known {
                    by.get_mut(id).expect("it was met before").triples += count;
                }
                continue;
            }
            let mut counts = Vec::new();
            engine.each_part(work, action, |reason, by_what, words| {
                let Some(id) = by_what.filter(|_| reason.is_allowed()) else { return };
                put(words, guests);
                guests.intersect_with(&survey.guests);
                let Some(user) = guests.minimum() else { return };
                let power = by.entry(id).or_insert_with(|| Power {
                    users: FixedBitSet::with_capacity(guests.len()),
                    actions: BTreeSet::new(),
                    triples: 0,
                    example: (UserId::new(user), action, *resource),
                });
                let count = guests.count_ones(..) as u64;
                power.users.union_with(guests);
                power.actions.insert(action.index());
                power.triples += count;
                counts.push((id, count));
            });
            outcome.map(|outcome| known.insert(outcome, counts));
        }
    }

    fn join(&mut self, later: Powers) {
        for (id, later) in later.by {
            match self.by.get_mut(&id) {
                Some(own) => {
                    own.users.union_with(&later.users);
                    own.actions.extend(later.actions);
                    own.triples += later.triples;
                }
                None => {
                    self.by.insert(id, later);
                }
            }
        }
    }

    fn found(self, case: &Case, _: &Survey) -> Vec<Found> {
        let estate = case.estate;
        let told = self.by.into_iter().map(|(id, Power { users, actions, triples, example })| {
            let names = actions.iter().map(|a| estate.schema().actions[*a].name.clone()).collect::<Vec<_>>();
            let actions: Vec<&str> = actions.iter().map(|a| estate.schema().actions[*a].name.as_str()).collect();
            let message = format!("{} lets guests {}", case.named(id), actions.join(", "));
            Found::of(case, id, message)
                .naming(names)
                .naming_users(estate, users.ones())
                .evidence(format!("{}, {}", many(users.count_ones(..) as u64, "guest"), many(triples, "triple")))
                .example(Some(example))
                .suggest("to keep guests to what is harmless", vec![Change::Off(id)])
        });
        told.collect()
    }
}
