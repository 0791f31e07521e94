//! Sets of users as words, a bit a user, for the resource at hand: what is done with two of them, word by word.

use multiversion::multiversion;

/// Words of sets for the resource at hand.
#[derive(Default)]
pub struct Words {
    width: usize,
    words: Vec<u64>,
}

impl Words {
    pub fn new(width: usize) -> Words {
        Words { width, words: Vec::new() }
    }

    /// Lets all go.
    pub fn clear(&mut self) {
        self.words.clear();
    }

    /// Some words.
    pub fn get(&self, at: u32) -> &[u64] {
        &self.words[at as usize * self.width..][..self.width]
    }

    pub(super) fn get_mut(&mut self, at: u32) -> &mut [u64] {
        &mut self.words[at as usize * self.width..][..self.width]
    }

    /// A copy of some words.
    pub fn copy(&mut self, words: &[u64]) -> u32 {
        let at = self.words.len() / self.width;
        self.words.extend_from_slice(words);
        at as u32
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
