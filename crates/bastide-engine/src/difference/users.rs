//! Users of whom one may stand otherwise than a kept set says. What a change does to everybody it often does not do to
//! the owner, and there are as many owners as users: to keep a set for each would take longer than everything else.

use crate::sets::Prints;
use crate::sets::store::{Bits, SetId, SetStore};
use hashbrown::HashMap;

/// The users of a set, but one of whom the contrary holds. The same users can be written in two ways.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Users {
    set: SetId,
    /// Among them where the set does not have this user, not among them where it has.
    but: Option<u32>,
}

impl Users {
    /// Nobody.
    pub const NONE: Users = Users { set: SetId::NONE, but: None };

    /// Those of a set.
    pub fn of(set: SetId) -> Users {
        Users { set, but: None }
    }

    /// How many they are.
    pub fn count(self, sets: &SetStore) -> u32 {
        let count = sets.count(self.set);
        match self.but {
            Some(user) if sets.contains(self.set, user as usize) => count - 1,
            Some(_) => count + 1,
            None => count,
        }
    }

    /// Whether they are nobody.
    pub fn is_none(self, sets: &SetStore) -> bool {
        self.count(sets) == 0
    }

    /// Whether a user is among them.
    pub fn contains(self, sets: &SetStore, user: usize) -> bool {
        sets.contains(self.set, user) != self.but.is_some_and(|but| but as usize == user)
    }

    /// They, as words of a bit a user.
    pub fn words(self, sets: &SetStore) -> impl Iterator<Item = u64> + '_ {
        let turned = move |at: usize| match self.but {
            Some(user) if user as usize / 64 == at => 1 << (user % 64),
            _ => 0,
        };
        sets.row(self.set).iter().enumerate().map(move |(at, word)| word ^ turned(at))
    }

    /// They, in order.
    pub fn iter(self, sets: &SetStore) -> impl Iterator<Item = usize> + '_ {
        self.words(sets).enumerate().flat_map(|(at, word)| Bits(word).map(move |bit| at * 64 + bit))
    }

    /// They, one user more or less.
    pub fn turned(self, user: u32, sets: &mut SetStore) -> Users {
        match self.but {
            None => Users { but: Some(user), ..self },
            Some(but) if but == user => Users { but: None, ..self },
            Some(but) => {
                let one = sets.of([but as usize]);
                let has = sets.contains(self.set, but as usize);
                let set = if has { sets.subtract(self.set, one) } else { sets.union(self.set, one) };
                Users { set, but: Some(user) }
            }
        }
    }
}

/// Numbers that tell users apart, however they are written.
pub struct Told<'s> {
    sets: &'s SetStore,
    prints: Prints,
    known: HashMap<SetId, u128>,
}

impl<'s> Told<'s> {
    /// For sets of so many users.
    pub fn new(sets: &'s SetStore, users: usize) -> Told<'s> {
        Told { sets, prints: Prints::new(users), known: HashMap::new() }
    }

    /// The fingerprint of users.
    pub fn print(&mut self, users: Users) -> u128 {
        let Told { sets, prints, known } = self;
        let print = *known.entry(users.set).or_insert_with(|| prints.of(sets.row(users.set)));
        match users.but {
            Some(user) => print.wrapping_add(prints.turn(user as usize, !sets.contains(users.set, user as usize))),
            None => print,
        }
    }
}

/// Everybody among any of some users.
pub struct Union<'s> {
    sets: &'s SetStore,
    words: Vec<u64>,
    /// The sets that are in it: none where as a whole, or the one who is not.
    known: HashMap<SetId, Option<u32>>,
}

impl<'s> Union<'s> {
    /// Nobody yet.
    pub fn new(sets: &'s SetStore) -> Union<'s> {
        Union { sets, words: vec![0; sets.row(SetId::NONE).len()], known: HashMap::new() }
    }

    /// Takes more in.
    pub fn add(&mut self, users: Users) {
        let Users { set, but } = users;
        let without = but.filter(|user| self.sets.contains(set, *user as usize));
        match (self.known.get(&set).copied(), without) {
            (Some(None), _) => {}
            (Some(Some(missing)), without) => {
                if without != Some(missing) {
                    self.mark(missing);
                    self.known.insert(set, None);
                }
            }
            (None, _) => {
                let whole = Users { set, but: without };
                self.words.iter_mut().zip(whole.words(self.sets)).for_each(|(all, word)| *all |= word);
                self.known.insert(set, without);
            }
        }
        if let Some(more) = but.filter(|_| without.is_none()) {
            self.mark(more);
        }
    }

    /// How many.
    pub fn count(&self) -> usize {
        self.words.iter().map(|word| word.count_ones() as usize).sum()
    }

    fn mark(&mut self, user: u32) {
        self.words[user as usize / 64] |= 1 << (user % 64);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::{BTreeSet, HashSet};

    /// Against plain sets: however they are written, the same users are told to be the same, and others to be others.
    #[test]
    fn one_more_or_less() {
        let mut random = fastrand::Rng::with_seed(5);
        let mut sets = SetStore::new(130);
        let mut all: Vec<(Users, BTreeSet<usize>)> = Vec::new();
        for _ in 0..300 {
            let few = [3, 64, 129];
            let mut plain: BTreeSet<usize> = few.into_iter().filter(|_| random.bool()).collect();
            let mut users = Users::of(sets.of(plain.iter().copied()));
            for _ in 0..random.usize(..4) {
                let user = few[random.usize(..3)];
                users = users.turned(user as u32, &mut sets);
                if !plain.remove(&user) {
                    plain.insert(user);
                }
            }
            assert_eq!(users.iter(&sets).collect::<Vec<_>>(), plain.iter().copied().collect::<Vec<_>>());
            assert_eq!((users.count(&sets) as usize, users.is_none(&sets)), (plain.len(), plain.is_empty()));
            (0..130).for_each(|user| assert_eq!(users.contains(&sets, user), plain.contains(&user)));
            all.push((users, plain));
        }
        let mut told = Told::new(&sets, 130);
        let prints: Vec<u128> = all.iter().map(|(users, _)| told.print(*users)).collect();
        let written: HashSet<Users> = all.iter().map(|(users, _)| *users).collect();
        assert!(written.len() > 8, "three users make eight sets, and some were written in two ways");
        for (i, (_, a)) in all.iter().enumerate() {
            all.iter().enumerate().for_each(|(j, (_, b))| assert_eq!(a == b, prints[i] == prints[j]));
        }
        for _ in 0..300 {
            let (mut union, mut plain) = (Union::new(&sets), BTreeSet::<usize>::new());
            for _ in 0..random.usize(..5) {
                let (users, of) = &all[random.usize(..all.len())];
                union.add(*users);
                plain.extend(of);
            }
            assert_eq!(union.count(), plain.len());
        }
    }
}
