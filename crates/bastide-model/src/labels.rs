//! Ids and names of resources. They stay where they were read, in the order of the files: to move a million texts takes
//! longer than to look up those that are asked for.

use crate::rows::CatalogRows;
use crate::strings::{Index, Strings};
use fixedbitset::FixedBitSet;
use rayon::prelude::*;
use std::sync::Arc;

/// Two to this power of rows that follow each other are looked for together.
const FEW: u32 = 10;

/// Ids and names, numbered in the order of the tree.
#[derive(Default)]
pub struct Labels {
    /// Of each row the id, then the name, in the parts in which they were read.
    parts: Vec<Arc<Strings>>,
    /// One past the last row of each part.
    ends: Vec<u32>,
    /// Of some rows that follow each other, the part of the first.
    near: Vec<u32>,
    /// By number the row.
    order: Vec<u32>,
}

impl Labels {
    /// Those of rows, in an order.
    pub fn of(rows: &CatalogRows, order: Vec<u32>) -> Labels {
        let ends: Vec<u32> = rows.parts().iter().map(|part| part.rows().end as u32).collect();
        let mut near = Vec::with_capacity((rows.len() >> FEW) + 1);
        for (part, end) in ends.iter().enumerate() {
            near.resize(near.len().max(end.div_ceil(1 << FEW) as usize), part as u32);
        }
        Labels { parts: rows.parts().iter().map(|part| Arc::clone(&part.texts)).collect(), ends, near, order }
    }

    /// How many.
    pub fn len(&self) -> usize {
        self.order.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.order.is_empty()
    }

    /// By number the row in the files.
    pub fn order(&self) -> &[u32] {
        &self.order
    }

    /// The id of a number.
    pub fn id(&self, number: usize) -> &str {
        self.text(self.order[number], 0)
    }

    /// The name of a number.
    pub fn name(&self, number: usize) -> &str {
        self.text(self.order[number], 1)
    }

    /// All ids, by number.
    pub fn ids(&self) -> impl ExactSizeIterator<Item = &str> {
        self.order.iter().map(|row| self.text(*row, 0))
    }

    /// The ids of all rows from one on, in the order of the files: there they lie one behind the other in memory.
    pub fn ids_as_read(&self, from: usize) -> impl Iterator<Item = &str> {
        let begins = std::iter::once(0).chain(self.ends.iter().copied());
        self.parts.iter().zip(begins).flat_map(move |(part, begin)| {
            (from.saturating_sub(begin as usize)..part.len() / 2).map(|row| part.get(2 * row))
        })
    }

    /// The numbers of the ids of which something is so. Every id is looked at once, where it was read: to go through them by
    /// number is to wait for memory at each.
    pub fn numbers_of(&self, is: impl Fn(&str) -> bool + Sync) -> Vec<u32> {
        let begins = std::iter::once(0).chain(self.ends.iter().copied());
        let parts: Vec<(&Arc<Strings>, u32)> = self.parts.iter().zip(begins).collect();
        let found = parts.into_par_iter().flat_map_iter(|(part, begin)| {
            let is = &is;
            (0..part.len() as u32 / 2).filter(|row| is(part.get(2 * *row as usize))).map(move |row| begin + row)
        });
        let found: Vec<u32> = found.collect();
        if found.is_empty() {
            return found;
        }
        let mut rows = FixedBitSet::with_capacity(self.order.len());
        found.into_iter().for_each(|row| rows.insert(row as usize));
        let numbered = self.order.par_iter().enumerate();
        numbered.filter(|(_, row)| rows.contains(**row as usize)).map(|(number, _)| number as u32).collect()
    }

    fn text(&self, row: u32, which: usize) -> &str {
        let mut part = self.near[(row >> FEW) as usize] as usize;
        while self.ends[part] <= row {
            part += 1;
        }
        let first = if part == 0 { 0 } else { self.ends[part - 1] };
        self.parts[part].get(2 * (row - first) as usize + which)
    }

    /// Finds a number by the id. Gives back, for each id that stands twice, the later number and the first.
    pub fn index(&self) -> (Index, Vec<(u32, u32)>) {
        let hasher = Index::default();
        let of_part = |part: &Arc<Strings>| -> Vec<u64> {
            (0..part.len() / 2).map(|row| hasher.hash(part.get(2 * row))).collect()
        };
        let by_row: Vec<u64> = self.parts.par_iter().map(of_part).flatten_iter().collect();
        let hashes = self.order.par_iter().with_min_len(1 << FEW).map(|row| by_row[*row as usize]).collect();
        hasher.fill(hashes, &|number| self.id(number as usize))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Rows in several parts, of which one is empty, looked up in another order.
    #[test]
    fn texts_are_found_in_their_parts() {
        for parts in [vec![1500, 0, 1, 3000, 7], vec![0], vec![1023, 1, 1024, 1025]] {
            let count: usize = parts.iter().sum();
            let mut rows = CatalogRows::new(0);
            for size in parts {
                let part = rows.begin();
                let first = part.rows().start;
                let texts = Arc::make_mut(&mut part.texts);
                for row in first..first + size {
                    texts.push(&format!("r{row}"));
                    texts.push(&format!("Room {row}"));
                }
                part.spans.resize(size, (0, 0));
            }
            let mut order: Vec<u32> = (0..count as u32).collect();
            fastrand::Rng::with_seed(7).shuffle(&mut order);
            let labels = Labels::of(&rows, order.clone());
            let (index, twice) = labels.index();
            assert_eq!((labels.len(), labels.is_empty(), twice), (count, count == 0, Vec::new()));
            for (number, row) in order.iter().enumerate() {
                assert_eq!((labels.id(number), labels.name(number)), (&*format!("r{row}"), &*format!("Room {row}")));
                assert_eq!(index.find_among(&format!("r{row}"), |n| labels.id(n as usize)), Some(number as u32));
            }
            assert_eq!(index.find_among("Room 1", |n| labels.id(n as usize)), None);
            let is = |id: &str| id.ends_with('3');
            let with: Vec<u32> = (0..count as u32).filter(|number| is(labels.id(*number as usize))).collect();
            assert_eq!(labels.numbers_of(is), with);
            for from in [0, 1, 1024, 1500, count] {
                let ids: Vec<String> = (from..count).map(|row| format!("r{row}")).collect();
                assert_eq!(labels.ids_as_read(from).collect::<Vec<_>>(), ids);
            }
            assert_eq!(labels.ids().collect::<Vec<_>>(), order.iter().map(|row| format!("r{row}")).collect::<Vec<_>>());
        }
    }

    /// An id that stands twice is told by numbers, not by rows.
    #[test]
    fn doubles_are_told_by_number() {
        let mut rows = CatalogRows::new(0);
        for id in ["a", "b", "a", "c", "b"] {
            let part = rows.begin();
            let texts = Arc::make_mut(&mut part.texts);
            texts.push(id);
            texts.push("Room");
            part.spans.push((0, 0));
        }
        let labels = Labels::of(&rows, vec![4, 3, 2, 1, 0]);
        assert_eq!(labels.index().1, [(3, 0), (4, 2)]);
    }
}
