//! How far a change reaches, in numbers, and in blocks of like gains and losses.

use super::joint::Axis;
use super::places::{Fold, fold};
use super::users::Users;
use super::{Difference, Turn};
use crate::sets::count;
use bastide_model::column::Column;
use bastide_model::groups::Groups;
use bastide_model::*;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;
use std::cmp::Reverse;
use std::ops::Range;
use std::sync::Arc;

/// The blast radius of a change.
#[derive(Clone, Copy, Default, PartialEq, Eq, Debug)]
pub struct Radius {
    /// Users for whom anything differs.
    pub users: usize,
    /// Resources on which anything differs.
    pub resources: usize,
    /// Triples that are allowed after and were not before.
    pub gained: u64,
    /// Triples that were allowed before and are not after.
    pub lost: u64,
}

impl Radius {
    /// Gained and lost together.
    pub fn triples(&self) -> u64 {
        self.gained + self.lost
    }
}

/// How far a difference reaches. Cost: the resources on which something differs, and the different rows.
pub fn radius(difference: &Difference) -> Radius {
    let mut radius = Radius { resources: difference.changed.len(), ..Radius::default() };
    for (row, times) in difference.times().into_iter().enumerate().filter(|(_, times)| *times > 0) {
        for turn in difference.turns(row as u32) {
            radius.gained += u64::from(difference.count(turn.gained)) * times as u64;
            radius.lost += u64::from(difference.count(turn.lost)) * times as u64;
        }
    }
    radius.users = count::words(&difference.anybody) as usize;
    radius
}

/// How far a difference reaches for each part of the users; `part` says to which one a user belongs, by the joint number.
/// Cost: the users of each different row.
pub fn by_part(difference: &Difference, part: impl Fn(u32) -> Option<usize>) -> HashMap<usize, Radius> {
    let mut all: HashMap<usize, Radius> = HashMap::new();
    let mut lister = difference.lister();
    for (row, times) in difference.times().into_iter().enumerate().filter(|(_, times)| *times > 0) {
        let mut of_row: HashMap<usize, (u64, u64)> = HashMap::new();
        for turn in difference.turns(row as u32) {
            let mut parts = |users: Users| lister.users(users).into_iter().filter_map(&part).collect::<Vec<usize>>();
            parts(turn.gained).into_iter().for_each(|part| of_row.entry(part).or_default().0 += 1);
            parts(turn.lost).into_iter().for_each(|part| of_row.entry(part).or_default().1 += 1);
        }
        for (part, (gained, lost)) in of_row {
            let radius = all.entry(part).or_default();
            radius.resources += times;
            radius.gained += gained * times as u64;
            radius.lost += lost * times as u64;
        }
    }
    for part in difference.concerned().filter_map(part) {
        all.entry(part).or_default().users += 1;
    }
    all
}

/// Gained or lost.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Side {
    /// Allowed after, refused before.
    Gained,
    /// Refused after, allowed before.
    Lost,
}

/// The same users gain or lose the same actions on these resources.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Block {
    /// Gained or lost.
    pub side: Side,
    /// The users' ids, in byte order. Each is kept once for all blocks.
    pub users: Vec<Arc<str>>,
    /// The group whose members, and nobody else, they are; where there is one.
    pub group: Option<String>,
    /// Of them, the guests.
    pub guests: usize,
    /// The actions, in declared order.
    pub actions: Vec<String>,
    /// Whether one of them is more than harmless.
    pub harmful: bool,
    /// The places.
    pub places: Vec<Fold>,
    /// How many resources.
    pub resources: usize,
    /// Of them, those with a label above the lowest step of its scale.
    pub labelled: usize,
    /// Users times actions times resources.
    pub triples: u64,
}

/// Blocks of a difference.
#[derive(Clone, Default, PartialEq, Eq, Debug)]
pub struct Blocks {
    /// Gains, then losses; of each the most consequential first.
    pub list: Vec<Block>,
    /// How many more blocks of gains there are.
    pub more_gained: usize,
    /// How many more blocks of losses there are.
    pub more_lost: usize,
}

/// What a block is made of before it is told.
struct Raw {
    side: Side,
    users: Users,
    /// The number of the list of its actions.
    actions: u32,
    /// Where its resources are among those of all blocks.
    resources: Range<usize>,
    harmful: bool,
    labelled: usize,
    triples: u64,
}

/// A difference in blocks, at most `most` of gains and of losses, the most consequential first: what
/// guests gain, then what is more than harmless, then what is labelled, then by size. `harmless` are
/// names of actions. `before` and `after` are the estates the difference was made of; `groups` those with everybody in
/// them, where the estates have few users left.
pub fn blocks(
    difference: &Difference,
    before: &Estate,
    after: &Estate,
    groups: &Groups,
    harmless: &[String],
    most: usize,
) -> Blocks {
    let about =
        Describing { difference, before, after, groups, harmless, labelled: [before, after].map(Labelled::new) };
    let (mut raw, resources, actions) = about.raw();
    let weight = |b: &Raw| {
        let gained = b.side == Side::Gained;
        (gained && difference.guests(b.users) > 0) as u8 * 4 + b.harmful as u8 * 2 + (b.labelled > 0) as u8
    };
    raw.sort_unstable_by(|a, b| {
        let rank = |b: &Raw| (b.side, Reverse(weight(b)), Reverse(b.triples));
        let of = |b: &Raw| &resources[b.resources.clone()];
        let list = |b: &Raw| &actions[b.actions as usize];
        let first = |b: &Raw| difference.people[b.users.0 as usize].first;
        let rest = || (first(a), list(a), of(a)).cmp(&(first(b), list(b), of(b)));
        rank(a).cmp(&rank(b)).then_with(rest)
    });
    let gains = raw.partition_point(|block| block.side == Side::Gained);
    let (more_gained, more_lost) = (gains.saturating_sub(most), (raw.len() - gains).saturating_sub(most));
    let shown = raw[..gains].iter().take(most).chain(raw[gains..].iter().take(most));
    let shown: Vec<&Raw> = shown.collect();
    let groups = about.named_groups(&shown.iter().map(|raw| difference.count(raw.users) as usize).collect());
    let mut lister = difference.lister();
    let users: Vec<Vec<u32>> = shown.iter().map(|raw| lister.users(raw.users)).collect();
    let mut ids: HashMap<u32, Arc<str>> = HashMap::new();
    let tell = |(raw, numbers): (&&Raw, &Vec<u32>)| {
        let (actions, resources) = (&actions[raw.actions as usize], &resources[raw.resources.clone()]);
        let id = |user: &u32| Arc::clone(ids.entry(*user).or_insert_with(|| about.person(*user).0.into()));
        let users = numbers.iter().map(id).collect();
        about.block(raw, (numbers, users), (actions, difference.guests(raw.users)), resources, &groups)
    };
    let told: Vec<Block> = shown.iter().zip(&users).map(tell).collect();
    Blocks { list: told, more_gained, more_lost }
}

/// A core takes a share of what differs where there are so many times as many resources as blocks.
const SHARE: usize = 1 << 4;

/// The resources of blocks, of a share of what differs.
struct Spread {
    /// By block, where its resources end; they begin where those of the one before it end.
    ends: Vec<usize>,
    /// By block, how many are labelled.
    labelled: Vec<usize>,
    resources: Vec<u32>,
}

struct Describing<'d> {
    difference: &'d Difference<'d>,
    before: &'d Estate,
    after: &'d Estate,
    /// With everybody in them.
    groups: &'d Groups,
    harmless: &'d [String],
    labelled: [Labelled<'d>; 2],
}

impl Describing<'_> {
    /// All blocks, their resources, and the lists of their actions.
    fn raw(&self) -> (Vec<Raw>, Vec<u32>, Vec<Vec<u32>>) {
        let difference = self.difference;
        let mut numbers: HashMap<(Side, Users, u32), u32> = HashMap::new();
        let mut lists: Vec<Vec<u32>> = Vec::new();
        let mut known_lists: HashMap<Vec<u32>, u32> = HashMap::new();
        let mut harmful: Vec<bool> = Vec::new();
        let mut blocks: Vec<Raw> = Vec::new();
        // Rows are fewer than resources: by row, the blocks it belongs to.
        let mut all: Vec<u32> = Vec::new();
        let mut of_row: Vec<Range<usize>> = vec![0..0; difference.rows.len()];
        let mut sizes: Vec<usize> = Vec::new();
        let mut by_users: Vec<(Side, Users, Vec<u32>)> = Vec::new();
        let times = difference.times();
        for (row, times) in times.into_iter().enumerate().filter(|(_, times)| *times > 0) {
            let from = all.len();
            let count = told_apart(difference.turns(row as u32), &mut by_users);
            for (side, users, actions) in &by_users[..count] {
                let list = match known_lists.get(actions) {
                    Some(known) => *known,
                    None => {
                        harmful.push(actions.iter().any(|a| !self.harmless.contains(&self.action(*a))));
                        lists.push(actions.clone());
                        known_lists.insert(actions.clone(), lists.len() as u32 - 1);
                        lists.len() as u32 - 1
                    }
                };
                let next = blocks.len() as u32;
                let number = *numbers.entry((*side, *users, list)).or_insert(next);
                all.push(number);
                if number < next {
                    continue;
                }
                blocks.push(Raw {
                    side: *side,
                    users: *users,
                    actions: list,
                    resources: 0..0,
                    harmful: harmful[list as usize],
                    labelled: 0,
                    triples: 0,
                });
                sizes.push(0);
            }
            of_row[row] = from..all.len();
            all[from..].iter().for_each(|block| sizes[*block as usize] += times);
        }
        for (block, size) in blocks.iter_mut().zip(&sizes) {
            let actions = lists[block.actions as usize].len();
            block.triples = u64::from(difference.count(block.users)) * actions as u64 * *size as u64;
        }
        let of_row = |row: u32| &all[of_row[row as usize].clone()];
        let resources = self.spread(&mut blocks, of_row);
        (blocks, resources, lists)
    }

    /// Gives every block its resources: all of them, those of each block in order. `of_row` says to which blocks a row
    /// belongs.
    fn spread<'a>(&self, blocks: &mut [Raw], of_row: impl Fn(u32) -> &'a [u32] + Sync) -> Vec<u32> {
        let changed = &self.difference.changed;
        // Each core takes a share, where that is not mostly counting blocks.
        let shares = if blocks.len() < changed.len() / SHARE { rayon::current_num_threads() } else { 1 };
        let spread = |changed: &[(u32, u32)]| {
            let mut share =
                Spread { ends: vec![0; blocks.len()], labelled: vec![0; blocks.len()], resources: Vec::new() };
            changed.iter().flat_map(|(_, row)| of_row(*row)).for_each(|block| share.ends[*block as usize] += 1);
            let mut from = 0;
            for end in &mut share.ends {
                from += std::mem::replace(end, from);
            }
            share.resources.resize(from, 0);
            for &(resource, row) in changed {
                let labelled = usize::from(self.labelled(resource));
                for block in of_row(row) {
                    let block = *block as usize;
                    share.resources[share.ends[block]] = resource;
                    share.ends[block] += 1;
                    share.labelled[block] += labelled;
                }
            }
            share
        };
        let shares: Vec<Spread> = changed.par_chunks(changed.len().div_ceil(shares).max(1)).map(spread).collect();
        let mut resources = Vec::with_capacity(shares.iter().map(|share| share.resources.len()).sum());
        for (at, block) in blocks.iter_mut().enumerate() {
            let from = resources.len();
            for Spread { ends, labelled, resources: own } in &shares {
                let before = at.checked_sub(1).map_or(0, |before| ends[before]);
                resources.extend_from_slice(&own[before..ends[at]]);
                block.labelled += labelled[at];
            }
            block.resources = from..resources.len();
        }
        resources
    }

    /// The id, the name and the kind of a user.
    fn person(&self, user: u32) -> (&str, &str, &'static str) {
        let joint = &self.difference.joint.users;
        let (people, user) = match joint.after(user) {
            Some(user) => (self.after.people(), UserId(user)),
            None => (self.before.people(), UserId(joint.before(user).expect("a user is on one side"))),
        };
        (people.id(user), people.name(user), people.kind(user))
    }

    fn action(&self, action: u32) -> String {
        let joint = &self.difference.joint.actions;
        match joint.after(action) {
            Some(action) => self.after.schema().actions[action as usize].name.clone(),
            None => {
                let action = joint.before(action).expect("an action is on one side");
                self.before.schema().actions[action as usize].name.clone()
            }
        }
    }

    fn labelled(&self, resource: u32) -> bool {
        let joint = &self.difference.joint.resources;
        match joint.after(resource) {
            Some(resource) => self.labelled[1].has(ResourceId(resource)),
            None => joint.before(resource).is_some_and(|r| self.labelled[0].has(ResourceId(r))),
        }
    }

    /// Groups of some sizes by their members through data, the first id of each.
    fn named_groups(&self, sizes: &HashSet<usize>) -> HashMap<Vec<u32>, String> {
        let joint = &self.difference.joint.users;
        let mut found: HashMap<Vec<u32>, String> = HashMap::new();
        for group in self.after.groups().all() {
            let users = self.after.groups().users(group);
            // Whoever is not looked at is in it, too.
            let others = self.groups.users(group).count_ones(..) > users.count_ones(..);
            let count = users.count_ones(..);
            if others || count < 2 || !sizes.contains(&count) || !self.after.groups().through(group).is_empty() {
                continue;
            }
            let users = users.ones().map(|u| joint.from_after(u as u32)).collect();
            found.entry(users).or_insert_with(|| self.after.groups().id(group).to_string());
        }
        found
    }

    fn block(
        &self,
        raw: &Raw,
        (numbers, mut users): (&Vec<u32>, Vec<Arc<str>>),
        (actions, guests): (&[u32], u32),
        resources: &[u32],
        groups: &HashMap<Vec<u32>, String>,
    ) -> Block {
        let joint = &self.difference.joint.resources;
        users.sort();
        let sides = |estate: &Estate, number: &dyn Fn(u32) -> Option<u32>| {
            let mut found: Vec<ResourceId> = resources.iter().filter_map(|r| number(*r)).map(ResourceId).collect();
            found.sort();
            fold(estate.catalog(), &found, 4)
        };
        let mut places = sides(self.after, &|r| joint.after(r));
        if !matches!(joint, Axis::Same(_)) {
            let gone = |r: u32| if joint.after(r).is_none() { joint.before(r) } else { None };
            places.extend(sides(self.before, &gone));
        }
        Block {
            side: raw.side,
            group: groups.get(numbers).cloned(),
            guests: guests as usize,
            harmful: raw.harmful,
            triples: raw.triples,
            users,
            actions: actions.iter().map(|a| self.action(*a)).collect(),
            places,
            resources: resources.len(),
            labelled: raw.labelled,
        }
    }
}

/// The turns of a row by side and users, each with its actions; how many there are. `found` keeps its room.
fn told_apart(turns: &[Turn], found: &mut Vec<(Side, Users, Vec<u32>)>) -> usize {
    let mut count = 0;
    for Turn { action, gained, lost } in turns {
        for (side, users) in [(Side::Gained, *gained), (Side::Lost, *lost)] {
            if users == Users::NONE {
                continue;
            }
            let at = found[..count].iter().position(|(s, u, _)| (*s, *u) == (side, users)).unwrap_or_else(|| {
                if found.len() == count {
                    found.push((side, users, Vec::new()));
                }
                (found[count].0, found[count].1) = (side, users);
                found[count].2.clear();
                count += 1;
                count - 1
            });
            found[at].2.push(*action);
        }
    }
    count
}

/// Which resources carry a value above the lowest of a scale that travels to the highest: a label, as the estate
/// declares one.
pub struct Labelled<'e> {
    /// Of each such attribute the values of resources by number, and by number whether it is above the lowest.
    attributes: Vec<(&'e [u32], Vec<bool>)>,
}

impl<'e> Labelled<'e> {
    /// Those of an estate.
    pub fn new(estate: &'e Estate) -> Labelled<'e> {
        let of = |(attribute, column): (&schema::Attribute, &'e Column)| {
            (column.numbers(), column.distinct().iter().map(|value| is_above(attribute, value)).collect())
        };
        Labelled { attributes: labels(estate).map(of).collect() }
    }

    /// Whether a resource does.
    pub fn has(&self, resource: ResourceId) -> bool {
        let above = |(cells, above): &(&[u32], Vec<bool>)| {
            cells.get(resource.index()).is_some_and(|number| above.get(*number as usize) == Some(&true))
        };
        self.attributes.iter().any(above)
    }
}

/// Whether one resource carries such a value.
pub fn is_labelled(estate: &Estate, resource: ResourceId) -> bool {
    let mut values = labels(estate).map(|(attribute, column)| (attribute, column.get(resource.index())));
    values.any(|(attribute, value)| value.is_some_and(|value| is_above(attribute, value)))
}

fn labels(estate: &Estate) -> impl Iterator<Item = (&schema::Attribute, &Column)> {
    let attributes = estate.schema().resource_attributes.iter().zip(&estate.catalog().attributes);
    attributes.filter(|(attribute, _)| attribute.travel == schema::Travel::Highest)
}

fn is_above(attribute: &schema::Attribute, value: &Value) -> bool {
    match (value, &attribute.default) {
        (Value::Step(_, step), Some(Value::Step(_, usual))) => step > usual,
        (Value::Step(_, step), _) => *step > 0,
        _ => false,
    }
}
