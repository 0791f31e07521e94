//! Which statements reach each resource by place, and from which depth, for all resources at once.
//!
//! Going down the tree, a resource hands on what reaches beneath it. Only a resource at which a
//! statement is anchored, or one that does not inherit, changes the list; everything else shares
//! its parent's. Nothing is kept for those that hold nothing and change nothing, which are nearly all of them: what
//! holds them is asked. Cost: the resources, to tell which those are; and for each that changes the list, its length.

use crate::decide::place::{anchor, cut_depth};
use crate::sets::Bits;
use bastide_model::*;
use hashbrown::{DefaultHashBuilder, HashMap, HashSet, HashTable};
use rayon::prelude::*;
use std::hash::{BuildHasher, Hasher};
use std::sync::Arc;

/// A statement and the depth of its anchor.
pub type Anchored = (StatementId, u16);

/// For every resource the statements with places that reach it.
pub struct Places {
    /// Which list is whose.
    pub descent: Arc<Descent>,
    /// The lists, in policy order.
    pub lists: Vec<Box<[Anchored]>>,
}

/// The list of every resource.
#[derive(Clone)]
pub struct Descent {
    /// Resources that hold others, at which a statement is anchored, or that do not inherit.
    own: Ranked,
    /// Of each of them, the number of its list.
    at: Vec<u32>,
    /// Of each of them, the number of the list of what it holds.
    beneath: Vec<u32>,
}

/// So many statements are put into lists that are there, at most: each is asked for at each place that one of them reaches. Of
/// more, the lists are worked out anew.
const MOST_ADDED: usize = 64;

/// The list without statements, which is always there.
const EMPTY: u32 = 0;

impl Places {
    /// Works out the lists of the statements in force.
    pub fn new(estate: &Estate, live: &[StatementId]) -> Places {
        let catalog = estate.catalog();
        // Statements by where they are anchored, and of one place in policy order.
        let anchored_at = |id: &StatementId| {
            let places = estate.statement(*id).what.places.iter().flatten();
            places.map(|place| (place.resource, *id, place.reach)).collect::<Vec<_>>()
        };
        let mut anchors: Vec<(ResourceId, StatementId, Reach)> = live.iter().flat_map(anchored_at).collect();
        anchors.sort_by_key(|(resource, ..)| *resource);
        let mut own = Ranked::of_holders(catalog);
        own.add(anchors.iter().map(|(resource, ..)| resource.index()).chain(catalog.barriers.ones()));
        let mut left = anchors.as_slice();
        let mut lists = Lists::default();
        let empty = lists.keep(&[]);
        debug_assert_eq!(empty, EMPTY);
        let (mut at, mut beneath) = (Vec::with_capacity(own.len()), Vec::with_capacity(own.len()));
        // Of those around the one at hand: where they end, and what reaches beneath them.
        let mut around: Vec<(u32, u32)> = Vec::new();
        for resource in own.iter() {
            while around.last().is_some_and(|(end, _)| *end <= resource.0) {
                around.pop();
            }
            let from = around.last().map_or(EMPTY, |(_, beneath)| *beneath);
            let barrier = catalog.barriers.contains(resource.index());
            let (new, rest) = left.split_at(left.iter().take_while(|(at, ..)| *at == resource).count());
            left = rest;
            let mut both = [from, from];
            if !new.is_empty() || barrier {
                let passes = |(id, depth): &Anchored| *depth >= cut_depth(catalog, estate.statement(*id), resource);
                let passed: Vec<Anchored> = lists.lists[from as usize].iter().copied().filter(passes).collect();
                let depth = catalog.depth(resource);
                let with = |reaches: [Reach; 2]| {
                    let new = new.iter().filter(|(.., reach)| reaches.contains(reach));
                    let mut list = passed.clone();
                    for (_, id, _) in new {
                        // Every place further up is less deep, so this one is the anchor.
                        match list.iter_mut().find(|(known, _)| known == id) {
                            Some(known) => known.1 = depth,
                            None => list.push((*id, depth)),
                        }
                    }
                    list.sort_by_key(|(id, _)| *id);
                    list
                };
                both = [lists.keep(&with([Reach::Under, Reach::At])), EMPTY];
                if !catalog.is_leaf(resource) {
                    both[1] = lists.keep(&with([Reach::Under, Reach::Below]));
                }
            }
            at.push(both[0]);
            beneath.push(both[1]);
            around.push((catalog.ends[resource.index()], both[1]));
        }
        Places { descent: Arc::new(Descent { own, at, beneath }), lists: lists.lists }
    }

    /// The lists for an estate with the same tree and barriers, after some statements have gone and
    /// others come. `was` and `is` hold the statements in force in each; statements that stayed are the same
    /// in memory. Lists that become equal stay apart, which does no harm. Cost: the lists, and what the new statements
    /// reach, without what holds nothing.
    pub fn beside(&self, before: &Estate, after: &Estate, was: &[StatementId], is: &[StatementId]) -> Places {
        let address = |estate: &Estate, id: &StatementId| std::ptr::from_ref(estate.statement(*id));
        if is.iter().all(|id| was.binary_search(id).is_ok() && address(before, id) == address(after, id)) {
            // Some have gone, and the others have the numbers they had.
            let gone: Vec<StatementId> = was.iter().copied().filter(|id| is.binary_search(id).is_err()).collect();
            let is_gone = |id: &StatementId| gone.binary_search(id).is_ok();
            let kept = |list: &[Anchored]| list.iter().copied().filter(|(id, _)| !is_gone(id)).collect();
            return self.with(self.lists.iter().map(|list| kept(list)).collect());
        }
        let placed = |estate: &Estate, id: &StatementId| estate.statement(*id).what.places.is_some();
        let known: HashMap<*const Statement, StatementId> =
            is.iter().filter(|id| placed(after, id)).map(|id| (address(after, id), *id)).collect();
        let stays: HashMap<StatementId, StatementId> = was
            .iter()
            .filter(|id| placed(before, id))
            .filter_map(|id| known.get(&address(before, id)).map(|new| (*id, *new)))
            .collect();
        let renumbered = |list: &[Anchored]| -> Box<[Anchored]> {
            let mut list: Vec<Anchored> =
                list.iter().filter_map(|(id, depth)| stays.get(id).map(|new| (*new, *depth))).collect();
            list.sort_unstable_by_key(|(id, _)| *id);
            list.into()
        };
        let old: HashSet<StatementId> = stays.values().copied().collect();
        let new: Vec<StatementId> = is.iter().copied().filter(|id| placed(after, id) && !old.contains(id)).collect();
        if new.len() > MOST_ADDED {
            return Places::new(after, is);
        }
        let mut places = self.with(self.lists.iter().map(|list| renumbered(list)).collect());
        if !new.is_empty() {
            places.add(after, &new);
        }
        places
    }

    fn with(&self, lists: Vec<Box<[Anchored]>>) -> Places {
        Places { descent: Arc::clone(&self.descent), lists }
    }

    /// Puts statements with places into the lists.
    fn add(&mut self, estate: &Estate, new: &[StatementId]) {
        let catalog = estate.catalog();
        let anchors: Vec<ResourceId> = new
            .iter()
            .flat_map(|id| estate.statement(*id).what.places.iter().flatten().map(|place| place.resource))
            .collect();
        let Places { descent, lists } = self;
        let descent = Arc::make_mut(descent);
        descent.keep_apart(catalog, &anchors);
        let mut touched: Vec<ResourceId> =
            anchors.iter().flat_map(|anchor| descent.own.within(catalog.subtree(*anchor))).collect();
        touched.sort_unstable();
        touched.dedup();
        let mut known: HashMap<(u32, Vec<Anchored>), u32> = HashMap::new();
        let Descent { own, at, beneath } = descent;
        for resource in touched {
            let place = own.place(resource).expect("it was found there");
            let mut put = |class: &mut u32, anchor: &dyn Fn(&Statement) -> Option<u16>| {
                let depth = |id: &StatementId| anchor(estate.statement(*id)).map(|depth| (*id, depth));
                let added: Vec<Anchored> = new.iter().filter_map(depth).collect();
                if added.is_empty() {
                    return;
                }
                *class = *known.entry((*class, added)).or_insert_with_key(|(from, added)| {
                    let mut list = lists[*from as usize].to_vec();
                    list.extend(added);
                    list.sort_unstable_by_key(|(id, _)| *id);
                    lists.push(list.into());
                    lists.len() as u32 - 1
                });
            };
            put(&mut at[place], &|statement| anchor(estate, statement, resource));
            if !catalog.is_leaf(resource) {
                put(&mut beneath[place], &|statement| anchor_beneath(catalog, statement, resource));
            }
        }
    }
}

impl Descent {
    /// The number of a resource's list.
    pub fn class(&self, resource: ResourceId, parent: Option<ResourceId>) -> u32 {
        match (self.own.place(resource), parent) {
            (Some(place), _) => self.at[place],
            (None, Some(parent)) => self.beneath[self.own.place(parent).expect("it holds others")],
            (None, None) => EMPTY,
        }
    }

    /// Gives resources lists of their own that shared the one of what holds them.
    fn keep_apart(&mut self, catalog: &Catalog, resources: &[ResourceId]) {
        let mut new: Vec<ResourceId> = resources.iter().copied().filter(|r| self.own.place(*r).is_none()).collect();
        if new.is_empty() {
            return;
        }
        new.sort_unstable();
        new.dedup();
        let mut own = self.own.clone();
        own.add(new.iter().map(|resource| resource.index()));
        let list = |resource: ResourceId| match self.own.place(resource) {
            Some(place) => (self.at[place], self.beneath[place]),
            None => (self.class(resource, catalog.parent(resource)), EMPTY),
        };
        let (at, beneath) = own.iter().map(list).unzip();
        *self = Descent { own, at, beneath };
    }
}

/// The depth of the deepest place from which a statement reaches what a resource holds and nothing is anchored at.
fn anchor_beneath(catalog: &Catalog, statement: &Statement, resource: ResourceId) -> Option<u16> {
    let reaching = |place: &&statement::Place| place.reach != Reach::At && catalog.contains(place.resource, resource);
    let depths = statement.what.places.iter().flatten().filter(reaching).map(|place| catalog.depth(place.resource));
    depths.filter(|depth| *depth >= cut_depth(catalog, statement, resource)).max()
}

/// Some of the resources, each with a place among them.
#[derive(Clone)]
struct Ranked {
    /// A bit a resource.
    words: Vec<u64>,
    /// How many there are before each word.
    before: Vec<u32>,
}

impl Ranked {
    /// Those that hold others.
    fn of_holders(catalog: &Catalog) -> Ranked {
        let word = |(at, ends): (usize, &[u32])| {
            let holds = |(bit, end): (usize, &u32)| u64::from(*end as usize != at * 64 + bit + 1) << bit;
            ends.iter().enumerate().map(holds).sum()
        };
        let words = catalog.ends.par_chunks(64).enumerate().with_min_len(1 << 8).map(word).collect();
        Ranked { words, before: Vec::new() }
    }

    /// Takes more in.
    fn add(&mut self, resources: impl Iterator<Item = usize>) {
        resources.for_each(|resource| self.words[resource / 64] |= 1 << (resource % 64));
        let before = self.words.iter().scan(0, |count, word| {
            *count += word.count_ones();
            Some(*count - word.count_ones())
        });
        self.before = before.collect();
    }

    fn len(&self) -> usize {
        self.words.iter().map(|word| word.count_ones() as usize).sum()
    }

    /// The place of a resource, where it is among them.
    #[inline]
    fn place(&self, resource: ResourceId) -> Option<usize> {
        let (at, bit) = (resource.index() / 64, resource.index() % 64);
        let word = self.words[at];
        (word >> bit & 1 == 1).then(|| self.before[at] as usize + (word & ((1 << bit) - 1)).count_ones() as usize)
    }

    /// They, in order.
    fn iter(&self) -> impl Iterator<Item = ResourceId> + '_ {
        self.within(0..self.words.len() as u32 * 64)
    }

    /// Those of a range, in order.
    fn within(&self, range: std::ops::Range<u32>) -> impl Iterator<Item = ResourceId> + '_ {
        let words = range.start / 64..range.end.div_ceil(64);
        let all = words.flat_map(|at| Bits(self.words[at as usize]).map(move |bit| at * 64 + bit as u32));
        all.skip_while(move |row| *row < range.start).take_while(move |row| *row < range.end).map(ResourceId)
    }
}

/// A list may be long, and is looked up for each resource at which something is anchored.
pub fn hash(hasher: &DefaultHashBuilder, list: &[Anchored]) -> u64 {
    let mut hash = hasher.build_hasher();
    list.iter().for_each(|(id, depth)| hash.write_u64(u64::from(id.0) << 16 | u64::from(*depth)));
    hash.finish()
}

/// Lists, each kept once.
#[derive(Default)]
pub struct Lists {
    /// The lists, by number.
    pub lists: Vec<Box<[Anchored]>>,
    hasher: DefaultHashBuilder,
    /// Numbers of lists, found by what is in them.
    known: HashTable<u32>,
}

impl Lists {
    /// The number of a list.
    pub fn keep(&mut self, list: &[Anchored]) -> u32 {
        let Lists { lists, hasher, known } = self;
        let hash = hash(hasher, list);
        if let Some(known) = known.find(hash, |id| *lists[*id as usize] == *list) {
            return *known;
        }
        let id = lists.len() as u32;
        known.insert_unique(hash, id, |id| self::hash(hasher, &lists[*id as usize]));
        lists.push(list.into());
        id
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Against a plain list, with more taken in several times, and at the ends of words.
    #[test]
    fn each_has_its_place() {
        let mut random = fastrand::Rng::with_seed(11);
        for _ in 0..50 {
            let rows = random.usize(1..400);
            let mut ranked = Ranked { words: vec![0; rows.div_ceil(64)], before: Vec::new() };
            let mut plain: Vec<u32> = Vec::new();
            for _ in 0..3 {
                let more: Vec<usize> = (0..random.usize(..rows)).map(|_| random.usize(..rows)).collect();
                plain.extend(more.iter().map(|row| *row as u32));
                plain.sort_unstable();
                plain.dedup();
                ranked.add(more.into_iter());
                assert_eq!(ranked.len(), plain.len());
                assert_eq!(ranked.iter().map(|resource| resource.0).collect::<Vec<u32>>(), plain);
                for row in 0..rows as u32 {
                    assert_eq!(ranked.place(ResourceId(row)), plain.binary_search(&row).ok());
                }
                let (from, to) = (random.u32(..=rows as u32), random.u32(..=rows as u32));
                let within: Vec<u32> = plain.iter().copied().filter(|row| (from..to).contains(row)).collect();
                assert_eq!(ranked.within(from..to).map(|resource| resource.0).collect::<Vec<u32>>(), within);
            }
        }
    }
}
