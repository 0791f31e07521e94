//! Outcomes of actions for all users at once, worked out once for each combination of what they hang on.

use super::site::Step;
use super::{Decided, Evaluator, Work};
use crate::decide::Reason;
use crate::sets::store::SetId;
use crate::sets::{Keyed, Part, of_length};
use bastide_model::*;
use hashbrown::HashMap;

/// An outcome that is kept.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct OutcomeId(pub u32);

impl OutcomeId {
    /// Its number.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// Users whom the same rule takes, before needs.
#[derive(Clone, Copy, Debug)]
pub struct Taken {
    /// The place of the rule in the order in which each takes its users.
    pub key: u64,
    /// Why, by what, who.
    pub part: Part,
}

/// What is decided for whom, on one action.
pub struct Outcome {
    /// The action.
    pub action: ActionId,
    /// Before needs: disjoint parts that together are all users.
    pub weighed: u32,
    /// After needs.
    pub parts: Box<[Part]>,
    /// Everybody for whom it is allowed.
    pub allowed: SetId,
}

/// Those that were met.
#[derive(Default)]
pub struct Outcomes {
    weighed: Vec<Box<[Taken]>>,
    by_sets: Vec<Keyed<u32, u32>>,
    all: Vec<Outcome>,
    finished: HashMap<(u32, ActionId, SetId), OutcomeId>,
}

impl Outcomes {
    /// One of them.
    pub fn get(&self, outcome: OutcomeId) -> &Outcome {
        &self.all[outcome.index()]
    }

    /// All, by number.
    pub fn all(&self) -> &[Outcome] {
        &self.all
    }

    /// Before needs, in the order in which rules take their users.
    pub fn weighed(&self, weighed: u32) -> &[Taken] {
        &self.weighed[weighed as usize]
    }
}

impl<'s> Evaluator<'s> {
    /// Decides an action on the resource at hand, if that is not done yet.
    pub(super) fn action(&mut self, work: &mut Work, action: ActionId) {
        if work.decided[action.index()] != Decided::Open {
            return;
        }
        let Some(of) = self.sites.action(work.site, action) else { return };
        let (speaking, steps) = (of.speaking, std::rc::Rc::clone(&of.steps));
        let speaks = |of: &Self, (rule, _): &(u32, u16)| of.plan.rules[*rule as usize].speaks.contains(action.index());
        let owns = work.own.iter().any(|own| speaks(self, own));
        if of.is_constant && !owns && let Some(known) = of.constant {
            work.decided[action.index()] = Decided::Base(known);
            return;
        }
        let is_constant = of.is_constant;
        let (mut wide, mut turns) = (false, false);
        let mut sets: Vec<SetId> = Vec::new();
        for at in 0..of.varying.len() {
            let rule = self.sites.action(work.site, action).expect("it has a meaning").varying[at].rule;
            let state = self.state(work, rule);
            wide |= state.wide;
            turns |= state.turns.0 < state.turns.1;
            sets.push(state.base);
        }
        if owns {
            for at in 0..work.own.len() {
                let own = work.own[at];
                if speaks(self, &own) {
                    turns = true;
                    wide |= self.is_broad(own.0);
                }
            }
        }
        let mut met = SetId::ALL;
        let (mut mets, mut wide_met) = (Vec::new(), false);
        for at in 0..self.estate.schema.actions[action.index()].needs.len() {
            let need = self.estate.schema.actions[action.index()].needs[at];
            let of_need = self.met(work, need.target, need.action);
            wide_met |= of_need.wide.is_some();
            turns |= of_need.turns.0 < of_need.turns.1;
            if of_need.wide.is_none() {
                met = self.sets.intersect(met, of_need.base);
            }
            mets.push(of_need);
        }
        if wide {
            self.in_words(work, action, &steps, &mets, None);
            return;
        }
        let mut key = std::mem::take(&mut work.key);
        key.clear();
        key.extend([speaking, work.layer.map_or(u32::MAX, |layer| layer.0)]);
        key.extend(sets.iter().map(|set| set.0));
        let known = self.outcomes.by_sets.get(key.len()).and_then(|known| known.get(&key));
        let weighed = known.unwrap_or_else(|| {
            let weighed = self.weigh(work, &steps);
            of_length(&mut self.outcomes.by_sets, key.len()).insert(&key, weighed);
            weighed
        });
        work.key = key;
        if wide_met {
            self.in_words(work, action, &steps, &mets, (!turns).then_some(weighed));
            return;
        }
        let outcome = self.finish(weighed, action, met);
        work.decided[action.index()] = Decided::Base(outcome);
        if is_constant && !owns {
            self.sites.set_constant(work.site, action, outcome);
        }
        if turns {
            self.patch(work, action, outcome, &steps, &mets);
        }
    }

    /// Rules take their users, one after the other.
    fn weigh(&mut self, work: &mut Work, steps: &[Step]) -> u32 {
        let mut taken: Vec<Taken> = Vec::new();
        let mut rest = self.plan.active;
        if self.plan.inactive != SetId::NONE {
            let part = Part { reason: Reason::Inactive, by: None, users: self.plan.inactive };
            taken.push(Taken { key: 0, part });
        }
        for step in steps {
            if rest == SetId::NONE {
                break;
            }
            if !self.counts(work, step) {
                continue;
            }
            let users = self.base(work, step.rule);
            let own = self.sets.intersect(rest, users);
            if own != SetId::NONE {
                let by = Some(self.plan.rules[step.rule as usize].id);
                taken.push(Taken { key: step.key, part: Part { reason: step.reason, by, users: own } });
                rest = self.sets.subtract(rest, own);
            }
        }
        if rest != SetId::NONE {
            taken.push(Taken { key: u64::MAX, part: Part { reason: Reason::Silent, by: None, users: rest } });
        }
        self.outcomes.weighed.push(taken.into());
        self.outcomes.weighed.len() as u32 - 1
    }

    /// Whether a rule counts in the layer that controls the resource at hand.
    pub(super) fn counts(&self, work: &Work, step: &Step) -> bool {
        let weighed = matches!(step.reason, Reason::Granted | Reason::Denied);
        !weighed
            || self.estate.layers.is_empty()
            || work.layer == Some(self.plan.rules[step.rule as usize].layer)
    }

    /// What is permitted must have its needs met.
    fn finish(&mut self, weighed: u32, action: ActionId, met: SetId) -> OutcomeId {
        if let Some(known) = self.outcomes.finished.get(&(weighed, action, met)) {
            return *known;
        }
        let mut parts: Vec<Part> = Vec::new();
        let mut allowed = SetId::NONE;
        for at in 0..self.outcomes.weighed(weighed).len() {
            let part = self.outcomes.weighed(weighed)[at].part;
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
                parts.push(Part { reason: Reason::Blocked, users: blocked, ..part });
            }
        }
        let outcome = OutcomeId(self.outcomes.all.len() as u32);
        self.outcomes.all.push(Outcome { action, weighed, parts: parts.into(), allowed });
        self.outcomes.finished.insert((weighed, action, met), outcome);
        outcome
    }

    /// The part of an outcome in which a user is.
    pub(super) fn part(&self, outcome: OutcomeId, user: u32) -> Part {
        let parts = &self.outcomes.get(outcome).parts;
        *parts.iter().find(|part| self.sets.contains(part.users, user as usize)).expect("parts are everybody")
    }
}
