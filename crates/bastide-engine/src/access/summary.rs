//! Totals over everybody and everything.

use super::{Profiles, Stopped};
use crate::decide::Reason;
use crate::sets::store::{SetId, SetStore};
use crate::sets::{RowId, SetEngine};
use bastide_model::*;
use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::convert::Infallible;

/// Totals of an estate. Every triple of a user, a resource and an action is counted once.
#[derive(Serialize, JsonSchema, Debug, Default)]
pub struct Summary {
    /// Users, active or not.
    pub users: usize,
    /// Of them, active.
    pub active_users: usize,
    /// Resources.
    pub resources: usize,
    /// Actions.
    pub actions: usize,
    /// Statements that are on and in date.
    pub statements: usize,
    /// Triples: users times resources times actions.
    pub triples: u64,
    /// Allowed triples by action, in declared order.
    pub allowed: serde_json::Map<String, serde_json::Value>,
    /// Allowed triples by reason.
    pub allowed_by_reason: BTreeMap<String, u64>,
    /// Refused triples by reason.
    pub refused: BTreeMap<String, u64>,
    /// Allowed triples by kind, then by action.
    pub allowed_by_kind: BTreeMap<String, BTreeMap<String, u64>>,
    /// Resources by kind.
    pub resources_by_kind: BTreeMap<String, usize>,
    /// Groups of users with identical access on every resource.
    pub profiles: usize,
    /// Different rows: resources on which everybody's access is the same count once.
    pub distinct_outcomes: usize,
}

/// Totals of everybody on everything.
///
/// # Errors
/// A decision that depends on itself.
pub fn summary(estate: &Estate, moment: &Moment) -> Result<Summary, Stopped<Infallible>> {
    let (actions, kinds) = (estate.schema.actions.len(), estate.schema.kinds.len());
    let mut engine = SetEngine::new(estate, moment).map_err(Stopped::Cycle)?;
    // How often each row occurs, by kind; nearly everything follows from the rows.
    let mut occurs: HashMap<(KindId, RowId), u64> = HashMap::new();
    // Where an owner is decided on otherwise than everybody else, that one decision is set right.
    let mut flipped: HashMap<(KindId, RowId, UserId, RowId), u64> = HashMap::new();
    for resource in estate.catalog.all() {
        let decided = engine.row(resource);
        let kind = estate.catalog.kind(resource);
        let times = match decided.owner {
            Some((owner, row)) => flipped.entry((kind, decided.others, owner, row)).or_default(),
            None => occurs.entry((kind, decided.others)).or_default(),
        };
        *times += 1;
    }
    let mut counts = Counts {
        allowed: vec![vec![0; actions]; kinds],
        reasons: [0; Reason::ALL.len()],
        profiles: Profiles::new(estate.people.len()),
        prints: Prints::default(),
        distinct: HashSet::new(),
    };
    for ((kind, row), times) in &occurs {
        counts.row(&engine, *kind, *row, *times);
        counts.outcome(&engine, *row, None);
    }
    for ((kind, row, owner, owners), times) in &flipped {
        counts.row(&engine, *kind, *row, *times);
        counts.flip(&engine, *kind, *row, (*owner, *owners), *times);
    }
    let Counts { allowed, reasons, profiles, distinct, .. } = counts;
    let name = |a: usize| estate.schema.actions[a].name.clone();
    let mut summary = Summary {
        users: estate.people.len(),
        active_users: estate.people.active.count_ones(..),
        resources: estate.catalog.len(),
        actions,
        statements: estate.statements.iter().filter(|s| s.is_on() && s.in_date(moment.date)).count(),
        triples: estate.people.len() as u64 * estate.catalog.len() as u64 * actions as u64,
        profiles: profiles.count(),
        distinct_outcomes: distinct.len(),
        ..Summary::default()
    };
    for action in 0..actions {
        let count: u64 = allowed.iter().map(|by_action| by_action[action]).sum();
        summary.allowed.insert(name(action), count.into());
    }
    for reason in Reason::ALL {
        let by = if reason.is_allowed() { &mut summary.allowed_by_reason } else { &mut summary.refused };
        by.insert(reason.word().to_string(), reasons[reason as usize]);
    }
    for (kind, by_action) in allowed.iter().enumerate() {
        let resources = estate.catalog.kinds.iter().filter(|k| k.index() == kind).count();
        if resources == 0 {
            continue;
        }
        let kind = estate.schema.kinds[kind].name.clone();
        summary.resources_by_kind.insert(kind.clone(), resources);
        summary.allowed_by_kind.insert(kind, by_action.iter().enumerate().map(|(a, n)| (name(a), *n)).collect());
    }
    Ok(summary)
}

/// What is counted, row by row.
struct Counts {
    allowed: Vec<Vec<u64>>,
    reasons: [u64; Reason::ALL.len()],
    profiles: Profiles,
    prints: Prints,
    distinct: HashSet<u128>,
}

impl Counts {
    /// Counts a row as it is for everybody.
    fn row(&mut self, engine: &SetEngine, kind: KindId, row: RowId, times: u64) {
        for (action, outcome) in engine.outcomes(row).enumerate() {
            self.allowed[kind.index()][action] += u64::from(engine.sets().count(outcome.allowed)) * times;
            for part in &outcome.parts {
                self.reasons[part.reason as usize] += u64::from(engine.sets().count(part.users)) * times;
            }
        }
    }

    /// Sets right what is otherwise for the owner.
    fn flip(&mut self, engine: &SetEngine, kind: KindId, row: RowId, (owner, owners): (UserId, RowId), times: u64) {
        let mut turned = Vec::new();
        for action in ActionId::all(self.allowed[kind.index()].len()) {
            if engine.is_same(row, owners, action) {
                continue;
            }
            let (before, after) = (engine.part_of(row, owner, action), engine.part_of(owners, owner, action));
            self.reasons[before.reason as usize] -= times;
            self.reasons[after.reason as usize] += times;
            let count = &mut self.allowed[kind.index()][action.index()];
            match (before.reason.is_allowed(), after.reason.is_allowed()) {
                (false, true) => *count += times,
                (true, false) => *count -= times,
                _ => continue,
            }
            turned.push(action);
        }
        self.outcome(engine, row, Some((owner, &turned)));
    }

    /// Takes note of who may do what, for profiles and for the number of different outcomes.
    fn outcome(&mut self, engine: &SetEngine, row: RowId, turned: Option<(UserId, &[ActionId])>) {
        let mut print = 0u128;
        for (action, outcome) in engine.outcomes(row).enumerate() {
            let flipped = turned.filter(|(_, all)| all.contains(&ActionId::new(action))).map(|(owner, _)| owner.index());
            self.profiles.refine(engine.sets(), outcome.allowed, flipped);
            let own = self.prints.of(engine.sets(), outcome.allowed) ^ flipped.map_or(0, user_print);
            // Each action weighs its set by an odd number of its own.
            print = print.wrapping_add(own.wrapping_mul(user_print(usize::MAX - action) | 1));
        }
        self.distinct.insert(print);
    }
}

/// Fingerprints of sets: two sets of a run are told apart with a chance of error of 2^-128. They
/// serve to count different outcomes without keeping a set for each.
#[derive(Default)]
struct Prints {
    known: HashMap<SetId, u128>,
}

impl Prints {
    fn of(&mut self, sets: &SetStore, set: SetId) -> u128 {
        *self.known.entry(set).or_insert_with(|| sets.users(set).fold(0, |print, user| print ^ user_print(user)))
    }
}

/// A fixed random number for each user (Steele, Lea and Flood's SplitMix, twice).
fn user_print(user: usize) -> u128 {
    let mix = |seed: u64| {
        let mut z = seed.wrapping_add(0x9e37_79b9_7f4a_7c15);
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    };
    let low = mix(user as u64);
    u128::from(mix(low ^ 0x5851_f42d_4c95_7f2d)) << 64 | u128::from(low)
}

/// Allowed pairs by user or by resource: an id and one count an action.
#[derive(Debug)]
pub struct Totals {
    /// Ids in byte order.
    pub rows: Vec<(String, Vec<u64>)>,
}

/// For each user (or, otherwise, each resource) the number of allowed pairs by action.
///
/// # Errors
/// A decision that depends on itself.
pub fn totals(estate: &Estate, moment: &Moment, by_user: bool) -> Result<Totals, Stopped<Infallible>> {
    let actions = estate.schema.actions.len();
    let count = if by_user { estate.people.len() } else { estate.catalog.len() };
    let mut counts = vec![vec![0u64; actions]; count];
    let mut engine = SetEngine::new(estate, moment).map_err(Stopped::Cycle)?;
    let mut occurs: HashMap<(usize, SetId), u64> = HashMap::new();
    for resource in estate.catalog.all() {
        let decided = engine.row(resource);
        for (action, outcome) in engine.outcomes(decided.others).enumerate() {
            match by_user {
                true => *occurs.entry((action, outcome.allowed)).or_default() += 1,
                false => counts[resource.index()][action] = u64::from(engine.sets().count(outcome.allowed)),
            }
        }
        if let Some((owner, owners)) = decided.owner {
            let at = if by_user { owner.index() } else { resource.index() };
            for action in ActionId::all(actions).filter(|a| !engine.is_same(decided.others, owners, *a)) {
                let allows = |row| engine.part_of(row, owner, action).reason.is_allowed();
                // Sums may pass below nothing on the way; wrapping brings them back.
                let turn = i64::from(allows(owners)) - i64::from(allows(decided.others));
                counts[at][action.index()] = counts[at][action.index()].wrapping_add_signed(turn);
            }
        }
    }
    for ((action, set), times) in occurs {
        engine.sets().users(set).for_each(|user| counts[user][action] = counts[user][action].wrapping_add(times));
    }
    let id = |at: usize| {
        let id = if by_user { estate.people.id(UserId::new(at)) } else { estate.catalog.id(ResourceId::new(at)) };
        id.to_string()
    };
    let mut rows: Vec<(String, Vec<u64>)> = counts.into_iter().enumerate().map(|(at, row)| (id(at), row)).collect();
    rows.sort();
    Ok(Totals { rows })
}
