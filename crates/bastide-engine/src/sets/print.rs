//! Fingerprints of sets of users: the sum of a set's words, each times a random number (multilinear hashing: words and
//! numbers have 64 bits, sums 128). Two different sets have the same with a chance of at most 2^-63. They serve to tell sets
//! apart that are not kept, and that differ from one that is kept by one user.

use multiversion::multiversion;

/// What words are multiplied by.
pub struct Fingerprints {
    words: Vec<u64>,
}

impl Fingerprints {
    /// For sets of so many users.
    pub fn new(users: usize) -> Fingerprints {
        Fingerprints { words: (0..users.div_ceil(64).max(1)).map(|at| (random(at) >> 64) as u64 | 1).collect() }
    }

    /// The fingerprint of a set, by its words.
    pub fn of(&self, words: &[u64]) -> u128 {
        sum(words, &self.words)
    }

    /// What a fingerprint grows by where a user comes to a set or leaves it.
    pub fn turn(&self, user: usize, comes: bool) -> u128 {
        let bit = u128::from(self.words[user / 64]) << (user % 64);
        if comes { bit } else { bit.wrapping_neg() }
    }
}

#[multiversion(targets("x86_64+bmi2+adx"))]
fn sum(words: &[u64], numbers: &[u64]) -> u128 {
    let mut print = 0u128;
    for (word, number) in words.iter().zip(numbers) {
        print = print.wrapping_add(u128::from(*word) * u128::from(*number));
    }
    print
}

/// A fixed odd number for each place (Steele, Lea and Flood's SplitMix, twice).
pub fn random(place: usize) -> u128 {
    let mix = |seed: u64| {
        let mut z = seed.wrapping_add(0x9e37_79b9_7f4a_7c15);
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    };
    let low = mix(place as u64);
    (u128::from(mix(low ^ 0x5851_f42d_4c95_7f2d)) << 64 | u128::from(low)) | 1
}
