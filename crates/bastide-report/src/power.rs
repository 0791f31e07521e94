//! Who has much.

use bastide_audit::{Case, Survey, powerful};
use bastide_engine::Decision;
use bastide_engine::access::sweep;
use bastide_engine::evaluate::Decided;
use bastide_engine::sets::counter::Counter;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use serde::Serialize;
use std::convert::Infallible;

/// So many users are listed by what they may do.
const MOST: usize = 15;

/// A user who may do everything.
#[derive(Serialize)]
pub struct FullPower {
    /// The id.
    pub id: String,
    /// The name.
    pub name: String,
    /// `person`, `guest` or `service`.
    pub kind: &'static str,
    /// The statement that gives it, and its place.
    pub by: Option<(String, String)>,
    /// Each chain of groups, from the one that names the user to the statement's.
    pub chains: Vec<Vec<String>>,
    /// The lines of the data that say so.
    pub lines: Vec<String>,
}

pub(crate) fn full(case: &Case, survey: &Survey) -> Vec<FullPower> {
    let estate = case.estate;
    let found = powerful(case, survey).into_iter().map(|p| FullPower {
        id: estate.people().id(p.user).to_string(),
        name: estate.people().name(p.user).to_string(),
        kind: estate.people().kind(p.user),
        by: p.by.map(|id| (estate.statement(id).name.clone(), estate.place(estate.statement(id).origin))),
        chains: p.ways.iter().map(|w| if w.chain.is_empty() { vec![w.by.clone()] } else { w.chain.clone() }).collect(),
        lines: p.ways.iter().flat_map(|w| w.places.clone()).collect(),
    });
    found.collect()
}

/// A user, and on how many resources more than harmless things are allowed.
#[derive(Serialize)]
pub struct Weight {
    /// The id.
    pub id: String,
    /// The name.
    pub name: String,
    /// `person`, `guest` or `service`.
    pub kind: &'static str,
    /// On how many resources.
    pub resources: u64,
    /// Of a hundred resources of the estate, on how many.
    pub share: f64,
    /// The statement by which it is so on the most of them.
    pub mostly: Option<String>,
}

/// The users with the most beside those with full power, what they hold as owners included.
pub(crate) fn weights(case: &Case, survey: &Survey, full: &[FullPower]) -> Vec<Weight> {
    let estate = case.estate;
    let mut engine = survey.evaluator();
    let harmful: Vec<ActionId> =
        ActionId::all(estate.schema().actions.len()).filter(|a| !case.is_harmless(*a)).collect();
    let (mut allowed, mut any) = (engine.nobody(), engine.nobody());
    let mut single = Counter::default();
    // What is decided for everybody alike, and on how many resources.
    let mut rows: HashMap<Box<[u32]>, (FixedBitSet, u64)> = HashMap::new();
    let mut key: Vec<u32> = Vec::new();
    for resource in estate.catalog().all() {
        let work = engine.decide(resource);
        key.clear();
        let mut plain = true;
        for action in &harmful {
            plain &= work.cells(*action).is_empty();
            match work.decided(*action) {
                Decided::Base(outcome) => key.push(outcome.0),
                Decided::Open => key.push(u32::MAX),
                Decided::Wide(_) => plain = false,
            }
        }
        match rows.get_mut(&key[..]).filter(|_| plain) {
            Some((_, times)) => *times += 1,
            None => {
                any.clear();
                for action in &harmful {
                    engine.allowed_users(&work, *action, &mut allowed);
                    any.union_with(&allowed);
                }
                if plain {
                    rows.insert(key.as_slice().into(), (any.clone(), 1));
                } else {
                    single.add_list(&any, 1);
                }
            }
        }
        engine.done(work);
    }
    let mut on = vec![0u64; estate.people().len()];
    single.counts().for_each(|(user, count)| on[user as usize] = count);
    for (users, times) in rows.into_values() {
        users.ones().for_each(|user| on[user] += times);
    }
    let others = |u: &UserId| full.iter().all(|p| p.id != estate.people().id(*u));
    let mut users: Vec<UserId> = estate.people().all().filter(|u| on[u.index()] > 0).filter(others).collect();
    users.sort_by_key(|u| (std::cmp::Reverse(on[u.index()]), *u));
    users.truncate(MOST);
    // By which statements each of them may do more than is harmless. They are few, and are looked at with nobody else there.
    let mut by: HashMap<(UserId, StatementId), u64> = HashMap::new();
    let resources: Vec<ResourceId> = estate.catalog().all().collect();
    let mut seen: Vec<StatementId> = Vec::new();
    let Ok(()) = sweep(&survey.snapshot, &users, &resources, |row| {
        for (at, user) in users.iter().enumerate() {
            seen.clear();
            for action in &harmful {
                let Decision { reason, by, .. } = row.decision(at, *action);
                seen.extend(by.filter(|id| reason.is_allowed() && !seen.contains(id)));
            }
            seen.iter().for_each(|id| *by.entry((*user, *id)).or_default() += 1);
        }
        Ok::<(), Infallible>(())
    });
    let all = estate.catalog().len().max(1) as f64;
    let weigh = |user: UserId| {
        let mostly = by
            .iter()
            .filter(|((u, _), n)| *u == user && **n > 0)
            .max_by_key(|((_, id), n)| (**n, std::cmp::Reverse(*id)));
        Weight {
            id: estate.people().id(user).to_string(),
            name: estate.people().name(user).to_string(),
            kind: estate.people().kind(user),
            resources: on[user.index()],
            share: on[user.index()] as f64 * 100.0 / all,
            mostly: mostly.map(|((_, id), _)| case.named(*id)),
        }
    };
    users.into_iter().map(weigh).collect()
}
