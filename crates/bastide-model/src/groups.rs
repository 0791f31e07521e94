//! Groups from data and computed groups, and who is in them.

use crate::condition::Who;
use crate::graph::components;
use crate::ids::*;
use crate::strings::{Index, Strings};
use fixedbitset::FixedBitSet;
use std::collections::VecDeque;
use std::ops::Range;
use std::sync::Arc;

/// A member of a data group.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum Member {
    /// A user.
    User(UserId),
    /// Every member of a group.
    Group(GroupId),
}

/// A membership, with the line that says so.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Membership {
    /// Who.
    pub member: Member,
    /// Where it is written.
    pub origin: Origin,
}

/// What makes the members of a computed group.
#[derive(Clone, Debug)]
pub enum Computed {
    /// Users to whom this applies.
    Who(Who),
    /// Users who hold an action on any of these places, the places themselves only.
    Holders(ActionId, Vec<ResourceId>),
}

/// The groups of an estate, in byte order of their ids.
#[derive(Clone, Default)]
pub struct Groups {
    ids: Strings,
    index: Index,
    names: Strings,
    /// Members of data groups, sorted.
    members: Vec<Vec<Membership>>,
    computed: Vec<Option<Computed>>,
    declared: Vec<Option<Origin>>,
    /// What [`Groups::close`] found: per group, the users in it through data alone.
    users: Vec<Arc<FixedBitSet>>,
    /// Per group, the computed groups it takes in (itself, where it is one).
    through: Vec<Arc<Vec<GroupId>>>,
    /// Per user, the groups that name the user, sorted.
    direct: Naming,
    /// Per group, the groups that name the group, sorted.
    above: Naming,
}

/// Shortest chains from a user to groups.
pub struct Chains {
    /// Of each group that was reached, the one before it in its chain.
    from: Vec<Option<Option<GroupId>>>,
}

impl Chains {
    /// The chain to a group, the first of it one that holds the user. None where there is none.
    pub fn to(&self, group: GroupId) -> Option<Vec<GroupId>> {
        self.from[group.index()]?;
        let mut chain = vec![group];
        while let Some(Some(before)) = self.from[chain[chain.len() - 1].index()] {
            chain.push(before);
        }
        chain.reverse();
        Some(chain)
    }
}

/// The groups that name each of many, one list after the other: there are as many as users.
#[derive(Clone, Default)]
struct Naming {
    /// Where each list begins, and where the last one ends.
    starts: Vec<u32>,
    groups: Vec<GroupId>,
}

impl Naming {
    /// From who is named by which group, groups in order.
    fn of(count: usize, named: impl Iterator<Item = (usize, GroupId)> + Clone) -> Naming {
        // A group may name somebody twice.
        let mut last: Vec<Option<GroupId>> = vec![None; count];
        let mut starts: Vec<u32> = vec![0; count + 1];
        for (at, group) in named.clone() {
            starts[at + 1] += u32::from(last[at].replace(group) != Some(group));
        }
        for at in 0..count {
            starts[at + 1] += starts[at];
        }
        let mut groups = vec![GroupId::new(0); starts[count] as usize];
        let mut ends = starts.clone();
        last.fill(None);
        for (at, group) in named {
            if last[at].replace(group) != Some(group) {
                groups[ends[at] as usize] = group;
                ends[at] += 1;
            }
        }
        Naming { starts, groups }
    }

    fn get(&self, at: usize) -> &[GroupId] {
        &self.groups[self.starts[at] as usize..self.starts[at + 1] as usize]
    }
}

/// Where somebody stands in a sorted list.
pub(crate) fn places(users: &[UserId], user: UserId) -> Range<u32> {
    let first = users.partition_point(|other| *other < user);
    let count = users[first..].iter().take_while(|other| **other == user).count();
    first as u32..(first + count) as u32
}

impl Groups {
    /// Groups by id, their data members linked; computed bodies and [`Groups::close`] come later.
    pub fn new(ids: Strings, names: Strings, members: Vec<Vec<Membership>>, declared: Vec<Option<Origin>>) -> Groups {
        let computed = ids.iter().map(|_| None).collect();
        Groups { index: Index::of(&ids).0, ids, names, members, computed, declared, ..Groups::default() }
    }

    /// The same groups with these users alone, in order, each with the place in the list as number, or with several.
    pub fn restricted_to(&self, users: &[UserId], id: impl Fn(UserId) -> String) -> Groups {
        let numbers = |user: UserId| places(users, user);
        let few = |list: &Vec<Membership>| {
            let mut kept = Vec::with_capacity(list.len());
            for membership in list {
                match membership.member {
                    Member::User(user) => {
                        let copy = |user| Membership { member: Member::User(UserId(user)), ..*membership };
                        kept.extend(numbers(user).map(copy));
                    }
                    Member::Group(_) => kept.push(*membership),
                }
            }
            kept.sort();
            kept
        };
        let mut computed = self.computed.clone();
        for body in computed.iter_mut().flatten() {
            if let Computed::Who(who) = body {
                who.renumber(numbers, &id);
            }
        }
        let mut groups = Groups {
            ids: self.ids.clone(),
            index: self.index.clone(),
            names: self.names.clone(),
            members: self.members.iter().map(few).collect(),
            computed,
            declared: self.declared.clone(),
            ..Groups::default()
        };
        groups.close(users.len());
        groups
    }

    /// Says what makes the members of a group.
    pub fn compute(&mut self, group: GroupId, body: Computed) {
        self.computed[group.index()] = Some(body);
    }

    /// Says where a computed group is declared.
    pub fn declare(&mut self, group: GroupId, origin: Origin) {
        self.declared[group.index()] = Some(origin);
    }

    /// Adds a membership; false where there is one already. [`Groups::close`] is to follow.
    pub fn join(&mut self, group: GroupId, membership: Membership) -> bool {
        let list = &mut self.members[group.index()];
        let at = list.binary_search_by_key(&membership.member, |m| m.member);
        if let Err(at) = at {
            list.insert(at, membership);
        }
        at.is_err()
    }

    /// Takes a membership away; false where there is none. [`Groups::close`] is to follow.
    pub fn leave(&mut self, group: GroupId, member: Member) -> bool {
        let list = &mut self.members[group.index()];
        let at = list.binary_search_by_key(&member, |m| m.member);
        if let Ok(at) = at {
            list.remove(at);
        }
        at.is_ok()
    }

    /// All ids.
    pub fn ids(&self) -> impl ExactSizeIterator<Item = &str> {
        self.ids.iter()
    }

    /// The name of a group; the id where none is given.
    pub fn name(&self, group: GroupId) -> &str {
        self.names.get(group.index())
    }

    /// The members of a data group, sorted.
    pub fn members(&self, group: GroupId) -> &[Membership] {
        &self.members[group.index()]
    }

    /// What makes the members of a group, where it is computed.
    pub fn computed(&self, group: GroupId) -> Option<&Computed> {
        self.computed[group.index()].as_ref()
    }

    /// What makes the members, of all groups that are computed.
    pub fn bodies(&self) -> impl Iterator<Item = &Computed> {
        self.computed.iter().flatten()
    }

    /// Where a computed group is declared.
    pub fn declared(&self, group: GroupId) -> Option<Origin> {
        self.declared[group.index()]
    }

    /// The groups that a group names: as members, or in the condition that computes it.
    pub fn named(&self, group: GroupId) -> Vec<GroupId> {
        let mut named: Vec<GroupId> = self.members[group.index()]
            .iter()
            .filter_map(|m| if let Member::Group(g) = m.member { Some(g) } else { None })
            .collect();
        if let Some(Computed::Who(who)) = &self.computed[group.index()] {
            named.extend(who.groups());
        }
        named
    }

    /// How many.
    pub fn len(&self) -> usize {
        self.ids.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.ids.is_empty()
    }

    /// The group of an id.
    pub fn find(&self, id: &str) -> Option<GroupId> {
        self.index.find(&self.ids, id).map(GroupId)
    }

    /// Every group, in byte order of ids.
    pub fn all(&self) -> impl ExactSizeIterator<Item = GroupId> + Clone + use<> {
        GroupId::all(self.len())
    }

    /// The id.
    pub fn id(&self, group: GroupId) -> &str {
        self.ids.get(group.index())
    }

    /// Works out nested membership. Membership cycles are legal: every group in one has the same
    /// members. Cost: memberships, each times the words of a set of users; groups of the same users share one.
    pub fn close(&mut self, users: usize) {
        let count = self.len();
        let inner =
            |member: &Membership| if let Member::Group(inner) = member.member { Some(inner.index()) } else { None };
        let circles = components(count, |group| self.members[group].iter().filter_map(inner));
        let nobody = Arc::new(FixedBitSet::with_capacity(users));
        let mut found: Vec<Arc<FixedBitSet>> = vec![Arc::clone(&nobody); count];
        let mut through: Vec<Arc<Vec<GroupId>>> = vec![Arc::default(); count];
        let mut at = vec![0; count];
        circles.iter().enumerate().for_each(|(circle, groups)| groups.iter().for_each(|group| at[*group] = circle));
        for (circle, groups) in circles.iter().enumerate() {
            let memberships = || groups.iter().flat_map(|group| &self.members[*group]);
            // What lies beneath is known: it comes first.
            let mut beneath: Vec<usize> = memberships().filter_map(inner).filter(|g| at[*g] != circle).collect();
            beneath.sort_unstable_by_key(|group| at[*group]);
            beneath.dedup_by_key(|group| at[*group]);
            let own: Vec<usize> = memberships()
                .filter_map(|m| if let Member::User(user) = m.member { Some(user.index()) } else { None })
                .collect();
            let computed: Vec<GroupId> =
                groups.iter().filter(|g| self.computed[**g].is_some()).map(|g| GroupId::new(*g)).collect();
            let is_new = own.iter().any(|user| beneath.iter().all(|group| !found[*group].contains(*user)));
            let most = beneath.iter().copied().max_by_key(|group| found[*group].count_ones(..));
            let covers = |most: usize| {
                beneath.iter().all(|g| Arc::ptr_eq(&found[*g], &found[most]) || found[*g].is_subset(&found[most]))
            };
            let all = match most {
                None if own.is_empty() => Arc::clone(&nobody),
                Some(most) if !is_new && covers(most) && own.iter().all(|user| found[most].contains(*user)) => {
                    Arc::clone(&found[most])
                }
                _ => {
                    let mut all = most.map_or_else(|| (*nobody).clone(), |most| (*found[most]).clone());
                    beneath.iter().for_each(|group| all.union_with(&found[*group]));
                    all.extend(own);
                    Arc::new(all)
                }
            };
            let mut met: Vec<GroupId> = computed;
            beneath.iter().for_each(|group| met.extend(through[*group].iter()));
            met.sort_unstable();
            met.dedup();
            let met = beneath
                .iter()
                .find(|g| *through[**g] == met)
                .map_or_else(|| Arc::new(met), |g| Arc::clone(&through[*g]));
            for group in groups {
                (found[*group], through[*group]) = (Arc::clone(&all), Arc::clone(&met));
            }
        }
        (self.users, self.through) = (found, through);
        let all = || self.all().flat_map(|group| self.members[group.index()].iter().map(move |m| (m.member, group)));
        let user = |(member, group)| if let Member::User(user) = member { Some((user.index(), group)) } else { None };
        let inner =
            |(member, group)| if let Member::Group(inner) = member { Some((inner.index(), group)) } else { None };
        let direct = Naming::of(users, all().filter_map(user));
        let above = Naming::of(count, all().filter_map(inner));
        (self.direct, self.above) = (direct, above);
    }

    /// For how many users [`Groups::close`] was done last.
    pub fn closed_for(&self) -> usize {
        self.direct.starts.len().saturating_sub(1)
    }

    /// The group and every group nested in it.
    pub fn beneath(&self, group: GroupId) -> Vec<GroupId> {
        let mut seen = FixedBitSet::with_capacity(self.len());
        seen.insert(group.index());
        let mut found = vec![group];
        let mut at = 0;
        while at < found.len() {
            for membership in &self.members[found[at].index()] {
                if let Member::Group(inner) = membership.member
                    && !seen.put(inner.index())
                {
                    found.push(inner);
                }
            }
            at += 1;
        }
        found
    }

    /// Users in the group through data alone, nested groups included.
    pub fn users(&self, group: GroupId) -> &FixedBitSet {
        &self.users[group.index()]
    }

    /// Computed groups whose members the group takes in, itself where it is one.
    pub fn through(&self, group: GroupId) -> &[GroupId] {
        &self.through[group.index()]
    }

    /// Groups that name the user.
    pub fn direct(&self, user: UserId) -> &[GroupId] {
        self.direct.get(user.index())
    }

    /// Groups that name the group.
    pub fn above(&self, group: GroupId) -> &[GroupId] {
        self.above.get(group.index())
    }

    /// The groups that groups contain each other with, one list for each circle of more than one.
    pub fn circles(&self) -> Vec<Vec<GroupId>> {
        let inner =
            |member: &Membership| if let Member::Group(inner) = member.member { Some(inner.index()) } else { None };
        let all = components(self.len(), |group| self.members[group].iter().filter_map(inner));
        let mut circles: Vec<Vec<GroupId>> = all
            .into_iter()
            .filter(|circle| circle.len() > 1)
            .map(|circle| circle.into_iter().map(GroupId::new).collect())
            .collect();
        circles.iter_mut().for_each(|circle| circle.sort_unstable());
        circles.sort_unstable();
        circles
    }

    /// A shortest chain of groups from one that holds the user to `group`, by data alone; ties go to
    /// the first ids. `start` are computed groups the user is in. None where there is no chain.
    pub fn chain(&self, user: UserId, start: &[GroupId], group: GroupId) -> Option<Vec<GroupId>> {
        self.search(user, start, Some(group)).to(group)
    }

    /// The shortest chains from a user to every group, found at once. Cost: memberships of groups.
    pub fn chains(&self, user: UserId, start: &[GroupId]) -> Chains {
        self.search(user, start, None)
    }

    fn search(&self, user: UserId, start: &[GroupId], upto: Option<GroupId>) -> Chains {
        let mut from: Vec<Option<Option<GroupId>>> = vec![None; self.len()];
        let mut queue = VecDeque::new();
        for &first in self.direct(user).iter().chain(start) {
            if from[first.index()].is_none() {
                from[first.index()] = Some(None);
                queue.push_back(first);
            }
        }
        while let Some(next) = queue.pop_front() {
            if upto == Some(next) {
                break;
            }
            for &above in self.above(next) {
                if from[above.index()].is_none() {
                    from[above.index()] = Some(Some(next));
                    queue.push_back(above);
                }
            }
        }
        Chains { from }
    }

    /// Where a membership is written.
    pub fn origin(&self, group: GroupId, member: Member) -> Option<Origin> {
        self.members[group.index()].iter().find(|m| m.member == member).map(|m| m.origin)
    }
}
