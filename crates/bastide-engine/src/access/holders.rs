//! Who can do one thing in one place, and through what.

use crate::decide::Reason;
use crate::explain::{StatementRef, Way, ways};
use crate::snapshot::Snapshot;

use bastide_model::*;
use std::collections::BTreeMap;

/// Everybody, by what decides.
#[derive(Debug)]
pub struct Holders {
    /// The action; of several their names, parted by commas.
    pub action: String,
    /// The resource's id.
    pub resource: String,
    /// The resource's path.
    pub path: String,
    /// How many users may.
    pub allowed: usize,
    /// How many may not.
    pub refused: usize,
    /// Users who may, by all that they can do here, most users first.
    pub profiles: Vec<HolderProfile>,
    /// Users who may, by the statement that lets them in, most users first.
    pub by: Vec<HoldersBy>,
    /// Users who may not, by reason and by the statement that keeps them out.
    pub not: Vec<HoldersBy>,
}

/// Users who can do the same on the resource.
#[derive(Debug)]
pub struct HolderProfile {
    /// What they can do, in declared order.
    pub actions: Vec<String>,
    /// Their ids, in byte order.
    pub users: Vec<String>,
}

/// Users on whom one statement decides.
#[derive(Debug)]
pub struct HoldersBy {
    /// The reason.
    pub reason: Reason,
    /// The statement; none where nothing permits.
    pub statement: Option<StatementRef>,
    /// The users, in byte order of ids.
    pub users: Vec<Holder>,
}

/// One user and how the statement reaches that user.
#[derive(Debug)]
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

/// Who holds all of some actions on a resource: of whoever does not, the first that is refused is told. `inactive`: inactive users are listed among those who may not.
pub fn holders(snapshot: &Snapshot, wanted: &[ActionId], resource: ResourceId, inactive: bool) -> Holders {
    let (estate, reference) = (snapshot.estate(), snapshot.reference());
    let mut engine = snapshot.evaluator();
    let mut work = engine.decide(resource);
    let actions = ActionId::all(estate.schema().actions.len());
    let mut groups: BTreeMap<(Reason, Option<StatementId>), Vec<Holder>> = BTreeMap::new();
    let mut profiles: BTreeMap<Vec<usize>, Vec<String>> = BTreeMap::new();
    for user in estate.people().all() {
        if !inactive && !estate.people().is_active(user) {
            continue;
        }
        let refused = wanted.iter().find(|a| !engine.allows_in(&work, **a, user));
        let Some(action) = refused.or(wanted.first()) else { continue };
        let (reason, by) = engine.cause_in(&mut work, *action, user);
        let ways = by.map_or(Vec::new(), |by| ways(&reference, estate.statement(by), user, Some(resource)));
        let id = estate.people().id(user).to_string();
        if reason.is_allowed() {
            let can = actions.clone().filter(|a| engine.allows_in(&work, *a, user)).map(ActionId::index).collect();
            profiles.entry(can).or_default().push(id.clone());
        }
        groups.entry((reason, by)).or_default().push(Holder {
            user: id,
            name: estate.people().name(user).to_string(),
            kind: estate.people().kind(user).to_string(),
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
    let name = |action: &usize| estate.schema().actions[*action].name.clone();
    let mut profiles: Vec<HolderProfile> = profiles
        .into_iter()
        .map(|(actions, users)| HolderProfile { actions: actions.iter().map(name).collect(), users })
        .collect();
    profiles.sort_by_key(|p| std::cmp::Reverse(p.users.len()));
    Holders {
        action: wanted.iter().map(|a| estate.schema().actions[a.index()].name.as_str()).collect::<Vec<_>>().join(", "),
        resource: estate.catalog().id(resource).to_string(),
        path: estate.catalog().path(resource),
        allowed: count(&by),
        refused: count(&not),
        profiles,
        by,
        not,
    }
}
