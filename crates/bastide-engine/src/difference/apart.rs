//! Many changes of single resources' data, tried at once: what each changes, as if it were tried alone.
//!
//! A decision looks at the data of its resource and of what lies above, and at decisions on the parent, on sources and on named
//! places. So a change of one resource can touch what lies beneath it, what is derived from that, and what looks at it; the
//! rest of the estate decides as before. Changes that can touch nothing in common are tried together, and what differs belongs
//! to the one that can touch it.
//! Cost: what each can touch, once; and one comparison for as many changes as can touch the same resource.

use super::affected::Dependencies;
use super::{Radius, difference};
use crate::change::{Change, ResourceCell, apply};
use crate::snapshot::Snapshot;
use bastide_model::schema::Travel;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use std::ops::Range;

/// How far each of some lists of changes reaches by itself. None where a list is not about resources' data alone, or cannot be
/// applied.
pub fn apart(snapshot: &Snapshot, lists: &[&[Change]]) -> Vec<Option<Radius>> {
    let estate = snapshot.estate();
    let mut found: Vec<Option<Radius>> = vec![None; lists.len()];
    let dependencies = Dependencies::of([estate, estate]);
    let mut closure = Closure {
        dependencies: &dependencies,
        catalog: estate.catalog(),
        seen: vec![u32::MAX; estate.catalog().len()],
        resources: Vec::new(),
    };
    // By resource, how many lists before can touch it: a list is tried in the first round in which nothing that it can touch
    // is touched by another one.
    let mut taken = vec![0u32; estate.catalog().len()];
    let mut rounds: Vec<Vec<(usize, Box<[u32]>)>> = Vec::new();
    for (at, changes) in lists.iter().enumerate() {
        let Some(seeds) = seeds(changes) else { continue };
        closure.of(at as u32, &seeds, rises(estate, changes));
        let touched = &closure.resources;
        let round = touched.iter().map(|resource| taken[*resource as usize]).max().unwrap_or_default();
        touched.iter().for_each(|resource| taken[*resource as usize] = round + 1);
        if rounds.len() <= round as usize {
            rounds.resize_with(round as usize + 1, Vec::new);
        }
        rounds[round as usize].push((at, touched.as_slice().into()));
    }
    let mut owner = vec![u32::MAX; estate.catalog().len()];
    for round in rounds {
        try_round(snapshot, lists, &round, &mut owner, &mut found);
    }
    found
}

/// Tries the lists of one round. Those that cannot be applied are left out.
fn try_round(
    snapshot: &Snapshot,
    lists: &[&[Change]],
    round: &[(usize, Box<[u32]>)],
    owner: &mut [u32],
    found: &mut [Option<Radius>],
) {
    let estate = snapshot.estate();
    let mut members: Vec<&(usize, Box<[u32]>)> = round.iter().collect();
    let after = loop {
        let all: Vec<Change> = members.iter().flat_map(|(at, _)| lists[*at]).cloned().collect();
        match apply(estate, &all) {
            Ok(after) => break after,
            Err((position, _)) => {
                let mut before = 0;
                let failed = members.iter().position(|(at, _)| {
                    before += lists[*at].len();
                    position < before
                });
                members.remove(failed.expect("the position is that of a change"));
            }
        }
    };
    let Ok(new) = snapshot.beside(&after, snapshot.moment()) else { return };
    owner.fill(u32::MAX);
    for (at, touched) in &members {
        touched.iter().for_each(|resource| owner[*resource as usize] = *at as u32);
        found[*at] = Some(Radius::default());
    }
    let difference = difference(snapshot, &new, None);
    let mut lister = difference.lister();
    let mut users: HashMap<usize, FixedBitSet> = HashMap::new();
    let mut seen: HashSet<(u32, u32)> = HashSet::new();
    for &(resource, row) in &difference.changed {
        let at = owner[resource as usize];
        let Some(radius) = found.get_mut(at as usize).and_then(Option::as_mut) else {
            debug_assert!(false, "{resource} differs, and no change was thought to touch it");
            members.iter().for_each(|(at, _)| found[*at] = None);
            return;
        };
        radius.resources += 1;
        for turn in difference.turns(row) {
            radius.gained += u64::from(difference.count(turn.gained));
            radius.lost += u64::from(difference.count(turn.lost));
        }
        if seen.insert((at, row)) {
            let people = estate.people().len();
            let anybody = users.entry(at as usize).or_insert_with(|| FixedBitSet::with_capacity(people));
            for turn in difference.turns(row) {
                for side in [turn.gained, turn.lost] {
                    anybody.extend(lister.users(side).into_iter().map(|user| user as usize));
                }
            }
        }
    }
    for (at, anybody) in users {
        if let Some(radius) = &mut found[at] {
            radius.users = anybody.count_ones(..);
        }
    }
}

/// The resources whose data are changed; none where something else is.
fn seeds(changes: &[Change]) -> Option<Vec<ResourceId>> {
    let resource = |change: &Change| if let Change::Resource(resource, ..) = change { Some(*resource) } else { None };
    changes.iter().map(resource).collect()
}

/// Whether a value that is set goes on to what is derived.
fn rises(estate: &Estate, changes: &[Change]) -> bool {
    let attributes = &estate.schema().resource_attributes;
    changes.iter().any(|change| match change {
        Change::Resource(_, ResourceCell::Attribute(id), _) => attributes[id.index()].travel == Travel::Highest,
        _ => false,
    })
}

/// What a change can touch.
struct Closure<'d> {
    dependencies: &'d Dependencies,
    catalog: &'d Catalog,
    /// By resource, the last list that was found to touch it.
    seen: Vec<u32>,
    resources: Vec<u32>,
}

impl Closure<'_> {
    fn of(&mut self, list: u32, seeds: &[ResourceId], rises: bool) {
        self.resources.clear();
        let mut open: Vec<Range<u32>> = seeds.iter().map(|seed| self.catalog.subtree(*seed)).collect();
        while let Some(range) = open.pop() {
            for resource in range.clone() {
                if std::mem::replace(&mut self.seen[resource as usize], list) == list {
                    continue;
                }
                self.resources.push(resource);
                let beneath = self.catalog.subtree(ResourceId(resource));
                if beneath.end > range.end {
                    open.push(range.end..beneath.end);
                }
                open.extend(self.dependencies.elsewhere(ResourceId(resource)));
                if rises {
                    open.extend(self.dependencies.derived(ResourceId(resource)));
                }
            }
        }
    }
}
