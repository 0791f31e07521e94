//! Sets that are forgotten, on their way into fingerprints of users: whoever is in other ones of them is told apart.
//!
//! Each set is turned: from a bit a user to a bit a set, many sets at a time. But soon nearly everybody is told apart from
//! everybody else, but for those who really are the same, such as all who may do nothing. From then on a set is looked at first:
//! where it has all or nobody of each of those who are the same so far, it tells nobody apart, and is not turned.

use super::batch::{Batch, LANES, Squares};
use multiversion::multiversion;

/// After so many batches it is looked for the first time who is not told apart yet, and again after four times as many.
const FIRST: usize = 8;
/// To look at a set costs so many words for each user of a small class.
const MEMBER: usize = 4;
/// To turn a set costs about so many times its words.
const TURNED: usize = 16;

/// Sets that were worked out in words, on their way into the fingerprints of users.
pub(super) struct Turning {
    batch: Batch,
    /// By user, a fingerprint of the sets in which the user is; users lie as in the blocks that are turned.
    users: Vec<Squares>,
    /// How many users there are.
    count: usize,
    factor: u64,
    /// Who is not told apart yet, where that is known and few words say it.
    same: Option<Same>,
    batches: usize,
    next: usize,
}

/// Users who are in the same sets so far, but for those who share that with nobody.
struct Same {
    /// Large classes, in words.
    large: Vec<Vec<u64>>,
    /// Members of the others, class by class, and where each class ends.
    small: Vec<u32>,
    ends: Vec<u32>,
}

impl Turning {
    /// For so many users.
    pub fn new(count: usize, share: usize) -> Turning {
        let width = count.div_ceil(64).max(1);
        let factor = mixed(0x2545_f491_4f6c_dd1d ^ share as u64) | 1;
        let users = vec![[[0; LANES]; 64]; width.div_ceil(LANES)];
        Turning { batch: Batch::new(width), users, count, factor, same: None, batches: 0, next: FIRST }
    }

    /// Whether a set may tell somebody apart.
    pub fn matters(&self, words: &[u64]) -> bool {
        self.same.as_ref().is_none_or(|same| same.parts(words))
    }

    /// Takes a set in.
    pub fn add(&mut self, words: &[u64]) {
        if self.batch.add(words) {
            self.turn();
            self.batches += 1;
            if self.batches == self.next {
                self.next *= 4;
                self.same = Same::of(self.count, |user| self.print(user));
            }
        }
    }

    fn turn(&mut self) {
        let Turning { batch, users, factor, .. } = self;
        let of = *factor;
        batch.turn_blocks(|first, sets| take_note(&mut users[first / (64 * LANES)], sets, of));
        *factor = mixed(factor.wrapping_add(0x9e37_79b9_7f4a_7c15)) | 1;
    }

    fn print(&self, user: usize) -> u64 {
        self.users[user / (64 * LANES)][user % 64][user / 64 % LANES]
    }

    /// Puts what was told into the fingerprints of users.
    pub fn finish(&mut self, users: &mut [u64]) {
        self.turn();
        for (at, user) in users.iter_mut().enumerate() {
            *user = user.wrapping_add(mixed(self.print(at).wrapping_mul(self.factor)));
        }
    }
}

impl Same {
    /// Those of so many users who have the same fingerprint. None where to look at a set would cost more than half of turning it.
    fn of(count: usize, print: impl Fn(usize) -> u64) -> Option<Same> {
        let width = count.div_ceil(64);
        let mut by_print: Vec<(u64, u32)> = (0..count).map(|user| (print(user), user as u32)).collect();
        by_print.sort_unstable();
        let mut same = Same { large: Vec::new(), small: Vec::new(), ends: Vec::new() };
        for class in by_print.chunk_by(|a, b| a.0 == b.0).filter(|class| class.len() > 1) {
            if class.len() * MEMBER > width {
                let mut words = vec![0; width];
                class.iter().for_each(|(_, user)| words[*user as usize / 64] |= 1 << (user % 64));
                same.large.push(words);
            } else {
                same.small.extend(class.iter().map(|(_, user)| *user));
                same.ends.push(same.small.len() as u32);
            }
        }
        let cost = same.large.len() * width + same.small.len() * MEMBER;
        (cost * 2 <= width * TURNED).then_some(same)
    }

    /// Whether a set has some of a class, and not others.
    fn parts(&self, words: &[u64]) -> bool {
        let is_in = |user: &u32| words[*user as usize / 64] >> (user % 64) & 1 == 1;
        let mut from = 0;
        let small = |end: &u32| {
            let class = &self.small[from..*end as usize];
            from = *end as usize;
            class[1..].iter().any(|user| is_in(user) != is_in(&class[0]))
        };
        self.large.iter().any(|class| divides(class, words)) || self.ends.iter().any(small)
    }
}

/// Whether words have some of a class, and not others.
#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2"))]
fn divides(class: &[u64], words: &[u64]) -> bool {
    let (mut some, mut others) = (0, 0);
    for (class, word) in class.iter().zip(words) {
        some |= class & word;
        others |= class & !word;
    }
    some != 0 && others != 0
}

/// Puts what is new of users into their fingerprints; who is in no set keeps theirs.
#[multiversion(targets("x86_64+avx512f+avx512dq+avx512vl", "x86_64+avx2"))]
fn take_note(users: &mut Squares, sets: &Squares, factor: u64) {
    for (user, sets) in users.as_flattened_mut().iter_mut().zip(sets.as_flattened()) {
        let mut new = (*user ^ sets).wrapping_mul(factor);
        new ^= new >> 32;
        *user = if *sets == 0 { *user } else { new };
    }
}

/// Spreads the bits of a number; nothing stays nothing (Steele, Lea and Flood's SplitMix).
pub(super) fn mixed(mut z: u64) -> u64 {
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeMap;

    /// Whoever is in the same sets has the same fingerprint, and nobody else: however late a set comes that parts them, and
    /// though most sets are not turned.
    #[test]
    fn users_are_told_apart_by_the_sets_they_are_in() {
        let mut random = fastrand::Rng::with_seed(4);
        let (mut turned, mut passed, mut listed) = (0, 0, 0);
        for round in 0..12 {
            let count = if round % 4 == 3 { 2_000 } else { random.usize(1..400) };
            // Users of one class are in the same sets, until one of them is in another one. Where classes are many, some have two users.
            let classes = [1, 3, 40, 60_000][round % 4];
            let class: Vec<usize> = (0..count).map(|_| random.usize(..classes)).collect();
            let sets = 64 * FIRST * random.usize(1..6) + 7;
            let mut turning = Turning::new(count, round);
            let mut rows: Vec<Vec<bool>> = vec![Vec::new(); count];
            for at in 0..sets {
                let own = |class: usize| class > 0 && mixed((class * sets + at) as u64).is_multiple_of(3);
                // Now and then, and mostly late, somebody is parted from the others.
                let apart = (random.usize(..sets) < at && random.usize(..100) == 0).then(|| random.usize(..count));
                let mut words = vec![0u64; count.div_ceil(64)];
                for user in 0..count {
                    let is = own(class[user]) != (apart == Some(user));
                    rows[user].push(is);
                    words[user / 64] |= u64::from(is) << (user % 64);
                }
                if turning.matters(&words) {
                    turning.add(&words);
                    turned += 1;
                } else {
                    passed += 1;
                }
            }
            listed += turning.same.iter().filter(|same| !same.small.is_empty()).count();
            let mut prints = vec![0; count];
            turning.finish(&mut prints);
            let mut known: BTreeMap<u64, &Vec<bool>> = BTreeMap::new();
            let mut seen: BTreeMap<&Vec<bool>, u64> = BTreeMap::new();
            for (row, print) in rows.iter().zip(prints) {
                assert_eq!(known.entry(print).or_insert(row), &row, "one fingerprint, other sets");
                assert_eq!(*seen.entry(row).or_insert(print), print, "the same sets, another fingerprint");
            }
        }
        assert!(turned > 3_000 && passed > 3_000, "{turned} turned, {passed} not");
        assert!(listed > 1, "small classes {listed} times");
    }
}
