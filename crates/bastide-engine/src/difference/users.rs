//! Users who gain or lose the same. What a change does to everybody it often does not do to a few, and to others on each
//! resource: so users are told apart by a fingerprint, and kept as short as can be.

use crate::sets::store::Bits;
use crate::sets::{Fingerprints, count};
use hashbrown::HashMap;

/// Some users, as a number: equal numbers, equal users.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct Users(pub(super) u32);

impl Users {
    /// Nobody.
    pub const NONE: Users = Users(0);
}

/// Where users are found.
#[derive(Clone)]
pub(super) enum Kept {
    /// Here, in order.
    List(Box<[u32]>),
    /// A set, but for some of whom the contrary holds.
    But(u32, Box<[u32]>),
    /// By deciding again: who gains, or else who loses, an action on a resource; by joint numbers.
    Again(Place),
}

/// An action on a resource, by joint numbers, and whether it is gained.
#[derive(Clone, Copy)]
pub(super) struct Place {
    pub resource: u32,
    pub action: u32,
    pub gained: bool,
}

/// What is known of some users.
#[derive(Clone)]
pub(super) struct Entry {
    pub print: u128,
    pub count: u32,
    /// Of them, guests.
    pub guests: u32,
    /// The first of them.
    pub first: u32,
    /// Whether the user that was asked about is among them.
    pub own: bool,
    pub kept: Kept,
}

/// All that were met, each once.
pub(super) struct People<'d> {
    prints: &'d Fingerprints,
    /// Who is a guest, a bit a user.
    guests: &'d [u64],
    /// The user that is asked about.
    asked: Option<u32>,
    /// So many words of sets, and of lists, are kept; what comes then is worked out again where it is asked for.
    most: usize,
    pub all: Vec<Entry>,
    /// Of each, whether it was taken into everybody.
    taken: Vec<bool>,
    by_print: HashMap<u128, u32>,
    pub sets: Vec<Box<[u64]>>,
    sets_by_print: HashMap<u128, u32>,
    listed: usize,
    /// Everybody in any that were taken in, a bit a user.
    pub anybody: Vec<u64>,
    /// Of sets that were taken into that, who is not there yet.
    missing: HashMap<u32, Box<[u32]>>,
}

fn has(words: &[u64], user: u32) -> bool {
    words[user as usize / 64] >> (user % 64) & 1 == 1
}

/// The users of words, in order.
pub(super) fn listed(words: &[u64]) -> impl Iterator<Item = u32> + '_ {
    words.iter().enumerate().flat_map(|(at, word)| Bits(*word).map(move |bit| (at * 64 + bit) as u32))
}

impl<'d> People<'d> {
    pub fn new(prints: &'d Fingerprints, guests: &'d [u64], asked: Option<u32>, most: usize) -> People<'d> {
        let none = Entry { print: 0, count: 0, guests: 0, first: u32::MAX, own: false, kept: Kept::List([].into()) };
        People {
            prints,
            guests,
            asked,
            most,
            all: vec![none],
            taken: vec![true],
            by_print: HashMap::from([(0, 0)]),
            sets: Vec::new(),
            sets_by_print: HashMap::new(),
            listed: 0,
            anybody: vec![0; guests.len()],
            missing: HashMap::new(),
        }
    }

    /// The number of those whose words these are. Where they are the same on many resources, their set is kept.
    pub fn of_words(&mut self, words: &[u64], place: Place, often: bool) -> u32 {
        let print = self.prints.of(words);
        if let Some(&known) = self.by_print.get(&print) {
            if often && matches!(self.all[known as usize].kept, Kept::Again(_)) {
                // Others are built on it.
                self.all[known as usize].kept = Kept::But(self.set(words, print), [].into());
            }
            return known;
        }
        let count = count::words(words);
        let guests = count::both_words(words, self.guests);
        let first = listed(words).next().unwrap_or(u32::MAX);
        let own = self.asked.is_some_and(|user| has(words, user));
        let kept = if count as usize <= words.len() && self.listed < self.most {
            Kept::List(listed(words).collect())
        } else if often || self.sets.len() * words.len() < self.most {
            Kept::But(self.set(words, print), [].into())
        } else {
            Kept::Again(place)
        };
        if matches!(kept, Kept::Again(_)) {
            self.anybody.iter_mut().zip(words).for_each(|(all, word)| *all |= word);
        }
        self.add(Entry { print, count, guests, first, own, kept })
    }

    fn set(&mut self, words: &[u64], print: u128) -> u32 {
        let next = self.sets.len() as u32;
        let set = *self.sets_by_print.entry(print).or_insert(next);
        if set == next {
            self.sets.push(words.into());
        }
        set
    }

    /// The number of others, of whom for some the contrary holds; these in order.
    pub fn turned(&mut self, base: u32, turned: &[u32], place: Place) -> u32 {
        if turned.is_empty() {
            return base;
        }
        let print = turned.iter().fold(self.all[base as usize].print, |print, user| {
            print.wrapping_add(self.prints.turn(*user as usize, !self.contains(base, *user)))
        });
        if let Some(known) = self.by_print.get(&print) {
            return *known;
        }
        let Entry { mut count, mut guests, mut own, .. } = self.all[base as usize].clone();
        for user in turned {
            let comes = !self.contains(base, *user);
            let guest = u32::from(has(self.guests, *user));
            (count, guests) = if comes { (count + 1, guests + guest) } else { (count - 1, guests - guest) };
            own ^= self.asked == Some(*user);
        }
        let width = self.guests.len();
        let few = |of: &Self| of.listed < of.most;
        let kept = match &self.all[base as usize].kept {
            Kept::List(list) if few(self) => Kept::List(differing(list.iter().copied(), turned)),
            Kept::But(set, but) if few(self) && but.is_empty() && count as usize > width => {
                Kept::But(*set, turned.into())
            }
            Kept::But(set, but) if few(self) && but.is_empty() => {
                Kept::List(differing(listed(&self.sets[*set as usize]), turned))
            }
            Kept::List(_) | Kept::But(..) | Kept::Again(_) => Kept::Again(place),
        };
        let first = match &kept {
            Kept::List(list) => list.first().copied().unwrap_or(u32::MAX),
            Kept::But(..) | Kept::Again(_) => {
                let all: Vec<u32> = self.users(base).expect("what others hang on is kept");
                differing(all.into_iter(), turned).first().copied().unwrap_or(u32::MAX)
            }
        };
        if matches!(kept, Kept::Again(_)) {
            let all: Vec<u32> = self.users(base).expect("what others hang on is kept");
            for user in differing(all.into_iter(), turned) {
                self.mark(user);
            }
        }
        self.add(Entry { print, count, guests, first, own, kept })
    }

    fn add(&mut self, entry: Entry) -> u32 {
        let number = self.all.len() as u32;
        self.listed += match &entry.kept {
            Kept::List(list) => list.len() + 4,
            Kept::But(_, but) => but.len() + 4,
            Kept::Again(_) => 0,
        };
        self.by_print.insert(entry.print, number);
        self.all.push(entry);
        self.taken.push(false);
        number
    }

    /// Takes users into everybody. Those whose users are not kept are there from the beginning.
    pub fn take(&mut self, number: u32) {
        if std::mem::replace(&mut self.taken[number as usize], true) {
            return;
        }
        match &self.all[number as usize].kept {
            Kept::List(list) => {
                let anybody = &mut self.anybody;
                list.iter().for_each(|user| anybody[*user as usize / 64] |= 1 << (user % 64));
            }
            Kept::But(set, but) => {
                let (set, but) = (*set, but.clone());
                self.mark_set(set, &but);
            }
            Kept::Again(_) => {}
        }
    }

    fn mark(&mut self, user: u32) {
        self.anybody[user as usize / 64] |= 1 << (user % 64);
    }

    /// Takes a set into everybody, but for some of whom the contrary holds.
    fn mark_set(&mut self, set: u32, but: &[u32]) {
        let words = &self.sets[set as usize];
        let without: Box<[u32]> = but.iter().copied().filter(|user| has(words, *user)).collect();
        let missing = match self.missing.get(&set) {
            Some(missing) => {
                let (still, come): (Vec<u32>, Vec<u32>) =
                    missing.iter().copied().partition(|user| without.binary_search(user).is_ok());
                come.into_iter().for_each(|user| self.mark(user));
                still.into()
            }
            None => {
                let stay: Vec<bool> = without.iter().map(|user| has(&self.anybody, *user)).collect();
                self.anybody.iter_mut().zip(&self.sets[set as usize]).for_each(|(all, word)| *all |= word);
                for (user, stays) in without.iter().zip(stay) {
                    if !stays {
                        self.anybody[*user as usize / 64] &= !(1 << (user % 64));
                    }
                }
                without.clone()
            }
        };
        self.missing.insert(set, missing);
        let more: Vec<u32> = but.iter().copied().filter(|user| without.binary_search(user).is_err()).collect();
        more.into_iter().for_each(|user| self.mark(user));
    }

    fn contains(&self, number: u32, user: u32) -> bool {
        match &self.all[number as usize].kept {
            Kept::List(list) => list.binary_search(&user).is_ok(),
            Kept::But(set, but) => has(&self.sets[*set as usize], user) != but.binary_search(&user).is_ok(),
            Kept::Again(_) => unreachable!("nothing is built on what is not kept"),
        }
    }

    /// The users of a number; none where they are not kept.
    pub fn users(&self, number: u32) -> Option<Vec<u32>> {
        match &self.all[number as usize].kept {
            Kept::List(list) => Some(list.to_vec()),
            Kept::But(set, but) => Some(differing(listed(&self.sets[*set as usize]), but).into()),
            Kept::Again(_) => None,
        }
    }

    /// Takes in those that were met by another core; what number each of theirs has here.
    pub fn join(&mut self, others: People) -> Vec<u32> {
        self.anybody.iter_mut().zip(&others.anybody).for_each(|(all, word)| *all |= word);
        let prints: Vec<u128> = others.sets.iter().map(|words| self.prints.of(words)).collect();
        let sets: Vec<u32> = others.sets.iter().zip(prints).map(|(words, print)| self.set(words, print)).collect();
        let number = |entry: Entry| {
            if let Some(known) = self.by_print.get(&entry.print) {
                return *known;
            }
            let kept = match entry.kept {
                Kept::But(set, but) => Kept::But(sets[set as usize], but),
                other @ (Kept::List(_) | Kept::Again(_)) => other,
            };
            let number = self.all.len() as u32;
            self.by_print.insert(entry.print, number);
            self.all.push(Entry { kept, ..entry });
            self.taken.push(true);
            number
        };
        others.all.into_iter().map(number).collect()
    }
}

/// Those who are in one of two lists in order, and not in both.
fn differing(all: impl Iterator<Item = u32>, turned: &[u32]) -> Box<[u32]> {
    let mut found = Vec::with_capacity(all.size_hint().0 + turned.len());
    let mut turned = turned.iter().copied().peekable();
    for user in all {
        while let Some(other) = turned.next_if(|other| *other < user) {
            found.push(other);
        }
        if turned.next_if_eq(&user).is_none() {
            found.push(user);
        }
    }
    found.extend(turned);
    found.into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    /// Against plain sets: however they came about, the same users have the same number, and what is told of them is so.
    #[test]
    fn told_apart_however_they_came_about() {
        let mut random = fastrand::Rng::with_seed(5);
        let (prints, guests, place) =
            (Fingerprints::new(130), vec![1 << 3, 7, 0], Place { resource: 0, action: 0, gained: true });
        for _ in 0..40 {
            let mut people = People::new(&prints, &guests, Some(64), 1 << 20);
            let mut known: Vec<(BTreeSet<u32>, u32)> = Vec::new();
            let bases: Vec<BTreeSet<u32>> = (0..3).map(|_| (0..130).filter(|_| random.u8(..3) > 0).collect()).collect();
            for _ in 0..60 {
                let mut plain = bases[random.usize(..3)].clone();
                let mut words = [0u64; 3];
                plain.iter().for_each(|user| words[*user as usize / 64] |= 1 << (user % 64));
                let base = people.of_words(&words, place, true);
                let turned: BTreeSet<u32> =
                    (0..random.usize(..4)).map(|_| [3, 64, 65, 129][random.usize(..4)]).collect();
                let number = people.turned(base, &turned.iter().copied().collect::<Vec<u32>>(), place);
                for user in turned {
                    if !plain.remove(&user) {
                        plain.insert(user);
                    }
                }
                let entry = &people.all[number as usize];
                let all: Vec<u32> = plain.iter().copied().collect();
                assert_eq!(people.users(number).unwrap_or_default(), all);
                let guests = plain.iter().filter(|user| [3, 64, 65, 66].contains(*user)).count();
                assert_eq!((entry.count as usize, entry.guests as usize), (plain.len(), guests));
                assert_eq!((entry.first, entry.own), (all[0], plain.contains(&64)));
                for (other, of) in &known {
                    assert_eq!(*other == plain, *of == number);
                }
                known.push((plain, number));
            }
            // What others are built on is not taken in by that.
            let mut anybody: BTreeSet<u32> = BTreeSet::new();
            for (plain, number) in known.iter().filter(|_| random.bool()).collect::<Vec<_>>() {
                people.take(*number);
                anybody.extend(plain);
                assert!(listed(&people.anybody).eq(anybody.iter().copied()));
            }
        }
    }
}
