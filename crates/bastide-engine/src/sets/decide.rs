//! The steps of the decision, on sets: whoever is decided on drops out of `rest`, and what is left
//! goes on to the next step.

use super::features::View;
use super::store::SetId;
use super::{Outcome, OutcomeId, Part, SetEngine};
use crate::decide::Reason;
use bastide_model::*;

/// Users not decided on yet, and the parts so far.
struct Sorting {
    rest: SetId,
    parts: Vec<Part>,
}

/// A statement that is weighed: its number, its depth, whether it permits.
#[derive(Clone, Copy)]
struct Weighed {
    id: StatementId,
    depth: u16,
    permits: bool,
}

impl SetEngine<'_> {
    /// The outcome of one action on a resource, worked out step by step.
    pub(super) fn decided(&mut self, resource: ResourceId, action: ActionId, view: View) -> OutcomeId {
        if let Some(known) = self.early.get(&(resource, action, view)) {
            return *known;
        }
        let id = self.decided_by_parts(resource, action, view);
        // Within a row, actions ask for each other on the same resource; elsewhere it is asked for early.
        self.early.insert((resource, action, view), id);
        id
    }

    /// The outcome by what alone it hangs on: the sets of the statements that speak of the action,
    /// those its needs ask for, and the layer. Rows differ in one action far more often than in all.
    fn decided_by_parts(&mut self, resource: ResourceId, action: ActionId, view: View) -> OutcomeId {
        let site = self.site(resource);
        // What has no meaning here asks nothing, and so closes no circle.
        let fits = self.estate.schema.fits(action, self.estate.catalog.kind(resource));
        let relevant = self.sites[site].relevant[action.index()].as_ref().map(|r| r.len());
        let Some(count) = relevant.filter(|_| fits) else {
            let outcome = self.decide(resource, action, view);
            return self.keep_outcome(outcome);
        };
        let mut key: Vec<u32> = Vec::with_capacity(count + 6);
        key.push(action.0);
        for i in 0..count {
            let at = self.sites[site].relevant[action.index()].as_ref().expect("asked before")[i];
            let (id, _) = self.sites[site].reached[at as usize];
            key.push(self.applies(id, resource, view).0);
        }
        for i in 0..self.estate.schema.actions[action.index()].needs.len() {
            let need = self.estate.schema.actions[action.index()].needs[i];
            key.push(self.met(resource, need.target, need.action, view).0);
        }
        if !self.estate.layers.is_empty() {
            key.push(self.layer(site, resource).map_or(u32::MAX, |l| l.0));
        }
        if let Some(known) = self.sites[site].parts.get(&key[..]) {
            return *known;
        }
        let outcome = self.decide(resource, action, view);
        let id = self.keep_outcome(outcome);
        self.sites[site].parts.insert(key.into(), id);
        id
    }

    fn keep_outcome(&mut self, outcome: Outcome) -> OutcomeId {
        if let Some(known) = self.known_outcomes.get(&outcome) {
            return *known;
        }
        let id = OutcomeId(self.outcomes.len() as u32);
        self.outcomes.push(outcome.clone());
        self.known_outcomes.insert(outcome, id);
        id
    }

    fn decide(&mut self, resource: ResourceId, action: ActionId, view: View) -> Outcome {
        let mut sorting = Sorting { rest: SetId::ALL, parts: Vec::new() };
        if !self.estate.schema.fits(action, self.estate.catalog.kind(resource)) {
            return self.finish(sorting, (resource, view), action, false);
        }
        let inactive = self.sets.complement(self.active);
        self.take(&mut sorting, inactive, Reason::Inactive, None);
        let site = self.site(resource);
        let (mut prohibiting, mut assuring, mut weighed) = (Vec::new(), Vec::new(), Vec::new());
        for &(id, depth) in &self.sites[site].reached {
            let statement = self.estate.statement(id);
            let listed = statement.actions.contains(action.index());
            match statement.modality {
                Modality::MayNever if listed => prohibiting.push(id),
                Modality::MayOnly if !listed => prohibiting.push(id),
                Modality::MayAlways if listed => assuring.push(id),
                Modality::May | Modality::MayNot if listed => {
                    weighed.push(Weighed { id, depth, permits: statement.modality == Modality::May });
                }
                _ => {}
            }
        }
        self.take_all(&mut sorting, &prohibiting, Reason::Capped, (resource, view));
        self.take_all(&mut sorting, &assuring, Reason::Assured, (resource, view));
        if !self.estate.layers.is_empty() && !weighed.is_empty() {
            let layer = self.layer(site, resource);
            let rest = LayerId::new(self.estate.layers.len());
            weighed.retain(|w| layer == Some(self.estate.statement(w.id).layer.unwrap_or(rest)));
        }
        self.combine(&mut sorting, weighed, (resource, view));
        self.finish(sorting, (resource, view), action, true)
    }

    fn take(&mut self, sorting: &mut Sorting, users: SetId, reason: Reason, by: Option<StatementId>) {
        let taken = self.sets.intersect(sorting.rest, users);
        if taken != SetId::NONE {
            sorting.parts.push(Part { reason, by, users: taken });
            sorting.rest = self.sets.subtract(sorting.rest, taken);
        }
    }

    fn take_all(&mut self, sorting: &mut Sorting, statements: &[StatementId], reason: Reason, at: (ResourceId, View)) {
        for &id in statements {
            if sorting.rest == SetId::NONE {
                return;
            }
            let users = self.applies(id, at.0, at.1);
            self.take(sorting, users, reason, Some(id));
        }
    }

    /// Step 5: each algorithm is an order in which the statements take their users.
    fn combine(&mut self, sorting: &mut Sorting, mut weighed: Vec<Weighed>, at: (ResourceId, View)) {
        match self.estate.combining {
            Combining::DenyOverrides => weighed.sort_by_key(|w| w.permits),
            Combining::PermitOverrides => weighed.sort_by_key(|w| !w.permits),
            Combining::NearestOverrides => weighed.sort_by_key(|w| (std::cmp::Reverse(w.depth), w.permits)),
            Combining::FirstApplicable => {}
        }
        for Weighed { id, permits, .. } in weighed {
            if sorting.rest == SetId::NONE {
                return;
            }
            let users = self.applies(id, at.0, at.1);
            self.take(sorting, users, if permits { Reason::Granted } else { Reason::Denied }, Some(id));
        }
    }

    /// What nobody decided is silent; what is permitted must have its needs met.
    fn finish(&mut self, mut sorting: Sorting, at: (ResourceId, View), action: ActionId, fits: bool) -> Outcome {
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
        let mut parts: Vec<Part> = Vec::with_capacity(sorting.parts.len() + 2);
        let mut allowed = SetId::NONE;
        for part in sorting.parts {
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
        Outcome { parts: parts.into(), allowed }
    }
}
