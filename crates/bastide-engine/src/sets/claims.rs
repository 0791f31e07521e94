//! Who-clauses and what-clauses asked by themselves, for what must always hold.

use super::SetEngine;
use super::features::View;
use super::pairs::Pair;
use super::store::SetId;
use crate::decide::place::{anchor, reaches};
use bastide_model::condition::{Condition, Who};
use bastide_model::statement::What;
use bastide_model::*;

impl<'e> SetEngine<'e> {
    /// For whom a who-clause is true on a resource, and for whom it is not false.
    pub fn meant(&mut self, who: &'e Who, resource: ResourceId) -> (SetId, SetId) {
        let (others, owners) = (self.who(who, Some(resource), View::Other), self.who(who, Some(resource), View::Owner));
        self.with_owner(resource, others, owners)
    }

    /// For whom a what-clause reaches a resource: where its condition is true, and where it is not
    /// false. Barriers do not matter to it. None where it does not reach the resource at all.
    pub fn spoken_of(&mut self, what: &'e What, resource: ResourceId) -> Option<(SetId, SetId)> {
        let estate = self.estate;
        let kind = estate.schema.is_any(estate.catalog.kind(resource), what.kinds.as_deref());
        let within = what.places.as_ref().is_none_or(|p| p.iter().any(|p| reaches(&estate.catalog, p, resource)));
        if !kind || !within {
            return None;
        }
        let Some(condition) = &what.condition else { return Some((SetId::ALL, SetId::ALL)) };
        let condition: &'e Condition = condition;
        let others = self.pair(condition, Some(resource), View::Other);
        let owners = self.pair(condition, Some(resource), View::Owner);
        Some(self.with_owner(resource, others, owners)).filter(|(_, open)| *open != SetId::NONE)
    }

    /// The users of a set that are in neither of two others, as ids.
    pub fn but(&mut self, set: SetId, not: SetId) -> SetId {
        self.sets.subtract(set, not)
    }

    /// The users of both sets.
    pub fn both(&mut self, a: SetId, b: SetId) -> SetId {
        self.sets.intersect(a, b)
    }

    /// From here on until [`SetEngine::forget`], sets that are made are kept for a while only. Nothing but algebra
    /// on sets may be asked for meanwhile: the rows, and the single users that are spoken of, must be there.
    pub fn aside(&mut self) -> Aside {
        Aside { mark: self.sets.begin() }
    }

    /// Forgets the sets that were made since.
    pub fn forget(&mut self, aside: Aside) {
        self.sets.release(aside.mark);
    }

    /// The users of either set.
    pub fn either(&mut self, a: SetId, b: SetId) -> SetId {
        self.sets.union(a, b)
    }

    fn with_owner(&mut self, resource: ResourceId, others: Pair, owners: Pair) -> (SetId, SetId) {
        let Some(owner) = self.estate.catalog.owner(resource).flatten() else { return (others.yes, others.open) };
        let single = self.single(owner);
        let mut pick = |other: SetId, own: SetId| {
            let has = self.sets.contains(own, owner.index());
            if has == self.sets.contains(other, owner.index()) {
                other
            } else if has {
                self.sets.union(other, single)
            } else {
                self.sets.subtract(other, single)
            }
        };
        (pick(others.yes, owners.yes), pick(others.open, owners.open))
    }
}

/// Sets that are kept for a while only.
#[must_use = "what is made meanwhile has to be forgotten"]
pub struct Aside {
    mark: u32,
}

/// A statement that reaches a resource, and whom it applies to there.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Reaching {
    /// The statement.
    pub id: StatementId,
    /// To whom, if they do not own the resource.
    pub others: SetId,
    /// To whom, if they own it.
    pub owners: SetId,
}

impl SetEngine<'_> {
    /// The statements that reach a resource and apply to anybody there, in policy order.
    pub fn reaching(&mut self, resource: ResourceId) -> Vec<Reaching> {
        let site = self.site(resource);
        let mut found = Vec::with_capacity(self.sites[site].reached.len());
        for i in 0..self.sites[site].reached.len() {
            let (id, _) = self.sites[site].reached[i];
            let others = self.applies(id, resource, View::Other);
            let owners = self.applies(id, resource, View::Owner);
            if others != SetId::NONE || owners != SetId::NONE {
                found.push(Reaching { id, others, owners });
            }
        }
        found
    }

    /// The layer that controls a resource; none where the estate has no layers, or nothing there is weighed.
    pub(crate) fn controlling_layer(&mut self, resource: ResourceId) -> Option<LayerId> {
        if self.estate().layers.is_empty() {
            return None;
        }
        let site = self.site(resource);
        self.layer(site, resource)
    }

    /// The users of a group, for certain.
    pub fn members_of(&mut self, group: GroupId) -> SetId {
        self.members(group).yes
    }

    /// The set of these users.
    pub fn set_of(&mut self, users: impl IntoIterator<Item = usize>) -> SetId {
        self.sets.of(users)
    }
}

impl<'e> SetEngine<'e> {
    /// For whom it cannot be said, for want of a value, whether a condition holds on a resource.
    pub(crate) fn unknown(&mut self, condition: &'e Condition, resource: ResourceId) -> SetId {
        let [others, owners] = [View::Other, View::Owner].map(|view| self.pair(condition, Some(resource), view));
        let (yes, open) = self.with_owner(resource, others, owners);
        self.sets.subtract(open, yes)
    }

    /// For whom it cannot be said whether a statement that reaches a resource applies there.
    pub(crate) fn left_open(&mut self, id: StatementId, resource: ResourceId) -> SetId {
        let statement: &'e Statement = self.estate.statement(id);
        let [others, owners] = [View::Other, View::Owner].map(|view| {
            let mut pair = self.who(&statement.who, Some(resource), view);
            for condition in [&statement.what.condition, &statement.condition].into_iter().flatten() {
                let condition: &'e Condition = condition;
                let next = self.pair(condition, Some(resource), view);
                pair = pair.and(next, &mut self.sets);
            }
            pair
        });
        let (yes, open) = self.with_owner(resource, others, owners);
        self.sets.subtract(open, yes)
    }
}

/// A step by which a statement narrows whom and what it reaches.
pub enum Step<'e> {
    /// The terms of its who-clause.
    Terms(&'e Who),
    /// Its kinds.
    Kinds,
    /// Its places, barriers included.
    Places,
    /// One of its conditions.
    Condition(&'e Condition),
}

/// The steps of a statement, in the order in which its text is read.
pub fn steps(statement: &Statement) -> Vec<Step<'_>> {
    let mut steps = vec![Step::Terms(&statement.who)];
    steps.extend(statement.who.condition.iter().flat_map(Condition::conjuncts).map(Step::Condition));
    if statement.what.kinds.is_some() {
        steps.push(Step::Kinds);
    }
    if statement.what.places.is_some() {
        steps.push(Step::Places);
    }
    for condition in [&statement.what.condition, &statement.condition].into_iter().flatten() {
        steps.extend(condition.conjuncts().into_iter().map(Step::Condition));
    }
    steps
}

impl<'e> SetEngine<'e> {
    /// The users who are left on a resource after each step, and in the end those for whom it cannot
    /// be said for want of a value.
    pub fn narrowed(
        &mut self,
        statement: &'e Statement,
        steps: &[Step<'e>],
        resource: ResourceId,
    ) -> (Vec<SetId>, SetId) {
        let estate = self.estate;
        let permits = statement.modality.permits();
        let (mut yes, mut open) = (SetId::ALL, SetId::ALL);
        let mut left = Vec::with_capacity(steps.len());
        for step in steps {
            let (sure, maybe) = match step {
                Step::Terms(who) => {
                    let [others, owners] =
                        [View::Other, View::Owner].map(|view| self.any_term(who, Some(resource), view));
                    self.with_owner(resource, others, owners)
                }
                Step::Kinds => {
                    let kind = estate.catalog.kind(resource);
                    let is = estate.schema.is_any(kind, statement.what.kinds.as_deref());
                    if is { (SetId::ALL, SetId::ALL) } else { (SetId::NONE, SetId::NONE) }
                }
                Step::Places => {
                    let is = anchor(estate, statement, resource).is_some();
                    if is { (SetId::ALL, SetId::ALL) } else { (SetId::NONE, SetId::NONE) }
                }
                Step::Condition(condition) if open != SetId::NONE => {
                    let condition: &'e Condition = condition;
                    let [others, owners] =
                        [View::Other, View::Owner].map(|view| self.pair(condition, Some(resource), view));
                    self.with_owner(resource, others, owners)
                }
                Step::Condition(_) => (SetId::NONE, SetId::NONE),
            };
            yes = self.sets.intersect(yes, sure);
            open = self.sets.intersect(open, maybe);
            left.push(if permits { yes } else { open });
        }
        (left, self.sets.subtract(open, yes))
    }
}
