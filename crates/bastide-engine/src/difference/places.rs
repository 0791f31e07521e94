//! Many resources told by few names.

use bastide_model::*;
use rayon::prelude::*;
use std::ops::Range;

/// Resources that are told together.
#[derive(Clone, PartialEq, Eq, Debug)]
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
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
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
struct PlacePart {
    /// Where they stand among all.
    at: usize,
    count: usize,
    how: How,
}

/// Parts of resources in pre-order.
#[derive(Default)]
struct PlaceParts {
    parts: Vec<PlacePart>,
    /// By depth, how many neighbours have their deepest common holder there.
    at_depth: Vec<usize>,
    /// Of each two parts that depth.
    depths: Vec<u16>,
}

/// Fewer resources are not worth the way to another core.
const MANY: usize = 1 << 15;

impl PlaceParts {
    /// Of a range of the resources, which ends with a part.
    fn of(catalog: &Catalog, resources: &[ResourceId], range: Range<usize>) -> PlaceParts {
        let mut found = PlaceParts::default();
        let mut at = range.start;
        while at < range.end {
            let resource = resources[at];
            let size = catalog.subtree(resource).len();
            let whole = size > 1 && is_whole(catalog, resources, at);
            let count = if whole {
                size
            } else {
                let is_sibling = |next: &&ResourceId| {
                    size == 1 && catalog.is_leaf(**next) && catalog.parent(**next) == catalog.parent(resource)
                };
                1 + resources[at + 1..range.end].iter().take_while(is_sibling).count()
            };
            if let Some(before) = found.parts.last() {
                found.next_to(common_depth(catalog, resources[before.at], resource));
            }
            if !whole {
                found.neighbours(catalog.parent(resource).map_or(0, |holder| catalog.depth(holder)), count - 1);
            }
            found.parts.push(PlacePart { at, count, how: if whole { How::Whole } else { How::One } });
            at += count;
        }
        found
    }

    fn neighbours(&mut self, depth: u16, count: usize) {
        self.at_depth.resize(self.at_depth.len().max(usize::from(depth) + 1), 0);
        self.at_depth[usize::from(depth)] += count;
    }

    /// Takes note of the depth of the deepest holder of the last part and the next one.
    fn next_to(&mut self, depth: u16) {
        self.neighbours(depth, 1);
        self.depths.push(depth);
    }

    /// These, and others behind them.
    fn then(mut self, others: PlaceParts, catalog: &Catalog, resources: &[ResourceId]) -> PlaceParts {
        if let (Some(before), Some(after)) = (self.parts.last(), others.parts.first()) {
            self.next_to(common_depth(catalog, resources[before.at], resources[after.at]));
        }
        others.at_depth.iter().enumerate().for_each(|(depth, count)| self.neighbours(depth as u16, *count));
        self.parts.extend(others.parts);
        self.depths.extend(others.depths);
        self
    }
}

/// Whether everything beneath the resource at a place is among the resources, too.
fn is_whole(catalog: &Catalog, resources: &[ResourceId], at: usize) -> bool {
    let beneath = catalog.subtree(resources[at]);
    resources.get(at + beneath.len() - 1).is_some_and(|last| last.0 + 1 == beneath.end)
}

/// The first place from this one on at which no part is cut in two that is told as one with all beneath it.
fn cut(catalog: &Catalog, resources: &[ResourceId], mut at: usize) -> usize {
    while let Some(&resource) = resources.get(at).filter(|_| at > 0) {
        let around = catalog.upward(resource).skip(1).filter(|above| catalog.contains(*above, resources[at - 1]));
        let mut places = around.filter_map(|above| resources.binary_search(&above).ok());
        match places.find(|place| is_whole(catalog, resources, *place)) {
            Some(place) => at = place + catalog.subtree(resources[place]).len(),
            None => break,
        }
    }
    at
}

/// At most `most` names (or one a root) for resources in pre-order: whole subtrees first; where those
/// are too many, the deepest resources that hold them. Cost: the resources once, and for each that is no sibling of the
/// one before it the way up to what holds both.
pub fn fold(catalog: &Catalog, resources: &[ResourceId], most: usize) -> Vec<Fold> {
    let shares = if resources.len() < MANY { 1 } else { rayon::current_num_threads() };
    let cuts = (1..shares).map(|share| cut(catalog, resources, share * resources.len() / shares));
    let mut cuts: Vec<usize> = [0].into_iter().chain(cuts).chain([resources.len()]).collect();
    cuts.dedup();
    let shares: Vec<PlaceParts> =
        cuts.par_windows(2).map(|cut| PlaceParts::of(catalog, resources, cut[0]..cut[1])).collect();
    let parts = shares.into_iter().fold(PlaceParts::default(), |all, next| all.then(next, catalog, resources));
    joined(catalog, resources, parts, most)
}

/// The names of parts.
fn joined(catalog: &Catalog, resources: &[ResourceId], parts: PlaceParts, most: usize) -> Vec<Fold> {
    let PlaceParts { parts, at_depth, depths } = parts;
    // Neighbours whose common holder lies deepest go together first. That makes no holder of others another one.
    let held_at = |resource: ResourceId| catalog.parent(resource).map_or(0, |holder| catalog.depth(holder));
    let names = |part: &PlacePart| if part.how == How::Whole { 1 } else { part.count };
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
    for (number, PlacePart { at, count, how }) in parts.into_iter().enumerate() {
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

/// The depth of the deepest resource that holds both or is one of them; 0 where there is none.
fn common_depth(catalog: &Catalog, a: ResourceId, b: ResourceId) -> u16 {
    let holder = catalog.upward(a).find(|above| catalog.contains(*above, b));
    holder.map_or(0, |holder| catalog.depth(holder))
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::random::{Shape, plan};

    /// Parts that are worked out in shares are told by the same names as those worked out in one go, wherever they are
    /// cut; and what is told as one with all beneath it is never cut in two.
    #[test]
    fn shares_come_to_the_same() {
        let (mut moved, mut cuts) = (0, 0);
        for seed in 0..150 {
            let estate = plan(seed, Shape::ALL).with_more(seed, 40).case().estate();
            let catalog = estate.catalog();
            let mut random = fastrand::Rng::with_seed(seed);
            let (share, most) = (random.usize(3..6), random.usize(1..5));
            let chosen: Vec<ResourceId> = catalog.all().filter(|_| random.usize(..5) < share).collect();
            let whole = joined(catalog, &chosen, PlaceParts::of(catalog, &chosen, 0..chosen.len()), most);
            for at in 0..=chosen.len() {
                let place = cut(catalog, &chosen, at);
                moved += usize::from(place > at);
                cuts += usize::from(place > 0 && place < chosen.len());
                let [front, back] = [0..place, place..chosen.len()].map(|part| PlaceParts::of(catalog, &chosen, part));
                let parts = front.then(back, catalog, &chosen);
                assert_eq!(joined(catalog, &chosen, parts, most), whole, "estate {seed} at {at}");
            }
        }
        assert!(moved > 100 && cuts > 1000, "{moved} moved, {cuts} cuts");
    }
}
