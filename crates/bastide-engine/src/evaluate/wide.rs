//! Outcomes that are another one on nearly every resource: worked out in words of a set, counted and forgotten.

use super::compile::Expr;
use super::leaf::Holds;
use super::site::{Run, Step};
use super::{Decided, Evaluator, Met, Work};
use crate::decide::Reason;
use crate::sets::Part;
use crate::sets::store::SetId;
use bastide_model::*;
use multiversion::multiversion;
use std::rc::Rc;

/// What is decided on an action, in words.
#[derive(Clone, Copy, Debug)]
pub struct Wide {
    /// Users by reason.
    pub counts: [u32; Reason::ALL.len()],
    /// The words of everybody for whom it is allowed.
    pub allowed: u32,
}

/// Words of sets for the resource at hand.
#[derive(Default)]
pub struct Words {
    width: usize,
    words: Vec<u64>,
}

impl Words {
    pub fn new(width: usize) -> Words {
        Words { width, words: Vec::new() }
    }

    /// Lets all go.
    pub fn clear(&mut self) {
        self.words.clear();
    }

    /// Some words.
    pub fn get(&self, at: u32) -> &[u64] {
        &self.words[at as usize * self.width..][..self.width]
    }

    fn get_mut(&mut self, at: u32) -> &mut [u64] {
        &mut self.words[at as usize * self.width..][..self.width]
    }

    /// A copy of some words.
    pub fn copy(&mut self, words: &[u64]) -> u32 {
        let at = self.words.len() / self.width;
        self.words.extend_from_slice(words);
        at as u32
    }

    /// Leaves only what is in other words, too.
    pub fn both(&mut self, at: u32, other: u32) {
        debug_assert_ne!(at, other, "what is narrowed is nobody else's");
        let (low, high) = (at.min(other), at.max(other));
        let (before, after) = self.words.split_at_mut(high as usize * self.width);
        let low = &mut before[low as usize * self.width..][..self.width];
        let high = &mut after[..self.width];
        if at < other { both(low, high) } else { both(high, low) }
    }

    /// Leaves only what is in a set, but for users for whom that is otherwise.
    pub fn keep_within(&mut self, at: u32, set: &[u64], turns: &[(u32, bool)]) {
        let words = self.get_mut(at);
        let is = |words: &[u64], user: u32| words[user as usize / 64] >> (user % 64) & 1 == 1;
        let stay: Vec<(u32, bool)> = turns.iter().map(|(user, holds)| (*user, *holds && is(words, *user))).collect();
        both(words, set);
        turn(words, &stay);
    }
}

#[multiversion(targets("x86_64+avx2+popcnt", "x86_64+popcnt"))]
fn both(words: &mut [u64], other: &[u64]) {
    words.iter_mut().zip(other).for_each(|(word, other)| *word &= other);
}

#[multiversion(targets("x86_64+avx2+popcnt", "x86_64+popcnt"))]
fn either(words: &mut [u64], other: &[u64]) {
    words.iter_mut().zip(other).for_each(|(word, other)| *word |= other);
}

/// Puts users in or takes them out.
fn turn(words: &mut [u64], turns: &[(u32, bool)]) {
    for (user, is) in turns {
        let bit = 1 << (user % 64);
        let word = &mut words[*user as usize / 64];
        *word = if *is { *word | bit } else { *word & !bit };
    }
}

/// Takes those who are left out of words, and gives how many they were; they are added to `taken`, if there is one.
#[multiversion(targets("x86_64+avx2+popcnt", "x86_64+popcnt"))]
fn take(rest: &mut [u64], words: &[u64], taken: Option<&mut [u64]>) -> u32 {
    let mut count = 0;
    match taken {
        Some(taken) => {
            for ((rest, word), taken) in rest.iter_mut().zip(words).zip(taken) {
                let own = *rest & word;
                count += own.count_ones();
                *rest &= !word;
                *taken |= own;
            }
        }
        None => {
            for (rest, word) in rest.iter_mut().zip(words) {
                count += (*rest & word).count_ones();
                *rest &= !word;
            }
        }
    }
    count
}

#[multiversion(targets("x86_64+avx2+popcnt", "x86_64+popcnt"))]
fn count(words: &[u64]) -> u32 {
    words.iter().map(|word| word.count_ones()).sum()
}

/// Where users are found whom the next rules take.
pub enum Item {
    /// A rule.
    Rule(Step),
    /// A rule that belongs to few resources alone.
    Own(Step),
    /// Several that decide the same.
    Run(Rc<[Run]>, usize),
}

impl Item {
    fn reason(&self) -> Reason {
        match self {
            Item::Rule(step) | Item::Own(step) => step.reason,
            Item::Run(runs, at) => runs[*at].reason,
        }
    }

    fn key(&self) -> u64 {
        match self {
            Item::Rule(step) | Item::Own(step) => step.key,
            Item::Run(runs, at) => runs[*at].keys.0,
        }
    }
}

impl<'s> Evaluator<'s> {
    /// Decides an action in words. `weighed` is what is decided before needs, where that is known.
    pub(super) fn in_words(
        &mut self,
        work: &mut Work<'s>,
        action: ActionId,
        steps: &[Step],
        mets: &[Met],
        weighed: Option<u32>,
    ) {
        let mut counts = [0u32; Reason::ALL.len()];
        let [mut granted, mut assured, mut words, mut rest] = std::mem::take(&mut self.rooms);
        granted.fill(0);
        assured.fill(0);
        match weighed {
            Some(weighed) => {
                for at in 0..self.outcomes.weighed(weighed).len() {
                    let part = self.outcomes.weighed(weighed)[at].part;
                    counts[part.reason as usize] += self.sets.count(part.users);
                    match part.reason {
                        Reason::Granted => either(&mut granted, self.sets.row(part.users)),
                        Reason::Assured => either(&mut assured, self.sets.row(part.users)),
                        Reason::Inactive | Reason::Capped | Reason::Denied | Reason::Silent | Reason::Blocked => {}
                    }
                }
            }
            None => {
                rest.copy_from_slice(self.sets.row(self.plan.active));
                counts[Reason::Inactive as usize] = self.sets.count(self.plan.inactive);
                let mut items = std::mem::take(&mut work.items);
                self.items(work, action, steps, &mut items);
                let mut at = 0;
                while at < items.len() {
                    words.fill(0);
                    let (reason, mut any) = (items[at].reason(), false);
                    while at < items.len() && items[at].reason() == reason {
                        any |= self.put(work, &items[at], &mut words);
                        at += 1;
                    }
                    if !any {
                        continue;
                    }
                    let taken = match reason {
                        Reason::Granted => Some(&mut granted[..]),
                        Reason::Assured => Some(&mut assured[..]),
                        Reason::Inactive | Reason::Capped | Reason::Denied | Reason::Silent | Reason::Blocked => None,
                    };
                    counts[reason as usize] += take(&mut rest, &words, taken);
                }
                work.items = items;
                counts[Reason::Silent as usize] += count(&rest);
            }
        }
        if !mets.is_empty() {
            let met = work.words.copy(self.sets.row(SetId::ALL));
            mets.iter().for_each(|met_| self.narrow_to(work, met_, met));
            both(&mut granted, work.words.get(met));
            let left = count(&granted);
            counts[Reason::Blocked as usize] += counts[Reason::Granted as usize] - left;
            counts[Reason::Granted as usize] = left;
            if counts[Reason::Assured as usize] > 0 {
                both(&mut assured, work.words.get(met));
                let left = count(&assured);
                counts[Reason::Blocked as usize] += counts[Reason::Assured as usize] - left;
                counts[Reason::Assured as usize] = left;
            }
        }
        if counts[Reason::Assured as usize] > 0 {
            either(&mut granted, &assured);
        }
        let allowed = work.words.copy(&granted);
        work.decided[action.index()] = Decided::Wide(work.wides.len() as u32);
        work.wides.push(Wide { counts, allowed });
        self.rooms = [granted, assured, words, rest];
    }

    /// The rules that speak of an action and count, those that belong to few resources among them, in order: in runs that
    /// decide the same where that is possible, singly where not.
    fn items(&mut self, work: &mut Work<'s>, action: ActionId, steps: &[Step], items: &mut Vec<Item>) {
        items.clear();
        if self.estate.layers.is_empty() {
            let runs = self.runs(work, action, steps);
            items.extend((0..runs.len()).map(|at| Item::Run(Rc::clone(&runs), at)));
            let before = items.len();
            let own = (0..work.own.len()).filter_map(|at| self.own_step(work, at, action));
            items.extend(own.map(Item::Own));
            if items.len() == before {
                return;
            }
            // One that stands within a run that decides otherwise parts it.
            let parts = |own: &Item| {
                let within = |run: &Run| run.keys.0 < own.key() && own.key() < run.keys.1;
                runs.iter().any(|run| run.reason != own.reason() && within(run))
            };
            if !items[before..].iter().any(parts) {
                items.sort_unstable_by_key(Item::key);
                return;
            }
        }
        self.single_items(work, action, steps, items);
    }

    fn single_items(&self, work: &Work, action: ActionId, steps: &[Step], items: &mut Vec<Item>) {
        items.clear();
        items.extend(steps.iter().filter(|step| self.counts(work, step)).map(|step| Item::Rule(*step)));
        let before = items.len();
        let own = (0..work.own.len()).filter_map(|at| self.own_step(work, at, action));
        items.extend(own.map(Item::Own));
        if items.len() > before {
            items.sort_unstable_by_key(Item::key);
        }
    }

    /// The steps of an action in runs of one reason.
    fn runs(&mut self, work: &mut Work<'s>, action: ActionId, steps: &[Step]) -> Rc<[Run]> {
        let known = self.sites.action(work.site, action).expect("it has a meaning");
        if let Some(runs) = &known.runs {
            return Rc::clone(runs);
        }
        let mut runs: Vec<Run> = Vec::new();
        for alike in steps.chunk_by(|a, b| a.reason == b.reason) {
            let (mut fixed, mut varying) = (SetId::NONE, Vec::new());
            for step in alike {
                if self.plan.rules[step.rule as usize].expr.is_constant() {
                    let users = self.base(work, step.rule);
                    fixed = self.sets.union(fixed, users);
                } else {
                    varying.push(*step);
                }
            }
            let keys = (alike[0].key, alike[alike.len() - 1].key);
            runs.push(Run { reason: alike[0].reason, keys, fixed, varying: varying.into() });
        }
        let runs: Rc<[Run]> = runs.into();
        self.sites.set_runs(work.site, action, &runs);
        runs
    }

    /// Puts those whom an item names into words; whether there are any.
    fn put(&mut self, work: &mut Work<'s>, item: &Item, words: &mut [u64]) -> bool {
        match item {
            Item::Own(step) => match self.plan.rules[step.rule as usize].one {
                Some(user) => {
                    words[user.index() / 64] |= 1 << (user.0 % 64);
                    true
                }
                None => self.put_rule(work, step.rule, words),
            },
            Item::Rule(step) => self.put_rule(work, step.rule, words),
            Item::Run(runs, at) => {
                let run = &runs[*at];
                let mut any = run.fixed != SetId::NONE;
                if any {
                    either(words, self.sets.row(run.fixed));
                }
                for step in &run.varying {
                    any |= self.put_rule(work, step.rule, words);
                }
                any
            }
        }
    }

    /// Puts those to whom a rule applies into words; whether there are any.
    fn put_rule(&mut self, work: &mut Work<'s>, rule: u32, words: &mut [u64]) -> bool {
        let base = self.base(work, rule);
        if self.fixed[rule as usize].is_some() {
            if base != SetId::NONE {
                either(words, self.sets.row(base));
            }
            return base != SetId::NONE;
        }
        let state = work.states[rule as usize];
        if state.wide {
            let own = self.wide_words(work, rule);
            either(words, work.words.get(own));
            return true;
        }
        let turns = &work.turns[state.turns.0 as usize..state.turns.1 as usize];
        if turns.iter().all(|(_, is)| *is) {
            if base != SetId::NONE {
                either(words, self.sets.row(base));
            }
            turn(words, turns);
        } else {
            let own = work.words.copy(self.sets.row(base));
            let turns = &work.turns[state.turns.0 as usize..state.turns.1 as usize];
            turn(work.words.get_mut(own), turns);
            either(words, work.words.get(own));
        }
        base != SetId::NONE || state.turns.0 < state.turns.1
    }

    /// To whom a rule applies on the resource at hand, as words.
    fn wide_words(&mut self, work: &mut Work<'s>, rule: u32) -> u32 {
        let state = work.states[rule as usize];
        if state.words != u32::MAX {
            return state.words;
        }
        let plan = self.plan;
        let mut words = self.spare.pop().unwrap_or_else(|| vec![0; self.sets.width()]);
        self.words_of(work, &plan.rules[rule as usize].expr, &mut words);
        let at = work.words.copy(&words);
        self.spare.push(words);
        work.states[rule as usize].words = at;
        at
    }

    /// For whom an expression holds, put into words, which are overwritten.
    fn words_of(&mut self, work: &mut Work<'s>, expr: &'s Expr, words: &mut [u64]) {
        match expr {
            Expr::Set(set) => words.copy_from_slice(self.sets.row(*set)),
            Expr::Held(action, places) => {
                let set = self.held(*action, places);
                words.copy_from_slice(self.sets.row(set));
            }
            Expr::Bit(atom) => {
                let set = if self.bit(work, *atom) { SetId::ALL } else { SetId::NONE };
                words.copy_from_slice(self.sets.row(set));
            }
            Expr::Leaf(leaf) => {
                let resource = work.resource.expect("it is being decided on");
                match self.leaf(work, *leaf, resource) {
                    Holds::Set(set) => words.copy_from_slice(self.sets.row(set)),
                    Holds::But { set, list: (from, to), truth } => {
                        words.copy_from_slice(self.sets.row(set));
                        for at in from..to {
                            turn(words, &[(work.lists[at as usize], truth)]);
                        }
                    }
                    Holds::Wide => self.wide_leaf(*leaf, resource, words),
                }
            }
            Expr::Ask(target, action) => {
                let met = self.met(work, *target, *action);
                match met.wide {
                    Some(wide) => words.copy_from_slice(work.words.get(wide)),
                    None => {
                        words.copy_from_slice(self.sets.row(met.base));
                        turn(words, &work.turns[met.turns.0 as usize..met.turns.1 as usize]);
                    }
                }
            }
            Expr::Not(inner) => {
                self.words_of(work, inner, words);
                let all = self.sets.row(SetId::ALL);
                words.iter_mut().zip(all).for_each(|(word, all)| *word = all & !*word);
            }
            Expr::And(parts) => {
                words.copy_from_slice(self.sets.row(SetId::ALL));
                self.each(work, parts, words, both);
            }
            Expr::Or(parts) => {
                words.fill(0);
                self.each(work, parts, words, either);
            }
        }
    }

    fn each(&mut self, work: &mut Work<'s>, parts: &'s [Expr], words: &mut [u64], join: fn(&mut [u64], &[u64])) {
        let mut other = self.spare.pop().unwrap_or_else(|| vec![0; words.len()]);
        for part in parts {
            match part {
                Expr::Set(set) => join(words, self.sets.row(*set)),
                part => {
                    self.words_of(work, part, &mut other);
                    join(words, &other);
                }
            }
        }
        self.spare.push(other);
    }

    /// For whom an action is allowed on a resource that was decided on, as a set that is kept.
    pub fn allowed_in(&mut self, work: &mut Work<'s>, action: ActionId) -> SetId {
        match work.decided[action.index()] {
            Decided::Open => SetId::NONE,
            Decided::Wide(wide) => self.sets.of_words(work.words.get(work.wides[wide as usize].allowed)),
            Decided::Base(outcome) => {
                let allowed = self.outcomes.get(outcome).allowed;
                let cells = &work.cells[action.index()];
                let turns: Vec<(u32, bool)> = cells.iter().map(|cell| (cell.user, cell.reason.is_allowed())).collect();
                if turns.iter().all(|(user, is)| *is == self.sets.contains(allowed, *user as usize)) {
                    return allowed;
                }
                let own = work.words.copy(self.sets.row(allowed));
                turn(work.words.get_mut(own), &turns);
                self.sets.of_words(work.words.get(own))
            }
        }
    }

    /// Everybody's outcome of an action on a resource that was decided on, by reason and deciding statement, as sets that are
    /// kept.
    pub fn parts_in(&mut self, work: &mut Work<'s>, action: ActionId) -> Vec<Part> {
        match work.decided[action.index()] {
            Decided::Open => vec![Part { reason: Reason::Silent, by: None, users: SetId::ALL }],
            Decided::Base(outcome) => {
                let mut parts = self.outcomes.get(outcome).parts.to_vec();
                for at in 0..work.cells[action.index()].len() {
                    let cell = work.cells[action.index()][at];
                    let single = self.sets.of([cell.user as usize]);
                    for part in &mut parts {
                        part.users = self.sets.subtract(part.users, single);
                    }
                    match parts.iter_mut().find(|part| (part.reason, part.by) == (cell.reason, cell.by)) {
                        Some(part) => part.users = self.sets.union(part.users, single),
                        None => parts.push(Part { reason: cell.reason, by: cell.by, users: single }),
                    }
                }
                parts.retain(|part| part.users != SetId::NONE);
                parts
            }
            Decided::Wide(wide) => {
                let allowed = self.sets.of_words(work.words.get(work.wides[wide as usize].allowed));
                let steps = Rc::clone(&self.sites.action(work.site, action).expect("it has a meaning").steps);
                let mut parts = Vec::new();
                if self.plan.inactive != SetId::NONE {
                    parts.push(Part { reason: Reason::Inactive, by: None, users: self.plan.inactive });
                }
                let mut rest = self.plan.active;
                let mut words = vec![0; self.sets.width()];
                let mut items = Vec::new();
                self.single_items(work, action, &steps, &mut items);
                for item in items {
                    let (Item::Rule(step) | Item::Own(step)) = &item else { unreachable!("they are single") };
                    words.fill(0);
                    self.put(work, &item, &mut words);
                    let users = self.sets.of_words(&words);
                    let taken = self.sets.intersect(rest, users);
                    rest = self.sets.subtract(rest, taken);
                    let by = Some(self.plan.rules[step.rule as usize].id);
                    let (kept, blocked) = match step.reason.is_allowed() {
                        true => (self.sets.intersect(taken, allowed), self.sets.subtract(taken, allowed)),
                        false => (taken, SetId::NONE),
                    };
                    parts.push(Part { reason: step.reason, by, users: kept });
                    parts.push(Part { reason: Reason::Blocked, by, users: blocked });
                }
                parts.push(Part { reason: Reason::Silent, by: None, users: rest });
                parts.retain(|part| part.users != SetId::NONE);
                parts
            }
        }
    }
}
