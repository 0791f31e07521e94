//! The resources of a catalog in shares, one for each core.

use std::ops::Range;
use std::sync::Mutex;

/// A catalog of so many resources in shares, one for each core, none smaller than `smallest`. What a share needs from
/// elsewhere, its engine finds.
pub fn shares(resources: usize, smallest: usize) -> Vec<Range<u32>> {
    let count = rayon::current_num_threads().min(resources / smallest).max(1);
    let cut = |i: usize| (resources * i / count) as u32;
    (0..count).map(|i| cut(i)..cut(i + 1)).collect()
}

/// What is still to be done of each share: whoever is ready takes from the end of another's. So nobody waits for whoever has the
/// share that takes longest, but whoever gathers does not meet resources in the order of the tree.
pub struct Shares {
    left: Vec<Mutex<Range<u32>>>,
    step: u32,
}

impl Shares {
    /// `step`: so many resources are taken at a time.
    pub fn new(shares: Vec<Range<u32>>, step: u32) -> Shares {
        Shares { left: shares.into_iter().map(Mutex::new).collect(), step }
    }

    /// How many there are, each for an evaluator of its own.
    #[expect(clippy::len_without_is_empty, reason = "there is always one")]
    pub fn len(&self) -> usize {
        self.left.len()
    }

    /// The next resources for an evaluator with a share of its own.
    pub fn next(&self, share: usize) -> Option<Range<u32>> {
        let take = |of: usize, back: bool| {
            let mut left = self.left[of].lock().expect("nothing panics while it takes");
            let count = self.step.min(left.len() as u32);
            let (from, to) = (left.start, left.end);
            let taken = if back { to - count..to } else { from..from + count };
            *left = if back { from..to - count } else { from + count..to };
            Some(taken).filter(|taken| !taken.is_empty())
        };
        let others = (0..self.left.len()).filter(|other| *other != share);
        take(share, false).or_else(|| others.into_iter().find_map(|other| take(other, true)))
    }

    /// All that an evaluator with a share of its own comes to.
    pub fn all(&self, share: usize) -> impl Iterator<Item = u32> + '_ {
        std::iter::from_fn(move || self.next(share)).flatten()
    }
}
