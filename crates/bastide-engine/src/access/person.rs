//! One user's access on everything, folded where all beneath is alike.

use super::sweep;
use crate::decide::ReferenceEvaluator;
use crate::explain::{Met, StatementRef, Way, of_user, signed_in, ways};
use crate::inside::{RowsSeen, rows_seen};
use crate::snapshot::Snapshot;
use bastide_model::*;
use std::collections::BTreeMap;
use std::convert::Infallible;

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

/// What a user can do on everything under a place (or everywhere).
pub fn person(snapshot: &Snapshot, user: UserId, under: Option<ResourceId>) -> Person {
    let estate = snapshot.estate();
    let catalog = estate.catalog();
    let resources: Vec<ResourceId> = match under {
        Some(place) => catalog.subtree(place).map(ResourceId).collect(),
        None => catalog.all().collect(),
    };
    let first = resources.first().map_or(0, |r| r.index());
    let mut access: Vec<Vec<usize>> = Vec::with_capacity(resources.len());
    let mut by: BTreeMap<StatementId, usize> = BTreeMap::new();
    let Ok(()) = sweep(snapshot, &[user], &resources, |row| {
        access.push(row.allowed(0).map(ActionId::index).collect());
        for action in row.allowed(0) {
            if let Some(statement) = row.decision(0, action).by {
                *by.entry(statement).or_default() += 1;
            }
        }
        Ok::<(), Infallible>(())
    });
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
    let tree = Tree { estate, access: &access, first };
    Person {
        user: estate.people().id(user).to_string(),
        name: estate.people().name(user).to_string(),
        kind: estate.people().kind(user).to_string(),
        active: estate.people().is_active(user),
        attributes: attributes(&reference, user),
        groups: in_groups(&reference, user),
        counts: counts(estate, &resources, &access),
        touched: access.iter().filter(|a| !a.is_empty()).count(),
        resources: resources.len(),
        rows: rows_seen(snapshot, user, under),
        through,
        tree: tree.branches(roots.into_iter()).0,
    }
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

fn counts(estate: &Estate, resources: &[ResourceId], access: &[Vec<usize>]) -> Vec<KindCount> {
    let mut counts: Vec<(usize, Vec<usize>)> =
        vec![(0, vec![0; estate.schema().actions.len()]); estate.schema().kinds.len()];
    for (resource, actions) in resources.iter().zip(access) {
        let (all, by_action) = &mut counts[estate.catalog().kind(*resource).index()];
        *all += 1;
        actions.iter().for_each(|a| by_action[*a] += 1);
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
    access: &'a [Vec<usize>],
    first: usize,
}

/// The access by kind in a subtree; none where a kind has two.
type Uniform = Option<BTreeMap<usize, Vec<usize>>>;

impl Tree<'_> {
    fn names(&self, actions: &[usize]) -> Vec<String> {
        actions.iter().map(|a| self.estate.schema().actions[*a].name.clone()).collect()
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
        let own = &self.access[resource.index() - self.first];
        let (children, beneath, closed) = self.branches(catalog.children(resource));
        let uniform = join(beneath.clone(), Some(BTreeMap::from([(kind, own.clone())])));
        if own.is_empty() && children.is_empty() {
            return (None, uniform);
        }
        // A resource need not be like what lies in it: only what lies beneath must be alike.
        let named = |(kind, actions): (&usize, &Vec<usize>)| {
            (self.estate.schema().kinds[*kind].name.clone(), self.names(actions))
        };
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
        if *joined.entry(kind).or_insert_with(|| access.clone()) != access {
            return None;
        }
    }
    Some(joined)
}
