//! What is decided before and after a change on many resources, looked up for both at once.
//!
//! Siblings that the same statements reach differ in few values; what is decided on them, before and after, follows from
//! these. Once a combination of values was met, neither engine is asked any more, and looking up is done on all cores.

use crate::sets::{Cells, Descent, Digit, SetEngine, Way, number};
use bastide_model::*;
use hashbrown::HashMap;
use hashbrown::hash_map::Entry;
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
    /// Whether resources have the same values on both sides.
    alike: bool,
    pairs: Vec<Pair<'b, 'a>>,
    pair_of: HashMap<[Way; 2], u32>,
}

/// A way of each side: resources with equal values have equal numbers.
struct Pair<'b, 'a> {
    /// The values before, and of those after the ones that are not the same.
    digits: (Box<[Digit<'b>]>, Box<[Digit<'a>]>),
    known: HashMap<u64, u32>,
    asked: usize,
    new: usize,
}

impl Pair<'_, '_> {
    /// After so many resources it must have helped with half of them.
    const TRIAL: usize = 1 << 10;

    fn is_worth_it(&self) -> bool {
        self.asked < Self::TRIAL || self.new <= self.asked / 2
    }

    fn key(&self, cells: &(Cells, Cells), resource: u32) -> u64 {
        let resource = ResourceId(resource);
        let before = self.digits.0.iter().map(|digit| (digit.of(&cells.0, resource), digit.radix));
        let after = self.digits.1.iter().map(|digit| (digit.of(&cells.1, resource), digit.radix));
        number(before.chain(after))
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
        Twins {
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
        numbers.par_chunks_mut(SOME).enumerate().for_each(|(chunk, numbers)| {
            let from = chunk * SOME;
            let mut at = runs.partition_point(|run| run.range.end <= from);
            for (position, number) in (from..).zip(numbers) {
                at += usize::from(runs[at].range.end <= position);
                if let Some(pair) = runs[at].pair {
                    let pair = &pairs[pair as usize];
                    let known = pair.known.get(&pair.key(cells, resources[position]));
                    *number = known.copied().unwrap_or(UNKNOWN);
                }
            }
        });
        let mut fresh: Vec<u32> = Vec::new();
        for run in runs {
            let Some(pair) = run.pair else { continue };
            let pair = &mut pairs[pair as usize];
            pair.asked += run.range.len();
            let some = numbers[run.range.clone()].iter_mut().zip(&resources[run.range]);
            for (number, &resource) in some.filter(|(number, _)| **number == UNKNOWN) {
                *number = match pair.known.entry(pair.key(cells, resource)) {
                    Entry::Occupied(known) => *known.get(),
                    Entry::Vacant(place) => {
                        pair.new += 1;
                        fresh.push(resource);
                        *place.insert(next + fresh.len() as u32 - 1)
                    }
                };
            }
        }
        (numbers, fresh)
    }

    /// Cuts resources into runs of siblings of a kind that the same statements reach.
    fn runs(&mut self, before: &mut SetEngine<'b>, after: &mut SetEngine<'a>, resources: &[u32]) -> Vec<Run> {
        let starts = |(chunk, some): (usize, &[u32])| {
            let mut last = None;
            let mut is_first = |resource: &u32| {
                let common = self.common(ResourceId(*resource));
                last.replace(common) != Some(common)
            };
            let starts = some.iter().enumerate().filter(|(_, resource)| is_first(resource));
            starts.map(|(at, _)| chunk * SOME + at).collect::<Vec<usize>>()
        };
        let starts: Vec<usize> = resources.par_chunks(SOME).enumerate().flat_map_iter(starts).collect();
        let ends = starts.iter().skip(1).copied().chain([resources.len()]);
        let ranges: Vec<Range<usize>> = starts.iter().zip(ends).map(|(start, end)| *start..end).collect();
        let ways = |engine: &mut SetEngine| {
            let way = |range: &Range<usize>| engine.way(ResourceId(resources[range.start]), range.len() == 1);
            ranges.iter().map(way).collect::<Vec<Option<Way>>>()
        };
        let (was, is) = rayon::join(|| ways(before), || ways(after));
        let pairs = was.into_iter().zip(is).map(|(was, is)| self.pair(before, after, [was?, is?]));
        let pairs: Vec<Option<u32>> = pairs.collect();
        ranges.into_iter().zip(pairs).map(|(range, pair)| Run { range, pair }).collect()
    }

    /// What a resource has in common with its siblings.
    fn common(&self, resource: ResourceId) -> (Option<ResourceId>, KindId, u32, u32) {
        let parent = self.cells.0.parent(resource);
        let [was, is] = &self.descents;
        let before = was.class(resource, parent);
        let after = if Arc::ptr_eq(was, is) { before } else { is.class(resource, parent) };
        (parent, self.cells.0.kind(resource), before, after)
    }

    fn pair(&mut self, before: &SetEngine<'b>, after: &SetEngine<'a>, ways: [Way; 2]) -> Option<u32> {
        if let Some(known) = self.pair_of.get(&ways) {
            return Some(*known).filter(|pair| self.pairs[*pair as usize].is_worth_it());
        }
        let (was, is) = (before.digits(ways[0])?, after.digits(ways[1])?);
        let more = is.iter().filter(|digit| !(self.alike && was.iter().any(|other| other.is_same(digit))));
        let digits = (was.into(), more.copied().collect());
        let number = self.pairs.len() as u32;
        self.pairs.push(Pair { digits, known: HashMap::new(), asked: 0, new: 0 });
        self.pair_of.insert(ways, number);
        Some(number)
    }
}
