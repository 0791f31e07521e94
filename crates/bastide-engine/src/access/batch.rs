//! Many sets of users at once, turned: of each user, in which of them.

/// So many sets are turned at a time: a word of them for each user.
const SETS: usize = 64;

/// Sets that wait to be turned.
pub struct Batch {
    width: usize,
    words: Vec<u64>,
}

impl Batch {
    /// None yet, of so many words each.
    pub fn new(width: usize) -> Batch {
        Batch { width, words: Vec::with_capacity(SETS * width) }
    }

    /// Adds a set. Once there are enough, `each` is told of every user by number who is in any of them, and in which.
    pub fn add(&mut self, set: &[u64], each: impl FnMut(usize, u64)) {
        self.words.extend_from_slice(set);
        if self.words.len() == SETS * self.width {
            self.turn(each);
        }
    }

    /// The same for those that are left.
    pub fn turn(&mut self, mut each: impl FnMut(usize, u64)) {
        let rows = self.words.len() / self.width;
        let mut block = [0u64; SETS];
        for at in 0..self.width {
            let mut any = 0;
            block[rows..].fill(0);
            for (row, word) in block[..rows].iter_mut().enumerate() {
                *word = self.words[row * self.width + at];
                any |= *word;
            }
            if any == 0 {
                continue;
            }
            transpose(&mut block);
            for (bit, sets) in block.iter().enumerate() {
                if *sets != 0 {
                    each(at * 64 + bit, *sets);
                }
            }
        }
        self.words.clear();
    }
}

/// Turns a square of bits: by halves, quarters and so on (Warren, Hacker's Delight, 7-3).
fn transpose(block: &mut [u64; 64]) {
    let (mut half, mut mask) = (32, 0x0000_0000_ffff_ffffu64);
    while half != 0 {
        let mut at = 0;
        while at < 64 {
            let swap = (block[at] >> half ^ block[at + half]) & mask;
            block[at] ^= swap << half;
            block[at + half] ^= swap;
            at = (at + half + 1) & !half;
        }
        half >>= 1;
        mask ^= mask << half;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_user_is_told_of_once_a_batch() {
        let mut random = fastrand::Rng::with_seed(3);
        let (width, sets) = (3, 150);
        let rows: Vec<Vec<u64>> =
            (0..sets).map(|_| (0..width).map(|_| random.u64(..) & random.u64(..)).collect()).collect();
        let mut seen = vec![Vec::new(); width * 64];
        let mut batch = Batch::new(width);
        for row in &rows {
            batch.add(row, |user, sets| seen[user].push(sets));
        }
        batch.turn(|user, sets| seen[user].push(sets));
        for (user, seen) in seen.iter().enumerate() {
            let is_in = |row: &Vec<u64>| row[user / 64] >> (user % 64) & 1 == 1;
            let count: u32 = seen.iter().map(|sets| sets.count_ones()).sum();
            assert_eq!(count as usize, rows.iter().filter(|row| is_in(row)).count());
            // Where a user is in a set of every batch, positions can be told, too.
            if seen.len() == 3 {
                for (at, row) in rows.iter().enumerate() {
                    assert_eq!(seen[at / 64] >> (at % 64) & 1 == 1, is_in(row));
                }
            }
        }
    }
}
