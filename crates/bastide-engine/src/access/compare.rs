//! Two users side by side, or a user beside the members of a group: how much each can do, and then
//! only what one can and the other cannot, with the cause of each difference.

use super::Among;
use super::person::KindCount;
use super::summary::SMALLEST_SHARE;
use crate::decide::{Reason, ReferenceEvaluator, targets};
use crate::difference::{Fold, fold};
use crate::evaluate::Evaluator;
use crate::explain::{StatementRef, Way, ways};
use crate::inside::{RowsSeen, rows_seen};
use crate::shares::shares;
use crate::snapshot::Snapshot;
use bastide_model::show;
use bastide_model::*;
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

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

/// By cause, on which resources what actions.
type Causes = BTreeMap<BothCauses, BTreeMap<ResourceId, Vec<usize>>>;

/// Compares a user with another, or with the active members of a group.
pub fn compare(snapshot: &Snapshot, left: UserId, right: Beside) -> Comparison {
    let (estate, reference) = (snapshot.estate(), snapshot.reference());
    let others: Vec<UserId> = match right {
        Beside::User(user) => vec![user],
        Beside::Group(group) => estate
            .people()
            .all()
            .filter(|u| *u != left && estate.people().is_active(*u) && reference.member(*u, group).is_true())
            .collect(),
    };
    let among = Among::of(snapshot, &[&[left], &others[..]].concat(), estate.catalog().len());
    let ranges = shares(estate.catalog().len(), SMALLEST_SHARE);
    let mut found = ranges.into_par_iter().map(|share| Found::on(&among, share)).collect::<Vec<_>>().into_iter();
    let mut all = found.next().expect("there is one share at least");
    found.for_each(|found| all.join(found));
    let Found { sides, same, apart } = all;
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
    let mut engine = among.snapshot().evaluator();
    let mut told = |causes: Causes, positions: [usize; 2]| {
        // Of a group, the first member stands for all.
        let Some(first) = first else { return Vec::new() };
        let [has, lacks] = positions.map(|at| [left, first][at]);
        let unmet = |action: ActionId, at: ResourceId| unmet(&mut engine, among.users()[positions[1]], action, at);
        let mut list = tell((&reference, unmet), (has, lacks), causes);
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
        only_left: told(only_left, [0, 1]),
        only_right: told(only_right, [1, 0]),
    }
}

/// What was found on some of the resources.
struct Found {
    sides: [KindTally; 2],
    same: u64,
    apart: [Causes; 2],
}

impl Found {
    /// On a range of resources. `among` has the left one first, and then the others.
    fn on(among: &Among, resources: Range<u32>) -> Found {
        let estate = among.snapshot().estate();
        let (left, others) = among.users().split_first().expect("the left one is asked for");
        let mut engine = among.snapshot().evaluator();
        let (mut members, mut allowed) = (engine.nobody(), engine.nobody());
        others.iter().for_each(|user| members.insert(user.index()));
        let mut found =
            Found { sides: [KindTally::new(estate), KindTally::new(estate)], same: 0, apart: Default::default() };
        for resource in resources.map(ResourceId) {
            let mut work = engine.decide(resource);
            let mut can = [Vec::new(), Vec::new()];
            for action in ActionId::all(estate.schema().actions.len()) {
                engine.allowed_users(&work, action, &mut allowed);
                let (a, any) = (allowed.contains(left.index()), !allowed.is_disjoint(&members));
                let every = any && !others.is_empty() && members.is_subset(&allowed);
                if a {
                    can[0].push(action.index());
                }
                if every {
                    can[1].push(action.index());
                }
                found.same += u64::from(a && every);
                let side = match (a, every, any) {
                    (true, _, false) => 0,
                    (false, true, _) => 1,
                    _ => continue,
                };
                let Some(first) = others.first() else { continue };
                let (has, lacks) = if side == 0 { (left, first) } else { (first, left) };
                let (_, by) = engine.cause_in(&mut work, action, *has);
                let (reason, against) = engine.cause_in(&mut work, action, *lacks);
                let cause = (by, reason, against);
                found.apart[side].entry(cause).or_default().entry(resource).or_default().push(action.index());
            }
            engine.done(work);
            for (tally, can) in found.sides.iter_mut().zip(&can) {
                tally.add(estate.catalog().kind(resource), can);
            }
        }
        found
    }

    /// Adds what was found on the resources that follow.
    fn join(&mut self, next: Found) {
        self.same += next.same;
        self.sides.iter_mut().zip(&next.sides).for_each(|(tally, next)| tally.join(next));
        for (apart, next) in self.apart.iter_mut().zip(next.apart) {
            next.into_iter().for_each(|(cause, at)| apart.entry(cause).or_default().extend(at));
        }
    }
}

/// Causes, each cut into parts with the same actions. `unmet` gives the need that is not met for the one who lacks an action.
fn tell(
    (reference, mut unmet): (&ReferenceEvaluator, impl FnMut(ActionId, ResourceId) -> Option<String>),
    (has, lacks): (UserId, UserId),
    causes: Causes,
) -> Vec<Apart> {
    let estate = reference.estate();
    let chain = |id: Option<StatementId>, user: UserId, resource: ResourceId| {
        id.map_or(Vec::new(), |id| ways(reference, estate.statement(id), user, Some(resource)))
    };
    let mut told = Vec::new();
    for ((by, reason, against), at) in causes {
        let mut by_actions: BTreeMap<Vec<usize>, Vec<ResourceId>> = BTreeMap::new();
        for (resource, actions) in at {
            by_actions.entry(actions).or_default().push(resource);
        }
        told.extend(by_actions.into_iter().map(|(actions, resources)| Apart {
            places: fold(estate.catalog(), &resources, 4),
            resources: resources.len(),
            pairs: actions.len() as u64 * resources.len() as u64,
            actions: actions.iter().map(|a| estate.schema().actions[*a].name.clone()).collect(),
            by: by.map(|id| StatementRef::new(estate, id)),
            ways: chain(by, has, resources[0]),
            reason,
            against: against.map(|id| StatementRef::new(estate, id)),
            against_ways: chain(against, lacks, resources[0]),
            need: if reason == Reason::Blocked { unmet(ActionId::new(actions[0]), resources[0]) } else { None },
        }));
    }
    told
}

/// The need that keeps a user from an action, in words.
fn unmet(engine: &mut Evaluator, user: UserId, action: ActionId, resource: ResourceId) -> Option<String> {
    let (schema, mut may) = (Arc::clone(engine.estate().schema()), engine.nobody());
    let need = schema.actions[action.index()].needs.iter().find(|need| {
        engine.meets(resource, **need, &mut may);
        !may.contains(user.index())
    })?;
    let name = &schema.actions[need.action.index()].name;
    let target = targets(engine.estate(), resource, need.target).found.into_iter().find(|target| {
        engine.allowed(*target, need.action, &mut may);
        !may.contains(user.index())
    });
    let place = match target {
        Some(target) => format!("`{}`", engine.estate().catalog().path(target)),
        None => show::target(engine.estate(), need.target).to_string(),
    };
    Some(format!("{name} on {place}"))
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

    /// Adds what was counted on other resources.
    fn join(&mut self, other: &KindTally) {
        let add = |to: &mut [usize], from: &[usize]| to.iter_mut().zip(from).for_each(|(to, from)| *to += from);
        add(&mut self.all, &other.all);
        add(&mut self.touched, &other.touched);
        self.allowed.iter_mut().zip(&other.allowed).for_each(|(to, from)| add(to, from));
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

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::random::{Shape, plan};

    /// What two users can do, and the need that keeps one of them from it, is what the specification evaluator decides.
    #[test]
    fn two_users_differ_in_what_is_decided() {
        let (mut needs, mut pairs) = (0, 0);
        for seed in 0..200 {
            let estate = plan(seed, Shape::ALL).case().estate();
            let moment = Moment::on(jiff::civil::date(2026, 11, 24), estate.schema());
            let Ok(snapshot) = Snapshot::new(&estate, &moment) else { continue };
            let reference = snapshot.reference();
            let users: Vec<UserId> = estate.people().all().collect();
            for (left, right) in users.iter().flat_map(|left| users.iter().map(move |right| (*left, *right))) {
                let compared = compare(&snapshot, left, Beside::User(right));
                let mut only = [0, 0, 0];
                for resource in estate.catalog().all() {
                    for action in ActionId::all(estate.schema().actions.len()) {
                        match [left, right].map(|user| reference.allows(user, action, resource)) {
                            [true, true] => only[2] += 1,
                            [true, false] => only[0] += 1,
                            [false, true] => only[1] += 1,
                            [false, false] => {}
                        }
                    }
                }
                let told = |list: &[Apart]| list.iter().map(|apart| apart.pairs).sum::<u64>();
                assert_eq!([told(&compared.only_left), told(&compared.only_right), compared.same], only, "seed {seed}");
                pairs += only[0] + only[1];
                for (list, lacks) in [(&compared.only_left, right), (&compared.only_right, left)] {
                    for apart in list.iter().filter(|apart| apart.reason == Reason::Blocked) {
                        // Of some resource on which one of the actions is kept from the user by a need that is told so.
                        let told = estate.catalog().all().any(|resource| {
                            let action = estate.schema().actions.iter().position(|a| a.name == apart.actions[0]);
                            let action = ActionId::new(action.expect("it is one of them"));
                            let Some(need) = reference.decide(lacks, action, resource).need else { return false };
                            let name = &estate.schema().actions[need.action.index()].name;
                            let refused = |r: &ResourceId| !reference.allows(lacks, need.action, *r);
                            let place = match targets(&estate, resource, need.target).found.into_iter().find(refused) {
                                Some(target) => format!("`{}`", estate.catalog().path(target)),
                                None => show::target(&estate, need.target).to_string(),
                            };
                            apart.need == Some(format!("{name} on {place}"))
                        });
                        assert!(told, "seed {seed}: {:?}", apart.need);
                        needs += 1;
                    }
                }
            }
        }
        assert!(needs > 30 && pairs > 500, "{needs} needs, {pairs} pairs");
    }
}
