//! What differs between two outcomes: who gains and who loses what, where.
//!
//! Both estates are evaluated by set engines of their own. Where the second came about by a few
//! changes of the first, only what the changes can touch is evaluated (`suspects`): resources that
//! a changed statement reaches, and from there whatever looks at a decision that did change. Where
//! they are two estates read by themselves, everything is, and users, resources and actions are
//! matched by their ids and names ([`Joint`]).

mod alike;
mod causes;
mod joint;
mod places;
mod radius;
mod suspects;

pub use alike::{Alike, radius_without};
pub use causes::{Cause, Effect, How as CauseHow, effects};
pub use joint::{Axis, Joint};
pub use places::{Fold, How, fold};
pub use radius::{Block, Blocks, Radius, Side, blocks, is_labelled, radius};

use crate::sets::store::{SetId, SetStore};
use crate::sets::{Decided, RowId, SetEngine};
use bastide_model::*;
use hashbrown::HashMap;
use suspects::Suspects;

/// The triples whose outcome differs: allowed before and refused after, or the other way round.
pub struct Difference {
    /// How users, resources and actions of both sides are numbered together.
    pub joint: Joint,
    /// The sets of users, by their joint numbers.
    pub sets: SetStore,
    /// The different rows.
    rows: Vec<Box<[Turn]>>,
    /// Resources on which something differs, by their joint numbers, and their row, in order.
    pub changed: Vec<(u32, u32)>,
}

/// Who gains and who loses one action.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Turn {
    /// The action, by its joint number.
    pub action: u32,
    /// Who may after, and might not before.
    pub gained: SetId,
    /// Who might before, and may not after.
    pub lost: SetId,
}

impl Difference {
    /// What differs on a resource.
    pub fn turns(&self, row: u32) -> &[Turn] {
        &self.rows[row as usize]
    }

    /// The part of it that is about one user, by the joint number.
    pub fn only(&self, user: u32) -> Difference {
        let mut sets = SetStore::new(self.joint.users.len());
        let one = sets.of([user as usize]);
        let mut rows: Vec<Box<[Turn]>> = vec![Box::new([])];
        let mut row_of: HashMap<u32, u32> = HashMap::new();
        let pick = |set: SetId| if self.sets.contains(set, user as usize) { one } else { SetId::NONE };
        let mut changed = Vec::new();
        for &(resource, row) in &self.changed {
            let new = *row_of.entry(row).or_insert_with(|| {
                let turns = self.turns(row).iter().map(|t| Turn { gained: pick(t.gained), lost: pick(t.lost), ..*t });
                let turns: Box<[Turn]> = turns.filter(|t| t.gained != t.lost).collect();
                if turns.is_empty() {
                    return 0;
                }
                rows.push(turns);
                rows.len() as u32 - 1
            });
            if new != 0 {
                changed.push((resource, new));
            }
        }
        Difference { joint: self.joint.clone(), sets, rows, changed }
    }

    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.changed.is_empty()
    }

    /// Calls `each` for every triple that differs: user, action, resource (joint numbers), and
    /// whether it is gained.
    pub fn triples(&self, mut each: impl FnMut(u32, u32, u32, bool)) {
        for &(resource, row) in &self.changed {
            for turn in self.turns(row) {
                self.sets.users(turn.gained).for_each(|user| each(user as u32, turn.action, resource, true));
                self.sets.users(turn.lost).for_each(|user| each(user as u32, turn.action, resource, false));
            }
        }
    }
}

/// What differs between the outcomes of two engines. Cost: for estates that are related by changes,
/// what the changes can touch; otherwise every resource once in each.
pub fn difference(before: &mut SetEngine, after: &mut SetEngine) -> Difference {
    difference_while(before, after, &mut |_, _| true).expect("nobody stops it")
}

/// As [`difference`], but `go_on` is shown what differs on each resource, and stops it by saying no;
/// then there is nothing.
pub fn difference_while(
    before: &mut SetEngine,
    after: &mut SetEngine,
    go_on: &mut dyn FnMut(&SetStore, &[Turn]) -> bool,
) -> Option<Difference> {
    let joint = Joint::of(before.estate(), after.estate());
    // Another day or session can touch anything.
    let related = joint.is_same() && before.moment() == after.moment();
    let suspects = if related { Suspects::of(before, after) } else { None };
    let mut walk = Walk::new(joint);
    match suspects {
        Some(mut suspects) => {
            for steps in steps() {
                let ahead = suspects.ahead(steps);
                if ahead.is_empty() {
                    break;
                }
                walk.evaluate(before, after, &ahead);
                for _ in &ahead {
                    let Some(resource) = suspects.next() else { break };
                    let row = walk.resource(before, after, resource.0);
                    if row != 0 {
                        if !go_on(&walk.difference.sets, walk.difference.turns(row)) {
                            return None;
                        }
                        suspects.changed(resource, before, after);
                    }
                }
            }
            walk.difference.changed.sort_unstable();
        }
        None => {
            let mut left = 0..walk.difference.joint.resources.len() as u32;
            for steps in steps() {
                let ahead: Vec<u32> = left.by_ref().take(steps).collect();
                if ahead.is_empty() {
                    break;
                }
                walk.evaluate(before, after, &ahead);
                for resource in ahead {
                    let row = walk.resource(before, after, resource);
                    if row != 0 && !go_on(&walk.difference.sets, walk.difference.turns(row)) {
                        return None;
                    }
                }
            }
        }
    }
    Some(walk.difference)
}

/// How many resources are evaluated before they are compared: few at first, since it may be that the first that differs
/// is all that is asked for.
fn steps() -> impl Iterator<Item = usize> {
    std::iter::successors(Some(FEW), |steps| Some((2 * steps).min(1 << 12)))
}

/// Fewer resources are not worth the way to another core.
const FEW: usize = 1 << 6;

/// A resource on one side: the engine that decides, and what it decides there.
struct Seen<'s, 'e> {
    engine: &'s SetEngine<'e>,
    decided: Option<Decided>,
}

impl Seen<'_, '_> {
    /// The users for whom an action is allowed, the owner looked at as everybody else.
    fn others(&self, action: Option<u32>) -> SetId {
        let both = self.decided.zip(action);
        both.map_or(SetId::NONE, |(d, a)| self.engine.outcome(d.others, ActionId(a)).allowed)
    }

    fn allows(&self, user: Option<u32>, action: Option<u32>) -> bool {
        match (self.decided, user, action) {
            (Some(decided), Some(user), Some(action)) => self.engine.allows(decided, UserId(user), ActionId(action)),
            _ => false,
        }
    }

    fn owner(&self) -> Option<u32> {
        self.decided.and_then(|d| d.owner).map(|(user, _)| user.0)
    }
}

struct Walk {
    difference: Difference,
    /// The row of two rows for others that were compared already.
    known: HashMap<(Option<RowId>, Option<RowId>), u32>,
    rows: HashMap<Box<[Turn]>, u32>,
    /// Sets of each side in joint numbers.
    of_before: HashMap<SetId, SetId>,
    of_after: HashMap<SetId, SetId>,
}

impl Walk {
    fn new(joint: Joint) -> Walk {
        Walk {
            difference: Difference {
                sets: SetStore::new(joint.users.len()),
                joint,
                rows: vec![Box::new([])],
                changed: Vec::new(),
            },
            known: HashMap::new(),
            rows: HashMap::new(),
            of_before: HashMap::new(),
            of_after: HashMap::new(),
        }
    }

    /// Evaluates some resources, each side on a core of its own.
    fn evaluate(&self, before: &mut SetEngine, after: &mut SetEngine, resources: &[u32]) {
        if resources.len() < FEW {
            return;
        }
        let axis = &self.difference.joint.resources;
        let each = |engine: &mut SetEngine, own: fn(&Axis, u32) -> Option<u32>| {
            resources.iter().filter_map(|resource| own(axis, *resource)).for_each(|resource| {
                engine.views_id(ResourceId(resource));
            });
        };
        rayon::join(|| each(before, Axis::before), || each(after, Axis::after));
    }

    /// Compares one resource; the row of what differs, 0 where nothing does.
    fn resource(&mut self, before: &mut SetEngine, after: &mut SetEngine, resource: u32) -> u32 {
        let axis = &self.difference.joint.resources;
        let (old, new) = (axis.before(resource).map(ResourceId), axis.after(resource).map(ResourceId));
        let (was, is) = (old.map(|r| before.row(r)), new.map(|r| after.row(r)));
        let (before, after) = (Seen { engine: before, decided: was }, Seen { engine: after, decided: is });
        let key = (was.map(|d| d.others), is.map(|d| d.others));
        let base = match self.known.get(&key) {
            Some(row) => *row,
            None => {
                let row = self.compare(&before, &after);
                self.known.insert(key, row);
                row
            }
        };
        let users = &self.difference.joint.users;
        let owners = [before.owner().map(|o| users.from_before(o)), after.owner().map(|o| users.from_after(o))];
        let row = if owners == [None, None] { base } else { self.with_owners(&before, &after, base, owners) };
        if row != 0 {
            self.difference.changed.push((resource, row));
        }
        row
    }

    /// What differs for everybody, owners looked at as everybody else.
    fn compare(&mut self, before: &Seen, after: &Seen) -> u32 {
        let mut turns = Vec::new();
        for action in 0..self.difference.joint.actions.len() as u32 {
            let axis = &self.difference.joint.actions;
            let (had, has) = (before.others(axis.before(action)), after.others(axis.after(action)));
            let Difference { joint, sets, .. } = &mut self.difference;
            let had = joined(sets, &joint.users, &mut self.of_before, before.engine.sets(), had, Axis::from_before);
            let has = joined(sets, &joint.users, &mut self.of_after, after.engine.sets(), has, Axis::from_after);
            if had != has {
                turns.push(Turn { action, gained: sets.subtract(has, had), lost: sets.subtract(had, has) });
            }
        }
        self.keep(turns)
    }

    /// The row of a resource whose owner before or after may fare otherwise than everybody else.
    fn with_owners(&mut self, before: &Seen, after: &Seen, base: u32, owners: [Option<u32>; 2]) -> u32 {
        let actions = self.difference.joint.actions.len() as u32;
        let mut turns: Vec<Turn> = self.difference.rows[base as usize].to_vec();
        let mut otherwise = false;
        for user in owners.into_iter().flatten() {
            for action in 0..actions {
                let Difference { joint, sets, .. } = &mut self.difference;
                let had = before.allows(joint.users.before(user), joint.actions.before(action));
                let has = after.allows(joint.users.after(user), joint.actions.after(action));
                let at = turns.iter().position(|t| t.action == action);
                let is = |set: fn(&Turn) -> SetId| at.is_some_and(|at| sets.contains(set(&turns[at]), user as usize));
                let (gains, loses) = (has && !had, had && !has);
                if (is(|t| t.gained), is(|t| t.lost)) == (gains, loses) {
                    continue;
                }
                otherwise = true;
                let at = at.unwrap_or_else(|| {
                    turns.push(Turn { action, gained: SetId::NONE, lost: SetId::NONE });
                    turns.len() - 1
                });
                let one = sets.of([user as usize]);
                let turn = &mut turns[at];
                let mut put = |set: SetId, is: bool| if is { sets.union(set, one) } else { sets.subtract(set, one) };
                (turn.gained, turn.lost) = (put(turn.gained, gains), put(turn.lost, loses));
            }
        }
        if !otherwise {
            return base;
        }
        turns.retain(|t| t.gained != t.lost);
        turns.sort_unstable_by_key(|t| t.action);
        self.keep(turns)
    }

    fn keep(&mut self, turns: Vec<Turn>) -> u32 {
        if turns.is_empty() {
            return 0;
        }
        let next = self.difference.rows.len() as u32;
        let turns = turns.into_boxed_slice();
        let row = *self.rows.entry(turns.clone()).or_insert(next);
        if row == next {
            self.difference.rows.push(turns);
        }
        row
    }
}

/// A set of one side in joint numbers.
fn joined(
    sets: &mut SetStore,
    users: &Axis,
    known: &mut HashMap<SetId, SetId>,
    of: &SetStore,
    set: SetId,
    number: impl Fn(&Axis, u32) -> u32,
) -> SetId {
    if let Some(known) = known.get(&set) {
        return *known;
    }
    let found = match users {
        Axis::Same(_) => sets.of_words(of.row(set)),
        _ => sets.of(of.users(set).map(|user| number(users, user as u32) as usize)),
    };
    known.insert(set, found);
    found
}
