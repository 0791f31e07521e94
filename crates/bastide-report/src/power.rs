//! Who has much.

use bastide_audit::{Case, Survey, powerful};
use bastide_engine::sets::store::SetId;
use bastide_engine::sets::{RowId, SetEngine};
use bastide_model::*;
use hashbrown::HashMap;
use serde::Serialize;

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
        id: estate.people.id(p.user).to_string(),
        name: estate.people.name(p.user).to_string(),
        kind: estate.people.kind(p.user),
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
    let mut engine = survey.engine.borrow_mut();
    let mut rows: HashMap<(KindId, RowId), u64> = HashMap::new();
    // By owner and the rows for others and for owners: on how many resources.
    let mut owned: HashMap<(UserId, RowId, RowId), u64> = HashMap::new();
    for resource in estate.catalog.all() {
        let decided = engine.row(resource);
        *rows.entry((estate.catalog.kind(resource), decided.others)).or_default() += 1;
        if let Some((owner, row)) = decided.owner {
            *owned.entry((owner, decided.others, row)).or_default() += 1;
        }
    }
    let harmful: Vec<ActionId> = ActionId::all(estate.schema.actions.len()).filter(|a| !case.is_harmless(*a)).collect();
    let mut on = vec![0u64; estate.people.len()];
    for ((_, row), times) in &rows {
        let mut all = SetId::NONE;
        for action in &harmful {
            let allowed = engine.outcome(*row, *action).allowed;
            all = engine.either(all, allowed);
        }
        engine.sets().users(all).for_each(|u| on[u] += times);
    }
    let may = |engine: &SetEngine, row: RowId, user: UserId| {
        harmful.iter().any(|action| engine.sets().contains(engine.outcome(row, *action).allowed, user.index()))
    };
    for ((owner, other, own), times) in &owned {
        let (as_other, as_owner) = (may(&engine, *other, *owner), may(&engine, *own, *owner));
        match (as_other, as_owner) {
            (false, true) => on[owner.index()] += times,
            (true, false) => on[owner.index()] -= times,
            _ => {}
        }
    }
    let others = |u: &UserId| full.iter().all(|p| p.id != estate.people.id(*u));
    let mut users: Vec<UserId> = estate.people.all().filter(|u| on[u.index()] > 0).filter(others).collect();
    users.sort_by_key(|u| (std::cmp::Reverse(on[u.index()]), *u));
    users.truncate(MOST);
    let mut by: HashMap<(UserId, StatementId), u64> = HashMap::new();
    // By which statements somebody may do more than is harmless, by a row.
    let givers = |row: RowId, user: UserId| {
        let mut seen: Vec<StatementId> = Vec::new();
        for action in &harmful {
            let part = engine.part_of(row, user, *action);
            seen.extend(part.by.filter(|id| part.reason.is_allowed() && !seen.contains(id)));
        }
        seen
    };
    for ((_, row), times) in &rows {
        for user in &users {
            givers(*row, *user).into_iter().for_each(|id| *by.entry((*user, id)).or_default() += times);
        }
    }
    for ((owner, other, own), times) in owned.iter().filter(|((owner, ..), _)| users.contains(owner)) {
        givers(*other, *owner).into_iter().for_each(|id| *by.entry((*owner, id)).or_default() -= times);
        givers(*own, *owner).into_iter().for_each(|id| *by.entry((*owner, id)).or_default() += times);
    }
    let all = estate.catalog.len().max(1) as f64;
    let weigh = |user: UserId| {
        let mostly = by
            .iter()
            .filter(|((u, _), n)| *u == user && **n > 0)
            .max_by_key(|((_, id), n)| (**n, std::cmp::Reverse(*id)));
        Weight {
            id: estate.people.id(user).to_string(),
            name: estate.people.name(user).to_string(),
            kind: estate.people.kind(user),
            resources: on[user.index()],
            share: on[user.index()] as f64 * 100.0 / all,
            mostly: mostly.map(|((_, id), _)| case.named(*id)),
        }
    };
    users.into_iter().map(weigh).collect()
}
