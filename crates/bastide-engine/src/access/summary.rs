//! Totals over everybody and everything.

use super::{Profiles, Stopped, sweep};
use crate::decide::Reason;
use bastide_model::*;
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
    let users: Vec<UserId> = estate.people.all().collect();
    let resources: Vec<ResourceId> = estate.catalog.all().collect();
    let actions = estate.schema.actions.len();
    let kinds = estate.schema.kinds.len();
    let mut allowed = vec![vec![0u64; actions]; kinds];
    let mut reasons = [0u64; Reason::ALL.len()];
    let mut profiles = Profiles::new(users.len());
    let mut distinct: hashbrown::HashSet<Vec<u64>> = hashbrown::HashSet::new();
    sweep(estate, moment, &users, &resources, |row| {
        let kind = estate.catalog.kind(row.resource).index();
        // One bit an action and user, in whole words.
        let mut bits = vec![0u64; (users.len() * actions).div_ceil(64)];
        for user in 0..users.len() {
            for (action, decision) in row.of_user(user).iter().enumerate() {
                reasons[decision.reason as usize] += 1;
                if decision.is_allowed() {
                    allowed[kind][action] += 1;
                    let bit = user * actions + action;
                    bits[bit / 64] |= 1 << (bit % 64);
                }
            }
        }
        // A row seen before splits no profile.
        if !distinct.contains(&bits) {
            let has = |user: usize, action: usize| {
                bits[(user * actions + action) / 64] >> ((user * actions + action) % 64) & 1
            };
            profiles.refine(|user| (0..actions).map(|a| has(user, a) == 1).collect::<Vec<bool>>());
            distinct.insert(bits);
        }
        Ok(())
    })?;
    let name = |a: usize| estate.schema.actions[a].name.clone();
    let mut summary = Summary {
        users: users.len(),
        active_users: estate.people.active.count_ones(..),
        resources: resources.len(),
        actions,
        statements: estate.statements.iter().filter(|s| s.is_on() && s.in_date(moment.date)).count(),
        triples: users.len() as u64 * resources.len() as u64 * actions as u64,
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
    let users: Vec<UserId> = estate.people.all().collect();
    let resources: Vec<ResourceId> = estate.catalog.all().collect();
    let actions = estate.schema.actions.len();
    let mut counts = vec![vec![0u64; actions]; if by_user { users.len() } else { resources.len() }];
    sweep(estate, moment, &users, &resources, |row| {
        for user in 0..users.len() {
            let at = if by_user { user } else { row.resource.index() };
            row.allowed(user).for_each(|action| counts[at][action.index()] += 1);
        }
        Ok(())
    })?;
    let id = |at: usize| {
        let id = if by_user { estate.people.id(UserId::new(at)) } else { estate.catalog.id(ResourceId::new(at)) };
        id.to_string()
    };
    let mut rows: Vec<(String, Vec<u64>)> = counts.into_iter().enumerate().map(|(at, row)| (id(at), row)).collect();
    rows.sort();
    Ok(Totals { rows })
}
