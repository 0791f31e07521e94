//! What differs between two outcomes: who gains and who loses what, where.
//!
//! What is decided for all users at once is compared once for each pair of sets; users who are decided one by one are compared
//! one by one; and what is decided in words is compared in words. Where the second estate came about by a few changes of the
//! first, only what the changes can touch is decided (`affected`): resources on which a changed statement applies to anybody,
//! and from there whatever looks at a decision that did change. Where they are two estates read by themselves, everything is,
//! and users, resources and actions are matched by their ids and names ([`Joint`]).

mod affected;
mod apart;
mod causes;
mod joint;
mod movement;
mod places;
mod radius;
mod relevant;
mod users;
mod walk;

pub use apart::apart;
pub use causes::{Cause, CauseHow, Effect, effects};
pub use joint::{Axis, Joint};
pub use movement::{Moved, Movement, movements};
pub use places::{Fold, How, fold};
pub use radius::{Block, Blocks, Labelled, Radius, Side, blocks, by_part, is_labelled, radius};
pub use users::Users;
pub use walk::{Shown, difference, difference_while, is_same};

use crate::evaluate::{Evaluator, put};
use crate::snapshot::Snapshot;
use bastide_model::UserId;
use fixedbitset::FixedBitSet;
use hashbrown::{DefaultHashBuilder, HashTable};
use std::hash::BuildHasher;
use users::{Entry, Kept, Place, listed};

/// The triples whose outcome differs: allowed before and refused after, or the other way round.
pub struct Difference<'s> {
    /// How users, resources and actions of both sides are numbered together.
    pub joint: Joint,
    /// Resources on which something differs, by their joint numbers, and their row, in order.
    pub changed: Vec<(u32, u32)>,
    sides: [&'s Snapshot; 2],
    people: Vec<Entry>,
    sets: Vec<Box<[u64]>>,
    /// Everybody for whom anything differs, a bit a user.
    anybody: Vec<u64>,
    /// The different rows.
    rows: Rows,
    /// Whether groups have the same members on both sides.
    same_groups: bool,
}

/// Lists users of a difference.
pub struct Lister<'d, 's> {
    difference: &'d Difference<'s>,
    /// What decides again where users are not kept.
    engines: Option<[Evaluator<'s>; 2]>,
}

/// Who gains and who loses one action.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Turn {
    /// The action, by its joint number.
    pub action: u32,
    /// Who may after, and might not before.
    pub gained: Users,
    /// Who might before, and may not after.
    pub lost: Users,
}

impl<'s> Difference<'s> {
    /// What differs on a resource.
    pub fn turns(&self, row: u32) -> &[Turn] {
        self.rows.get(row)
    }

    /// By row, on how many resources that differs.
    fn times(&self) -> Vec<usize> {
        let mut times = vec![0; self.rows.len()];
        self.changed.iter().for_each(|(_, row)| times[*row as usize] += 1);
        times
    }

    /// How many users.
    pub fn count(&self, users: Users) -> u32 {
        self.people[users.0 as usize].count
    }

    /// Whether the user that was asked about is among them.
    pub fn is_asked(&self, users: Users) -> bool {
        self.people[users.0 as usize].own
    }

    /// How many of them are guests.
    pub fn guests(&self, users: Users) -> u32 {
        self.people[users.0 as usize].guests
    }

    /// What lists users.
    pub fn lister(&self) -> Lister<'_, 's> {
        Lister { difference: self, engines: None }
    }

    /// The part of it that is about the user who was asked about.
    pub fn only(self, user: u32) -> Self {
        let Difference { people, rows, .. } = &self;
        let mut changed = self.changed.clone();
        let is = |users: Users| people[users.0 as usize].own;
        let number = |is: bool| Users(u32::from(is));
        let mut kept = Rows::default();
        let new: Vec<u32> = (0..rows.len() as u32)
            .map(|row| {
                let turns = rows.get(row).iter();
                let turns = turns.map(|t| Turn { gained: number(is(t.gained)), lost: number(is(t.lost)), ..*t });
                kept.keep(&turns.filter(|t| t.gained != t.lost).collect::<Vec<Turn>>())
            })
            .collect();
        changed.iter_mut().for_each(|(_, row)| *row = new[*row as usize]);
        changed.retain(|(_, row)| *row != 0);
        let mut anybody = vec![0; self.anybody.len()];
        if !changed.is_empty() {
            anybody[user as usize / 64] |= 1 << (user % 64);
        }
        let kind = match self.joint.users.after(user) {
            Some(user) => self.sides[1].estate().people().kind(UserId(user)),
            None => self.sides[0].estate().people().kind(UserId(user)),
        };
        let one = Entry {
            print: 1,
            count: 1,
            guests: u32::from(kind == "guest"),
            first: user,
            own: true,
            kept: Kept::List([user].into()),
        };
        let people = vec![people[0].clone(), one];
        Difference { people, rows: kept, changed, anybody, ..self }
    }

    /// Everybody for whom anything differs, by their joint numbers, in order.
    pub fn concerned(&self) -> impl Iterator<Item = u32> + '_ {
        listed(&self.anybody)
    }

    /// Users by their joint numbers, in words; none where they are not kept.
    fn kept(&self, users: Users) -> Option<FixedBitSet> {
        let mut found = FixedBitSet::with_capacity(self.joint.users.len());
        match &self.people[users.0 as usize].kept {
            Kept::List(list) => found.extend(list.iter().map(|user| *user as usize)),
            Kept::But(set, but) => put(&self.words_of(*set, but), &mut found),
            Kept::Again(_) => return None,
        }
        Some(found)
    }

    /// A set that is kept, but for a few.
    fn words_of(&self, set: u32, but: &[u32]) -> Vec<u64> {
        let mut words = self.sets[set as usize].to_vec();
        but.iter().for_each(|user| words[*user as usize / 64] ^= 1 << (user % 64));
        words
    }

    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.changed.is_empty()
    }

    /// Calls `each` for every triple that differs: user, action, resource (joint numbers), and
    /// whether it is gained.
    pub fn triples(&self, mut each: impl FnMut(u32, u32, u32, bool)) {
        let mut lister = self.lister();
        for &(resource, row) in &self.changed {
            for turn in self.turns(row) {
                lister.users(turn.gained).into_iter().for_each(|user| each(user, turn.action, resource, true));
                lister.users(turn.lost).into_iter().for_each(|user| each(user, turn.action, resource, false));
            }
        }
    }
}

impl Lister<'_, '_> {
    /// Users by their joint numbers, in order. Cost: as many as there are; where they are not kept, what it takes to decide
    /// again.
    pub fn users(&mut self, users: Users) -> Vec<u32> {
        let of = self.difference;
        match &of.people[users.0 as usize].kept {
            Kept::List(list) => list.to_vec(),
            Kept::But(set, but) => listed(&of.words_of(*set, but)).collect(),
            Kept::Again(Place { resource, action, gained }) => {
                let engines = self.engines.get_or_insert_with(|| of.sides.map(Snapshot::evaluator));
                let [was, is] = walk::allowed(engines, &of.joint, *resource, *action);
                let (yes, no) = if *gained { (is, was) } else { (was, is) };
                let words: Vec<u64> = yes.iter().zip(&no).map(|(yes, no)| yes & !no).collect();
                listed(&words).collect()
            }
        }
    }
}

/// Rows of turns, each kept once, one after the other. Row 0 has none.
struct Rows {
    turns: Vec<Turn>,
    ends: Vec<usize>,
    hasher: DefaultHashBuilder,
    /// Numbers of rows, found by what is in them, each with what that hashes to: there can be as many as resources.
    known: HashTable<(u64, u32)>,
}

impl Default for Rows {
    fn default() -> Rows {
        Rows { turns: Vec::new(), ends: vec![0], hasher: DefaultHashBuilder::default(), known: HashTable::new() }
    }
}

impl Rows {
    fn len(&self) -> usize {
        self.ends.len()
    }

    fn get(&self, row: u32) -> &[Turn] {
        let row = row as usize;
        &self.turns[row.checked_sub(1).map_or(0, |before| self.ends[before])..self.ends[row]]
    }

    fn keep(&mut self, turns: &[Turn]) -> u32 {
        if turns.is_empty() {
            return 0;
        }
        let hash = self.hasher.hash_one(turns);
        if let Some((_, known)) = self.known.find(hash, |(of, row)| *of == hash && self.get(*row) == turns) {
            return *known;
        }
        let next = self.ends.len() as u32;
        self.turns.extend_from_slice(turns);
        self.ends.push(self.turns.len());
        self.known.insert_unique(hash, (hash, next), |(hash, _)| *hash);
        next
    }
}
