//! A map from rows of equally many numbers, which lie in one piece of memory: a row to itself for each would take
//! longer to make, and to let go, than to look up.

use hashbrown::{DefaultHashBuilder, HashTable};
use std::hash::{BuildHasher, Hasher};

/// What a row is made of.
pub(crate) trait Number: Copy + Eq {
    /// As a plain number.
    fn number(self) -> u32;
}

impl Number for u32 {
    fn number(self) -> u32 {
        self
    }
}

/// Two numbers at a time: rows are short, and are looked up more often than anything else.
fn hash<K: Number>(hasher: &DefaultHashBuilder, row: &[K]) -> u64 {
    let mut hash = hasher.build_hasher();
    let (pairs, last) = row.as_chunks::<2>();
    pairs.iter().for_each(|[a, b]| hash.write_u64(u64::from(a.number()) << 32 | u64::from(b.number())));
    last.iter().for_each(|last| hash.write_u32(last.number()));
    hash.finish()
}

/// The map for rows of a length, among maps by that length.
pub(crate) fn of_length<K: Number, V: Copy>(maps: &mut Vec<Keyed<K, V>>, length: usize) -> &mut Keyed<K, V> {
    if maps.len() <= length {
        maps.resize_with(length + 1, Keyed::default);
    }
    &mut maps[length]
}

/// Values by rows of numbers, all of one width.
pub(crate) struct Keyed<K, V> {
    hasher: DefaultHashBuilder,
    width: usize,
    keys: Vec<K>,
    /// The number of a row, and its value.
    table: HashTable<(u32, V)>,
}

impl<K, V> Default for Keyed<K, V> {
    fn default() -> Self {
        Keyed { hasher: DefaultHashBuilder::default(), width: 0, keys: Vec::new(), table: HashTable::new() }
    }
}

impl<K: Number, V: Copy> Keyed<K, V> {
    /// The value of a row.
    pub fn get(&self, key: &[K]) -> Option<V> {
        let found = self.table.find(hash(&self.hasher, key), |(number, _)| self.key(*number as usize) == key);
        found.map(|(_, value)| *value)
    }

    /// Adds a row that is not there. All rows are as wide as the first.
    pub fn insert(&mut self, key: &[K], value: V) {
        debug_assert!(self.table.is_empty() || key.len() == self.width, "rows of one width");
        let hash_of = |row: &[K]| hash(&self.hasher, row);
        let new = hash_of(key);
        self.width = key.len();
        let number = self.table.len() as u32;
        self.keys.extend_from_slice(key);
        let (keys, width) = (&self.keys, self.width);
        let row = |number: u32| &keys[number as usize * width..][..width];
        self.table.insert_unique(new, (number, value), |(number, _)| hash_of(row(*number)));
    }

    /// The row that came so many before it.
    pub fn key(&self, number: usize) -> &[K] {
        &self.keys[number * self.width..][..self.width]
    }

    /// How many rows there are.
    #[cfg(test)]
    fn len(&self) -> usize {
        self.table.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Against an ordinary map, through many growths of the table.
    #[test]
    fn each_row_has_its_value() {
        let mut random = fastrand::Rng::with_seed(3);
        for width in [0, 1, 3, 9] {
            let mut keyed: Keyed<u32, usize> = Keyed::default();
            let mut plain: std::collections::HashMap<Vec<u32>, usize> = Default::default();
            for at in 0..2000 {
                let key: Vec<u32> = (0..width).map(|_| random.u32(..5)).collect();
                assert_eq!(keyed.get(&key), plain.get(&key).copied());
                if !plain.contains_key(&key) {
                    keyed.insert(&key, at);
                    plain.insert(key.clone(), at);
                    assert_eq!(keyed.key(keyed.len() - 1), key);
                }
            }
            assert_eq!(keyed.len(), plain.len());
        }
    }
}
