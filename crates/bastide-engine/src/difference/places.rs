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
/// are too many, the deepest resources that hold them.
pub fn fold(catalog: &Catalog, resources: &[ResourceId], most: usize) -> Vec<Fold> {
    let mut folds: Vec<(ResourceId, usize, How)> = Vec::new();
    let mut at = 0;
    while at < resources.len() {
        let resource = resources[at];
        let size = catalog.subtree(resource).len();
        let last = at + size - 1;
        let whole = size > 1 && resources.get(last).is_some_and(|r| r.0 + 1 == catalog.ends[resource.index()]);
        let (taken, how) = if whole { (size, How::Whole) } else { (1, How::One) };
        folds.push((resource, taken, how));
        at += taken;
    }
    while folds.len() > most {
        // The neighbours whose common holder lies deepest go together.
        let holders = folds.windows(2).map(|w| common(catalog, w[0].0, w[1].0));
        let deepest = holders.map(|h| h.map_or(0, |h| catalog.depth(h)));
        let Some(depth) = deepest.max().filter(|d| *d > 0) else { break };
        let mut joined: Vec<(ResourceId, usize, How)> = Vec::new();
        for fold in folds {
            let holder =
                joined.last().and_then(|l| common(catalog, l.0, fold.0)).filter(|h| catalog.depth(*h) == depth);
            match (joined.last_mut(), holder) {
                (Some(last), Some(holder)) => *last = (holder, last.1 + fold.1, How::Within),
                _ => joined.push(fold),
            }
        }
        folds = joined;
    }
    folds.into_iter().map(|(resource, resources, how)| Fold { path: catalog.path(resource), resources, how }).collect()
}

/// The deepest resource that holds both, or is one of them.
fn common(catalog: &Catalog, a: ResourceId, b: ResourceId) -> Option<ResourceId> {
    catalog.upward(a).find(|above| catalog.contains(*above, b))
}
