//! Many resources told by few names.

use bastide_model::*;
use schemars::JsonSchema;
use serde::Serialize;

/// Resources that are told together.
#[derive(Clone, Serialize, JsonSchema, PartialEq, Eq, Debug)]
pub struct Fold {
    /// The path of the one resource, or of the one they all lie in.
    pub path: String,
    /// How many they are.
    pub resources: usize,
    /// `one`: this resource; `whole`: it and everything beneath it; `within`: some of what it
    /// holds, itself perhaps included.
    pub how: How,
}

/// How a name stands for resources.
#[derive(Clone, Copy, Serialize, JsonSchema, PartialEq, Eq, Debug)]
#[serde(rename_all = "lowercase")]
pub enum How {
    /// This resource.
    One,
    /// It and everything beneath it.
    Whole,
    /// Some of what it holds.
    Within,
}

/// Resources that are told together, before it is known how many names there may be: one, one with all beneath it, or
/// several siblings that hold nothing.
struct Part {
    /// Where they stand among all.
    at: usize,
    count: usize,
    how: How,
}

/// At most `most` names (or one a root) for resources in pre-order: whole subtrees first; where those
/// are too many, the deepest resources that hold them. Cost: the resources once, and for each that is no sibling of the
/// one before it the way up to what holds both.
pub fn fold(catalog: &Catalog, resources: &[ResourceId], most: usize) -> Vec<Fold> {
    let mut parts: Vec<Part> = Vec::new();
    // By depth, how many neighbours have their deepest common holder there, and of each two parts that depth.
    let mut at_depth: Vec<usize> = vec![0];
    let mut depths: Vec<u16> = Vec::new();
    let held_at = |resource: ResourceId| catalog.parent(resource).map_or(0, |holder| catalog.depth(holder));
    let mut at = 0;
    while at < resources.len() {
        let resource = resources[at];
        let size = catalog.subtree(resource).len();
        let last = at + size - 1;
        let whole = size > 1 && resources.get(last).is_some_and(|r| r.0 + 1 == catalog.ends[resource.index()]);
        let count = if whole {
            size
        } else {
            let is_sibling = |next: &&ResourceId| {
                size == 1 && catalog.is_leaf(**next) && catalog.parent(**next) == catalog.parent(resource)
            };
            1 + resources[at + 1..].iter().take_while(is_sibling).count()
        };
        let mut neighbours = |depth: u16, count: usize| {
            at_depth.resize(at_depth.len().max(usize::from(depth) + 1), 0);
            at_depth[usize::from(depth)] += count;
        };
        if let Some(before) = parts.last() {
            let depth = common(catalog, resources[before.at], resource).map_or(0, |holder| catalog.depth(holder));
            neighbours(depth, 1);
            depths.push(depth);
        }
        if !whole {
            neighbours(held_at(resource), count - 1);
        }
        parts.push(Part { at, count, how: if whole { How::Whole } else { How::One } });
        at += count;
    }
    // Neighbours whose common holder lies deepest go together first. That makes no holder of others another one.
    let names = |part: &Part| if part.how == How::Whole { 1 } else { part.count };
    let (mut left, mut from) = (parts.iter().map(names).sum::<usize>(), at_depth.len());
    while left > most && from > 1 {
        from -= 1;
        left -= at_depth[from];
    }
    let mut joined: Vec<(ResourceId, usize, How)> = Vec::with_capacity(left);
    let mut holder = u16::MAX;
    let join = |last: &mut (ResourceId, usize, How), holder: &mut u16, depth: u16, count: usize| {
        *holder = depth.min(*holder);
        let above = catalog.upward(last.0).find(|above| catalog.depth(*above) <= *holder);
        *last = (above.unwrap_or(last.0), last.1 + count, How::Within);
    };
    for (number, Part { at, count, how }) in parts.into_iter().enumerate() {
        let first = if how == How::Whole { count } else { 1 };
        match number.checked_sub(1).map(|before| depths[before]).filter(|depth| usize::from(*depth) >= from) {
            Some(depth) => join(joined.last_mut().expect("there is one before it"), &mut holder, depth, first),
            None => {
                joined.push((resources[at], first, how));
                holder = u16::MAX;
            }
        }
        let (siblings, depth) = (count - first, held_at(resources[at]));
        if siblings > 0 && usize::from(depth) >= from {
            join(joined.last_mut().expect("the first of them"), &mut holder, depth, siblings);
        } else if siblings > 0 {
            joined.extend(resources[at + 1..at + count].iter().map(|sibling| (*sibling, 1, How::One)));
            holder = u16::MAX;
        }
    }
    joined.into_iter().map(|(resource, resources, how)| Fold { path: catalog.path(resource), resources, how }).collect()
}

/// The deepest resource that holds both, or is one of them.
fn common(catalog: &Catalog, a: ResourceId, b: ResourceId) -> Option<ResourceId> {
    catalog.upward(a).find(|above| catalog.contains(*above, b))
}
