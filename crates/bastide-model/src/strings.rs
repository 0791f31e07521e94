//! Many texts in one piece of memory, with a way back from a text to its number.

use hashbrown::{DefaultHashBuilder, HashTable};
use std::hash::BuildHasher;

/// A list of texts, numbered from 0.
#[derive(Default, Clone, Debug)]
pub struct Strings {
    bytes: String,
    ends: Vec<u32>,
}

impl Strings {
    /// Adds a text.
    ///
    /// # Panics
    /// When the texts together pass 4 GiB; readers refuse such files before.
    pub fn push(&mut self, text: &str) {
        self.bytes.push_str(text);
        self.ends.push(u32::try_from(self.bytes.len()).expect("texts of one column stay under 4 GiB"));
    }

    /// Adds all texts of another list.
    ///
    /// # Panics
    /// As [`Strings::push`].
    pub fn append(&mut self, other: &Strings) {
        let from = self.bytes.len() as u32;
        self.bytes.push_str(&other.bytes);
        u32::try_from(self.bytes.len()).expect("texts of one column stay under 4 GiB");
        self.ends.extend(other.ends.iter().map(|end| from + end));
    }

    /// How many.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// The text of a number.
    pub fn get(&self, index: usize) -> &str {
        let start = if index == 0 { 0 } else { self.ends[index - 1] as usize };
        &self.bytes[start..self.ends[index] as usize]
    }

    /// All of them, in order.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &str> {
        (0..self.len()).map(|i| self.get(i))
    }

    /// The same texts in another order: the new `i` is the old `order[i]`.
    pub fn reordered(&self, order: &[u32]) -> Strings {
        let mut out = Strings { bytes: String::with_capacity(self.bytes.len()), ends: Vec::with_capacity(order.len()) };
        for &old in order {
            out.push(self.get(old as usize));
        }
        out
    }
}

impl<'a> FromIterator<&'a str> for Strings {
    fn from_iter<I: IntoIterator<Item = &'a str>>(texts: I) -> Self {
        let mut out = Strings::default();
        texts.into_iter().for_each(|text| out.push(text));
        out
    }
}

/// Finds the number of a text in a [`Strings`] whose texts all differ.
#[derive(Default, Clone)]
pub struct Index {
    hasher: DefaultHashBuilder,
    table: HashTable<u32>,
}

impl Index {
    /// Indexes every text. Gives back, for each text that stands twice, the later number and the first.
    pub fn of(strings: &Strings) -> (Index, Vec<(u32, u32)>) {
        let mut index = Index { hasher: DefaultHashBuilder::default(), table: HashTable::with_capacity(strings.len()) };
        let mut twice = Vec::new();
        for (i, text) in strings.iter().enumerate() {
            let hash = index.hasher.hash_one(text);
            let hasher = &index.hasher;
            match index.table.find(hash, |&j| strings.get(j as usize) == text) {
                Some(&first) => twice.push((i as u32, first)),
                None => {
                    index.table.insert_unique(hash, i as u32, |&j| hasher.hash_one(strings.get(j as usize)));
                }
            }
        }
        (index, twice)
    }

    /// The same texts under new numbers: what was `i` is now `position[i]`.
    pub fn renumbered(mut self, position: &[u32]) -> Index {
        self.table.iter_mut().for_each(|number| *number = position[*number as usize]);
        self
    }

    /// The number of a text; `strings` must be the one that was indexed.
    pub fn find(&self, strings: &Strings, text: &str) -> Option<u32> {
        self.table.find(self.hasher.hash_one(text), |&j| strings.get(j as usize) == text).copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_found_again_and_doubles_are_told() {
        let strings: Strings = ["a", "", "bc", "a"].into_iter().collect();
        let (index, twice) = Index::of(&strings);
        assert_eq!(twice, [(3, 0)]);
        assert_eq!(index.find(&strings, "bc"), Some(2));
        assert_eq!(index.find(&strings, ""), Some(1));
        assert_eq!(index.find(&strings, "b"), None);
        let mut both: Strings = ["x"].into_iter().collect();
        both.append(&strings);
        assert_eq!(both.iter().collect::<Vec<_>>(), ["x", "a", "", "bc", "a"]);
        let turned = strings.reordered(&[2, 0]);
        assert_eq!(turned.iter().collect::<Vec<_>>(), ["bc", "a"]);
    }
}
