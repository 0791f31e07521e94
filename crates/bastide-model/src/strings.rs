//! Many texts in one piece of memory, with a way back from a text to its number.

use hashbrown::{DefaultHashBuilder, HashTable};
use rayon::prelude::*;
use std::hash::{BuildHasher, Hasher};

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

    /// Makes room for so many texts more, of so many bytes in all.
    pub fn reserve(&mut self, texts: usize, bytes: usize) {
        self.ends.reserve(texts);
        self.bytes.reserve(bytes);
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

/// How a text begins, as two numbers: filled up with zeros, so that they compare as the texts do wherever they differ.
pub fn beginning(text: &str) -> [u64; 2] {
    let bytes = text.as_bytes();
    let eight = |at: usize| bytes.get(at..at + 8).and_then(|b| b.try_into().ok()).map_or(0, u64::from_be_bytes);
    let four = |at: usize| bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(0, u32::from_be_bytes);
    match bytes.len() {
        16.. => [eight(0), eight(8)],
        // The last eight bytes, of which some are the first ones again.
        9..16 => [eight(0), eight(bytes.len() - 8) << (8 * (16 - bytes.len()))],
        8 => [eight(0), 0],
        // The same with the first four and the last four.
        length @ 4..8 => {
            let last = u64::from(four(length - 4)) << (8 * (8 - length));
            [u64::from(four(0)) << 32 | last & u64::from(u32::MAX), 0]
        }
        _ => [(0..8).fold(0, |number, at| number << 8 | u64::from(bytes.get(at).copied().unwrap_or(0))), 0],
    }
}

/// Texts of which each stands once, numbered in the order in which they came.
#[derive(Default, Clone)]
pub struct Pool {
    texts: Strings,
    hasher: DefaultHashBuilder,
    table: HashTable<Pooled>,
}

/// A short text is told by how it begins and by its length.
fn hash(hasher: &DefaultHashBuilder, beginning: [u64; 2], text: &str) -> u64 {
    if text.len() > 16 {
        return hasher.hash_one(text);
    }
    let mut hash = hasher.build_hasher();
    hash.write_u64(beginning[0]);
    hash.write_u64(beginning[1] ^ text.len() as u64);
    hash.finish()
}

/// A text of a [`Pool`]: most are so short that nothing else has to be looked up to tell them apart.
#[derive(Clone, Copy)]
struct Pooled {
    beginning: [u64; 2],
    length: u32,
    number: u32,
}

impl Pooled {
    fn is(&self, beginning: [u64; 2], text: &str, texts: &Strings) -> bool {
        self.beginning == beginning
            && self.length as usize == text.len()
            && (text.len() <= 16 || texts.get(self.number as usize) == text)
    }
}

impl Pool {
    /// The number of a text, and whether it is new.
    pub fn number(&mut self, text: &str) -> (u32, bool) {
        let beginning = beginning(text);
        self.number_hashed(hash(&self.hasher, beginning, text), beginning, text)
    }

    fn number_hashed(&mut self, hashed: u64, beginning: [u64; 2], text: &str) -> (u32, bool) {
        let Pool { texts, hasher, table } = self;
        if let Some(known) = table.find(hashed, |pooled| pooled.is(beginning, text, texts)) {
            return (known.number, false);
        }
        let number = texts.len() as u32;
        texts.push(text);
        let pooled = Pooled { beginning, length: text.len() as u32, number };
        table.insert_unique(hashed, pooled, |p| hash(hasher, p.beginning, texts.get(p.number as usize)));
        (number, true)
    }

    /// The numbers of many texts. First all are hashed, then all are looked up: so that to wait for memory, which is most of
    /// the work, is done for several at a time.
    pub fn numbers(&mut self, texts: &[&str]) -> Vec<u32> {
        let hash = |text: &&str| {
            let beginning = beginning(text);
            (hash(&self.hasher, beginning, text), beginning)
        };
        let hashed: Vec<(u64, [u64; 2])> = texts.iter().map(hash).collect();
        texts.iter().zip(hashed).map(|(text, (hash, beginning))| self.number_hashed(hash, beginning, text).0).collect()
    }

    /// The number of a text that is there.
    pub fn find(&self, text: &str) -> Option<u32> {
        let beginning = beginning(text);
        let hash = hash(&self.hasher, beginning, text);
        self.table.find(hash, |pooled| pooled.is(beginning, text, &self.texts)).map(|pooled| pooled.number)
    }

    /// The texts.
    pub fn texts(&self) -> &Strings {
        &self.texts
    }
}

/// Finds the number of a text in a [`Strings`] whose texts all differ.
///
/// It is cut into tables by some bits of the hash: each is small enough for the cache while it is filled, and several
/// are filled at the same time.
#[derive(Default, Clone)]
pub struct Index {
    hasher: DefaultHashBuilder,
    tables: Vec<HashTable<u32>>,
}

/// About so many texts stand in one table.
const TABLE: usize = 1 << 13;
/// So many texts are dealt to their tables at a time.
const DEALT: usize = 1 << 16;

/// Hashes of some texts, each with its number, those of one table together.
struct Dealt {
    /// Where the hashes of each table begin.
    firsts: Vec<u32>,
    hashes: Vec<(u64, u32)>,
}

impl Dealt {
    fn of_table(&self, table: usize) -> &[(u64, u32)] {
        &self.hashes[self.firsts[table] as usize..self.firsts[table + 1] as usize]
    }
}

impl Index {
    /// Indexes every text. Gives back, for each text that stands twice, the later number and the first.
    pub fn of(strings: &Strings) -> (Index, Vec<(u32, u32)>) {
        let index = Index::default();
        let count = strings.len();
        let hashes: Vec<u64> = if count < TABLE {
            strings.iter().map(|text| index.hash(text)).collect()
        } else {
            (0..count).into_par_iter().with_min_len(TABLE).map(|i| index.hash(strings.get(i))).collect()
        };
        index.fill(hashes, &|number| strings.get(number as usize))
    }

    /// What it knows a text by.
    pub fn hash(&self, text: &str) -> u64 {
        hash(&self.hasher, beginning(text), text)
    }

    /// Indexes texts that lie elsewhere, by their hashes. Gives back the same as [`Index::of`].
    pub fn fill<'t>(mut self, hashes: Vec<u64>, text: &(dyn Fn(u32) -> &'t str + Sync)) -> (Index, Vec<(u32, u32)>) {
        let tables = (hashes.len() / TABLE).next_power_of_two();
        // Some at a time, those of one table come together.
        let deal = |(share, hashes): (usize, &[u64])| {
            let mut firsts = vec![0u32; tables + 1];
            hashes.iter().for_each(|hash| firsts[shard(*hash, tables) + 1] += 1);
            (1..firsts.len()).for_each(|i| firsts[i] += firsts[i - 1]);
            let mut next = firsts.clone();
            let mut dealt: Vec<(u64, u32)> = vec![(0, 0); hashes.len()];
            for (i, hash) in hashes.iter().enumerate() {
                let at = &mut next[shard(*hash, tables)];
                dealt[*at as usize] = (*hash, (share * DEALT + i) as u32);
                *at += 1;
            }
            Dealt { firsts, hashes: dealt }
        };
        let dealt: Vec<Dealt> = hashes.par_chunks(DEALT).enumerate().map(deal).collect();
        let fill = |table: usize| {
            let mut all: Vec<&[(u64, u32)]> = Vec::with_capacity(dealt.len());
            all.extend(dealt.iter().map(|dealt| dealt.of_table(table)));
            let dealt = all.concat();
            let (mut filled, mut twice) = (HashTable::with_capacity(dealt.len()), Vec::new());
            for (hash, i) in &dealt {
                let same = |j: &u32| hashes[*j as usize] == *hash && text(*j) == text(*i);
                match filled.find(*hash, same) {
                    Some(first) => twice.push((*i, *first)),
                    None => {
                        filled.insert_unique(*hash, *i, |j| hashes[*j as usize]);
                    }
                }
            }
            (filled, twice)
        };
        let (tables, twice): (Vec<_>, Vec<Vec<(u32, u32)>>) = (0..tables).into_par_iter().map(fill).unzip();
        let mut twice: Vec<(u32, u32)> = twice.into_iter().flatten().collect();
        twice.sort_unstable();
        self.tables = tables;
        (self, twice)
    }

    /// The number of a text; `strings` must be the one that was indexed.
    pub fn find(&self, strings: &Strings, text: &str) -> Option<u32> {
        self.find_among(text, |number| strings.get(number as usize))
    }

    /// The number of a text among those that were indexed, which lie elsewhere.
    pub fn find_among<'t>(&self, text: &str, texts: impl Fn(u32) -> &'t str) -> Option<u32> {
        let hash = self.hash(text);
        let table = self.tables.get(shard(hash, self.tables.len()))?;
        table.find(hash, |&number| texts(number) == text).copied()
    }
}

/// The table of a hash, by bits in its middle: a table itself goes by the lowest and the highest.
fn shard(hash: u64, tables: usize) -> usize {
    (hash >> 32) as usize & tables.saturating_sub(1)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn beginnings_compare_as_texts_do() {
        let mut texts: Vec<String> =
            (0..40).map(|n| "abcdefghijklmnopqrstuvwxyz0123456789zzzz"[..n].to_string()).collect();
        texts
            .extend(["\u{1}", "b", "ä", "abcdefgi", "abcdefghi\u{7f}", "abcdefghijklmnop\u{10ffff}"].map(String::from));
        for a in &texts {
            for b in &texts {
                let (first, second) = (beginning(a), beginning(b));
                assert!(first == second || first.cmp(&second) == a.cmp(b), "{a:?} {b:?}");
                assert!(first != second || a == b || a.len().max(b.len()) > 16, "{a:?} {b:?}");
            }
        }
        let mut pool = Pool::default();
        let numbers: Vec<u32> = texts.iter().chain(&texts).map(|text| pool.number(text).0).collect();
        assert_eq!(numbers[..texts.len()], numbers[texts.len()..]);
        assert!(texts.iter().zip(&numbers).all(|(text, number)| pool.find(text) == Some(*number)));
    }

    #[test]
    fn texts_are_found_again_and_doubles_are_told() {
        let strings: Strings = ["a", "", "bc", "a"].into_iter().collect();
        let (index, twice) = Index::of(&strings);
        assert_eq!(twice, [(3, 0)]);
        assert_eq!(index.find(&strings, "bc"), Some(2));
        assert_eq!(index.find(&strings, ""), Some(1));
        assert_eq!(index.find(&strings, "b"), None);
        let many: Vec<String> = (0..50_000).map(|i| format!("r{}", i % 49_998)).collect();
        let many: Strings = many.iter().map(String::as_str).collect();
        let (index, twice) = Index::of(&many);
        assert_eq!(twice, [(49_998, 0), (49_999, 1)]);
        assert!((0..49_998).all(|i| index.find(&many, &format!("r{i}")) == Some(i)));
        assert_eq!(Index::default().find(&Strings::default(), "r"), None);
        let mut pool = Pool::default();
        let numbers: Vec<(u32, bool)> = strings.iter().map(|text| pool.number(text)).collect();
        assert_eq!(numbers, [(0, true), (1, true), (2, true), (0, false)]);
        assert_eq!((pool.find("bc"), pool.find("b"), pool.texts().len()), (Some(2), None, 3));
        let turned = strings.reordered(&[2, 0]);
        assert_eq!(turned.iter().collect::<Vec<_>>(), ["bc", "a"]);
    }
}
