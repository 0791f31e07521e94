//! What differs between two outcomes: who gains and who loses what, where.
//!
//! Both estates are evaluated by set engines of their own. Where the second came about by a few
//! changes of the first, only what the changes can touch is evaluated ([`suspects`]): resources that
//! a changed statement reaches, and from there whatever looks at a decision that did change. Where
//! they are two estates read by themselves, everything is, and users, resources and actions are
//! matched by their ids and names ([`Joint`]).

mod joint;
mod places;
mod radius;
mod suspects;

pub use joint::{Axis, Joint};
pub use places::{Fold, How, fold};
pub use radius::{Block, Radius, Side, blocks, radius};

use crate::sets::store::{SetId, SetStore};
use crate::sets::{Decided, SetEngine};
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
    let joint = Joint::of(before.estate(), after.estate());
    // Another day or session can touch anything.
    let related = joint.is_same() && before.moment() == after.moment();
    let suspects = if related { Suspects::of(before, after) } else { None };
    let mut walk = Walk {
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
    };
    match suspects {
        Some(mut suspects) => {
            while let Some(resource) = suspects.next() {
                if walk.resource(before, after, resource.0) {
                    suspects.changed(resource, before, after);
                }
            }
            walk.difference.changed.sort_unstable();
        }
        None => {
            for resource in 0..walk.difference.joint.resources.len() as u32 {
                walk.resource(before, after, resource);
            }
        }
    }
    walk.difference
}

struct Walk {
    difference: Difference,
    /// The row of two decisions that were compared already.
    known: HashMap<(Option<Decided>, Option<Decided>), u32>,
    rows: HashMap<Box<[Turn]>, u32>,
    /// Sets of each side in joint numbers.
    of_before: HashMap<SetId, SetId>,
    of_after: HashMap<SetId, SetId>,
}

impl Walk {
    /// Compares one resource; whether anything differs.
    fn resource(&mut self, before: &mut SetEngine, after: &mut SetEngine, resource: u32) -> bool {
        let axis = &self.difference.joint.resources;
        let (old, new) = (axis.before(resource).map(ResourceId), axis.after(resource).map(ResourceId));
        let key = (old.map(|r| before.row(r)), new.map(|r| after.row(r)));
        let row = match self.known.get(&key) {
            Some(row) => *row,
            None => {
                let row = self.compare(before, after, old, new);
                self.known.insert(key, row);
                row
            }
        };
        if row != 0 {
            self.difference.changed.push((resource, row));
        }
        row != 0
    }

    fn compare(
        &mut self,
        before: &mut SetEngine,
        after: &mut SetEngine,
        old: Option<ResourceId>,
        new: Option<ResourceId>,
    ) -> u32 {
        let mut turns = Vec::new();
        for action in 0..self.difference.joint.actions.len() as u32 {
            let axis = &self.difference.joint.actions;
            let (a, b) = (axis.before(action).map(ActionId), axis.after(action).map(ActionId));
            let had = old.zip(a).map_or(SetId::NONE, |(r, a)| before.allowed(r, a));
            let has = new.zip(b).map_or(SetId::NONE, |(r, a)| after.allowed(r, a));
            let Difference { joint, sets, .. } = &mut self.difference;
            let had = joined(sets, &joint.users, &mut self.of_before, before.sets(), had, Axis::from_before);
            let has = joined(sets, &joint.users, &mut self.of_after, after.sets(), has, Axis::from_after);
            if had != has {
                turns.push(Turn { action, gained: sets.subtract(has, had), lost: sets.subtract(had, has) });
            }
        }
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
    let found = sets.of(of.users(set).map(|user| number(users, user as u32) as usize));
    known.insert(set, found);
    found
}
