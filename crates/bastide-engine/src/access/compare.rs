//! Two users side by side, or a user beside the members of a group: how much each can do, and then
//! only what one can and the other cannot, with the cause of each difference.

use super::person::KindCount;
use crate::decide::{Reason, ReferenceEvaluator, targets};
use crate::difference::{Fold, fold};
use crate::explain::{StatementRef, Way, ways};
use crate::inside::{RowsSeen, rows_seen};
use crate::snapshot::Snapshot;
use bastide_model::show;
use bastide_model::*;
use std::collections::BTreeMap;

/// Who stands beside whom.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Beside {
    /// Another user.
    User(UserId),
    /// The active members of a group.
    Group(GroupId),
}

/// One side.
#[derive(Debug)]
pub struct Party {
    /// A user's id, or a group's.
    pub id: String,
    /// The name.
    pub name: String,
    /// `user` or `group`.
    pub sort: String,
    /// How many users it speaks of.
    pub users: usize,
    /// By kind how many resources there are, and how many of them by action; of a group what every
    /// member can do.
    pub counts: Vec<KindCount>,
    /// By kind, in the same order, on how many anything is allowed.
    pub touched: Vec<usize>,
    /// What a user gets of datasets of which is told what lies inside; nothing of a group.
    pub rows: Vec<RowsSeen>,
}

/// Two sides compared.
#[derive(Debug)]
pub struct Comparison {
    /// The user.
    pub left: Party,
    /// The other user, or the group.
    pub right: Party,
    /// Pairs of action and resource that both can do.
    pub same: u64,
    /// What only the left one can: of a group, what no member can.
    pub only_left: Vec<Apart>,
    /// What only the right one can: of a group, what every member can.
    pub only_right: Vec<Apart>,
}

/// What one side can and the other cannot, for one cause.
#[derive(Debug)]
pub struct Apart {
    /// The actions.
    pub actions: Vec<String>,
    /// The places.
    pub places: Vec<Fold>,
    /// How many resources.
    pub resources: usize,
    /// Pairs of action and resource.
    pub pairs: u64,
    /// What permits it.
    pub by: Option<StatementRef>,
    /// How that reaches the one who can.
    pub ways: Vec<Way>,
    /// Why the other cannot.
    pub reason: Reason,
    /// What decides against the other, where something does.
    pub against: Option<StatementRef>,
    /// How that reaches the other.
    pub against_ways: Vec<Way>,
    /// The need that is not met, for one of the resources, where that is the reason.
    pub need: Option<String>,
}

/// What decides on both sides, by statement and reason.
type BothCauses = (Option<StatementId>, Reason, Option<StatementId>);

/// Compares a user with another, or with the active members of a group.
pub fn compare(snapshot: &Snapshot, left: UserId, right: Beside) -> Comparison {
    let (estate, reference) = (snapshot.estate(), snapshot.reference());
    let mut engine = snapshot.evaluator();
    let mut members = engine.nobody();
    let others: Vec<UserId> = match right {
        Beside::User(user) => vec![user],
        Beside::Group(group) => estate
            .people()
            .all()
            .filter(|u| *u != left && estate.people().is_active(*u) && reference.member(*u, group).is_true())
            .collect(),
    };
    others.iter().for_each(|user| members.insert(user.index()));
    let (mut allowed, none) = (engine.nobody(), others.is_empty());
    let mut sides = [KindTally::new(estate), KindTally::new(estate)];
    let mut same = 0;
    let mut apart: [BTreeMap<BothCauses, BTreeMap<ResourceId, Vec<usize>>>; 2] = [BTreeMap::new(), BTreeMap::new()];
    for resource in estate.catalog().all() {
        let mut work = engine.decide(resource);
        let mut can = [Vec::new(), Vec::new()];
        for action in ActionId::all(estate.schema().actions.len()) {
            engine.allowed_users(&work, action, &mut allowed);
            let (a, any) = (allowed.contains(left.index()), !allowed.is_disjoint(&members));
            let every = any && !none && members.is_subset(&allowed);
            if a {
                can[0].push(action.index());
            }
            if every {
                can[1].push(action.index());
            }
            same += u64::from(a && every);
            let side = match (a, every, any) {
                (true, _, false) => 0,
                (false, true, _) => 1,
                _ => continue,
            };
            let Some(first) = others.first().copied() else { continue };
            let (has, lacks) = if side == 0 { (left, first) } else { (first, left) };
            let (_, by) = engine.cause_in(&mut work, action, has);
            let (reason, against) = engine.cause_in(&mut work, action, lacks);
            let cause = (by, reason, against);
            apart[side].entry(cause).or_default().entry(resource).or_default().push(action.index());
        }
        engine.done(work);
        for (tally, can) in sides.iter_mut().zip(&can) {
            tally.add(estate.catalog().kind(resource), can);
        }
    }
    let [left_tally, right_tally] = sides;
    let name = |user: UserId| (estate.people().id(user).to_string(), estate.people().name(user).to_string());
    let (left_id, left_name) = name(left);
    let (sort, (right_id, right_name)) = match right {
        Beside::User(user) => ("user", name(user)),
        Beside::Group(group) => {
            let names = estate.groups();
            ("group", (names.id(group).to_string(), names.name(group).to_string()))
        }
    };
    let [only_left, only_right] = apart;
    let first = others.first().copied();
    let told =
        |causes: BTreeMap<BothCauses, BTreeMap<ResourceId, Vec<usize>>>, has: Option<UserId>, lacks: Option<UserId>| {
            let (Some(has), Some(lacks)) = (has, lacks) else { return Vec::new() };
            let mut list: Vec<Apart> =
                causes.into_iter().flat_map(|(cause, at)| tell(&reference, has, lacks, cause, at)).collect();
            list.sort_by_key(|a| std::cmp::Reverse(a.pairs));
            list
        };
    let rows = |user: Option<UserId>| user.map_or(Vec::new(), |user| rows_seen(snapshot, user, None));
    let left_party = left_tally.party(estate, left_id, left_name, "user", 1);
    let right_party = right_tally.party(estate, right_id, right_name, sort, others.len());
    Comparison {
        left: Party { rows: rows(Some(left)), ..left_party },
        right: Party { rows: rows(first.filter(|_| sort == "user")), ..right_party },
        same,
        only_left: told(only_left, Some(left), first),
        only_right: told(only_right, first, Some(left)),
    }
}

/// One cause, cut into parts with the same actions.
fn tell(
    reference: &ReferenceEvaluator,
    has: UserId,
    lacks: UserId,
    cause: BothCauses,
    at: BTreeMap<ResourceId, Vec<usize>>,
) -> Vec<Apart> {
    let estate = reference.estate();
    let (by, reason, against) = cause;
    let mut by_actions: BTreeMap<Vec<usize>, Vec<ResourceId>> = BTreeMap::new();
    for (resource, actions) in at {
        by_actions.entry(actions).or_default().push(resource);
    }
    let chain = |id: Option<StatementId>, user: UserId, resource: ResourceId| {
        id.map_or(Vec::new(), |id| ways(reference, estate.statement(id), user, Some(resource)))
    };
    let apart = by_actions.into_iter().map(|(actions, resources)| Apart {
        places: fold(estate.catalog(), &resources, 4),
        resources: resources.len(),
        pairs: actions.len() as u64 * resources.len() as u64,
        actions: actions.iter().map(|a| estate.schema().actions[*a].name.clone()).collect(),
        by: by.map(|id| StatementRef::new(estate, id)),
        ways: chain(by, has, resources[0]),
        reason,
        against: against.map(|id| StatementRef::new(estate, id)),
        against_ways: chain(against, lacks, resources[0]),
        need: need(reference, lacks, ActionId::new(actions[0]), resources[0]),
    });
    apart.collect()
}

/// The need that keeps a user from an action, in words.
fn need(reference: &ReferenceEvaluator, user: UserId, action: ActionId, resource: ResourceId) -> Option<String> {
    let estate = reference.estate();
    let need = reference.decide(user, action, resource).need?;
    let name = &estate.schema().actions[need.action.index()].name;
    let refused = |r: &ResourceId| !reference.allows(user, need.action, *r);
    Some(match targets(estate, resource, need.target).found.into_iter().find(refused) {
        Some(target) => format!("{name} on `{}`", estate.catalog().path(target)),
        None => format!("{name} on {}", show::target(estate, need.target)),
    })
}

/// Counts by kind.
struct KindTally {
    all: Vec<usize>,
    touched: Vec<usize>,
    allowed: Vec<Vec<usize>>,
}

impl KindTally {
    fn new(estate: &Estate) -> KindTally {
        let kinds = estate.schema().kinds.len();
        KindTally {
            all: vec![0; kinds],
            touched: vec![0; kinds],
            allowed: vec![vec![0; estate.schema().actions.len()]; kinds],
        }
    }

    fn add(&mut self, kind: KindId, can: &[usize]) {
        self.all[kind.index()] += 1;
        self.touched[kind.index()] += usize::from(!can.is_empty());
        can.iter().for_each(|a| self.allowed[kind.index()][*a] += 1);
    }

    fn party(self, estate: &Estate, id: String, name: String, sort: &str, users: usize) -> Party {
        let kinds: Vec<usize> = (0..self.all.len()).filter(|k| self.all[*k] > 0).collect();
        let named = |counts: &[usize]| {
            estate.schema().actions.iter().map(|a| a.name.clone()).zip(counts.iter().copied()).collect::<Vec<_>>()
        };
        Party {
            rows: Vec::new(),
            id,
            name,
            sort: sort.to_string(),
            users,
            touched: kinds.iter().map(|k| self.touched[*k]).collect(),
            counts: kinds
                .into_iter()
                .map(|k| KindCount {
                    kind: estate.schema().kinds[k].name.clone(),
                    resources: self.all[k],
                    allowed: named(&self.allowed[k]),
                })
                .collect(),
        }
    }
}
