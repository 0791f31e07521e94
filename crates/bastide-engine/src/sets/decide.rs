//! The steps of the decision, on sets: whoever is decided on drops out of `rest`, and what is left
//! goes on to the next step.

use super::features::View;
use super::keyed;
use super::places;
use super::store::SetId;
use super::{OutcomeId, Part, SetEngine};
use crate::decide::Reason;
use bastide_model::*;
use std::sync::Arc;

/// Users not decided on yet, and the parts so far.
struct Sorting {
    rest: SetId,
    parts: Vec<Part>,
}

/// A statement that speaks of an action, in the order in which each takes its users.
pub(super) struct Step {
    id: StatementId,
    reason: Reason,
    /// Where the estate has layers, the one that a statement is weighed in.
    layer: Option<LayerId>,
}

impl SetEngine<'_> {
    /// The outcome of one action on a resource, worked out step by step.
    pub(super) fn decided(&mut self, resource: ResourceId, action: ActionId, view: View) -> OutcomeId {
        // Within a row, actions ask for each other on the same resource; elsewhere it is asked for early.
        let here = self.making.of == Some((resource, view));
        if here && let Some(known) = self.making.outcomes[action.index()] {
            return known;
        }
        if !self.early.is_empty()
            && let Some(known) = self.early.get(&(resource, action, view))
        {
            return *known;
        }
        let id = self.decided_by_parts(resource, action, view);
        if here {
            self.making.outcomes[action.index()] = Some(id);
        } else {
            self.early.insert((resource, action, view), id);
        }
        id
    }

    /// The outcome by what alone it hangs on: the statements that speak of the action and their sets,
    /// those its needs ask for, and the layer. Rows differ in one action far more often than in all.
    fn decided_by_parts(&mut self, resource: ResourceId, action: ActionId, view: View) -> OutcomeId {
        // What has no meaning here asks nothing, and so closes no circle.
        if !self.has_meaning(action, self.cells.kind(resource)) {
            let outcome = self.meaningless.unwrap_or_else(|| self.decide(resource, action, view));
            self.meaningless = Some(outcome);
            return outcome;
        }
        let site = if self.making.of == Some((resource, view)) { self.making.site } else { self.site(resource) };
        let Some(count) = self.sites[site].relevant[action.index()].as_ref().map(|all| all.len()) else {
            return self.decide(resource, action, view);
        };
        let mut key = std::mem::take(&mut self.part_key);
        key.clear();
        key.extend([self.sites[site].speaking[action.index()], action.0]);
        for i in 0..count {
            let i = self.sites[site].relevant[action.index()].as_ref().expect("asked before")[i] as usize;
            let known = (self.applied_on == Some(resource)).then(|| self.applied[view as usize][i]);
            let set = known.unwrap_or_else(|| {
                let (id, _) = self.sites[site].reached[self.sites[site].varying[i] as usize];
                self.applies(id, resource, view)
            });
            key.push(set.0);
        }
        for i in 0..self.estate.schema.actions[action.index()].needs.len() {
            let need = self.estate.schema.actions[action.index()].needs[i];
            key.push(self.met(resource, need.target, need.action, view).0);
        }
        if !self.estate.layers.is_empty() {
            key.push(self.layer(site, resource).map_or(u32::MAX, |l| l.0));
        }
        let id = self.parts.get(key.len()).and_then(|known| known.get(&key)).unwrap_or_else(|| {
            let id = self.decide(resource, action, view);
            keyed::of_length(&mut self.parts, key.len()).insert(&key, id);
            id
        });
        self.part_key = key;
        id
    }

    fn decide(&mut self, resource: ResourceId, action: ActionId, view: View) -> OutcomeId {
        let mut sorting = Sorting { rest: SetId::ALL, parts: std::mem::take(&mut self.sorted) };
        sorting.parts.clear();
        if !self.has_meaning(action, self.cells.kind(resource)) {
            return self.finish(sorting, (resource, view), action, false);
        }
        let inactive = self.sets.complement(self.active);
        self.take(&mut sorting, inactive, Reason::Inactive, None);
        let site = self.site(resource);
        let steps = self.speaking.steps(self.estate, self.sites[site].speaking[action.index()], action);
        let weighed = steps.iter().any(|step| step.layer.is_some());
        let layer = if weighed { self.layer(site, resource) } else { None };
        for step in steps.iter().filter(|step| step.layer.is_none() || step.layer == layer) {
            if sorting.rest == SetId::NONE {
                break;
            }
            let users = self.applies(step.id, resource, view);
            self.take(&mut sorting, users, step.reason, Some(step.id));
        }
        self.finish(sorting, (resource, view), action, true)
    }

    fn take(&mut self, sorting: &mut Sorting, users: SetId, reason: Reason, by: Option<StatementId>) {
        let taken = self.sets.intersect(sorting.rest, users);
        if taken != SetId::NONE {
            sorting.parts.push(Part { reason, by, users: taken });
            sorting.rest = self.sets.subtract(sorting.rest, taken);
        }
    }

    /// What nobody decided is silent; what is permitted must have its needs met.
    fn finish(&mut self, mut sorting: Sorting, at: (ResourceId, View), action: ActionId, fits: bool) -> OutcomeId {
        let rest = sorting.rest;
        self.take(&mut sorting, rest, Reason::Silent, None);
        let mut met = SetId::ALL;
        if fits && sorting.parts.iter().any(|p| p.reason.is_allowed()) {
            for i in 0..self.estate.schema.actions[action.index()].needs.len() {
                let need = self.estate.schema.actions[action.index()].needs[i];
                let users = self.met(at.0, need.target, need.action, at.1);
                met = self.sets.intersect(met, users);
            }
        }
        let mut parts: Vec<Part> = std::mem::take(&mut self.finished);
        parts.clear();
        let mut allowed = SetId::NONE;
        for &part in &sorting.parts {
            if !part.reason.is_allowed() {
                parts.push(part);
                continue;
            }
            let kept = self.sets.intersect(part.users, met);
            let blocked = self.sets.subtract(part.users, met);
            if kept != SetId::NONE {
                parts.push(Part { users: kept, ..part });
                allowed = self.sets.union(allowed, kept);
            }
            if blocked != SetId::NONE {
                parts.push(Part { reason: Reason::Blocked, by: part.by, users: blocked });
            }
        }
        let id = self.book.keep(&parts, allowed);
        (self.sorted, self.finished) = (sorting.parts, parts);
        id
    }
}

/// Statements that speak of an action: caps first, then what is always granted, then those that are weighed, in the order
/// of the algorithm.
pub(super) fn steps(estate: &Estate, action: ActionId, reached: &[places::Reached]) -> Arc<[Step]> {
    let rest = LayerId::new(estate.layers.len());
    let (mut prohibiting, mut assuring, mut weighed) = (Vec::new(), Vec::new(), Vec::new());
    for &(id, depth) in reached {
        let statement = estate.statement(id);
        let listed = statement.actions.contains(action.index());
        let step = |reason| Step { id, reason, layer: None };
        match statement.modality {
            Modality::MayNever if listed => prohibiting.push(step(Reason::Capped)),
            Modality::MayOnly if !listed => prohibiting.push(step(Reason::Capped)),
            Modality::MayAlways if listed => assuring.push(step(Reason::Assured)),
            Modality::May | Modality::MayNot if listed => {
                let permits = statement.modality == Modality::May;
                let layer = (!estate.layers.is_empty()).then(|| statement.layer.unwrap_or(rest));
                let reason = if permits { Reason::Granted } else { Reason::Denied };
                weighed.push((depth, permits, Step { layer, ..step(reason) }));
            }
            _ => {}
        }
    }
    match estate.combining {
        Combining::DenyOverrides => weighed.sort_by_key(|(_, permits, _)| *permits),
        Combining::PermitOverrides => weighed.sort_by_key(|(_, permits, _)| !permits),
        Combining::NearestOverrides => weighed.sort_by_key(|(depth, permits, _)| (std::cmp::Reverse(*depth), *permits)),
        Combining::FirstApplicable => {}
    }
    let weighed = weighed.into_iter().map(|(.., step)| step);
    prohibiting.into_iter().chain(assuring).chain(weighed).collect()
}
