//! One user's access on everything, folded where all beneath is alike.

use super::Among;
use super::summary::{SMALLEST_SHARE, shares};
use crate::decide::ReferenceEvaluator;
use crate::explain::{Met, StatementRef, Way, of_user, signed_in, ways};
use crate::inside::{RowsSeen, rows_seen};
use crate::snapshot::Snapshot;
use bastide_model::*;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::convert::Infallible;
use std::ops::Range;

/// What one user can do.
#[derive(Debug)]
pub struct Person {
    /// The user's id.
    pub user: String,
    /// The user's name.
    pub name: String,
    /// `person`, `guest` or `service`.
    pub kind: String,
    /// Whether the user is active.
    pub active: bool,
    /// The user's attributes, and where each value comes from.
    pub attributes: Vec<Met>,
    /// The groups the user is in, each with the chain that leads there.
    pub groups: Vec<InGroup>,
    /// Resources and allowed actions by kind.
    pub counts: Vec<KindCount>,
    /// Resources on which anything is allowed.
    pub touched: usize,
    /// All resources looked at.
    pub resources: usize,
    /// What the user gets of datasets of which is told what lies inside.
    pub rows: Vec<RowsSeen>,
    /// The statements that decide what is allowed, most triples first.
    pub through: Vec<Through>,
    /// The tree, branches without any access left out.
    pub tree: Vec<Branch>,
}

/// A group the user is in.
#[derive(Debug)]
pub struct InGroup {
    /// The group.
    pub group: String,
    /// From the group that names the user, or is computed, to this one.
    pub chain: Vec<String>,
    /// False where a missing value leaves it open.
    pub certain: bool,
}

/// What is allowed on the resources of one kind.
#[derive(Debug)]
pub struct KindCount {
    /// The kind.
    pub kind: String,
    /// How many resources there are.
    pub resources: usize,
    /// Allowed ones by action, in declared order.
    pub allowed: Vec<(String, usize)>,
}

/// A statement that gives the user something.
#[derive(Debug)]
pub struct Through {
    /// The statement.
    pub statement: StatementRef,
    /// How it reaches the user.
    pub ways: Vec<Way>,
    /// How many allowed (resource, action) pairs it decides.
    pub pairs: usize,
}

/// A resource in the tree.
#[derive(Debug)]
pub struct Branch {
    /// Its id.
    pub resource: String,
    /// Its name.
    pub name: String,
    /// Its kind.
    pub kind: String,
    /// Its depth; a root has 1.
    pub depth: u16,
    /// Allowed actions, in declared order.
    pub actions: Vec<String>,
    /// How many resources lie beneath it.
    pub beneath: usize,
    /// Where everything beneath is alike, kind by kind: the allowed actions by kind. Such a branch
    /// has no children here.
    pub alike: Option<BTreeMap<String, Vec<String>>>,
    /// Branches with access.
    pub children: Vec<Branch>,
    /// Direct children on and beneath which nothing is allowed.
    pub closed: usize,
}

/// What a user can do on everything under a place (or everywhere). Cost: the resources.
pub fn person(snapshot: &Snapshot, user: UserId, under: Option<ResourceId>) -> Person {
    let estate = snapshot.estate();
    let catalog = estate.catalog();
    let resources = under.map_or(0..catalog.len() as u32, |place| catalog.subtree(place));
    let (access, by) = access(snapshot, user, resources.clone());
    let reference = snapshot.reference();
    let mut through: Vec<Through> = by
        .iter()
        .map(|(id, pairs)| Through {
            statement: StatementRef::new(estate, *id),
            ways: ways(&reference, estate.statement(*id), user, None),
            pairs: *pairs,
        })
        .collect();
    through.sort_by_key(|t| std::cmp::Reverse(t.pairs));
    let roots: Vec<ResourceId> = match under {
        Some(place) => vec![place],
        None => catalog.roots().collect(),
    };
    let tree = Tree { estate, access: &access };
    Person {
        user: estate.people().id(user).to_string(),
        name: estate.people().name(user).to_string(),
        kind: estate.people().kind(user).to_string(),
        active: estate.people().is_active(user),
        attributes: attributes(&reference, user),
        groups: in_groups(&reference, user),
        counts: counts(estate, &access),
        touched: access.all().filter(|(_, list)| *list != NO_ACTIONS).count(),
        resources: resources.len(),
        rows: rows_seen(snapshot, user, under),
        through,
        tree: tree.branches(roots.into_iter()).0,
    }
}

/// What a user may do on a range of resources.
struct Access {
    first: u32,
    /// By resource, which list of actions.
    of: Vec<u32>,
    /// The lists, each once.
    lists: Vec<Box<[usize]>>,
    /// Their numbers.
    known: HashMap<Box<[usize]>, u32>,
}

/// The list of no actions, which is always there.
const NO_ACTIONS: u32 = 0;

impl Access {
    fn none(first: u32) -> Access {
        let mut none = Access { first, of: Vec::new(), lists: Vec::new(), known: HashMap::new() };
        let list = none.number(&[]);
        debug_assert_eq!(list, NO_ACTIONS);
        none
    }

    fn all(&self) -> impl Iterator<Item = (ResourceId, u32)> {
        (self.first..).map(ResourceId).zip(self.of.iter().copied())
    }

    fn list(&self, resource: ResourceId) -> u32 {
        self.of[(resource.0 - self.first) as usize]
    }

    fn actions(&self, list: u32) -> &[usize] {
        &self.lists[list as usize]
    }

    fn number(&mut self, actions: &[usize]) -> u32 {
        if let Some(known) = self.known.get(actions) {
            return *known;
        }
        let number = self.lists.len() as u32;
        self.lists.push(actions.into());
        self.known.insert(actions.into(), number);
        number
    }

    /// Adds the resources that follow.
    fn join(&mut self, next: &Access) {
        let numbers: Vec<u32> = next.lists.iter().map(|actions| self.number(actions)).collect();
        self.of.extend(next.of.iter().map(|list| numbers[*list as usize]));
    }
}

/// What a user may do on a range of resources, and how many pairs of resource and action each statement decides.
fn access(snapshot: &Snapshot, user: UserId, resources: Range<u32>) -> (Access, BTreeMap<StatementId, usize>) {
    let among = Among::of(snapshot, &[user], resources.len());
    let share = |share: Range<u32>| {
        let range = resources.start + share.start..resources.start + share.end;
        let mut by: BTreeMap<StatementId, usize> = BTreeMap::new();
        let (mut access, mut actions) = (Access::none(range.start), Vec::new());
        let Ok(()) = among.sweep(range.map(ResourceId), |row| {
            actions.clear();
            for action in row.allowed(0) {
                actions.push(action.index());
                if let Some(statement) = row.decision(0, action).by {
                    *by.entry(statement).or_default() += 1;
                }
            }
            let number = access.number(&actions);
            access.of.push(number);
            Ok::<(), Infallible>(())
        });
        (access, by)
    };
    let parts: Vec<_> = shares(resources.len(), SMALLEST_SHARE).into_par_iter().map(share).collect();
    let (mut all, mut by) = (Access::none(resources.start), BTreeMap::new());
    for (access, of_share) in parts {
        all.join(&access);
        of_share.into_iter().for_each(|(statement, pairs)| *by.entry(statement).or_default() += pairs);
    }
    (all, by)
}

fn attributes(reference: &ReferenceEvaluator, user: UserId) -> Vec<Met> {
    let estate = reference.estate();
    let all = estate.schema().user_attributes.iter().enumerate().map(|(at, attribute)| {
        let value = estate.people().attributes()[at].get(user.index()).map(|value| estate.schema().show(value));
        Met { name: attribute.name.clone(), value, from: of_user(estate, UserAttributeId::new(at), user) }
    });
    all.chain(signed_in(estate, reference.moment(), user)).collect()
}

/// The groups a user is in, each with the chain that leads there. Cost: each group once.
pub fn in_groups(reference: &ReferenceEvaluator, user: UserId) -> Vec<InGroup> {
    let groups = reference.estate().groups();
    let start = computed_groups(reference, user);
    let chains = groups.chains(user, &start);
    let mut found = Vec::new();
    for group in groups.all() {
        let truth = reference.member(user, group);
        if truth == Truth::False {
            continue;
        }
        let chain = chains.to(group).unwrap_or_else(|| vec![group]);
        let chain = crate::explain::told(groups, &chain);
        found.push(InGroup { group: groups.id(group).to_string(), chain, certain: truth == Truth::True });
    }
    found
}

/// Computed groups the user is in, for certain or perhaps.
pub(crate) fn computed_groups(reference: &ReferenceEvaluator, user: UserId) -> Vec<GroupId> {
    let groups = reference.estate().groups();
    groups.all().filter(|g| groups.computed(*g).is_some() && reference.member(user, *g) != Truth::False).collect()
}

fn counts(estate: &Estate, access: &Access) -> Vec<KindCount> {
    let mut counts: Vec<(usize, Vec<usize>)> =
        vec![(0, vec![0; estate.schema().actions.len()]); estate.schema().kinds.len()];
    for (resource, list) in access.all() {
        let (all, by_action) = &mut counts[estate.catalog().kind(resource).index()];
        *all += 1;
        access.actions(list).iter().for_each(|a| by_action[*a] += 1);
    }
    let named = |(action, count): (usize, usize)| (estate.schema().actions[action].name.clone(), count);
    let counts = counts.into_iter().enumerate().filter(|(_, (all, _))| *all > 0);
    counts
        .map(|(kind, (resources, by_action))| KindCount {
            kind: estate.schema().kinds[kind].name.clone(),
            resources,
            allowed: by_action.into_iter().enumerate().map(named).collect(),
        })
        .collect()
}

struct Tree<'a> {
    estate: &'a Estate,
    access: &'a Access,
}

/// The access by kind in a subtree: the number of a list of actions; none where a kind has two.
type Uniform = Option<BTreeMap<usize, u32>>;

impl Tree<'_> {
    fn names(&self, list: u32) -> Vec<String> {
        self.access.actions(list).iter().map(|a| self.estate.schema().actions[*a].name.clone()).collect()
    }

    /// The branches of these resources, their access by kind, and how many are closed.
    fn branches(&self, of: impl Iterator<Item = ResourceId>) -> (Vec<Branch>, Uniform, usize) {
        let (mut branches, mut whole, mut closed) = (Vec::new(), Some(BTreeMap::new()), 0);
        for resource in of {
            let (branch, uniform) = self.branch(resource);
            whole = join(whole, uniform);
            match branch {
                Some(branch) => branches.push(branch),
                None => closed += 1,
            }
        }
        (branches, whole, closed)
    }

    fn branch(&self, resource: ResourceId) -> (Option<Branch>, Uniform) {
        let catalog = self.estate.catalog();
        let kind = catalog.kind(resource).index();
        let own = self.access.list(resource);
        let (children, beneath, closed) = self.branches(catalog.children(resource));
        let uniform = join(beneath.clone(), Some(BTreeMap::from([(kind, own)])));
        if own == NO_ACTIONS && children.is_empty() {
            return (None, uniform);
        }
        // A resource need not be like what lies in it: only what lies beneath must be alike.
        let named = |(kind, list): (&usize, &u32)| (self.estate.schema().kinds[*kind].name.clone(), self.names(*list));
        let alike = beneath.filter(|_| !catalog.is_leaf(resource)).map(|by_kind| by_kind.iter().map(named).collect());
        let branch = Branch {
            resource: catalog.id(resource).to_string(),
            name: catalog.name(resource).to_string(),
            kind: self.estate.schema().kinds[kind].name.clone(),
            depth: catalog.depth(resource),
            actions: self.names(own),
            beneath: catalog.subtree(resource).len() - 1,
            children: if alike.is_some() { Vec::new() } else { children },
            alike,
            closed,
        };
        (Some(branch), uniform)
    }
}

fn join(a: Uniform, b: Uniform) -> Uniform {
    let mut joined = a?;
    for (kind, access) in b? {
        if *joined.entry(kind).or_insert(access) != access {
            return None;
        }
    }
    Some(joined)
}
