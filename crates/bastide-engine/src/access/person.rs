//! One user's access on everything, folded where all beneath is alike.

use super::Among;
use super::summary::SMALLEST_SHARE;
use crate::decide::ReferenceEvaluator;
use crate::explain::{Met, StatementRef, Way, of_user, signed_in, ways};
use crate::inside::{RowsSeen, rows_seen};
use crate::shares::shares;
use crate::snapshot::Snapshot;
use bastide_model::*;
use fixedbitset::FixedBitSet;
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

/// How much of the tree is told.
#[derive(Clone, Copy, Debug)]
pub struct Extent {
    /// So many levels.
    pub depth: usize,
    /// So many branches, the first in order.
    pub branches: usize,
}

impl Extent {
    /// All of it.
    pub const WHOLE: Extent = Extent { depth: usize::MAX, branches: usize::MAX };
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

/// What a user can do on everything under a place (or everywhere), and how many branches down to the depth asked for are left
/// out of the tree. Cost: the resources; for names, the branches that are told.
pub fn person(snapshot: &Snapshot, user: UserId, under: Option<ResourceId>, extent: Extent) -> (Person, usize) {
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
    let tree = Tree { estate, access: &access, beneath: Beneath::of(catalog, &access), depth: extent.depth };
    let mut room = Room { branches: extent.branches, left_out: 0 };
    let (branches, _) = tree.branches(roots.into_iter(), 0, &mut room);
    let person = Person {
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
        tree: branches,
    };
    (person, room.left_out)
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

/// What lies beneath each resource.
struct Beneath {
    first: u32,
    /// By resource, the access by kind of all that lies beneath it: which of the maps, or [`VARIED`].
    of: Vec<u32>,
    /// Resources on or beneath which something is allowed.
    reached: FixedBitSet,
    maps: Uniforms,
}

/// Access by kind, alike on all resources of the kind: the number of a list of actions.
type Uniform = BTreeMap<usize, u32>;

/// No resources.
const EMPTY: u32 = 0;
/// A kind has two accesses.
const VARIED: u32 = u32::MAX;

/// Maps of access by kind, each once, and what two of them come to together.
struct Uniforms {
    all: Vec<Uniform>,
    known: HashMap<Uniform, u32>,
    joined: HashMap<(u32, u32), u32>,
}

impl Uniforms {
    fn number(&mut self, uniform: Uniform) -> u32 {
        if let Some(known) = self.known.get(&uniform) {
            return *known;
        }
        let number = self.all.len() as u32;
        self.all.push(uniform.clone());
        self.known.insert(uniform, number);
        number
    }

    fn join(&mut self, a: u32, b: u32) -> u32 {
        match (a, b) {
            (VARIED, _) | (_, VARIED) => VARIED,
            (EMPTY, other) | (other, EMPTY) => other,
            (a, b) if a == b => a,
            (a, b) => match self.joined.get(&(a, b)) {
                Some(known) => *known,
                None => {
                    let mut both = self.all[a as usize].clone();
                    let fits = |(kind, list): (&usize, &u32)| *both.entry(*kind).or_insert(*list) == *list;
                    let number = if self.all[b as usize].iter().all(fits) { self.number(both) } else { VARIED };
                    self.joined.insert((a, b), number);
                    number
                }
            },
        }
    }
}

impl Beneath {
    /// What holds others comes before them, so all is told from the end.
    fn of(catalog: &Catalog, access: &Access) -> Beneath {
        let (first, resources) = (access.first, access.of.len());
        let mut maps = Uniforms { all: Vec::new(), known: HashMap::new(), joined: HashMap::new() };
        let empty = maps.number(Uniform::new());
        debug_assert_eq!(empty, EMPTY);
        let (mut of, mut reached) = (vec![EMPTY; resources], FixedBitSet::with_capacity(resources));
        let mut alone: HashMap<(usize, u32), u32> = HashMap::new();
        for at in (0..resources).rev() {
            let resource = ResourceId(first + at as u32);
            let (kind, list) = (catalog.kind(resource).index(), access.of[at]);
            if list != NO_ACTIONS {
                reached.insert(at);
            }
            let Some(above) = catalog.parent(resource).and_then(|above| above.0.checked_sub(first)) else { continue };
            let own = *alone.entry((kind, list)).or_insert_with(|| maps.number(Uniform::from([(kind, list)])));
            let whole = maps.join(of[at], own);
            of[above as usize] = maps.join(of[above as usize], whole);
            if reached.contains(at) {
                reached.insert(above as usize);
            }
        }
        Beneath { first, of, reached, maps }
    }

    /// The access by kind of what lies beneath a resource, where it is alike.
    fn alike(&self, resource: ResourceId) -> Option<&Uniform> {
        let number = self.of[(resource.0 - self.first) as usize];
        (number != VARIED).then(|| &self.maps.all[number as usize])
    }

    fn is_reached(&self, resource: ResourceId) -> bool {
        self.reached.contains((resource.0 - self.first) as usize)
    }
}

struct Tree<'a> {
    estate: &'a Estate,
    access: &'a Access,
    beneath: Beneath,
    depth: usize,
}

/// How many branches may still be told, and how many are not.
struct Room {
    branches: usize,
    left_out: usize,
}

impl Tree<'_> {
    fn names(&self, list: u32) -> Vec<String> {
        self.access.actions(list).iter().map(|a| self.estate.schema().actions[*a].name.clone()).collect()
    }

    /// The branches of these resources, and how many are closed.
    fn branches(&self, of: impl Iterator<Item = ResourceId>, level: usize, room: &mut Room) -> (Vec<Branch>, usize) {
        let (mut branches, mut closed) = (Vec::new(), 0);
        for resource in of {
            if !self.beneath.is_reached(resource) {
                closed += 1;
            } else if room.branches > 0 {
                room.branches -= 1;
                branches.push(self.branch(resource, level, room));
            } else {
                room.left_out += self.count(resource, level);
            }
        }
        (branches, closed)
    }

    /// Whether the branches in a branch are told by themselves.
    fn is_parted(&self, resource: ResourceId, level: usize) -> bool {
        level + 1 < self.depth && self.beneath.alike(resource).is_none()
    }

    /// A branch, and how many there are in it down to the depth.
    fn count(&self, resource: ResourceId, level: usize) -> usize {
        if !self.is_parted(resource, level) {
            return 1;
        }
        let children = self.estate.catalog().children(resource).filter(|child| self.beneath.is_reached(*child));
        1 + children.map(|child| self.count(child, level + 1)).sum::<usize>()
    }

    fn branch(&self, resource: ResourceId, level: usize, room: &mut Room) -> Branch {
        let catalog = self.estate.catalog();
        // A resource need not be like what lies in it: only what lies beneath must be alike.
        let alike = self.beneath.alike(resource).filter(|_| !catalog.is_leaf(resource));
        let named = |(kind, list): (&usize, &u32)| (self.estate.schema().kinds[*kind].name.clone(), self.names(*list));
        let (children, closed) = if self.is_parted(resource, level) {
            self.branches(catalog.children(resource), level + 1, room)
        } else {
            let closed = catalog.children(resource).filter(|child| !self.beneath.is_reached(*child)).count();
            (Vec::new(), closed)
        };
        Branch {
            resource: catalog.id(resource).to_string(),
            name: catalog.name(resource).to_string(),
            kind: self.estate.schema().kinds[catalog.kind(resource).index()].name.clone(),
            depth: catalog.depth(resource),
            actions: self.names(self.access.list(resource)),
            beneath: catalog.subtree(resource).len() - 1,
            alike: alike.map(|by_kind| by_kind.iter().map(named).collect()),
            children,
            closed,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::random::{Shape, plan};

    /// A branch as it is told, and how deep it stands.
    type Told = (usize, String, Vec<String>, Option<BTreeMap<String, Vec<String>>>, usize, usize);

    fn told(branches: &[Branch], level: usize, depth: usize, into: &mut Vec<Told>) {
        for branch in branches {
            let Branch { resource, actions, alike, beneath, closed, .. } = branch;
            into.push((level, resource.clone(), actions.clone(), alike.clone(), *beneath, *closed));
            if level + 1 < depth {
                told(&branch.children, level + 1, depth, into);
            }
        }
    }

    /// The tree, by deciding: branches that have access on or beneath them, what is alike beneath, how many are closed.
    fn plainly(decided: &BTreeMap<ResourceId, Vec<String>>, estate: &Estate, of: &[ResourceId]) -> (Vec<Told>, usize) {
        let (mut all, mut closed) = (Vec::new(), 0);
        let catalog = estate.catalog();
        for resource in of {
            let beneath: Vec<ResourceId> = catalog.subtree(*resource).skip(1).map(ResourceId).collect();
            if decided[resource].is_empty() && beneath.iter().all(|other| decided[other].is_empty()) {
                closed += 1;
                continue;
            }
            let kind = |resource: &ResourceId| estate.schema().kinds[catalog.kind(*resource).index()].name.clone();
            let same = |a: &ResourceId| beneath.iter().all(|b| kind(a) != kind(b) || decided[a] == decided[b]);
            let alike = !beneath.is_empty() && beneath.iter().all(same);
            let by_kind = || beneath.iter().map(|other| (kind(other), decided[other].clone())).collect();
            let children: Vec<ResourceId> = catalog.children(*resource).collect();
            let (within, shut) = plainly(decided, estate, &children);
            let id = catalog.id(*resource).to_string();
            all.push((0, id, decided[resource].clone(), alike.then(by_kind), beneath.len(), shut));
            if !alike {
                all.extend(within.into_iter().map(|(level, id, actions, alike, beneath, closed)| {
                    (level + 1, id, actions, alike, beneath, closed)
                }));
            }
        }
        (all, closed)
    }

    /// The whole tree says what is decided; the first branches down to a depth are those of the whole, and the others are counted.
    #[test]
    fn a_part_of_the_tree_is_the_beginning_of_the_whole() {
        let mut random = fastrand::Rng::with_seed(3);
        let (mut left, mut deep, mut alike) = (0, 0, 0);
        for seed in 0..400 {
            let estate = plan(seed, Shape::ALL).case().estate();
            let moment = Moment::on(jiff::civil::date(2026, 11, 24), estate.schema());
            let Ok(snapshot) = Snapshot::new(&estate, &moment) else { continue };
            let roots: Vec<ResourceId> = estate.catalog().roots().collect();
            let reference = snapshot.reference();
            for user in estate.people().all() {
                let under = random.bool().then(|| roots[random.usize(..roots.len())]);
                let (whole, none) = person(&snapshot, user, under, Extent::WHOLE);
                assert_eq!(none, 0);
                let extent = Extent { depth: random.usize(1..5), branches: random.usize(1..8) };
                let (part, left_out) = person(&snapshot, user, under, extent);
                let [mut all, mut some] = [Vec::new(), Vec::new()];
                told(&whole.tree, 0, extent.depth, &mut all);
                told(&part.tree, 0, usize::MAX, &mut some);
                let mut full = Vec::new();
                told(&whole.tree, 0, usize::MAX, &mut full);
                let names = |resource: ResourceId| {
                    let may = ActionId::all(estate.schema().actions.len())
                        .filter(|action| reference.allows(user, *action, resource));
                    (resource, may.map(|action| estate.schema().actions[action.index()].name.clone()).collect())
                };
                let decided: BTreeMap<ResourceId, Vec<String>> = estate.catalog().all().map(names).collect();
                let of = under.map_or(roots.clone(), |place| vec![place]);
                assert_eq!(full, plainly(&decided, &estate, &of).0, "seed {seed}");
                alike += full.iter().filter(|(.., alike, _, _)| alike.is_some()).count();
                assert_eq!(some, all[..extent.branches.min(all.len())], "seed {seed}, {extent:?}");
                assert_eq!(left_out, all.len() - some.len(), "seed {seed}, {extent:?}");
                left += usize::from(left_out > 0);
                deep += usize::from(some.iter().any(|(level, ..)| *level > 1));
            }
        }
        assert!(left > 150 && deep > 30 && alike > 100, "{left} were left out of, {deep} deep, {alike} alike beneath");
    }
}
