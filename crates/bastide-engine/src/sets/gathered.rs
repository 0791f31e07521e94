//! Users who are gathered from many resources: a list as long as they are few.

use super::store::SetId;
use super::{Bits, count};
use fixedbitset::FixedBitSet;

/// Users, each once.
#[derive(Clone, Debug, Default)]
pub struct Gathered {
    /// As long as they are few, in order.
    few: Vec<u32>,
    /// A bit a user, once they are many.
    many: Vec<u64>,
    /// What was added last, where it is a set that is kept: it comes again and again.
    last: Option<SetId>,
}

/// So many are few.
const FEW: usize = 32;

impl Gathered {
    /// Whether these were added last, as a set that is kept: then there is nothing to add.
    pub fn has_last(&self, set: Option<SetId>) -> bool {
        set.is_some() && set == self.last
    }

    /// Adds users. `set`: their number as a set, where they are one that is kept.
    pub fn add(&mut self, users: &FixedBitSet, set: Option<SetId>) {
        if self.has_last(set) {
            return;
        }
        self.last = set;
        let few: Vec<u32> = users.ones().take(FEW + 1).map(|user| user as u32).collect();
        self.add_with(
            |words| {
                words.resize(users.as_slice().len(), 0);
                words.iter_mut().zip(users.as_slice()).for_each(|(word, more)| *word |= *more as u64);
            },
            (few.len() <= FEW).then_some(&few),
        );
    }

    /// Adds the users of a row of words.
    pub fn add_words(&mut self, row: &[u64]) {
        let few: Vec<u32> = match self.many.is_empty() && count::words(row) as usize <= FEW {
            true => row
                .iter()
                .enumerate()
                .flat_map(|(at, word)| Bits(*word).map(move |bit| (at * 64 + bit) as u32))
                .collect(),
            false => Vec::new(),
        };
        self.add_with(
            |words| {
                words.resize(words.len().max(row.len()), 0);
                words.iter_mut().zip(row).for_each(|(word, more)| *word |= more);
            },
            (!few.is_empty()).then_some(&few),
        );
    }

    /// Adds a few users, in order.
    pub fn add_few(&mut self, users: &[u32]) {
        if let [user] = users
            && self.many.is_empty()
            && self.few.binary_search(user).is_ok()
        {
            return;
        }
        self.add_with(
            |words| {
                let most = users.last().map_or(0, |user| *user as usize / 64 + 1);
                words.resize(words.len().max(most), 0);
                users.iter().for_each(|user| words[*user as usize / 64] |= 1 << (user % 64));
            },
            Some(users),
        );
    }

    /// Adds users: those listed, or where there is no list, those whom `put` puts into words.
    pub fn add_with(&mut self, put: impl FnOnce(&mut Vec<u64>), listed: Option<&[u32]>) {
        if self.many.is_empty()
            && let Some(listed) = listed
        {
            self.few.extend_from_slice(listed);
            self.few.sort_unstable();
            self.few.dedup();
            if self.few.len() <= FEW {
                return;
            }
        }
        put(&mut self.many);
        self.spread();
    }

    /// Puts the list into words.
    fn spread(&mut self) {
        let most = self.few.last().map_or(0, |user| *user as usize / 64 + 1);
        self.many.resize(self.many.len().max(most), 0);
        for user in self.few.drain(..) {
            self.many[user as usize / 64] |= 1 << (user % 64);
        }
    }

    /// Adds those who were gathered elsewhere.
    pub fn join(&mut self, other: Gathered) {
        if other.many.is_empty() {
            self.add_few(&other.few);
        } else {
            self.add_words(&other.many);
        }
    }

    /// How many of them are among others.
    pub fn count_among(&self, others: &FixedBitSet) -> usize {
        let few = self.few.iter().filter(|user| others.contains(**user as usize)).count();
        let has = |user: usize| self.many.get(user / 64).is_some_and(|word| word >> (user % 64) & 1 == 1);
        few + others.ones().filter(|user| has(*user)).count()
    }

    /// How many.
    pub fn count(&self) -> usize {
        let many = count::words(&self.many) as usize;
        self.few.len() + many
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn each_is_counted_once() {
        let mut random = fastrand::Rng::with_seed(3);
        for _ in 0..200 {
            let (mut all, mut plain) = (Gathered::default(), BTreeSet::new());
            for _ in 0..random.usize(..6) {
                let (mut part, most) = (Gathered::default(), [3, 40, 300][random.usize(..3)]);
                for _ in 0..random.usize(..4) {
                    let users: BTreeSet<usize> = (0..random.usize(..most)).map(|_| random.usize(..300)).collect();
                    let mut bits = FixedBitSet::with_capacity(300);
                    users.iter().for_each(|user| bits.insert(*user));
                    part.add(&bits, None);
                    plain.extend(users);
                }
                all.join(part);
                assert_eq!(all.count(), plain.len());
            }
        }
    }
}
