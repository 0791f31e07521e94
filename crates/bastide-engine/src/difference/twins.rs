//! What is decided before and after a change on many resources, looked up for both at once.
//!
//! Siblings that the same statements reach differ in few values; what is decided on them, before and after, follows from
//! these. Once a combination of values was met, neither engine is asked any more, and looking up is done on all cores.

use crate::sets::{Cells, Descent, Digit, SetEngine, Trial, Way};
use bastide_model::*;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::ops::Range;
use std::sync::Arc;

/// So many resources are looked up at a time.
const SOME: usize = 1 << 12;

/// Stands for the number of a resource to which no way leads.
pub(super) const UNKNOWN: u32 = u32::MAX;

/// Two engines, and the ways that lead to what both decide.
pub(super) struct Twins<'b, 'a> {
    cells: (Cells<'b>, Cells<'a>),
    descents: [Arc<Descent>; 2],
    /// By kind a number for what it has in common with others on both sides.
    kin: Vec<u32>,
    /// Whether resources have the same values on both sides.
    alike: bool,
    pairs: Vec<Pair<'b, 'a>>,
    pair_of: HashMap<[Way; 2], u32>,
}

/// A way of each side: resources with equal values have equal numbers.
struct Pair<'b, 'a> {
    /// The values before, and of those after the ones that are not the same.
    digits: (Box<[Digit<'b>]>, Box<[Digit<'a>]>),
    known: Known,
    trial: Trial,
}

impl<'b, 'a> Pair<'b, 'a> {
    fn new(digits: (Box<[Digit<'b>]>, Box<[Digit<'a>]>)) -> Pair<'b, 'a> {
        let radices = digits.0.iter().map(|digit| digit.radix).chain(digits.1.iter().map(|digit| digit.radix));
        let known = Known::of(radices.map(u64::from));
        Pair { digits, known, trial: Trial::default() }
    }

    /// The values of each of some resources as one number.
    fn keys(&self, cells: &(Cells, Cells), resources: &[u32], keys: &mut Vec<u64>) {
        keys.clear();
        keys.resize(resources.len(), 0);
        self.digits.0.iter().for_each(|digit| digit.behind_each(keys, &cells.0, resources));
        self.digits.1.iter().for_each(|digit| digit.behind_each(keys, &cells.1, resources));
    }
}

/// Numbers by values.
enum Known {
    /// One more than the number, or 0: memory is touched only where there is one.
    Table(Vec<u32>),
    /// Where there can be too many values.
    Map(HashMap<u64, u32>),
}

impl Known {
    /// A table has at most so many places.
    const LARGEST: u64 = 1 << 14;

    fn of(mut radices: impl Iterator<Item = u64>) -> Known {
        match radices.try_fold(1u64, |all, radix| all.checked_mul(radix)) {
            Some(places) if places <= Self::LARGEST => Known::Table(vec![0; places as usize]),
            _ => Known::Map(HashMap::new()),
        }
    }

    fn get(&self, key: u64) -> Option<u32> {
        match self {
            Known::Table(table) => table[key as usize].checked_sub(1),
            Known::Map(map) => map.get(&key).copied(),
        }
    }

    fn set(&mut self, key: u64, number: u32) {
        match self {
            Known::Table(table) => table[key as usize] = number + 1,
            Known::Map(map) => drop(map.insert(key, number)),
        }
    }
}

/// Neighbours on one way.
struct Run {
    range: Range<usize>,
    pair: Option<u32>,
}

impl<'b, 'a> Twins<'b, 'a> {
    /// For estates that number resources alike.
    pub fn of(before: &SetEngine<'b>, after: &SetEngine<'a>) -> Twins<'b, 'a> {
        let (old, new) = (before.estate(), after.estate());
        let kin: Vec<(u32, u32)> = before.kin().iter().copied().zip(after.kin().iter().copied()).collect();
        let first = |own: &(u32, u32)| kin.iter().position(|other| other == own).unwrap_or_default() as u32;
        Twins {
            kin: kin.iter().map(first).collect(),
            cells: (Cells::of(old), Cells::of(new)),
            descents: [before.descent(), after.descent()],
            alike: Arc::ptr_eq(&old.catalog, &new.catalog),
            pairs: Vec::new(),
            pair_of: HashMap::new(),
        }
    }

    /// For each resource a number, and resources whose numbers were not given before, these in order from `next` on.
    pub fn look_up(
        &mut self,
        before: &mut SetEngine<'b>,
        after: &mut SetEngine<'a>,
        resources: &[u32],
        next: u32,
    ) -> (Vec<u32>, Vec<u32>) {
        let runs = self.runs(before, after, resources);
        let mut numbers = vec![UNKNOWN; resources.len()];
        let Twins { cells, pairs, .. } = self;
        numbers.par_chunks_mut(SOME).enumerate().for_each_init(Vec::new, |keys, (chunk, numbers)| {
            let (from, to) = (chunk * SOME, chunk * SOME + numbers.len());
            let first = runs.partition_point(|run| run.range.end <= from);
            for Run { range, pair } in runs[first..].iter().take_while(|run| run.range.start < to) {
                let Some(pair) = pair.map(|pair| &pairs[pair as usize]) else { continue };
                let range = range.start.max(from)..range.end.min(to);
                pair.keys(cells, &resources[range.clone()], keys);
                let numbers = &mut numbers[range.start - from..range.end - from];
                for (number, key) in numbers.iter_mut().zip(&*keys) {
                    *number = pair.known.get(*key).unwrap_or(UNKNOWN);
                }
            }
        });
        let (mut fresh, mut keys): (Vec<u32>, Vec<u64>) = (Vec::new(), Vec::new());
        for Run { range, pair } in runs {
            let Some(pair) = pair.map(|pair| &mut pairs[pair as usize]) else { continue };
            let numbers = &mut numbers[range.clone()];
            let (asked, first) = (range.len(), fresh.len());
            if !numbers.contains(&UNKNOWN) {
                pair.trial.note(asked, asked);
                continue;
            }
            pair.keys(cells, &resources[range.clone()], &mut keys);
            let some = numbers.iter_mut().zip(&keys).zip(&resources[range]);
            for ((number, key), resource) in some.filter(|((number, _), _)| **number == UNKNOWN) {
                *number = pair.known.get(*key).unwrap_or_else(|| {
                    let new = next + fresh.len() as u32;
                    pair.known.set(*key, new);
                    fresh.push(*resource);
                    new
                });
            }
            pair.trial.note(asked, asked - (fresh.len() - first));
        }
        (numbers, fresh)
    }

    /// Cuts resources into runs of siblings of like kinds that the same statements reach.
    fn runs(&mut self, before: &mut SetEngine<'b>, after: &mut SetEngine<'a>, resources: &[u32]) -> Vec<Run> {
        let starts = |(chunk, some): (usize, &[u32])| {
            let mut starts: Vec<usize> = Vec::new();
            let (mut last, mut lists) = (u64::MAX, None);
            for (at, resource) in some.iter().enumerate() {
                let resource = ResourceId(*resource);
                let common = self.common(resource);
                let shares = !self.has_own_lists(resource);
                if common == last && shares && lists.is_none() {
                    continue;
                }
                let own = if shares { None } else { Some(self.own_lists(resource)) };
                if common != last || own != lists {
                    starts.push(chunk * SOME + at);
                    (last, lists) = (common, own);
                }
            }
            starts
        };
        let starts: Vec<usize> = resources.par_chunks(SOME).enumerate().flat_map_iter(starts).collect();
        let ends = starts.iter().skip(1).copied().chain([resources.len()]);
        let ranges: Vec<Range<usize>> = starts.iter().zip(ends).map(|(start, end)| *start..end).collect();
        let ways = |engine: &mut SetEngine| {
            // One alone is as quickly asked for as looked up.
            let way = |range: &Range<usize>| {
                let first = ResourceId(resources[range.start]);
                if range.len() > 1 { engine.way(first) } else { None }
            };
            ranges.iter().map(way).collect::<Vec<Option<Way>>>()
        };
        let (was, is) = rayon::join(|| ways(before), || ways(after));
        let pairs = was.into_iter().zip(is).map(|(was, is)| self.pair(before, after, [was?, is?]));
        let pairs: Vec<Option<u32>> = pairs.collect();
        ranges.into_iter().zip(pairs).map(|(range, pair)| Run { range, pair }).collect()
    }

    /// What a resource has in common with its siblings, as a number: the parent, and the one for its kind.
    #[inline]
    fn common(&self, resource: ResourceId) -> u64 {
        let cells = &self.cells.0;
        let parent = cells.parent(resource).map_or(u32::MAX, |parent| parent.0);
        u64::from(parent) << 32 | u64::from(self.kin[cells.kind(resource).index()])
    }

    /// Whether a resource may be reached by other statements than its siblings, before or after.
    #[inline]
    fn has_own_lists(&self, resource: ResourceId) -> bool {
        let [was, is] = &self.descents;
        was.has_own_class(resource) || !Arc::ptr_eq(was, is) && is.has_own_class(resource)
    }

    /// The lists of what reaches a resource before and after, where it does not share those of the parent.
    fn own_lists(&self, resource: ResourceId) -> [Option<u32>; 2] {
        [&self.descents[0], &self.descents[1]].map(|descent| descent.own_class(resource))
    }

    fn pair(&mut self, before: &SetEngine<'b>, after: &SetEngine<'a>, ways: [Way; 2]) -> Option<u32> {
        if let Some(known) = self.pair_of.get(&ways) {
            return Some(*known).filter(|pair| self.pairs[*pair as usize].trial.is_worth_it());
        }
        let (was, is) = (before.digits(ways[0])?, after.digits(ways[1])?);
        let more = is.iter().filter(|digit| !(self.alike && was.iter().any(|other| other.is_same(digit))));
        let digits = (was.into(), more.cloned().collect());
        let number = self.pairs.len() as u32;
        self.pairs.push(Pair::new(digits));
        self.pair_of.insert(ways, number);
        Some(number)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Against an ordinary map, as a table, and where there are too many values for one; and the number 0, too.
    #[test]
    fn each_combination_of_values_keeps_its_number() {
        let mut random = fastrand::Rng::with_seed(7);
        for (radices, is_table) in
            [(vec![], true), (vec![3, 4, 9], true), (vec![41, 1 << 10], false), (vec![1 << 32, 1 << 32], false)]
        {
            let mut known = Known::of(radices.iter().copied());
            assert_eq!(matches!(known, Known::Table(_)), is_table);
            let most = radices.iter().fold(1u64, |all, radix| all.saturating_mul(*radix));
            let mut plain: HashMap<u64, u32> = HashMap::new();
            for number in 0..200 {
                let key = random.u64(..most);
                assert_eq!(known.get(key), plain.get(&key).copied());
                known.set(key, number);
                plain.insert(key, number);
                assert_eq!(known.get(key), Some(number));
            }
        }
    }
}
