//! Remedies: small changes that would give a decision the wished outcome.
//!
//! `ideas` names what could help, from what the decision hangs on; nothing it names is believed.
//! Each idea is made on a copy of the estate and the decision asked again; what does not turn it
//! drops out. Of what is left the whole blast radius is worked out by the set engine, and the list
//! is put in order (`cost`): where something is to be allowed, what hands out the least power beside it comes
//! first; and of remedies alike in that, the one that mends a cause before the one that covers it up.
//!
//! Where no single change helps, pairs of ideas are tried.

mod affinity;
mod cost;
mod idea;
mod ideas;
mod values;

use crate::change::{Change, Described, UserSubset, apply, describe};
use crate::decide::ReferenceEvaluator;
use crate::difference::{Blocks, Radius, Shown, Turn, blocks, difference_while, radius};
use crate::snapshot::Snapshot;
use bastide_model::condition::Term;
use bastide_model::*;
use hashbrown::HashSet;
use idea::Idea;
use rayon::prelude::*;
use std::sync::{Mutex, PoisonError};

/// Single ideas that are tried at most.
const MOST_IDEAS: usize = 80;
/// Ideas that are paired with each other where none helps alone.
const MOST_PAIRED: usize = 28;

/// Blocks of gains, and of losses, that are told of one remedy.
const MOST_BLOCKS: usize = 12;

/// What a remedy hands out beside the wish: gains of more than harmless actions.
#[derive(Clone, Default, PartialEq, Eq, Debug)]
pub struct Power {
    /// How many triples.
    pub triples: u64,
    /// Who gains any of them, the user asked about among them.
    pub users: usize,
    /// On how many resources.
    pub resources: usize,
    /// The actions, in declared order.
    pub actions: Vec<String>,
}

/// One remedy.
#[derive(Clone, Debug)]
pub struct Remedy {
    /// What to change: one change, or two that only help together.
    pub changes: Vec<Described>,
    /// Why this one is likely, where something speaks for it.
    pub hint: Option<String>,
    /// Its whole blast radius, the wished triple included.
    pub radius: Radius,
    /// Who gains and who loses what, the most consequential first.
    pub blocks: Blocks,
    /// What it hands out beside the wish. Where something is to be allowed, less of it comes first.
    pub power: Power,
    /// What the order goes by where that is alike: less is better.
    pub cost: u32,
}

/// What would turn a decision.
#[derive(Clone, Debug)]
pub struct Remedies {
    /// Whether the wished outcome is allowed.
    pub wanted: bool,
    /// Whether the outcome is the wished one already.
    pub already: bool,
    /// How many changes were tried.
    pub tried: usize,
    /// The remedies, best first.
    pub list: Vec<Remedy>,
    /// How many more there are.
    pub left_out: usize,
}

/// What is asked for.
#[derive(Clone, Copy, Debug)]
pub struct Wish {
    /// The user.
    pub user: UserId,
    /// The action.
    pub action: ActionId,
    /// The resource.
    pub resource: ResourceId,
    /// Whether it should be allowed.
    pub wanted: bool,
}

/// Finds remedies, at most `most` of them. `harmless`: names of actions whose gain by others weighs little.
pub fn remedies(snapshot: &Snapshot, wish: Wish, harmless: &[String], most: usize) -> Remedies {
    let (estate, reference) = (snapshot.estate(), snapshot.reference());
    let already = reference.decide(wish.user, wish.action, wish.resource).is_allowed() == wish.wanted;
    let mut found = Remedies { wanted: wish.wanted, already, tried: 0, list: Vec::new(), left_out: 0 };
    if already {
        return found;
    }
    let mut ideas = distinct(estate, ideas::ideas(&reference, harmless, wish));
    // What gives to the user alone is always tried: nothing hands out less.
    let alone =
        |i: &Idea| i.changes.iter().all(|c| matches!(c, Change::Give(s) if s.who.terms == [Term::User(wish.user)]));
    ideas.sort_by_key(|i| (!alone(i), i.charge));
    ideas.truncate(MOST_IDEAS);
    found.tried = ideas.len();
    let moment = snapshot.moment();
    // Most ideas touch the user alone; then nobody else need be looked at.
    let small = UserSubset::one(wish.user).estate(estate);
    let turns = |idea: &Idea| !snapshot.is_stopped() && turns(estate, &small, moment, wish, &idea.changes);
    let tried: Vec<bool> = ideas.par_iter().map(turns).collect();
    let mut helping: Vec<Idea> = Vec::new();
    let mut rest: Vec<Idea> = Vec::new();
    for (idea, helps) in ideas.into_iter().zip(tried) {
        if helps { helping.push(idea) } else { rest.push(idea) }
    }
    if helping.is_empty() {
        let pairs = pairs(&rest);
        found.tried += pairs.len();
        let tried: Vec<bool> = pairs.par_iter().map(turns).collect();
        helping = pairs.into_iter().zip(tried).filter(|(_, helps)| *helps).map(|(pair, _)| pair).collect();
        helping.sort_by_key(|i| i.charge);
        helping.truncate(MOST_PAIRED);
    }
    let helpful = helping.len();
    let mut list = measure((snapshot, &small), wish, harmless, &helping, most);
    list.sort_by(|a, b| {
        let key = |r: &Remedy| (rank(wish, &r.power), r.cost, r.radius.triples());
        key(a).cmp(&key(b)).then_with(|| words(a).cmp(&words(b)))
    });
    list.truncate(most);
    found.left_out = helpful - list.len();
    found.list = list;
    found
}

/// What the order goes by first.
fn rank(wish: Wish, power: &Power) -> u64 {
    if wish.wanted { power.triples } else { 0 }
}

fn words(remedy: &Remedy) -> Vec<&str> {
    remedy.changes.iter().map(|c| c.words.as_str()).collect()
}

fn distinct(estate: &Estate, ideas: Vec<Idea>) -> Vec<Idea> {
    let mut seen: HashSet<Vec<[String; 2]>> = HashSet::new();
    let key = |idea: &Idea| idea.changes.iter().map(|c| describe(estate, c).option).collect();
    ideas.into_iter().filter(|idea| seen.insert(key(idea))).collect()
}

/// Whether the changes give the wished outcome. `small`: the estate with the user alone.
fn turns(estate: &Estate, small: &Estate, moment: &Moment, wish: Wish, changes: &[Change]) -> bool {
    let (after, wish) = match UserSubset::one(wish.user).changes(estate, changes) {
        Some(changes) => (apply(small, &changes), Wish { user: UserId(0), ..wish }),
        None => (apply(estate, changes), wish),
    };
    let Ok(after) = after else { return false };
    let Ok(reference) = ReferenceEvaluator::new(&after, moment) else { return false };
    reference.decide(wish.user, wish.action, wish.resource).is_allowed() == wish.wanted
}

fn pairs(ideas: &[Idea]) -> Vec<Idea> {
    let single: Vec<&Idea> = ideas.iter().filter(|i| i.changes.len() == 1).take(MOST_PAIRED).collect();
    let mut pairs = Vec::new();
    for (i, a) in single.iter().enumerate() {
        for b in &single[i + 1..] {
            let changes = vec![a.changes[0].clone(), b.changes[0].clone()];
            let hint = a.hint.clone().or_else(|| b.hint.clone());
            pairs.push(Idea { changes, charge: a.charge + b.charge, hint, mends: a.mends && b.mends });
        }
    }
    pairs
}

/// Works out how far each remedy reaches. A
/// remedy that already costs more than the `most` best is dropped before it is measured whole:
/// further triples only make it dearer.
fn measure(
    (before, small): (&Snapshot, &Estate),
    wish: Wish,
    harmless: &[String],
    ideas: &[Idea],
    most: usize,
) -> Vec<Remedy> {
    let estate = before.estate();
    let Ok(alone) = Snapshot::new(small, before.moment()) else { return Vec::new() };
    let best = Best { most, costs: Mutex::new(Vec::new()) };
    let cores = rayon::current_num_threads().max(1);
    let measured = (0..cores).into_par_iter().map(|core| {
        // Those that touch the user alone are quickly measured, and then bound the others.
        let mut share: Vec<&Idea> = ideas.iter().skip(core).step_by(cores).collect();
        share.sort_by_key(|idea| UserSubset::one(wish.user).changes(estate, &idea.changes).is_none());
        let measured = |idea: &Idea| match UserSubset::one(wish.user).changes(estate, &idea.changes) {
            Some(changes) => {
                let wish = Wish { user: UserId(0), ..wish };
                let measured = one(&alone, small, &changes, wish, harmless, idea, &best)?;
                // Told in the words of the whole estate.
                let told = idea.changes.iter().map(|c| describe(estate, c)).collect();
                Some(Remedy { changes: told, ..measured })
            }
            None => one(before, estate, &idea.changes, wish, harmless, idea, &best),
        };
        before.until_stopped(share).filter_map(measured).collect::<Vec<Remedy>>()
    });
    measured.flatten().collect()
}

/// The power and the costs of the best remedies so far.
struct Best {
    most: usize,
    costs: Mutex<Vec<(u64, u32)>>,
}

impl Best {
    /// What a remedy may cost and still be among them.
    fn limit(&self) -> (u64, u32) {
        let costs = self.costs.lock().unwrap_or_else(PoisonError::into_inner);
        let all = (u64::MAX, u32::MAX);
        if costs.len() < self.most { all } else { costs.last().copied().unwrap_or(all) }
    }

    fn add(&self, cost: (u64, u32)) {
        let mut costs = self.costs.lock().unwrap_or_else(PoisonError::into_inner);
        let at = costs.partition_point(|c| *c <= cost);
        costs.insert(at, cost);
        costs.truncate(self.most);
    }
}

fn one(
    before: &Snapshot,
    estate: &Estate,
    changes: &[Change],
    wish: Wish,
    harmless: &[String],
    idea: &Idea,
    best: &Best,
) -> Option<Remedy> {
    let changed = apply(estate, changes).ok()?;
    let after = before.beside(&changed, before.moment()).ok()?;
    let limit = best.limit();
    let mut sides = cost::Sides::default();
    let mut handed: u64 = 0;
    let go_on = |shown: &Shown, turns: &[Turn]| {
        for turn in turns {
            if wish.wanted && !harmless.contains(&estate.schema().actions[turn.action as usize].name) {
                handed += u64::from(shown.count(turn.gained));
            }
            for (users, gained) in [(turn.gained, true), (turn.lost, false)] {
                let count = u64::from(shown.count(users));
                sides.add(count, shown.is_asked(users), gained == wish.wanted);
            }
        }
        // The wished triple itself may be among what is handed out.
        (handed.saturating_sub(1), cost::least(idea, &sides)) <= limit
    };
    let difference = difference_while(before, &after, Some(wish.user), go_on)?;
    let radius = radius(&difference);
    let blocks = blocks(&difference, estate, &changed, changed.groups(), harmless, MOST_BLOCKS);
    let cost = cost::cost(idea, &difference, &changed, harmless, wish);
    let power = cost::power(&difference, &changed, harmless, wish);
    best.add((rank(wish, &power), cost));
    Some(Remedy {
        changes: changes.iter().map(|c| describe(estate, c)).collect(),
        hint: idea.hint.clone(),
        power,
        cost,
        radius,
        blocks,
    })
}
