//! Which statements reach each resource by place, and from which depth, for all resources at once.
//!
//! Going down the tree, a resource hands on what reaches beneath it. Only a resource at which a
//! statement is anchored, or one that does not inherit, changes the list; everything else shares
//! its parent's. Cost: resources plus, for each that changes the list, its length.

use crate::decide::place::{anchor, cut_depth};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{DefaultHashBuilder, HashMap, HashSet, HashTable};
use rayon::prelude::*;
use std::hash::{BuildHasher, Hasher};
use std::sync::Arc;

/// A statement and the depth of its anchor.
pub type Reached = (StatementId, u16);

/// So many resources follow their parents at a time.
const SOME: usize = 1 << 14;

/// For every resource the statements with places that reach it.
pub struct Places {
    /// Per resource, the number of its list.
    pub class: Arc<Vec<u32>>,
    /// The lists, in policy order.
    pub lists: Vec<Box<[Reached]>>,
}

impl Places {
    /// Works out the lists of the statements in force.
    pub fn new(estate: &Estate, live: &[StatementId]) -> Places {
        let catalog = &estate.catalog;
        // Statements by where they are anchored, and of one place in policy order.
        let anchored_at = |id: &StatementId| {
            let places = estate.statement(*id).what.places.iter().flatten();
            places.map(|place| (place.resource, *id, place.reach)).collect::<Vec<_>>()
        };
        let mut anchors: Vec<(ResourceId, StatementId, Reach)> = live.iter().flat_map(anchored_at).collect();
        anchors.sort_by_key(|(resource, ..)| *resource);
        let anchored: FixedBitSet = anchors.iter().map(|(resource, ..)| resource.index()).collect();
        let mut left = anchors.as_slice();
        let mut lists = Lists::default();
        let empty = lists.keep(&[]);
        let mut class = vec![empty; catalog.len()];
        let is_plain = |resource: ResourceId| {
            let changes = anchored.contains(resource.index()) || catalog.barriers.contains(resource.index());
            catalog.is_leaf(resource) && !changes
        };
        // Most resources hold nothing and change nothing: they follow when the others are done.
        let all = (0..catalog.len()).into_par_iter().with_min_len(1 << 14).map(ResourceId::new);
        let others: Vec<ResourceId> = all.filter(|resource| !is_plain(*resource)).collect();
        // What reaches beneath each of them; and of those around the one at hand, where they end.
        let mut beneath: Vec<u32> = Vec::with_capacity(others.len());
        let mut around: Vec<(u32, u32)> = Vec::new();
        for &resource in &others {
            while around.last().is_some_and(|(end, _)| *end <= resource.0) {
                around.pop();
            }
            let from = around.last().map_or(empty, |(_, beneath)| *beneath);
            let barrier = catalog.barriers.contains(resource.index());
            let (own, rest) = left.split_at(left.iter().take_while(|(at, ..)| *at == resource).count());
            left = rest;
            if own.is_empty() && !barrier {
                class[resource.index()] = from;
                beneath.push(from);
                around.push((catalog.ends[resource.index()], from));
                continue;
            }
            let passes = |(id, depth): &Reached| *depth >= cut_depth(catalog, estate.statement(*id), resource);
            let passed: Vec<Reached> = lists.lists[from as usize].iter().copied().filter(passes).collect();
            let depth = catalog.depth(resource);
            let with = |reaches: [Reach; 2]| {
                let new = own.iter().filter(|(.., reach)| reaches.contains(reach));
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
            class[resource.index()] = lists.keep(&with([Reach::Under, Reach::At]));
            let list = if catalog.is_leaf(resource) { empty } else { lists.keep(&with([Reach::Under, Reach::Below])) };
            beneath.push(list);
            around.push((catalog.ends[resource.index()], list));
        }
        class.par_chunks_mut(SOME).enumerate().for_each(|(chunk, classes)| {
            // Siblings follow each other.
            let mut last = (None, empty);
            for (row, class) in classes.iter_mut().enumerate() {
                let resource = ResourceId::new(chunk * SOME + row);
                let Some(parent) = catalog.parent(resource).filter(|_| is_plain(resource)) else { continue };
                if last.0 != Some(parent) {
                    let at = others.binary_search(&parent).expect("what holds others is none of the plain ones");
                    last = (Some(parent), beneath[at]);
                }
                *class = last.1;
            }
        });
        Places { class: Arc::new(class), lists: lists.lists }
    }

    /// The lists for an estate with the same tree and barriers, after some statements have gone and
    /// others come. `was` and `is` hold the statements in force in each; statements that stayed are the same
    /// in memory. None where it would take as long as working them out anew. Lists that become equal
    /// stay apart, which does no harm. Cost: the lists, and what the new statements reach.
    pub fn beside(&self, before: &Estate, after: &Estate, was: &[StatementId], is: &[StatementId]) -> Option<Places> {
        let address = |estate: &Estate, id: &StatementId| std::ptr::from_ref(estate.statement(*id));
        if is.iter().all(|id| was.binary_search(id).is_ok() && address(before, id) == address(after, id)) {
            // Some have gone, and the others have the numbers they had.
            let gone: Vec<StatementId> = was.iter().copied().filter(|id| is.binary_search(id).is_err()).collect();
            let kept = |list: &[Reached]| list.iter().copied().filter(|(id, _)| !gone.contains(id)).collect();
            return Some(Places {
                class: Arc::clone(&self.class),
                lists: self.lists.iter().map(|list| kept(list)).collect(),
            });
        }
        let placed = |estate: &Estate, id: &StatementId| estate.statement(*id).what.places.is_some();
        let known: HashMap<*const Statement, StatementId> =
            is.iter().filter(|id| placed(after, id)).map(|id| (address(after, id), *id)).collect();
        let stays: HashMap<StatementId, StatementId> = was
            .iter()
            .filter(|id| placed(before, id))
            .filter_map(|id| known.get(&address(before, id)).map(|new| (*id, *new)))
            .collect();
        let renumbered = |list: &[Reached]| -> Box<[Reached]> {
            let mut list: Vec<Reached> =
                list.iter().filter_map(|(id, depth)| stays.get(id).map(|new| (*new, *depth))).collect();
            list.sort_unstable_by_key(|(id, _)| *id);
            list.into()
        };
        let mut places =
            Places { class: Arc::clone(&self.class), lists: self.lists.iter().map(|list| renumbered(list)).collect() };
        let old: HashSet<StatementId> = stays.into_values().collect();
        let new: Vec<StatementId> = is.iter().copied().filter(|id| placed(after, id) && !old.contains(id)).collect();
        if !new.is_empty() {
            places.add(after, &new)?;
        }
        Some(places)
    }

    /// Puts statements with places into the lists. None where they reach a large part of the catalog.
    fn add(&mut self, estate: &Estate, new: &[StatementId]) -> Option<()> {
        let catalog = &estate.catalog;
        let anchors = || new.iter().flat_map(|id| estate.statement(*id).what.places.iter().flatten());
        let reached: usize = anchors().map(|place| catalog.subtree(place.resource).len()).sum();
        // Small ones are quick either way, and then this way is always tried.
        if reached > (catalog.len() / 8).max(256) {
            return None;
        }
        let mut touched: Vec<ResourceId> =
            anchors().flat_map(|place| catalog.subtree(place.resource)).map(ResourceId).collect();
        touched.sort_unstable();
        touched.dedup();
        let mut class = self.class.to_vec();
        let mut known: HashMap<(u32, Vec<Reached>), u32> = HashMap::new();
        for resource in touched {
            let added: Vec<Reached> = new
                .iter()
                .filter_map(|id| anchor(estate, estate.statement(*id), resource).map(|depth| (*id, depth)))
                .collect();
            if added.is_empty() {
                continue;
            }
            let from = class[resource.index()];
            let lists = &mut self.lists;
            class[resource.index()] = *known.entry((from, added)).or_insert_with_key(|(from, added)| {
                let mut list = lists[*from as usize].to_vec();
                list.extend(added);
                list.sort_unstable_by_key(|(id, _)| *id);
                lists.push(list.into());
                lists.len() as u32 - 1
            });
        }
        self.class = Arc::new(class);
        Some(())
    }
}

/// A list may be long, and is looked up for each resource at which something is anchored.
pub fn hash(hasher: &DefaultHashBuilder, list: &[Reached]) -> u64 {
    let mut hash = hasher.build_hasher();
    list.iter().for_each(|(id, depth)| hash.write_u64(u64::from(id.0) << 16 | u64::from(*depth)));
    hash.finish()
}

/// Lists, each kept once.
#[derive(Default)]
pub struct Lists {
    /// The lists, by number.
    pub lists: Vec<Box<[Reached]>>,
    hasher: DefaultHashBuilder,
    /// Numbers of lists, found by what is in them.
    known: HashTable<u32>,
}

impl Lists {
    /// The number of a list.
    pub fn keep(&mut self, list: &[Reached]) -> u32 {
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
