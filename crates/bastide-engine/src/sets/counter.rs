//! How often each user is in any of many sets.

use super::Bits;
use fixedbitset::FixedBitSet;
use multiversion::multiversion;

/// So many words are added at once.
const LANES: usize = 8;

/// Words side by side.
type Block = [u64; LANES];

/// How often each user is in any of many sets: the binary digits of that, each a bit a user. A set is added as a number is, digit
/// by digit, as far as something is carried: for 512 users at once no digit where none of them is in it, otherwise at most all digits
/// that there are, which are as many as the number of sets has.
#[derive(Clone, Default, Debug)]
pub struct Counter {
    /// By digit, the lowest first.
    digits: Vec<Vec<Block>>,
    /// Who was met.
    seen: Vec<u64>,
}

/// Whether there is anybody in words who is not among those seen.
#[multiversion(targets("x86_64+avx512f+avx512dq+avx512vl", "x86_64+avx2"))]
fn are_more(seen: &[u64], words: &[u64]) -> bool {
    let mut more = 0;
    for (seen, word) in seen.iter().zip(words) {
        more |= word & !seen;
    }
    more != 0
}

/// Adds a set to the digits, from one of them on. All sets have as many words.
#[multiversion(targets("x86_64+avx512f+avx512dq+avx512vl", "x86_64+avx2"))]
fn sum(digits: &mut Vec<Vec<Block>>, words: &[u64], lowest: usize) {
    let blocks = words.len().div_ceil(LANES);
    for (at, words) in words.chunks(LANES).enumerate() {
        let mut carry = [0; LANES];
        carry[..words.len()].copy_from_slice(words);
        let mut digit = lowest;
        while carry != [0; LANES] {
            while digits.len() <= digit {
                digits.push(vec![[0; LANES]; blocks]);
            }
            let sum = &mut digits[digit][at];
            for lane in 0..LANES {
                let both = sum[lane] & carry[lane];
                sum[lane] ^= carry[lane];
                carry[lane] = both;
            }
            digit += 1;
        }
    }
}

impl Counter {
    /// Counts the users of a set; `new` is told of those who were not met before. All sets have as many words.
    pub fn add(&mut self, words: &[u64], new: impl FnMut(u32)) {
        self.meet(words, new);
        sum(&mut self.digits, words, 0);
    }

    fn meet(&mut self, words: &[u64], mut new: impl FnMut(u32)) {
        self.seen.resize(self.seen.len().max(words.len()), 0);
        // Most sets have nobody in them who is new.
        if are_more(&self.seen, words) {
            for (at, (seen, word)) in self.seen.iter_mut().zip(words).enumerate() {
                Bits(word & !*seen).for_each(|bit| new((at * 64 + bit) as u32));
                *seen |= word;
            }
        }
    }

    /// Counts the users of a list so many times, in as many steps as the number of times has ones among its digits.
    pub fn add_list(&mut self, users: &FixedBitSet, times: u64) {
        const { assert!(usize::BITS == 64, "words have 64 bits") };
        let words: Vec<u64> = users.as_slice().iter().map(|word| *word as u64).collect();
        if times > 0 {
            self.meet(&words, |_| ());
        }
        Bits(times).for_each(|digit| sum(&mut self.digits, &words, digit));
    }

    /// Users who were met, in order, and how often.
    pub fn counts(&self) -> impl Iterator<Item = (u32, u64)> + '_ {
        let users = self.seen.iter().enumerate().flat_map(|(at, word)| Bits(*word).map(move |bit| at * 64 + bit));
        users.map(|user| {
            let (word, bit) = (user / 64, user % 64);
            let digit = |digits: &Vec<Block>| digits[word / LANES][word % LANES] >> bit & 1;
            let digits = self.digits.iter().enumerate();
            (user as u32, digits.map(|(place, digits)| digit(digits) << place).sum())
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn users_are_counted_as_one_by_one() {
        let mut random = fastrand::Rng::with_seed(7);
        for (users, sets) in [(1, 3), (64, 40), (700, 300), (1500, 1100)] {
            let (mut counter, mut plain) = (Counter::default(), vec![0u64; users]);
            let mut met = Vec::new();
            for at in 0..sets {
                let share = [0, 1, 30, 100][at % 4];
                let set: FixedBitSet = (0..users).filter(|_| random.usize(..100) < share).collect();
                let mut whole = FixedBitSet::with_capacity(users);
                whole.union_with(&set);
                let times = if at % 3 == 0 { random.u64(..9) } else { 1 };
                whole.ones().for_each(|user| plain[user] += times);
                if at % 3 == 0 {
                    counter.add_list(&whole, times);
                } else {
                    let words: Vec<u64> = whole.as_slice().iter().map(|word| *word as u64).collect();
                    counter.add(&words, |user| met.push(user));
                }
            }
            let expected = plain.iter().zip(0..).filter(|(count, _)| **count > 0).map(|(count, user)| (user, *count));
            assert!(counter.counts().eq(expected), "{users} users, {sets} sets");
            met.sort_unstable();
            assert!(met.windows(2).all(|pair| pair[0] < pair[1]), "nobody is new twice");
        }
    }
}
