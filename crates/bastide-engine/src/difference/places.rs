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

/// At most `most` names (or one a root) for resources in pre-order: whole subtrees first; where those
/// are too many, the deepest resources that hold them. Cost: the resources once, and for each the way up to what holds it
/// and the next one.
pub fn fold(catalog: &Catalog, resources: &[ResourceId], most: usize) -> Vec<Fold> {
    let mut folds: Vec<(ResourceId, usize, How)> = Vec::new();
    // By depth, how many neighbours have their deepest common holder there, and of each neighbour that depth.
    let mut at_depth: Vec<usize> = vec![0];
    let mut depths: Vec<u16> = Vec::new();
    let mut at = 0;
    while at < resources.len() {
        let resource = resources[at];
        let size = catalog.subtree(resource).len();
        let last = at + size - 1;
        let whole = size > 1 && resources.get(last).is_some_and(|r| r.0 + 1 == catalog.ends[resource.index()]);
        let (taken, how) = if whole { (size, How::Whole) } else { (1, How::One) };
        if let Some(last) = folds.last() {
            let depth = common(catalog, last.0, resource).map_or(0, |holder| catalog.depth(holder));
            at_depth.resize(at_depth.len().max(usize::from(depth) + 1), 0);
            at_depth[usize::from(depth)] += 1;
            depths.push(depth);
        }
        folds.push((resource, taken, how));
        at += taken;
    }
    // Neighbours whose common holder lies deepest go together first. That makes no holder of others another one.
    let (mut left, mut from) = (folds.len(), at_depth.len());
    while left > most && from > 1 {
        from -= 1;
        left -= at_depth[from];
    }
    let mut joined: Vec<(ResourceId, usize, How)> = Vec::with_capacity(left);
    let mut holder = u16::MAX;
    for (at, fold) in folds.into_iter().enumerate() {
        match at.checked_sub(1).map(|before| depths[before]).filter(|depth| usize::from(*depth) >= from) {
            Some(depth) => {
                let last = joined.last_mut().expect("there is one before it");
                holder = holder.min(depth);
                let above = catalog.upward(last.0).find(|above| catalog.depth(*above) <= holder);
                *last = (above.unwrap_or(last.0), last.1 + fold.1, How::Within);
            }
            None => {
                joined.push(fold);
                holder = u16::MAX;
            }
        }
    }
    joined.into_iter().map(|(resource, resources, how)| Fold { path: catalog.path(resource), resources, how }).collect()
}

/// The deepest resource that holds both, or is one of them.
fn common(catalog: &Catalog, a: ResourceId, b: ResourceId) -> Option<ResourceId> {
    catalog.upward(a).find(|above| catalog.contains(*above, b))
}
