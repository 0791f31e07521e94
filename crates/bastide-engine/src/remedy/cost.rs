//! What a remedy costs, and what power it hands out. Where something is to be allowed, the order of remedies goes by the
//! power first: by how many triples of more than harmless actions anybody gains beside the wish. Then it goes by what a
//! remedy costs, so what goes into that is said here whole:
//!
//! - a fixed charge for the sort of change (see `ideas`): taking back a wrong entry, a wrong
//!   membership, or filling in a missing value is cheap; a grant to one person by name or an exception
//!   for one person is dear, since such things go stale and nobody remembers them;
//! - for the same user's other triples, six for each doubling of their number, and four more where
//!   they are gained on labelled resources: a membership brings more than was asked for;
//! - for other users' triples, nine for each doubling;
//! - where others gain more than harmless actions, fifteen, and where guests gain anything, fifteen.
//!
//! A remedy that mends a cause (the account is not active, a value is missing, a membership or an entry
//! stands out as a mistake) does elsewhere what it does here, and that is likely to be right: its
//! other triples weigh one for each doubling. Joining a group of people alike weighs four for the user's
//! own, and two more for labelled ones: what the group holds may be far more than was asked for.

use super::Power;
use super::Wish;
use super::idea::Idea;
use crate::change::Change;
use crate::difference::{Difference, Labelled, Turn};
use bastide_model::{Estate, ResourceId};
use hashbrown::{HashMap, HashSet};
use std::collections::BTreeSet;

/// Triples that change besides the wished one.
#[derive(Clone, Copy, Default, Debug)]
pub struct Sides {
    own: u64,
    labelled: u64,
    others: u64,
}

impl Sides {
    /// Counts `count` triples of one action on one resource. `own`: the user's own is among them;
    /// `wished`: they go the wished way.
    pub fn add(&mut self, count: u64, own: bool, wished: bool) {
        self.own += u64::from(own);
        self.others += count - u64::from(own);
        // What goes the other way than wished is a loss of somebody's work.
        if !wished {
            self.others += count;
        }
    }
}

/// What a remedy costs at least, given the triples counted so far.
pub fn least(idea: &Idea, sides: &Sides) -> u32 {
    // The wished triple itself is no side effect.
    let own = sides.own.saturating_sub(1);
    let joins = idea.changes.iter().any(|c| matches!(c, Change::Join(..)));
    let amount = if idea.mends && joins {
        4 * doublings(own) + 2 * doublings(sides.labelled.min(own))
    } else if idea.mends {
        doublings(own) + doublings(sides.others)
    } else {
        6 * doublings(own) + 4 * doublings(sides.labelled.min(own)) + 9 * doublings(sides.others)
    };
    idea.charge + amount
}

/// The power that a remedy hands out beside the wish: gains of more than harmless actions. `after` is the estate with it.
pub fn power(difference: &Difference, after: &Estate, harmless: &[String], wish: Wish) -> Power {
    let mut power = Power::default();
    let (mut users, mut resources, mut actions) = (BTreeSet::new(), 0, BTreeSet::new());
    let mut known: HashMap<u32, u64> = HashMap::new();
    let mut lister = difference.lister();
    let name = |action: u32| &after.schema().actions[action as usize].name;
    for &(resource, row) in &difference.changed {
        let mut count = *known.entry(row).or_insert_with(|| {
            let mut count = 0;
            for turn in difference.turns(row).iter().filter(|turn| !harmless.contains(name(turn.action))) {
                let gained = u64::from(difference.count(turn.gained));
                if gained > 0 {
                    count += gained;
                    actions.insert(turn.action);
                    users.extend(lister.users(turn.gained));
                }
            }
            count
        });
        let asked = |turn: &&Turn| {
            turn.action == wish.action.0 && !harmless.contains(name(turn.action)) && difference.is_asked(turn.gained)
        };
        if resource == wish.resource.0 && difference.turns(row).iter().any(|turn| asked(&turn)) {
            count -= 1;
        }
        power.triples += count;
        resources += usize::from(count > 0);
    }
    if power.triples > 0 {
        power.users = users.len();
        power.resources = resources;
        power.actions = actions.into_iter().map(|action| name(action).clone()).collect();
    }
    power
}

/// The cost of a remedy with these gains and losses. `after` is the estate with it.
pub fn cost(idea: &Idea, difference: &Difference, after: &Estate, harmless: &[String], wish: Wish) -> u32 {
    let mut sides = Sides::default();
    let (mut harm, mut guests) = (false, false);
    let guest = after.people().kind(wish.user) == "guest";
    let labels = Labelled::new(after);
    let mut by_reference: HashSet<u32> = HashSet::new();
    for &(resource, row) in &difference.changed {
        let turns = difference.turns(row);
        for turn in turns {
            for (users, gained) in [(turn.gained, true), (turn.lost, false)] {
                let count = u64::from(difference.count(users));
                let own = difference.is_asked(users);
                sides.add(count, own, gained == wish.wanted);
                if own && gained && labels.has(ResourceId(resource)) {
                    sides.labelled += 1;
                }
            }
        }
        if !by_reference.insert(row) {
            continue;
        }
        for turn in turns {
            let own = u32::from(difference.is_asked(turn.gained));
            let others = difference.count(turn.gained) > own;
            let name = &after.schema().actions[turn.action as usize].name;
            harm |= others && !harmless.contains(name);
            guests |= others && difference.guests(turn.gained) > u32::from(own > 0 && guest);
        }
    }
    least(idea, &sides) + 15 * u32::from(harm) + 15 * u32::from(guests)
}

/// How often a number has doubled from nothing: 0 for 0, 1 for 1, 2 for 2 and 3, 3 for 4 to 7.
fn doublings(number: u64) -> u32 {
    u64::BITS - number.leading_zeros()
}
