//! Who-clauses and what-clauses asked by themselves, for what must always hold.

use super::SetEngine;
use super::features::View;
use super::pairs::Pair;
use super::store::SetId;
use crate::decide::place::reaches;
use bastide_model::condition::{Condition, Who};
use bastide_model::statement::What;
use bastide_model::*;

impl<'e> SetEngine<'e> {
    /// For whom a who-clause is true on a resource, and for whom it is not false.
    pub fn meant(&mut self, who: &'e Who, resource: ResourceId) -> (SetId, SetId) {
        let (others, owners) =
            (self.who(who, Some(resource), View::Other), self.who(who, Some(resource), View::Owner));
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
