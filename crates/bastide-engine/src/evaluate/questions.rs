//! What is asked of a resource beside what is decided there: which rules reach it, to whom they apply, for whom a clause holds.

use super::{Evaluator, Work};
use crate::decide::{Reason, targets};
use crate::sets::store::SetId;
use bastide_model::schema::Need;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use std::ops::Range;

/// Puts words of users into a list of them, which is overwritten.
pub fn put(words: &[u64], users: &mut FixedBitSet) {
    const { assert!(usize::BITS == 64, "words have 64 bits") };
    users.as_mut_slice().iter_mut().zip(words).for_each(|(to, word)| *to = *word as usize);
}

/// To whom a rule applies on a resource, as it is known there.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Whom {
    /// One user.
    User(UserId),
    /// A set that is kept.
    Set(SetId),
    /// A set that is kept, and users who are not in it: positions for [`Work::besides`].
    Besides(SetId, Range<usize>),
    /// Others on nearly every resource, or all of a set but some: [`Evaluator::applies_to`] lists them.
    Listed,
}

impl Work<'_> {
    /// The users of [`Whom::Besides`], in order.
    pub fn besides(&self, positions: Range<usize>) -> impl Iterator<Item = u32> {
        self.turns[positions].iter().map(|(user, _)| *user)
    }
}

impl<'s> Evaluator<'s> {
    /// Room for users, with nobody in it.
    pub fn nobody(&self) -> FixedBitSet {
        FixedBitSet::with_capacity(self.people as usize)
    }

    /// A resource, with nothing decided on it. What is given back is to be given back ([`Evaluator::done`]).
    pub fn look(&mut self, resource: ResourceId) -> Work<'s> {
        self.begin(resource)
    }

    /// Decides an action on a resource that is looked at, if that is not done yet.
    pub fn decide_on(&mut self, work: &mut Work<'s>, action: ActionId) {
        self.action(work, action);
    }

    /// Puts those for whom an action is allowed on a resource into a list, which is overwritten. Cost: the rules that speak of
    /// it there, and what it needs.
    pub fn allowed(&mut self, resource: ResourceId, action: ActionId, users: &mut FixedBitSet) {
        let mut work = self.begin(resource);
        self.action(&mut work, action);
        self.allowed_users(&work, action, users);
        self.done(work);
    }

    /// How one user is decided on an action on a resource. Cost: as [`Evaluator::allowed`].
    pub fn cause_on(&mut self, user: UserId, action: ActionId, resource: ResourceId) -> (Reason, Option<StatementId>) {
        let mut work = self.begin(resource);
        self.action(&mut work, action);
        let cause = self.cause_in(&mut work, action, user);
        self.done(work);
        cause
    }

    /// Puts those for whom an action is allowed on a resource that was decided on into a list, which is overwritten.
    pub fn allowed_users(&mut self, work: &Work<'s>, action: ActionId, users: &mut FixedBitSet) {
        let mut words = self.spare.pop().unwrap_or_else(|| vec![0; self.sets.width()]);
        self.allowed_words(work, action, &mut words);
        put(&words, users);
        self.spare.push(words);
    }

    /// The rules in force that reach a resource by place and kind and can apply to anybody anywhere, in policy order.
    pub fn rules(&self, work: &Work) -> Vec<u32> {
        let site = self.sites.get(work.site);
        let mut rules: Vec<u32> = site.reached.iter().map(|(rule, _)| *rule).collect();
        if !work.own.is_empty() {
            rules.extend(work.own.iter().map(|(rule, _)| *rule));
            rules.sort_unstable();
            // From several depths, it is one.
            rules.dedup();
        }
        rules
    }

    /// The number of the list of rules that reach a resource, those that belong to few resources aside.
    pub(crate) fn site_of(&self, work: &Work) -> usize {
        work.site
    }

    /// The rules of that list, and from which depth they reach.
    pub(crate) fn site_rules(&self, work: &Work) -> &[(u32, u16)] {
        &self.sites.get(work.site).reached
    }

    /// The rules that belong to few resources and reach this one.
    pub(crate) fn own_rules<'w>(&self, work: &'w Work) -> impl Iterator<Item = u32> + 'w {
        work.own.iter().map(|(rule, _)| *rule)
    }

    /// The statement of a rule.
    pub fn statement_of(&self, rule: u32) -> StatementId {
        self.plan.rules[rule as usize].id
    }

    /// The rule of a statement, where it reaches a resource.
    pub fn rule_on(&self, work: &Work, id: StatementId) -> Option<u32> {
        let rule = Some(self.plan.rule_of[id.index()]).filter(|rule| *rule != super::plan::NOWHERE)?;
        let site = &self.sites.get(work.site).reached;
        let reaches = site.binary_search_by_key(&rule, |(rule, _)| *rule).is_ok();
        (reaches || work.own.iter().any(|(own, _)| *own == rule)).then_some(rule)
    }

    /// Whether a rule that reaches a resource applies to one user there.
    pub fn applies_to_user(&mut self, work: &mut Work<'s>, rule: u32, user: UserId) -> bool {
        self.names(work, rule, user)
    }

    /// Puts those who meet a need of an action on a resource into a list, which is overwritten.
    pub fn meets(&mut self, resource: ResourceId, need: Need, users: &mut FixedBitSet) {
        let targets = targets(self.estate, resource, need.target);
        users.clear();
        if targets.unmet {
            return;
        }
        users.insert_range(..);
        let mut there = self.nobody();
        for target in targets.found {
            self.allowed(target, need.action, &mut there);
            users.intersect_with(&there);
        }
    }

    /// The layer that controls a resource, in an estate with layers.
    pub fn layer_of(&self, work: &Work) -> Option<LayerId> {
        work.layer
    }

    /// Whether a rule that reaches a resource applies to anybody there.
    pub fn touches(&mut self, work: &mut Work<'s>, rule: u32) -> bool {
        let of = &self.plan.rules[rule as usize];
        if of.one.is_some() {
            return true;
        }
        let base = self.base(work, rule);
        if self.fixed[rule as usize].is_some() {
            return base != SetId::NONE;
        }
        let state = work.states[rule as usize];
        if state.wide {
            let words = self.wide_words(work, rule);
            return work.words.get(words).iter().any(|word| *word != 0);
        }
        let turns = &work.turns[state.turns.0 as usize..state.turns.1 as usize];
        turns.iter().any(|(_, applies)| *applies) || self.sets.count(base) as usize > turns.len() || {
            let goes = turns.iter().filter(|(user, applies)| !applies && self.sets.contains(base, *user as usize));
            (self.sets.count(base) as usize) > goes.count()
        }
    }

    /// To whom a rule that reaches a resource applies there, without listing them.
    pub fn whom_of(&mut self, work: &mut Work<'s>, rule: u32) -> Whom {
        if let Some(one) = self.plan.rules[rule as usize].one {
            return Whom::User(one);
        }
        let base = self.base(work, rule);
        if self.fixed[rule as usize].is_some() {
            return Whom::Set(base);
        }
        let state = work.states[rule as usize];
        let turns = state.turns.0 as usize..state.turns.1 as usize;
        match &work.turns[turns.clone()] {
            _ if state.wide => Whom::Listed,
            [] => Whom::Set(base),
            // Who is listed is otherwise than the set says.
            listed if listed.iter().all(|(_, applies)| *applies) => Whom::Besides(base, turns),
            _ => Whom::Listed,
        }
    }

    /// Whom a rule that reaches a resource applies to there, where that is a set that is kept.
    pub fn kept_set(&mut self, work: &mut Work<'s>, rule: u32) -> Option<SetId> {
        match self.whom_of(work, rule) {
            Whom::Set(set) => Some(set),
            Whom::User(_) | Whom::Besides(..) | Whom::Listed => None,
        }
    }

    /// Puts those to whom a rule that reaches a resource applies there into a list, which is overwritten. Gives their number
    /// as a set, where that is one that is kept.
    pub fn applies_to(&mut self, work: &mut Work<'s>, rule: u32, users: &mut FixedBitSet) -> Option<SetId> {
        let of = &self.plan.rules[rule as usize];
        if let Some(one) = of.one {
            users.clear();
            users.insert(one.index());
            return None;
        }
        let base = self.base(work, rule);
        if self.fixed[rule as usize].is_some() {
            put(self.sets.row(base), users);
            return Some(base);
        }
        let state = work.states[rule as usize];
        if state.wide {
            let words = self.wide_words(work, rule);
            put(work.words.get(words), users);
            return None;
        }
        put(self.sets.row(base), users);
        let turns = &work.turns[state.turns.0 as usize..state.turns.1 as usize];
        turns.iter().for_each(|(user, applies)| users.set(*user as usize, *applies));
        turns.is_empty().then_some(base)
    }

    /// Puts those for whom what is asked by itself holds on a resource into a list, which is overwritten.
    pub fn probe(&mut self, work: &mut Work<'s>, probe: usize, users: &mut FixedBitSet) {
        let plan = self.plan;
        let mut words = self.spare.pop().unwrap_or_else(|| vec![0; self.sets.width()]);
        self.words_of(work, &plan.probes[probe], &mut words);
        put(&words, users);
        self.spare.push(words);
    }
}
