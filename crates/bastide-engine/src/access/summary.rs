//! Totals over everybody and everything.

use super::{Profiles, Stopped};
use crate::decide::Reason;
use crate::sets::store::{SetId, SetStore};
use crate::sets::{Outcome, RowId, SetEngine};
use bastide_model::*;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;
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

/// Is told of every so many resources that are done.
pub type Done<'d> = &'d (dyn Fn(u64) + Sync);

/// How many resources are told of at a time.
const TOLD: u32 = 4096;

/// Totals of everybody on everything.
///
/// # Errors
/// A decision that depends on itself.
pub fn summary(estate: &Estate, moment: &Moment, done: Done) -> Result<Summary, Stopped<Infallible>> {
    let actions = estate.schema.actions.len();
    let mut engines = vec![SetEngine::new(estate, moment).map_err(Stopped::Cycle)?];
    let shares = shares(estate.catalog.len(), SMALLEST_SHARE);
    for _ in 1..shares.len() {
        // Where statements reach is worked out once for all of them.
        engines.push(engines[0].beside(estate, moment).map_err(Stopped::Cycle)?);
    }
    let counted = engines.into_par_iter().zip(shares).map(|(engine, share)| Counts::of(engine, share, done));
    let mut parts = counted.collect::<Vec<Counts>>().into_iter();
    let mut whole = parts.next().expect("there is at least one share");
    parts.for_each(|part| whole.add(part));
    let Counts { allowed, reasons, profiles, distinct, .. } = whole;
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

/// A catalog of so many resources in shares, one for each core, none smaller than `smallest`. What a share needs from
/// elsewhere, its engine finds.
pub fn shares(resources: usize, smallest: usize) -> Vec<std::ops::Range<u32>> {
    let count = rayon::current_num_threads().min(resources / smallest).max(1);
    let cut = |i: usize| (resources * i / count) as u32;
    (0..count).map(|i| cut(i)..cut(i + 1)).collect()
}

/// Below so many resources a share of their own is not worth an engine.
const SMALLEST_SHARE: usize = 20_000;

/// What is counted of a share of the resources.
struct Counts {
    /// By kind and action.
    allowed: Vec<Vec<u64>>,
    reasons: [u64; Reason::ALL.len()],
    profiles: Profiles,
    distinct: HashSet<u128>,
    /// Actions that are otherwise for an owner; kept for its room.
    turned: Vec<usize>,
}

impl Counts {
    fn of(mut engine: SetEngine, share: std::ops::Range<u32>, done: Done) -> Counts {
        let estate = engine.estate();
        let (actions, kinds) = (estate.schema.actions.len(), estate.schema.kinds.len());
        let mut counts = Counts {
            allowed: vec![vec![0; actions]; kinds],
            reasons: [0; Reason::ALL.len()],
            profiles: Profiles::new(estate.people.len()),
            distinct: HashSet::new(),
            turned: Vec::new(),
        };
        let mut prints = Prints::default();
        // How often each row occurs, by kind, and whether anywhere it is everybody's.
        let mut occurs: Vec<Vec<u64>> = vec![Vec::new(); kinds];
        let mut plain: Vec<bool> = Vec::new();
        for resource in share.map(ResourceId) {
            if resource.0 % TOLD == 0 {
                done(u64::from(TOLD));
            }
            let decided = engine.row(resource);
            let kind = estate.catalog.kind(resource).index();
            let row = decided.others.index();
            if occurs[kind].len() <= row {
                occurs[kind].resize(row + 1, 0);
            }
            occurs[kind][row] += 1;
            plain.resize(plain.len().max(row + 1), false);
            match decided.owner {
                Some(owner) => {
                    if !counts.flip(&engine, kind, decided.others, owner, &mut prints) {
                        plain[row] = true;
                    }
                }
                None => plain[row] = true,
            }
        }
        for (kind, rows) in occurs.iter().enumerate() {
            for (row, times) in rows.iter().enumerate().filter(|(_, times)| **times > 0) {
                counts.row(&engine, kind, RowId::new(row), *times);
            }
        }
        for row in (0..plain.len()).filter(|row| plain[*row]) {
            counts.outcome(&engine, RowId::new(row), None, &mut prints);
        }
        counts
    }

    /// Counts a row as it is for everybody.
    fn row(&mut self, engine: &SetEngine, kind: usize, row: RowId, times: u64) {
        for (action, outcome) in engine.outcomes(row).enumerate() {
            let count = &mut self.allowed[kind][action];
            *count = count.wrapping_add(u64::from(engine.sets().count(outcome.allowed)) * times);
            for part in &outcome.parts {
                let count = &mut self.reasons[part.reason as usize];
                *count = count.wrapping_add(u64::from(engine.sets().count(part.users)) * times);
            }
        }
    }

    /// Sets right what is otherwise for the owner of one resource. False where nothing is allowed
    /// or refused otherwise. Sums may pass below nothing on the way; wrapping brings them back.
    fn flip(
        &mut self,
        engine: &SetEngine,
        kind: usize,
        row: RowId,
        owner: (UserId, RowId),
        prints: &mut Prints,
    ) -> bool {
        let (owner, owners) = owner;
        let mut turned = std::mem::take(&mut self.turned);
        turned.clear();
        for action in ActionId::all(self.allowed[kind].len()) {
            if engine.is_same(row, owners, action) {
                continue;
            }
            let (before, after) = (engine.part_of(row, owner, action), engine.part_of(owners, owner, action));
            let reasons = &mut self.reasons;
            reasons[before.reason as usize] = reasons[before.reason as usize].wrapping_sub(1);
            reasons[after.reason as usize] = reasons[after.reason as usize].wrapping_add(1);
            let turn = i64::from(after.reason.is_allowed()) - i64::from(before.reason.is_allowed());
            let count = &mut self.allowed[kind][action.index()];
            *count = count.wrapping_add_signed(turn);
            if turn != 0 {
                turned.push(action.index());
            }
        }
        if !turned.is_empty() {
            self.outcome(engine, row, Some((owner, &turned)), prints);
        }
        self.turned = turned;
        !self.turned.is_empty()
    }

    /// Takes note of who may do what, for profiles and for the number of different outcomes.
    /// `turned`: the actions that are otherwise for one user.
    fn outcome(&mut self, engine: &SetEngine, row: RowId, turned: Option<(UserId, &[usize])>, prints: &mut Prints) {
        let mut print = prints.of_row(engine, row);
        if let Some((owner, actions)) = turned {
            for &action in actions {
                let set = engine.outcome(row, ActionId::new(action)).allowed;
                print = print.wrapping_add(Prints::turn(engine.sets(), set, owner).wrapping_mul(weight(action)));
                self.profiles.refine(engine.sets(), set, Some(owner.index()));
            }
        }
        if !self.distinct.insert(print) {
            return;
        }
        for (action, outcome) in engine.outcomes(row).enumerate() {
            if turned.is_none_or(|(_, actions)| !actions.contains(&action)) {
                self.profiles.refine(engine.sets(), outcome.allowed, None);
            }
        }
    }

    /// Adds another share.
    fn add(&mut self, other: Counts) {
        let pairs = self.allowed.iter_mut().flatten().zip(other.allowed.iter().flatten());
        pairs.for_each(|(sum, more)| *sum = sum.wrapping_add(*more));
        self.reasons.iter_mut().zip(other.reasons).for_each(|(sum, more)| *sum = sum.wrapping_add(more));
        self.profiles.meet(&other.profiles);
        self.distinct.extend(other.distinct);
    }
}

/// Fingerprints of sets: the sum of their words, each times an odd random number of 128 bits
/// (multilinear hashing). Two different sets have the same with a chance of at most 2^-64. They
/// serve to count different outcomes without keeping a set for each.
#[derive(Default)]
struct Prints {
    known: HashMap<SetId, u128>,
    rows: Vec<Option<u128>>,
}

impl Prints {
    fn of(&mut self, sets: &SetStore, set: SetId) -> u128 {
        *self.known.entry(set).or_insert_with(|| {
            let words = sets.row(set).iter().enumerate();
            words.fold(0, |print, (i, word)| print.wrapping_add(u128::from(*word).wrapping_mul(random(i))))
        })
    }

    /// What the fingerprint of a set grows by where one user goes over to the other side.
    fn turn(sets: &SetStore, set: SetId, user: UserId) -> u128 {
        let bit = random(user.index() / 64) << (user.index() % 64);
        if sets.contains(set, user.index()) { bit.wrapping_neg() } else { bit }
    }

    fn of_row(&mut self, engine: &SetEngine, row: RowId) -> u128 {
        if self.rows.len() <= row.index() {
            self.rows.resize(row.index() + 1, None);
        }
        if let Some(known) = self.rows[row.index()] {
            return known;
        }
        let weighed =
            |(action, outcome): (usize, &Outcome)| self.of(engine.sets(), outcome.allowed).wrapping_mul(weight(action));
        let print = engine.outcomes(row).enumerate().map(weighed).fold(0u128, u128::wrapping_add);
        self.rows[row.index()] = Some(print);
        print
    }
}

/// Each action weighs its set by a number of its own.
fn weight(action: usize) -> u128 {
    random(usize::MAX - action)
}

/// A fixed odd number for each place (Steele, Lea and Flood's SplitMix, twice).
fn random(place: usize) -> u128 {
    let mix = |seed: u64| {
        let mut z = seed.wrapping_add(0x9e37_79b9_7f4a_7c15);
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    };
    let low = mix(place as u64);
    (u128::from(mix(low ^ 0x5851_f42d_4c95_7f2d)) << 64 | u128::from(low)) | 1
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
pub fn totals(estate: &Estate, moment: &Moment, by_user: bool, done: Done) -> Result<Totals, Stopped<Infallible>> {
    let actions = estate.schema.actions.len();
    let count = if by_user { estate.people.len() } else { estate.catalog.len() };
    let mut counts = vec![vec![0u64; actions]; count];
    let mut engine = SetEngine::new(estate, moment).map_err(Stopped::Cycle)?;
    let mut occurs: HashMap<(usize, SetId), u64> = HashMap::new();
    for resource in estate.catalog.all() {
        if resource.0 % TOLD == 0 {
            done(u64::from(TOLD));
        }
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
