//! Who can do one thing in one place, and through what.

use crate::decide::{Judge, Reason};
use crate::explain::{StatementRef, Way, ways};
use bastide_model::*;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// Everybody, by what decides.
#[derive(Serialize, JsonSchema, Debug)]
pub struct Holders {
    /// The action.
    pub action: String,
    /// The resource's id.
    pub resource: String,
    /// The resource's path.
    pub path: String,
    /// How many users may.
    pub allowed: usize,
    /// How many may not.
    pub refused: usize,
    /// Users who may, by the statement that lets them in, most users first.
    pub by: Vec<HoldersBy>,
    /// Users who may not, by reason and by the statement that keeps them out.
    pub not: Vec<HoldersBy>,
}

/// Users on whom one statement decides.
#[derive(Serialize, JsonSchema, Debug)]
pub struct HoldersBy {
    /// The reason.
    pub reason: Reason,
    /// The statement; none where nothing permits.
    pub statement: Option<StatementRef>,
    /// The users, in byte order of ids.
    pub users: Vec<Holder>,
}

/// One user and how the statement reaches that user.
#[derive(Serialize, JsonSchema, Debug)]
pub struct Holder {
    /// The user's id.
    pub user: String,
    /// The user's name.
    pub name: String,
    /// `person`, `guest` or `service`.
    pub kind: String,
    /// How the deciding statement reaches the user.
    pub ways: Vec<Way>,
}

/// Who holds an action on a resource. `inactive`: inactive users are listed among those who may not.
pub fn holders(judge: &Judge, action: ActionId, resource: ResourceId, inactive: bool) -> Holders {
    let estate = judge.estate();
    let mut groups: BTreeMap<(Reason, Option<StatementId>), Vec<Holder>> = BTreeMap::new();
    for user in estate.people.all() {
        if !inactive && !estate.people.is_active(user) {
            continue;
        }
        let decision = judge.decide(user, action, resource);
        let ways = decision.by.map_or(Vec::new(), |by| ways(judge, estate.statement(by), user, Some(resource)));
        groups.entry((decision.reason, decision.by)).or_default().push(Holder {
            user: estate.people.id(user).to_string(),
            name: estate.people.name(user).to_string(),
            kind: estate.people.kind(user).to_string(),
            ways,
        });
    }
    let mut all: Vec<HoldersBy> = groups
        .into_iter()
        .map(|((reason, by), users)| HoldersBy { reason, statement: by.map(|id| StatementRef::new(estate, id)), users })
        .collect();
    all.sort_by_key(|h| std::cmp::Reverse(h.users.len()));
    let (by, not): (Vec<_>, Vec<_>) = all.into_iter().partition(|h| h.reason.is_allowed());
    let count = |list: &[HoldersBy]| list.iter().map(|h| h.users.len()).sum();
    Holders {
        action: estate.schema.actions[action.index()].name.clone(),
        resource: estate.catalog.id(resource).to_string(),
        path: estate.catalog.path(resource),
        allowed: count(&by),
        refused: count(&not),
        by,
        not,
    }
}
