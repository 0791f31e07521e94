//! How far a change reaches, in numbers, and in blocks of like gains and losses.

use super::places::{Fold, fold};
use super::{Difference, Turn};
use crate::sets::store::{SetId, SetStore};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;

/// The blast radius of a change.
#[derive(Clone, Copy, Default, Serialize, JsonSchema, PartialEq, Eq, Debug)]
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

/// How far a difference reaches. Cost: the resources on which something differs, and the words of
/// each different set.
pub fn radius(difference: &Difference) -> Radius {
    let mut users: Vec<u64> = vec![0; difference.joint.users.len().div_ceil(64).max(1)];
    let mut radius = Radius { resources: difference.changed.len(), ..Radius::default() };
    let mut times: HashMap<u32, u64> = HashMap::new();
    difference.changed.iter().for_each(|(_, row)| *times.entry(*row).or_default() += 1);
    let mut seen: HashSet<SetId> = HashSet::new();
    for (row, times) in times {
        for turn in difference.turns(row) {
            let count = |set: SetId| u64::from(difference.sets.count(set)) * times;
            radius.gained += count(turn.gained);
            radius.lost += count(turn.lost);
            for set in [turn.gained, turn.lost].into_iter().filter(|set| seen.insert(*set)) {
                users.iter_mut().zip(difference.sets.row(set)).for_each(|(all, word)| *all |= word);
            }
        }
    }
    radius.users = users.iter().map(|w| w.count_ones() as usize).sum();
    radius
}

/// Gained or lost.
#[derive(Clone, Copy, Serialize, JsonSchema, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
#[serde(rename_all = "lowercase")]
pub enum Side {
    /// Allowed after, refused before.
    Gained,
    /// Refused after, allowed before.
    Lost,
}

/// The same users gain or lose the same actions on these resources.
#[derive(Clone, Serialize, JsonSchema, PartialEq, Eq, Debug)]
pub struct Block {
    /// Gained or lost.
    pub side: Side,
    /// The users' ids, in byte order.
    pub users: Vec<String>,
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
#[derive(Clone, Default, Serialize, JsonSchema, PartialEq, Eq, Debug)]
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
    users: SetId,
    actions: Vec<u32>,
    resources: Vec<u32>,
    guests: usize,
    harmful: bool,
    labelled: usize,
    triples: u64,
}

/// A difference in blocks, at most `most` of gains and of losses, the most consequential first: what
/// guests gain, then what is more than harmless, then what is labelled, then by size. `harmless` are
/// names of actions. `before` and `after` are the estates the difference was made of.
pub fn blocks(difference: &Difference, before: &Estate, after: &Estate, harmless: &[String], most: usize) -> Blocks {
    let about = About { difference, before, after, harmless };
    let mut raw = about.raw();
    let weight = |b: &Raw| {
        let gained = b.side == Side::Gained;
        (gained && b.guests > 0) as u8 * 4 + b.harmful as u8 * 2 + (b.labelled > 0) as u8
    };
    let first = |b: &Raw| difference.sets.users(b.users).next();
    raw.sort_by(|a, b| {
        let rank = |b: &Raw| (b.side, std::cmp::Reverse(weight(b)), std::cmp::Reverse(b.triples), first(b));
        rank(a).cmp(&rank(b)).then_with(|| (&a.actions, &a.resources).cmp(&(&b.actions, &b.resources)))
    });
    let groups = about.named_groups();
    let mut blocks = Blocks::default();
    let mut shown = [0, 0];
    for raw in raw {
        let shown = &mut shown[raw.side as usize];
        if *shown < most {
            *shown += 1;
            blocks.list.push(about.block(&raw, &groups));
        } else {
            *(if raw.side == Side::Gained { &mut blocks.more_gained } else { &mut blocks.more_lost }) += 1;
        }
    }
    blocks
}

struct About<'d> {
    difference: &'d Difference,
    before: &'d Estate,
    after: &'d Estate,
    harmless: &'d [String],
}

impl About<'_> {
    fn raw(&self) -> Vec<Raw> {
        let difference = self.difference;
        let mut by: HashMap<(Side, SetId, Vec<u32>), Vec<u32>> = HashMap::new();
        // Rows are few, resources many.
        let mut keys: HashMap<u32, Vec<(Side, SetId, Vec<u32>)>> = HashMap::new();
        for &(resource, row) in &difference.changed {
            let keys = keys.entry(row).or_insert_with(|| by_users(difference.turns(row)));
            for key in keys.iter() {
                match by.get_mut(key) {
                    Some(list) => list.push(resource),
                    None => drop(by.insert(key.clone(), vec![resource])),
                }
            }
        }
        let guests: FixedBitSet =
            (0..difference.joint.users.len()).filter(|u| self.person(*u as u32).2 == "guest").collect();
        let mut guests_of: HashMap<SetId, usize> = HashMap::new();
        let made = by.into_iter().map(|((side, users, actions), resources)| Raw {
            side,
            users,
            guests: *guests_of
                .entry(users)
                .or_insert_with(|| difference.sets.users(users).filter(|u| guests.contains(*u)).count()),
            harmful: actions.iter().any(|a| !self.harmless.contains(&self.action(*a))),
            labelled: resources.iter().filter(|r| self.labelled(**r)).count(),
            triples: u64::from(difference.sets.count(users)) * actions.len() as u64 * resources.len() as u64,
            actions,
            resources,
        });
        made.collect()
    }

    /// The id, the name and the kind of a user.
    fn person(&self, user: u32) -> (&str, &str, &'static str) {
        let joint = &self.difference.joint.users;
        let (people, user) = match joint.after(user) {
            Some(user) => (&self.after.people, UserId(user)),
            None => (&self.before.people, UserId(joint.before(user).expect("a user is on one side"))),
        };
        (people.id(user), people.name(user), people.kind(user))
    }

    fn action(&self, action: u32) -> String {
        let joint = &self.difference.joint.actions;
        match joint.after(action) {
            Some(action) => self.after.schema.actions[action as usize].name.clone(),
            None => {
                let action = joint.before(action).expect("an action is on one side");
                self.before.schema.actions[action as usize].name.clone()
            }
        }
    }

    fn labelled(&self, resource: u32) -> bool {
        let joint = &self.difference.joint.resources;
        match joint.after(resource) {
            Some(resource) => is_labelled(self.after, ResourceId(resource)),
            None => joint.before(resource).is_some_and(|r| is_labelled(self.before, ResourceId(r))),
        }
    }

    /// Groups by the set of their members through data, the first id of each.
    fn named_groups(&self) -> HashMap<Vec<u64>, String> {
        let joint = &self.difference.joint.users;
        let mut scratch = SetStore::new(joint.len());
        let mut found: HashMap<Vec<u64>, String> = HashMap::new();
        for group in self.after.groups.all() {
            let users = self.after.groups.users(group);
            if users.count_ones(..) < 2 || !self.after.groups.through(group).is_empty() {
                continue;
            }
            let set = scratch.of(users.ones().map(|u| joint.from_after(u as u32) as usize));
            found.entry(scratch.row(set).to_vec()).or_insert_with(|| self.after.groups.id(group).to_string());
        }
        found
    }

    fn block(&self, raw: &Raw, groups: &HashMap<Vec<u64>, String>) -> Block {
        let joint = &self.difference.joint.resources;
        let mut users: Vec<String> =
            self.difference.sets.users(raw.users).map(|u| self.person(u as u32).0.to_string()).collect();
        users.sort();
        let sides = |estate: &Estate, number: &dyn Fn(u32) -> Option<u32>| {
            let mut found: Vec<ResourceId> = raw.resources.iter().filter_map(|r| number(*r)).map(ResourceId).collect();
            found.sort();
            fold(&estate.catalog, &found, 4)
        };
        let gone = |r: u32| if joint.after(r).is_none() { joint.before(r) } else { None };
        let mut places = sides(self.after, &|r| joint.after(r));
        places.extend(sides(self.before, &gone));
        Block {
            side: raw.side,
            group: groups.get(self.difference.sets.row(raw.users)).cloned(),
            guests: raw.guests,
            harmful: raw.harmful,
            triples: raw.triples,
            users,
            actions: raw.actions.iter().map(|a| self.action(*a)).collect(),
            places,
            resources: raw.resources.len(),
            labelled: raw.labelled,
        }
    }
}

/// The turns of a row by side and users, each with its actions.
fn by_users(turns: &[Turn]) -> Vec<(Side, SetId, Vec<u32>)> {
    let mut found: Vec<(Side, SetId, Vec<u32>)> = Vec::new();
    for Turn { action, gained, lost } in turns {
        for (side, set) in [(Side::Gained, *gained), (Side::Lost, *lost)] {
            if set == SetId::NONE {
                continue;
            }
            match found.iter_mut().find(|(s, users, _)| (*s, *users) == (side, set)) {
                Some((.., actions)) => actions.push(*action),
                None => found.push((side, set, vec![*action])),
            }
        }
    }
    found
}

/// Whether a resource carries a value above the lowest of a scale that travels to the highest: a
/// label, as the estate declares one.
pub fn is_labelled(estate: &Estate, resource: ResourceId) -> bool {
    let attributes = estate.schema.resource_attributes.iter().zip(&estate.catalog.attributes);
    let labels = attributes.filter(|(a, _)| a.travel == schema::Travel::Highest);
    let mut steps = labels.filter_map(|(a, column)| {
        let lowest = a.default.clone();
        column.get(resource.index()).map(|value| (value.clone(), lowest))
    });
    steps.any(|(value, usual)| match (value, usual) {
        (Value::Step(_, step), Some(Value::Step(_, usual))) => step > usual,
        (Value::Step(_, step), _) => step > 0,
        _ => false,
    })
}
