//! Which statements reach each resource by place, and from which depth, for all resources at once.
//!
//! Going down the tree, a resource hands on what reaches beneath it. Only a resource at which a
//! statement is anchored, or one that does not inherit, changes the list; everything else shares
//! its parent's. Cost: resources plus, for each that changes the list, its length.

use crate::decide::place::cut_depth;
use bastide_model::*;
use hashbrown::HashMap;
use std::sync::Arc;

/// A statement and the depth of its anchor.
pub type Reached = (StatementId, u16);

/// For every resource the statements with places that reach it.
pub struct Places {
    /// Per resource, the number of its list.
    pub class: Arc<[u32]>,
    /// The lists, in policy order.
    pub lists: Vec<Box<[Reached]>>,
}

impl Places {
    /// Works out the lists of the statements in force.
    pub fn new(estate: &Estate, live: &[StatementId]) -> Places {
        let catalog = &estate.catalog;
        let mut anchors: HashMap<ResourceId, Vec<(StatementId, Reach)>> = HashMap::new();
        for &id in live {
            for place in estate.statement(id).what.places.iter().flatten() {
                anchors.entry(place.resource).or_default().push((id, place.reach));
            }
        }
        let mut lists = Lists::default();
        let empty = lists.keep(Vec::new());
        let mut class = vec![empty; catalog.len()];
        // What reaches beneath each resource; needed for containers alone.
        let mut beneath = vec![empty; catalog.len()];
        for resource in catalog.all() {
            let from = catalog.parent(resource).map_or(empty, |parent| beneath[parent.index()]);
            let barrier = catalog.barriers.contains(resource.index());
            let own = anchors.get(&resource);
            if own.is_none() && !barrier {
                class[resource.index()] = from;
                beneath[resource.index()] = from;
                continue;
            }
            let passes = |(id, depth): &Reached| *depth >= cut_depth(catalog, estate.statement(*id), resource);
            let passed: Vec<Reached> = lists.lists[from as usize].iter().copied().filter(passes).collect();
            let depth = catalog.depth(resource);
            let with = |reaches: [Reach; 2]| {
                let new = own.into_iter().flatten().filter(|(_, reach)| reaches.contains(reach));
                let mut list = passed.clone();
                for (id, _) in new {
                    // Every place further up is less deep, so this one is the anchor.
                    match list.iter_mut().find(|(known, _)| known == id) {
                        Some(known) => known.1 = depth,
                        None => list.push((*id, depth)),
                    }
                }
                list.sort_unstable_by_key(|(id, _)| *id);
                list
            };
            class[resource.index()] = lists.keep(with([Reach::Under, Reach::At]));
            beneath[resource.index()] =
                if catalog.is_leaf(resource) { empty } else { lists.keep(with([Reach::Under, Reach::Below])) };
        }
        Places { class: class.into(), lists: lists.lists }
    }

    /// The lists without one statement. Lists that become equal stay apart, which does no harm.
    pub fn without(&self, id: StatementId) -> Places {
        let without = |list: &[Reached]| list.iter().copied().filter(|(other, _)| *other != id).collect();
        Places { class: Arc::clone(&self.class), lists: self.lists.iter().map(|list| without(list)).collect() }
    }
}

/// Lists, each kept once.
#[derive(Default)]
struct Lists {
    lists: Vec<Box<[Reached]>>,
    known: HashMap<Box<[Reached]>, u32>,
}

impl Lists {
    fn keep(&mut self, list: Vec<Reached>) -> u32 {
        let list = list.into_boxed_slice();
        if let Some(known) = self.known.get(&list) {
            return *known;
        }
        let id = self.lists.len() as u32;
        self.lists.push(list.clone());
        self.known.insert(list, id);
        id
    }
}
