//! Sets of users, each kept once: equal sets have equal ids, and algebra on ids is remembered.
//!
//! A set is a row of 64-bit words. Rows are never changed, and lie in chunks of many, so that none moves while more come.

use super::count;
use fixedbitset::FixedBitSet;
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use std::hash::BuildHasher;
use std::sync::Arc;

/// A set of users.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct SetId(pub u32);

impl SetId {
    /// Nobody.
    pub const NONE: SetId = SetId(0);
    /// Everybody.
    pub const ALL: SetId = SetId(1);
}

/// So many rows are in a chunk.
const CHUNK: usize = 128;

/// All sets of one evaluation.
pub struct SetStore {
    /// Words of a row.
    width: usize,
    /// Sets that several stores share; their numbers come first.
    shared: Option<Arc<SetStore>>,
    /// How many those are.
    first: u32,
    chunks: Vec<Vec<u64>>,
    counts: Vec<u32>,
    hasher: DefaultHashBuilder,
    /// What each row hashes to: to read a long row again whenever the table grows takes longer than to keep that.
    hashes: Vec<u64>,
    table: HashTable<u32>,
    memo: HashMap<OperationKey, SetId>,
    scratch: Vec<u64>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Operation {
    Union,
    Intersect,
    Subtract,
}

/// An operation on two sets, in one number.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
struct OperationKey(u64);

impl OperationKey {
    /// Sets are fewer than 2^31: each has words of its own.
    fn new(operation: Operation, a: SetId, b: SetId) -> OperationKey {
        OperationKey((operation as u64) << 62 | u64::from(a.0) << 31 | u64::from(b.0))
    }
}

impl SetStore {
    /// A store for sets of so many users.
    pub fn new(users: usize) -> SetStore {
        let width = users.div_ceil(64).max(1);
        let mut store = SetStore {
            width,
            shared: None,
            first: 0,
            chunks: Vec::new(),
            counts: Vec::new(),
            hasher: DefaultHashBuilder::default(),
            hashes: Vec::new(),
            table: HashTable::new(),
            memo: HashMap::new(),
            scratch: vec![0; width],
        };
        store.keep();
        if users == 0 {
            // Everybody is nobody then, and still has an id of its own.
            store.add(0);
            return store;
        }
        for user in 0..users {
            store.scratch[user / 64] |= 1 << (user % 64);
        }
        store.keep();
        store
    }

    /// A store of more sets, that shares those of another, whose numbers hold here, too.
    pub fn on(shared: &Arc<SetStore>) -> SetStore {
        debug_assert!(shared.shared.is_none(), "one store on another, and no more");
        SetStore {
            width: shared.width,
            first: shared.counts.len() as u32,
            shared: Some(Arc::clone(shared)),
            chunks: Vec::new(),
            counts: Vec::new(),
            hasher: shared.hasher.clone(),
            hashes: Vec::new(),
            table: HashTable::new(),
            memo: HashMap::new(),
            scratch: vec![0; shared.width],
        }
    }

    /// How many different sets there are: at least nobody and everybody.
    pub fn size(&self) -> usize {
        self.first as usize + self.counts.len()
    }

    /// How many words a set has.
    pub fn width(&self) -> usize {
        self.width
    }

    /// The number of users in a set.
    pub fn count(&self, set: SetId) -> u32 {
        match &self.shared {
            Some(shared) if set.0 < self.first => shared.counts[set.0 as usize],
            _ => self.counts[(set.0 - self.first) as usize],
        }
    }

    /// Whether a user is in a set.
    #[inline]
    pub fn contains(&self, set: SetId, user: usize) -> bool {
        self.row(set)[user / 64] >> (user % 64) & 1 == 1
    }

    /// The words of a set.
    #[inline]
    pub fn row(&self, set: SetId) -> &[u64] {
        match &self.shared {
            Some(shared) if set.0 < self.first => shared.row(set),
            _ => {
                let (chunk, at) = place(set.0 - self.first);
                &self.chunks[chunk][at * self.width..][..self.width]
            }
        }
    }

    /// The users of a set, in order.
    pub fn users(&self, set: SetId) -> impl Iterator<Item = usize> + Clone + '_ {
        self.row(set).iter().enumerate().flat_map(|(i, word)| Bits(*word).map(move |bit| i * 64 + bit))
    }

    /// The set of these users.
    pub fn of(&mut self, users: impl IntoIterator<Item = usize>) -> SetId {
        self.scratch.fill(0);
        for user in users {
            self.scratch[user / 64] |= 1 << (user % 64);
        }
        self.keep()
    }

    /// The set of these words, as another store of the same users keeps it.
    pub fn of_words(&mut self, words: &[u64]) -> SetId {
        self.scratch.copy_from_slice(words);
        self.keep()
    }

    /// The set of these users.
    pub fn of_users(&mut self, users: &FixedBitSet) -> SetId {
        const { assert!(usize::BITS == 64, "words have 64 bits") };
        self.scratch.fill(0);
        self.scratch.iter_mut().zip(users.as_slice()).for_each(|(to, word)| *to = *word as u64);
        self.keep()
    }

    /// How many users are in both, without keeping the set of them.
    pub fn count_both(&self, a: SetId, b: SetId) -> u32 {
        if a == SetId::ALL || a == b {
            return self.count(b);
        }
        if b == SetId::ALL {
            return self.count(a);
        }
        count::both_words(self.row(a), self.row(b))
    }

    /// In either.
    pub fn union(&mut self, a: SetId, b: SetId) -> SetId {
        match (a, b) {
            _ if a == b => a,
            (SetId::NONE, other) | (other, SetId::NONE) => other,
            (SetId::ALL, _) | (_, SetId::ALL) => SetId::ALL,
            _ => self.combine(Operation::Union, a.min(b), a.max(b)),
        }
    }

    /// In both.
    pub fn intersect(&mut self, a: SetId, b: SetId) -> SetId {
        match (a, b) {
            _ if a == b => a,
            (SetId::NONE, _) | (_, SetId::NONE) => SetId::NONE,
            (SetId::ALL, other) | (other, SetId::ALL) => other,
            _ => self.combine(Operation::Intersect, a.min(b), a.max(b)),
        }
    }

    /// In the first and not in the second.
    pub fn subtract(&mut self, a: SetId, b: SetId) -> SetId {
        match (a, b) {
            _ if a == b => SetId::NONE,
            (SetId::NONE, _) | (_, SetId::ALL) => SetId::NONE,
            (_, SetId::NONE) => a,
            _ => self.combine(Operation::Subtract, a, b),
        }
    }

    /// Everybody else.
    pub fn complement(&mut self, a: SetId) -> SetId {
        self.subtract(SetId::ALL, a)
    }

    fn combine(&mut self, operation: Operation, a: SetId, b: SetId) -> SetId {
        let key = OperationKey::new(operation, a, b);
        if let Some(known) = self.memo.get(&key) {
            return *known;
        }
        if let Some(known) = self.shared.as_ref().and_then(|shared| shared.memo.get(&key)) {
            return *known;
        }
        let mut scratch = std::mem::take(&mut self.scratch);
        let pairs = scratch.iter_mut().zip(self.row(a).iter().zip(self.row(b)));
        match operation {
            Operation::Union => pairs.for_each(|(to, (x, y))| *to = x | y),
            Operation::Intersect => pairs.for_each(|(to, (x, y))| *to = x & y),
            Operation::Subtract => pairs.for_each(|(to, (x, y))| *to = x & !y),
        }
        self.scratch = scratch;
        let found = self.keep();
        self.memo.insert(key, found);
        found
    }

    /// The id of the set in `scratch`, which is kept where it is new.
    fn keep(&mut self) -> SetId {
        let hash = self.hasher.hash_one(&self.scratch[..]);
        let is = |id: &u32| self.row(SetId(*id)) == &self.scratch[..];
        let shared = self.shared.as_ref().and_then(|shared| shared.table.find(hash, is));
        if let Some(known) = shared.or_else(|| self.table.find(hash, is)) {
            return SetId(*known);
        }
        let (id, first) = (self.size() as u32, self.first);
        self.table.insert_unique(hash, id, |id| self.hashes[(*id - first) as usize]);
        self.add(hash);
        SetId(id)
    }

    /// Adds the set in `scratch`, whatever there is.
    fn add(&mut self, hash: u64) {
        let (chunk, _) = place(self.counts.len() as u32);
        if self.chunks.len() == chunk {
            self.chunks.push(Vec::with_capacity(CHUNK * self.width));
        }
        self.chunks[chunk].extend_from_slice(&self.scratch);
        self.hashes.push(hash);
        self.counts.push(count::words(&self.scratch));
    }
}

/// The chunk of a row, and its position there.
fn place(row: u32) -> (usize, usize) {
    (row as usize / CHUNK, row as usize % CHUNK)
}

/// The positions of the bits of a word.
#[derive(Clone)]
pub(crate) struct Bits(pub u64);

impl Iterator for Bits {
    type Item = usize;

    fn next(&mut self) -> Option<usize> {
        if self.0 == 0 {
            return None;
        }
        let bit = self.0.trailing_zeros() as usize;
        self.0 &= self.0 - 1;
        Some(bit)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn equal_sets_have_equal_ids() {
        let mut store = SetStore::new(130);
        let a = store.of([1, 64, 129]);
        let b = store.of([64, 2]);
        assert_eq!((store.count(SetId::NONE), store.count(SetId::ALL), store.count(a)), (0, 130, 3));
        let both = store.union(a, b);
        assert_eq!(store.users(both).collect::<Vec<_>>(), [1, 2, 64, 129]);
        assert_eq!(store.intersect(a, b), store.of([64]));
        assert_eq!(store.subtract(both, b), store.of([1, 129]));
        let others = store.complement(a);
        assert_eq!(store.count(others), 127);
        assert_eq!(store.union(others, a), SetId::ALL);
        assert_eq!(store.intersect(others, a), SetId::NONE);
        assert!(store.contains(a, 129) && !store.contains(a, 128));
        let sets = store.size();
        assert_eq!(store.of(0..130), SetId::ALL);
        assert_eq!((store.of([]), store.size()), (SetId::NONE, sets));
    }

    #[test]
    fn nobody_at_all() {
        let mut store = SetStore::new(0);
        assert_eq!((store.count(SetId::ALL), store.of([])), (0, SetId::NONE));
    }
}
