//! Totals over everybody and everything.

use super::{Profiles, Stopped};
use crate::decide::Reason;
use crate::sets::store::SetId;
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
    let resources: Vec<ResourceId> = estate.catalog.all().collect();
    let (actions, kinds) = (estate.schema.actions.len(), estate.schema.kinds.len());
    // How often each row occurs, by kind; everything else follows from the rows.
    let mut engine = SetEngine::new(estate, moment).map_err(Stopped::Cycle)?;
    let mut occurs: HashMap<(KindId, RowId), u64> = HashMap::new();
    for &resource in &resources {
        *occurs.entry((estate.catalog.kind(resource), engine.row(resource))).or_default() += 1;
    }
    let mut allowed = vec![vec![0u64; actions]; kinds];
    let mut reasons = [0u64; Reason::ALL.len()];
    let mut profiles = Profiles::new(estate.people.len());
    let mut distinct: HashSet<Vec<SetId>> = HashSet::new();
    // In the order of the rows, so that nothing depends on how a table happens to be ordered.
    let mut occurs: Vec<((KindId, RowId), u64)> = occurs.into_iter().collect();
    occurs.sort_unstable_by_key(|((kind, row), _)| (*row, *kind));
    for ((kind, row), times) in occurs {
        for (action, outcome) in engine.outcomes(row).enumerate() {
            allowed[kind.index()][action] += u64::from(engine.sets().count(outcome.allowed)) * times;
            for part in &outcome.parts {
                reasons[part.reason as usize] += u64::from(engine.sets().count(part.users)) * times;
            }
            profiles.refine(engine.sets(), outcome.allowed);
        }
        distinct.insert(engine.outcomes(row).map(|o| o.allowed).collect());
    }
    let name = |a: usize| estate.schema.actions[a].name.clone();
    let mut summary = Summary {
        users: estate.people.len(),
        active_users: estate.people.active.count_ones(..),
        resources: resources.len(),
        actions,
        statements: estate.statements.iter().filter(|s| s.is_on() && s.in_date(moment.date)).count(),
        triples: estate.people.len() as u64 * resources.len() as u64 * actions as u64,
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
        let row = engine.row(resource);
        for (action, outcome) in engine.outcomes(row).enumerate() {
            match by_user {
                true => *occurs.entry((action, outcome.allowed)).or_default() += 1,
                false => counts[resource.index()][action] = u64::from(engine.sets().count(outcome.allowed)),
            }
        }
    }
    for ((action, set), times) in occurs {
        engine.sets().users(set).for_each(|user| counts[user][action] += times);
    }
    let id = |at: usize| {
        let id = if by_user { estate.people.id(UserId::new(at)) } else { estate.catalog.id(ResourceId::new(at)) };
        id.to_string()
    };
    let mut rows: Vec<(String, Vec<u64>)> = counts.into_iter().enumerate().map(|(at, row)| (id(at), row)).collect();
    rows.sort();
    Ok(Totals { rows })
}
