//! How far a change reaches, in numbers, and in blocks of like gains and losses.

use super::places::{Fold, fold};
use super::{Difference, Turn};
use crate::sets::store::{SetId, SetStore};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
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

/// How far a difference reaches. Cost: the resources on which something differs.
pub fn radius(difference: &Difference) -> Radius {
    let mut users = FixedBitSet::with_capacity(difference.joint.users.len());
    let mut radius = Radius { resources: difference.changed.len(), ..Radius::default() };
    let mut times: HashMap<u32, u64> = HashMap::new();
    difference.changed.iter().for_each(|(_, row)| *times.entry(*row).or_default() += 1);
    for (row, times) in times {
        for turn in difference.turns(row) {
            let count = |set: SetId| u64::from(difference.sets.count(set)) * times;
            radius.gained += count(turn.gained);
            radius.lost += count(turn.lost);
            let both = [turn.gained, turn.lost];
            both.into_iter().flat_map(|set| difference.sets.users(set)).for_each(|user| users.insert(user));
        }
    }
    radius.users = users.count_ones(..);
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

/// What a block is made of before it is told.
type Key = (Side, SetId, Vec<u32>);

/// A difference in blocks, the most consequential first: what guests gain, then what is more than
/// harmless, then what is labelled, then by size. `harmless` are names of actions. `after` and
/// `before` are the estates the difference was made of.
pub fn blocks(difference: &Difference, before: &Estate, after: &Estate, harmless: &[String]) -> Vec<Block> {
    let mut by: HashMap<Key, Vec<u32>> = HashMap::new();
    for &(resource, row) in &difference.changed {
        let mut here: Vec<(Side, SetId, Vec<u32>)> = Vec::new();
        for Turn { action, gained, lost } in difference.turns(row) {
            for (side, set) in [(Side::Gained, *gained), (Side::Lost, *lost)] {
                if set == SetId::NONE {
                    continue;
                }
                match here.iter_mut().find(|(s, users, _)| (*s, *users) == (side, set)) {
                    Some((.., actions)) => actions.push(*action),
                    None => here.push((side, set, vec![*action])),
                }
            }
        }
        for key in here {
            by.entry(key).or_default().push(resource);
        }
    }
    let groups = named_groups(difference, after);
    let mut blocks: Vec<Block> = by
        .into_iter()
        .map(|((side, set, actions), resources)| {
            block(difference, before, after, harmless, &groups, side, set, &actions, &resources)
        })
        .collect();
    let rank = |b: &Block| {
        let gained = b.side == Side::Gained;
        let weight = (gained && b.guests > 0) as u8 * 4 + b.harmful as u8 * 2 + (b.labelled > 0) as u8;
        (b.side, std::cmp::Reverse(weight), std::cmp::Reverse(b.triples))
    };
    blocks.sort_by(|a, b| {
        rank(a).cmp(&rank(b)).then_with(|| (&a.users, &a.actions, &a.places[0].path).cmp(&(&b.users, &b.actions, &b.places[0].path)))
    });
    blocks
}

/// Groups by the set of their members through data, the first id of each.
fn named_groups(difference: &Difference, after: &Estate) -> HashMap<Vec<u64>, String> {
    let mut scratch = SetStore::new(difference.joint.users.len());
    let mut found: HashMap<Vec<u64>, String> = HashMap::new();
    for group in after.groups.all() {
        let users = after.groups.users(group);
        if users.count_ones(..) < 2 || !after.groups.through(group).is_empty() {
            continue;
        }
        let set = scratch.of(users.ones().map(|u| difference.joint.users.from_after(u as u32) as usize));
        found.entry(scratch.row(set).to_vec()).or_insert_with(|| after.groups.id(group).to_string());
    }
    found
}

#[allow(clippy::too_many_arguments)]
fn block(
    difference: &Difference,
    before: &Estate,
    after: &Estate,
    harmless: &[String],
    groups: &HashMap<Vec<u64>, String>,
    side: Side,
    set: SetId,
    actions: &[u32],
    resources: &[u32],
) -> Block {
    let joint = &difference.joint;
    let (mut users, mut guests) = (Vec::new(), 0);
    for user in difference.sets.users(set) {
        let (estate, user) = match joint.users.after(user as u32) {
            Some(user) => (after, UserId(user)),
            None => (before, UserId(joint.users.before(user as u32).expect("a user is on one side"))),
        };
        users.push(estate.people.id(user).to_string());
        guests += usize::from(estate.people.kind(user) == "guest");
    }
    users.sort();
    let actions: Vec<String> = actions
        .iter()
        .map(|action| match joint.actions.after(*action) {
            Some(action) => after.schema.actions[action as usize].name.clone(),
            None => before.schema.actions[joint.actions.before(*action).expect("an action is on one side") as usize]
                .name
                .clone(),
        })
        .collect();
    let sides = |estate: &Estate, number: &dyn Fn(u32) -> Option<u32>| {
        let mut found: Vec<ResourceId> = resources.iter().filter_map(|r| number(*r)).map(ResourceId).collect();
        found.sort();
        let labelled = found.iter().filter(|r| is_labelled(estate, **r)).count();
        (fold(&estate.catalog, &found, 4), labelled)
    };
    let (mut places, mut labelled) = sides(after, &|r| joint.resources.after(r));
    let gone = |r: u32| if joint.resources.after(r).is_none() { joint.resources.before(r) } else { None };
    let (more, labelled_too) = sides(before, &gone);
    places.extend(more);
    labelled += labelled_too;
    Block {
        side,
        group: groups.get(difference.sets.row(set)).cloned(),
        guests,
        harmful: actions.iter().any(|a| !harmless.contains(a)),
        triples: users.len() as u64 * actions.len() as u64 * resources.len() as u64,
        users,
        actions,
        places,
        resources: resources.len(),
        labelled,
    }
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
