//! Remedies: small changes that would give a decision the wished outcome.
//!
//! [`ideas`] names what could help, from what the decision hangs on; nothing it names is believed.
//! Each idea is made on a copy of the estate and the decision asked again; what does not turn it
//! drops out. Of what is left the whole blast radius is worked out by the set engine, and the list
//! is put in the order of what a remedy costs ([`cost`]): few side effects first, and of remedies
//! alike in that, the one that mends a cause before the one that covers it up.
//!
//! Where no single change helps, pairs of ideas are tried.

mod affinity;
mod cost;
mod ideas;
mod values;

use crate::change::{Change, Described, apply, describe};
use crate::decide::Judge;
use crate::difference::{Block, Radius, blocks, difference, radius};
use crate::sets::SetEngine;
use bastide_model::*;
use hashbrown::HashSet;
use ideas::Idea;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

/// Single ideas that are tried at most.
const MOST_IDEAS: usize = 80;
/// Ideas that are paired with each other where none helps alone.
const MOST_PAIRED: usize = 28;

/// One remedy.
#[derive(Clone, Serialize, JsonSchema, Debug)]
pub struct Remedy {
    /// What to change: one change, or two that only help together.
    pub changes: Vec<Described>,
    /// Why this one is likely, where something speaks for it.
    pub hint: Option<String>,
    /// Its whole blast radius, the wished triple included.
    pub radius: Radius,
    /// Who gains and who loses what besides.
    pub blocks: Vec<Block>,
    /// What the order goes by: less is better.
    pub cost: u32,
}

/// What would turn a decision.
#[derive(Clone, Serialize, JsonSchema, Debug)]
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
pub fn remedies(judge: &Judge, wish: Wish, harmless: &[String], most: usize) -> Remedies {
    let estate = judge.estate();
    let already = judge.decide(wish.user, wish.action, wish.resource).is_allowed() == wish.wanted;
    let mut found = Remedies { wanted: wish.wanted, already, tried: 0, list: Vec::new(), left_out: 0 };
    if already {
        return found;
    }
    let mut ideas = distinct(estate, ideas::ideas(judge, wish));
    ideas.sort_by_key(|i| i.charge);
    ideas.truncate(MOST_IDEAS);
    found.tried = ideas.len();
    let moment = judge.moment();
    let tried: Vec<bool> = ideas.par_iter().map(|idea| turns(estate, moment, wish, &idea.changes)).collect();
    let mut helping: Vec<Idea> = Vec::new();
    let mut rest: Vec<Idea> = Vec::new();
    for (idea, helps) in ideas.into_iter().zip(tried) {
        if helps { helping.push(idea) } else { rest.push(idea) }
    }
    if helping.is_empty() {
        let pairs = pairs(&rest);
        found.tried += pairs.len();
        let tried: Vec<bool> = pairs.par_iter().map(|pair| turns(estate, moment, wish, &pair.changes)).collect();
        helping = pairs.into_iter().zip(tried).filter(|(_, helps)| *helps).map(|(pair, _)| pair).collect();
        helping.sort_by_key(|i| i.charge);
        helping.truncate(MOST_PAIRED);
    }
    let measured = measure(estate, moment, wish, harmless, &helping);
    let mut list: Vec<Remedy> = measured;
    list.sort_by(|a, b| (a.cost, a.radius.triples()).cmp(&(b.cost, b.radius.triples())).then_with(|| words(a).cmp(&words(b))));
    found.left_out = list.len().saturating_sub(most);
    list.truncate(most);
    found.list = list;
    found
}

fn words(remedy: &Remedy) -> Vec<&str> {
    remedy.changes.iter().map(|c| c.words.as_str()).collect()
}

fn distinct(estate: &Estate, ideas: Vec<Idea>) -> Vec<Idea> {
    let mut seen: HashSet<Vec<[String; 2]>> = HashSet::new();
    let key = |idea: &Idea| idea.changes.iter().map(|c| describe(estate, c).option).collect();
    ideas.into_iter().filter(|idea| seen.insert(key(idea))).collect()
}

/// Whether the changes give the wished outcome.
fn turns(estate: &Estate, moment: &Moment, wish: Wish, changes: &[Change]) -> bool {
    let Ok(after) = apply(estate, changes) else { return false };
    let Ok(judge) = Judge::new(&after, moment) else { return false };
    judge.decide(wish.user, wish.action, wish.resource).is_allowed() == wish.wanted
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

/// Works out how far each remedy reaches. Each core keeps one evaluation of the estate as it is.
fn measure(estate: &Estate, moment: &Moment, wish: Wish, harmless: &[String], ideas: &[Idea]) -> Vec<Remedy> {
    let share = ideas.len().div_ceil(rayon::current_num_threads()).max(1);
    let measured = ideas.par_chunks(share).map(|ideas| {
        let Ok(mut before) = SetEngine::new(estate, moment) else { return Vec::new() };
        ideas.iter().filter_map(|idea| one(&mut before, estate, moment, wish, harmless, idea)).collect::<Vec<Remedy>>()
    });
    measured.flatten().collect()
}

fn one(
    before: &mut SetEngine,
    estate: &Estate,
    moment: &Moment,
    wish: Wish,
    harmless: &[String],
    idea: &Idea,
) -> Option<Remedy> {
    let changed = apply(estate, &idea.changes).ok()?;
    let mut after = SetEngine::new(&changed, moment).ok()?;
    let difference = difference(before, &mut after);
    let radius = radius(&difference);
    let blocks = blocks(&difference, estate, &changed, harmless);
    let user = estate.people.id(wish.user);
    Some(Remedy {
        changes: idea.changes.iter().map(|c| describe(estate, c)).collect(),
        hint: idea.hint.clone(),
        cost: cost::cost(idea, &blocks, user, wish.wanted),
        radius,
        blocks,
    })
}
