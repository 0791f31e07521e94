//! Sets of users as words, a bit a user, for the resource at hand: what is done with two of them, word by word.

use multiversion::multiversion;

/// Words of sets for the resource at hand.
#[derive(Default)]
pub struct Words {
    width: usize,
    rows: Vec<Vec<u64>>,
    used: usize,
}

impl Words {
    pub fn new(width: usize) -> Words {
        Words { width, rows: Vec::new(), used: 0 }
    }

    /// Lets all go.
    pub fn clear(&mut self) {
        self.used = 0;
    }

    /// Some words.
    pub fn get(&self, at: u32) -> &[u64] {
        &self.rows[..self.used][at as usize]
    }

    pub(super) fn get_mut(&mut self, at: u32) -> &mut [u64] {
        &mut self.rows[..self.used][at as usize]
    }

    /// A copy of some words.
    pub fn copy(&mut self, words: &[u64]) -> u32 {
        self.next().copy_from_slice(words);
        self.used as u32 - 1
    }

    /// Takes words in; others are given in exchange.
    pub(super) fn put(&mut self, words: &mut Vec<u64>) -> u32 {
        std::mem::swap(self.next(), words);
        self.used as u32 - 1
    }

    fn next(&mut self) -> &mut Vec<u64> {
        if self.used == self.rows.len() {
            self.rows.push(vec![0; self.width]);
        }
        self.used += 1;
        &mut self.rows[self.used - 1]
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(super) fn both(words: &mut [u64], other: &[u64]) {
    for (word, other) in words.iter_mut().zip(other) {
        *word &= other;
    }
}

#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(super) fn either(words: &mut [u64], other: &[u64]) {
    for (word, other) in words.iter_mut().zip(other) {
        *word |= other;
    }
}

/// Leaves of all those who are not in words.
#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2"))]
pub(super) fn others(words: &mut [u64], all: &[u64]) {
    for (word, all) in words.iter_mut().zip(all) {
        *word = all & !*word;
    }
}

/// Puts users in or takes them out.
pub(super) fn turn(words: &mut [u64], turns: &[(u32, bool)]) {
    for (user, is) in turns {
        let bit = 1 << (user % 64);
        let word = &mut words[*user as usize / 64];
        *word = if *is { *word | bit } else { *word & !bit };
    }
}

/// Takes those who are left out of words, and gives how many they were.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(super) fn take(rest: &mut [u64], words: &[u64]) -> u32 {
    let mut count = 0;
    for (rest, word) in rest.iter_mut().zip(words) {
        count += (*rest & word).count_ones();
        *rest &= !word;
    }
    count
}

/// The same of those in `from`: who is left of them is put into `rest`.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(super) fn take_of(from: &[u64], words: &[u64], rest: &mut [u64]) -> u32 {
    let mut count = 0;
    for ((from, word), rest) in from.iter().zip(words).zip(rest) {
        count += (from & word).count_ones();
        *rest = from & !word;
    }
    count
}

/// The same, and those who are taken are put beside `others`, into `taken`.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(super) fn take_of_into(from: &[u64], words: &[u64], rest: &mut [u64], others: &[u64], taken: &mut [u64]) -> u32 {
    let mut count = 0;
    for ((((from, word), rest), other), taken) in from.iter().zip(words).zip(rest).zip(others).zip(taken) {
        let own = from & word;
        count += own.count_ones();
        *rest = from & !word;
        *taken = other | own;
    }
    count
}

/// Puts those who are in both into words, and gives how many they are.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(super) fn both_of(one: &[u64], other: &[u64], words: &mut [u64]) -> u32 {
    let mut count = 0;
    for ((one, other), word) in one.iter().zip(other).zip(words) {
        *word = one & other;
        count += word.count_ones();
    }
    count
}

/// Takes those who are left out of words, apart: those who may, and the others. Gives whether there are any of each, and any left.
#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2"))]
pub(super) fn take_apart(
    rest: &mut [u64],
    words: &[u64],
    may: &[u64],
    kept: &mut [u64],
    others: &mut [u64],
) -> (bool, bool, bool) {
    let (mut some_kept, mut some_others, mut left) = (0, 0, 0);
    let taken = kept.iter_mut().zip(others.iter_mut());
    for (((rest, word), may), (kept, other)) in rest.iter_mut().zip(words).zip(may).zip(taken) {
        let own = *rest & word;
        *rest &= !word;
        (*kept, *other) = (own & may, own & !may);
        some_kept |= *kept;
        some_others |= *other;
        left |= *rest;
    }
    (some_kept != 0, some_others != 0, left != 0)
}

/// The same, where all of them may.
#[multiversion(targets("x86_64+avx512f+avx512vl", "x86_64+avx2"))]
pub(super) fn take_whole(rest: &mut [u64], words: &[u64], kept: &mut [u64]) -> (bool, bool) {
    let (mut some, mut left) = (0, 0);
    for ((rest, word), kept) in rest.iter_mut().zip(words).zip(kept.iter_mut()) {
        *kept = *rest & word;
        *rest &= !word;
        some |= *kept;
        left |= *rest;
    }
    (some != 0, left != 0)
}

/// The same; they are added to others.
#[multiversion(targets("x86_64+avx512f+avx512vl+avx512vpopcntdq+popcnt", "x86_64+avx2+popcnt", "x86_64+popcnt"))]
pub(super) fn take_into(rest: &mut [u64], words: &[u64], taken: &mut [u64]) -> u32 {
    let mut count = 0;
    for ((rest, word), taken) in rest.iter_mut().zip(words).zip(taken) {
        let own = *rest & word;
        count += own.count_ones();
        *rest &= !word;
        *taken |= own;
    }
    count
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What takes out of a set that is kept, or joins two, comes to the same as to copy it and to do so there.
    #[test]
    fn what_is_read_need_not_be_copied_first() {
        let mut random = fastrand::Rng::with_seed(5);
        for _ in 0..100 {
            let width = random.usize(1..30);
            let mut row = || (0..width).map(|_| random.u64(..) & random.u64(..)).collect::<Vec<u64>>();
            let [from, words, others] = std::array::from_fn(|_| row());
            let [mut rest, mut own_rest, mut taken, mut own_taken] = [row(), from.clone(), row(), others.clone()];
            assert_eq!(take_of(&from, &words, &mut rest), take(&mut own_rest, &words));
            assert_eq!(rest, own_rest);
            own_rest.clone_from(&from);
            let count = take_of_into(&from, &words, &mut rest, &others, &mut taken);
            assert_eq!(count, take_into(&mut own_rest, &words, &mut own_taken));
            assert_eq!((&rest, &taken), (&own_rest, &own_taken));
            own_rest.clone_from(&from);
            both(&mut own_rest, &words);
            let count = both_of(&from, &words, &mut rest);
            assert_eq!(rest, own_rest);
            assert_eq!(count, rest.iter().map(|word| word.count_ones()).sum::<u32>());
        }
    }
}
