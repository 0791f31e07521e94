//! The decision: standing, prohibition, assurance, layers, combining, needs, in that order.

use super::{Candidate, Candidates, Decision, Reason, ReferenceEvaluator};
use bastide_model::*;
use std::cell::Cell;

impl ReferenceEvaluator<'_> {
    /// The decision on a triple, given what reaches the resource.
    pub(crate) fn decide_among(
        &self,
        candidates: &Candidates,
        user: UserId,
        action: ActionId,
        resource: ResourceId,
    ) -> Decision {
        if !self.estate.schema().fits(action, self.estate.catalog().kind(resource)) {
            return Decision::new(Reason::Silent, None);
        }
        if !self.estate.people().is_active(user) {
            return Decision::new(Reason::Inactive, None);
        }
        let decision = self.weigh(candidates, user, action, resource);
        if !decision.is_allowed() {
            return decision;
        }
        let needs = &self.estate.schema().actions[action.index()].needs;
        match needs.iter().find(|need| !self.meets(user, **need, resource)) {
            Some(need) => Decision { reason: Reason::Blocked, by: decision.by, need: Some(*need) },
            None => decision,
        }
    }

    /// Steps 2 to 5.
    fn weigh(&self, candidates: &Candidates, user: UserId, action: ActionId, resource: ResourceId) -> Decision {
        let mut assured = None;
        let mut weighed: Vec<(&Candidate, bool)> = Vec::new();
        for candidate in &candidates.list {
            let statement = self.estate.statement(candidate.id);
            let listed = statement.actions.contains(action.index());
            // A ceiling takes away what it does not list; every other modality speaks of what it lists.
            if listed == (statement.modality == Modality::MayOnly) || !self.applies(candidate, user, resource) {
                continue;
            }
            match statement.modality {
                Modality::MayNever | Modality::MayOnly => return Decision::new(Reason::Capped, Some(candidate.id)),
                Modality::MayAlways => assured = assured.or(Some(candidate.id)),
                Modality::May | Modality::MayNot => {
                    if self.controls(candidates, statement) {
                        weighed.push((candidate, statement.modality == Modality::May));
                    }
                }
            }
        }
        match assured {
            Some(by) => Decision::new(Reason::Assured, Some(by)),
            None => combine(self.estate.combining(), &weighed),
        }
    }

    /// What step 5 alone would say, whatever the steps before it: granted, denied or silent.
    pub(crate) fn combined(
        &self,
        candidates: &Candidates,
        user: UserId,
        action: ActionId,
        resource: ResourceId,
    ) -> Reason {
        let weighed: Vec<(&Candidate, bool)> = candidates
            .list
            .iter()
            .map(|candidate| (candidate, self.estate.statement(candidate.id)))
            .filter(|(_, s)| {
                matches!(s.modality, Modality::May | Modality::MayNot) && s.actions.contains(action.index())
            })
            .filter(|(c, s)| self.controls(candidates, s) && self.applies(c, user, resource))
            .map(|(candidate, s)| (candidate, s.modality == Modality::May))
            .collect();
        combine(self.estate.combining(), &weighed).reason
    }

    /// Whether a `may` or `may not` belongs to the layer that controls the resource.
    pub(crate) fn controls(&self, candidates: &Candidates, statement: &Statement) -> bool {
        self.estate.layers().is_empty()
            || candidates.layer == Some(statement.layer.unwrap_or(LayerId::new(self.estate.layers().len())))
    }

    /// Whether a statement that reaches the resource applies to the user: a permission where its
    /// whole condition is true, a restriction where it is not false.
    pub(crate) fn applies(&self, candidate: &Candidate, user: UserId, resource: ResourceId) -> bool {
        let truth = self.truth(candidate, user, resource);
        // In the user's favour, what is unknown gives and does not take.
        if self.estate.statement(candidate.id).modality.permits() != self.favourable {
            truth.is_true()
        } else {
            truth.not_false()
        }
    }

    /// The whole condition of a statement: who, where and while.
    pub(crate) fn truth(&self, candidate: &Candidate, user: UserId, resource: ResourceId) -> Truth {
        let statement = self.estate.statement(candidate.id);
        let place = || {
            candidate.place_truth.unwrap_or_else(|| {
                let condition = statement.what.condition.as_ref().expect("only a condition leaves it open");
                self.condition(condition, Some(user), Some(resource))
            })
        };
        let person = self.user_truth(candidate.id, user, resource);
        if person == Truth::False { Truth::False } else { person.and(place()) }
    }

    /// Who and while of a statement.
    fn user_truth(&self, id: StatementId, user: UserId, resource: ResourceId) -> Truth {
        let statement = self.estate.statement(id);
        let ask = |resource: Option<ResourceId>| {
            let who = self.who(&statement.who, user, resource);
            match &statement.condition {
                Some(condition) if who != Truth::False => who.and(self.condition(condition, Some(user), resource)),
                _ => who,
            }
        };
        match &self.user_truths[id.index()] {
            None => ask(Some(resource)),
            Some(kept) => {
                let cell = &kept.get_or_init(|| vec![Cell::new(None); self.estate.people().len()].into())[user.index()];
                cell.get().unwrap_or_else(|| {
                    let truth = ask(None);
                    cell.set(Some(truth));
                    truth
                })
            }
        }
    }
}

/// Step 5. `weighed` holds what remains in policy order, with whether it permits.
fn combine(combining: Combining, weighed: &[(&Candidate, bool)]) -> Decision {
    let deepest = weighed.iter().map(|(c, _)| c.depth).max();
    let counts = |c: &Candidate| combining != Combining::NearestOverrides || Some(c.depth) == deepest;
    let permit = weighed.iter().find(|(c, permits)| *permits && counts(c)).map(|(c, _)| c.id);
    let deny = weighed.iter().find(|(c, permits)| !*permits && counts(c)).map(|(c, _)| c.id);
    let denied = |by| Decision::new(Reason::Denied, Some(by));
    let granted = |by| Decision::new(Reason::Granted, Some(by));
    match (permit, deny) {
        (None, None) => Decision::new(Reason::Silent, None),
        (Some(by), None) => granted(by),
        (None, Some(by)) => denied(by),
        (Some(permit), Some(deny)) => match combining {
            Combining::DenyOverrides | Combining::NearestOverrides => denied(deny),
            Combining::PermitOverrides => granted(permit),
            Combining::FirstApplicable if permit < deny => granted(permit),
            Combining::FirstApplicable => denied(deny),
        },
    }
}
