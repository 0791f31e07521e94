//! Groups from data and computed groups, and who is in them.

use crate::condition::Who;
use crate::ids::*;
use crate::strings::{Index, Strings};
use fixedbitset::FixedBitSet;
use std::collections::VecDeque;

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
    /// Ids, sorted.
    pub ids: Strings,
    /// Finds an id.
    pub index: Index,
    /// Names, as given; the id where none is.
    pub names: Strings,
    /// Members of data groups, sorted.
    pub members: Vec<Vec<Membership>>,
    /// What makes the members, for computed groups.
    pub computed: Vec<Option<Computed>>,
    /// Where a computed group is declared.
    pub declared: Vec<Option<Origin>>,
    /// What [`Groups::close`] found: per group, the users in it through data alone.
    users: Vec<FixedBitSet>,
    /// Per group, the computed groups it takes in (itself, where it is one).
    through: Vec<Vec<GroupId>>,
    /// Per user, the groups that name the user, sorted.
    direct: Naming,
    /// Per group, the groups that name the group, sorted.
    above: Naming,
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

impl Groups {
    /// Groups by id, their data members linked; computed bodies and [`Groups::close`] come later.
    pub fn new(ids: Strings, names: Strings, members: Vec<Vec<Membership>>, declared: Vec<Option<Origin>>) -> Groups {
        let computed = ids.iter().map(|_| None).collect();
        Groups { index: Index::of(&ids).0, ids, names, members, computed, declared, ..Groups::default() }
    }

    /// The same groups with other members and other computed bodies, for so many users.
    pub fn with(&self, members: Vec<Vec<Membership>>, computed: Vec<Option<Computed>>, users: usize) -> Groups {
        let mut groups = Groups {
            ids: self.ids.clone(),
            index: self.index.clone(),
            names: self.names.clone(),
            members,
            computed,
            declared: self.declared.clone(),
            ..Groups::default()
        };
        groups.close(users);
        groups
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
    /// members. Cost: groups times the memberships beneath each.
    pub fn close(&mut self, users: usize) {
        let count = self.len();
        self.users = Vec::with_capacity(count);
        self.through = Vec::with_capacity(count);
        for group in self.all() {
            let mut found = FixedBitSet::with_capacity(users);
            let mut through = Vec::new();
            for inner in self.beneath(group) {
                if self.computed[inner.index()].is_some() {
                    through.push(inner);
                }
                for membership in &self.members[inner.index()] {
                    if let Member::User(user) = membership.member {
                        found.insert(user.index());
                    }
                }
            }
            through.sort();
            self.users.push(found);
            self.through.push(through);
        }
        let all = || self.all().flat_map(|group| self.members[group.index()].iter().map(move |m| (m.member, group)));
        let user = |(member, group)| if let Member::User(user) = member { Some((user.index(), group)) } else { None };
        let inner =
            |(member, group)| if let Member::Group(inner) = member { Some((inner.index(), group)) } else { None };
        let direct = Naming::of(users, all().filter_map(user));
        let above = Naming::of(count, all().filter_map(inner));
        (self.direct, self.above) = (direct, above);
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

    /// A shortest chain of groups from one that holds the user to `group`, by data alone; ties go to
    /// the first ids. `start` are computed groups the user is in. None where there is no chain.
    pub fn chain(&self, user: UserId, start: &[GroupId], group: GroupId) -> Option<Vec<GroupId>> {
        let mut from: Vec<Option<Option<GroupId>>> = vec![None; self.len()];
        let mut queue = VecDeque::new();
        for &first in self.direct(user).iter().chain(start) {
            if from[first.index()].is_none() {
                from[first.index()] = Some(None);
                queue.push_back(first);
            }
        }
        while let Some(next) = queue.pop_front() {
            if next == group {
                let mut chain = vec![group];
                while let Some(Some(before)) = from[chain[chain.len() - 1].index()] {
                    chain.push(before);
                }
                chain.reverse();
                return Some(chain);
            }
            for &above in self.above(next) {
                if from[above.index()].is_none() {
                    from[above.index()] = Some(Some(next));
                    queue.push_back(above);
                }
            }
        }
        None
    }

    /// Where a membership is written.
    pub fn origin(&self, group: GroupId, member: Member) -> Option<Origin> {
        self.members[group.index()].iter().find(|m| m.member == member).map(|m| m.origin)
    }
}
