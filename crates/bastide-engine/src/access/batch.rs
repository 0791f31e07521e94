//! Many sets of users at once, turned: of each user, in which of them.

use multiversion::multiversion;

/// So many sets are turned at a time: a word of them for each user.
const SETS: usize = 64;
/// So many words of each are turned at once.
pub const LANES: usize = 8;

/// Sets that wait to be turned.
pub struct Batch {
    width: usize,
    rows: usize,
    words: Vec<u64>,
    block: Box<Squares>,
}

/// Squares of bits, side by side: in a square that was turned, the user `row` of each lane's 64.
pub type Squares = [[u64; LANES]; SETS];

impl Batch {
    /// None yet, of so many words each.
    pub fn new(width: usize) -> Batch {
        let width = width.next_multiple_of(LANES);
        Batch { width, rows: 0, words: vec![0; SETS * width], block: Box::new([[0; LANES]; SETS]) }
    }

    /// Adds a set; whether there are enough now, so that they are to be turned.
    pub fn add(&mut self, set: &[u64]) -> bool {
        self.words[self.rows * self.width..][..set.len()].copy_from_slice(set);
        self.rows += 1;
        self.rows == SETS
    }

    /// Turns what came: `each` is told of 64 users at a time, the first of them by number, in which sets each is.
    pub fn turn(&mut self, mut each: impl FnMut(usize, &[u64; 64])) {
        let mut users = [0u64; 64];
        self.turn_blocks(|first, block| {
            for lane in 0..LANES {
                users.iter_mut().zip(block).for_each(|(user, block)| *user = block[lane]);
                each(first + lane * 64, &users);
            }
        });
    }

    /// The same, by squares as they lie: `each` is told of the users from the given one on, as many as a block has.
    pub fn turn_blocks(&mut self, mut each: impl FnMut(usize, &Squares)) {
        self.words[self.rows * self.width..].fill(0);
        self.rows = 0;
        for at in (0..self.width).step_by(LANES) {
            let rows = self.block.iter_mut().zip(self.words.chunks_exact(self.width));
            rows.for_each(|(block, row)| block.copy_from_slice(&row[at..at + LANES]));
            transpose(&mut self.block);
            each(at * 64, &self.block);
        }
    }
}

/// Turns squares of bits: by halves, quarters and so on (Warren, Hacker's Delight, 7-3).
#[multiversion(targets("x86_64+avx512f+avx512dq+avx512vl", "x86_64+avx2"))]
fn transpose(block: &mut Squares) {
    let (mut half, mut mask) = (32, 0x0000_0000_ffff_ffffu64);
    while half != 0 {
        let mut at = 0;
        while at < SETS {
            let (upper, lower) = block.split_at_mut(at + half);
            for (upper, lower) in upper[at].iter_mut().zip(&mut lower[0]) {
                let swap = (*upper >> half ^ *lower) & mask;
                *upper ^= swap << half;
                *lower ^= swap;
            }
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
        let mut put = |first: usize, sets: &[u64; 64]| {
            for (user, sets) in (first..).zip(sets).filter(|(_, sets)| **sets != 0) {
                seen[user].push(*sets);
            }
        };
        for row in &rows {
            if batch.add(row) {
                batch.turn(&mut put);
            }
        }
        batch.turn(&mut put);
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
