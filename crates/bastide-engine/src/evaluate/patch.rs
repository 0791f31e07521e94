//! Users who are decided one by one: the decision procedure in miniature.
//!
//! The outcome of an action says which rule takes each user, as if those that name few users named nobody. A user whom such a
//! rule takes in, or leaves out, is decided again: the first rule in order that applies decides, then needs. Cost: for each
//! user, the rules that name few of them, and where one is left out of the rule that decided, those behind it.

use super::site::{Step, step};
use super::weigh::Taken;
use super::{Evaluator, MetNeed, OutcomeId, Work};
use crate::decide::Reason;
use bastide_model::*;

/// How a user is decided, where that is otherwise than the outcome says.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Cell {
    /// The user.
    pub user: u32,
    /// Why.
    pub reason: Reason,
    /// By what.
    pub by: Option<StatementId>,
    /// What the outcome says instead.
    pub was: Reason,
}

/// A user whom a rule takes in, or leaves out, otherwise than the outcome says.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct CellTurn {
    user: u32,
    /// The place of the rule in the order in which each takes its users.
    key: u64,
    reason: Reason,
    rule: u32,
    applies: bool,
}

/// Stands for no rule.
const NO_RULE: u32 = u32::MAX;

impl<'s> Evaluator<'s> {
    /// Whether a rule that belongs to few resources alone names many users.
    pub(super) fn is_broad(&mut self, rule: u32) -> bool {
        let of = &self.plan.rules[rule as usize];
        of.one.is_none() && {
            let set = self.fixed[rule as usize].expect("its users are the same everywhere");
            self.sets.count(set) as usize > self.plan.tuning.narrow
        }
    }

    /// The place of a rule that belongs to few resources alone, where it speaks of an action and counts.
    pub(super) fn own_step(&self, work: &Work, at: usize, action: ActionId) -> Option<Step> {
        let (rule, depth) = work.own[at];
        let id = self.plan.rules[rule as usize].id;
        let step = step(self.estate, self.estate.statement(id), rule, id, depth, action)?;
        self.counts(work, &step).then_some(step)
    }

    /// Decides users one by one who are otherwise than an outcome says, or may be. With `plain`, rules that hang on columns of
    /// few values alone list nobody. With `few`, a need is met by many, and whom it keeps from the action, or does not, stands in
    /// [`Work::few`].
    pub(super) fn patch(
        &mut self,
        work: &mut Work<'s>,
        (action, outcome): (ActionId, OutcomeId),
        plain: bool,
        (mets, few): (&[MetNeed], bool),
    ) {
        let mut gathered = std::mem::take(&mut work.gathered);
        gathered.clear();
        let of = self.sites.action(work.site, action).expect("it has a meaning");
        for step in if plain { &of.parted.others } else { &of.varying }.iter() {
            let state = work.states[step.rule as usize];
            // One that was not asked for lists nobody.
            if state.stamp != work.stamp || state.turns.0 == state.turns.1 || !self.counts(work, step) {
                continue;
            }
            let turns = &work.turns[state.turns.0 as usize..state.turns.1 as usize];
            gathered.extend(turns.iter().map(|(user, applies)| CellTurn {
                user: *user,
                key: step.key,
                reason: step.reason,
                rule: step.rule,
                applies: *applies,
            }));
        }
        for at in 0..work.own.len() {
            let Some(step) = self.own_step(work, at, action) else { continue };
            let turn =
                |user: u32| CellTurn { user, key: step.key, reason: step.reason, rule: step.rule, applies: true };
            match self.plan.rules[step.rule as usize].one {
                Some(user) => gathered.push(turn(user.0)),
                None => {
                    let set = self.fixed[step.rule as usize].expect("its users are the same everywhere");
                    gathered.extend(self.sets.users(set).map(|user| turn(user as u32)));
                }
            }
        }
        let turn = |user: u32| CellTurn { user, key: u64::MAX, reason: Reason::Silent, rule: NO_RULE, applies: false };
        if few {
            gathered.extend(work.few.iter().map(|user| turn(*user)));
        }
        for met in mets {
            let turns = &work.turns[met.turns.0 as usize..met.turns.1 as usize];
            gathered.extend(turns.iter().map(|(user, _)| turn(*user)));
        }
        if !gathered.is_sorted() {
            gathered.sort_unstable();
        }
        let steps = self.sites.steps(work.site, action);
        let mut cells = std::mem::take(&mut work.cells[action.index()]);
        for turns in gathered.chunk_by(|a, b| a.user == b.user) {
            let user = turns[0].user;
            if !self.sets.contains(self.plan.active, user as usize) {
                continue;
            }
            let taken = self.taken(outcome, user);
            let was = self.with_needs(taken.part.reason, outcome, user);
            let (reason, by) = self.decide_one(work, (taken, &steps), mets, turns);
            if (was, taken.part.by) != (reason, by) {
                cells.push(Cell { user, reason, by, was });
            }
        }
        work.cells[action.index()] = cells;
        work.gathered = gathered;
    }

    fn decide_one(
        &mut self,
        work: &mut Work<'s>,
        (taken, steps): (Taken, &[Step]),
        mets: &[MetNeed],
        turns: &[CellTurn],
    ) -> (Reason, Option<StatementId>) {
        let user = turns[0].user;
        let is_in = |of: &Self, set| of.sets.contains(set, user as usize);
        let (mut key, mut reason, mut by) = (taken.key, taken.part.reason, taken.part.by);
        let left_out = |rule: u32| turns.iter().any(|turn| turn.rule == rule && !turn.applies);
        let came = turns.iter().find(|turn| turn.applies);
        if came.is_none_or(|came| came.key > key)
            && turns.iter().any(|turn| !turn.applies && turn.key == key && turn.rule != NO_RULE)
        {
            // The rule that decided does not apply after all: the next one in order does.
            (key, reason, by) = (u64::MAX, Reason::Silent, None);
            let from = steps.partition_point(|step| step.key <= taken.key);
            for step in &steps[from..] {
                if !self.counts(work, step) || left_out(step.rule) {
                    continue;
                }
                let set = self.base(work, step.rule);
                if is_in(self, set) {
                    (key, reason) = (step.key, step.reason);
                    by = Some(self.plan.rules[step.rule as usize].id);
                    break;
                }
            }
        }
        if let Some(came) = came.filter(|came| came.key < key) {
            reason = came.reason;
            by = Some(self.plan.rules[came.rule as usize].id);
        }
        if reason.is_allowed() && !mets.iter().all(|met| self.is_met(work, met, user)) {
            reason = Reason::Blocked;
        }
        (reason, by)
    }
}
