//! Outcomes that are another one on nearly every resource: worked out in words of a set, counted and forgotten.

use super::compile::Expr;
use super::leaf::HoldsFor;
use super::site::{Run, Runs, Step};
use super::weigh::{OutcomePart, Permitted};
use super::words::{
    both, both_of, either, others, take, take_apart, take_into, take_of, take_of_into, take_whole, turn,
};
use super::{Decided, Evaluator, MetNeed, Work};
use crate::decide::Reason;
use crate::sets::count;
use crate::sets::store::{SetId, SetStore};
use bastide_model::*;
use std::rc::Rc;

/// What is decided on an action, in words.
#[derive(Clone, Copy, Debug)]
pub struct Wide {
    /// Users by reason.
    pub counts: [u32; Reason::ALL.len()],
    /// The words of everybody for whom it is allowed.
    pub allowed: u32,
}

/// Where users are found whom the next rules take.
pub enum Item {
    /// A rule.
    Rule(Step),
    /// A rule that belongs to few resources alone.
    Own(Step),
    /// Several that decide the same.
    Run(Rc<Runs>, usize),
}

/// Where users stand that items name together.
#[derive(Clone, Copy)]
enum NamedWhere {
    /// A set that is kept.
    Set(SetId),
    /// Words of the resource at hand.
    Words(u32),
    /// The room for them.
    Room,
}

/// Users as words, or as a set that is kept for as long as nothing else is done with them: then the words say nothing.
pub struct Room {
    set: Option<SetId>,
    words: Vec<u64>,
}

/// Room to work in words: of who is granted an action, who is assured of it, who is left, whom a rule names.
pub struct Rooms {
    granted: Room,
    assured: Room,
    rest: Room,
    whom: Vec<u64>,
}

impl Room {
    fn row<'r>(&'r self, sets: &'r SetStore) -> &'r [u64] {
        self.set.map_or(&self.words, |set| sets.row(set))
    }

    /// The words, to be changed.
    fn own(&mut self, sets: &SetStore) -> &mut Vec<u64> {
        if let Some(set) = self.set.take() {
            self.words.copy_from_slice(sets.row(set));
        }
        &mut self.words
    }

    /// Takes users out of those who are left, and gives how many they were.
    fn take(&mut self, users: &[u64], sets: &SetStore) -> u32 {
        match self.set.take() {
            Some(set) => take_of(sets.row(set), users, &mut self.words),
            None => take(&mut self.words, users),
        }
    }

    /// The same; they are added to others.
    fn take_into(&mut self, users: &[u64], others: &mut Room, sets: &SetStore) -> u32 {
        if let (Some(from), Some(set)) = (self.set, others.set) {
            (self.set, others.set) = (None, None);
            return take_of_into(sets.row(from), users, &mut self.words, sets.row(set), &mut others.words);
        }
        take_into(self.own(sets), users, others.own(sets))
    }
}

impl Item {
    fn reason(&self) -> Reason {
        match self {
            Item::Rule(step) | Item::Own(step) => step.reason,
            Item::Run(runs, at) => runs.all[*at].reason,
        }
    }

    fn key(&self) -> u64 {
        match self {
            Item::Rule(step) | Item::Own(step) => step.key,
            Item::Run(runs, at) => runs.all[*at].keys.0,
        }
    }
}

impl<'s> Evaluator<'s> {
    /// Decides an action in words. `weighed` is what is decided before needs, where that is known.
    pub(super) fn in_words(&mut self, work: &mut Work<'s>, action: ActionId, mets: &[MetNeed], weighed: Option<u32>) {
        let room = || Room { set: None, words: vec![0; self.sets.width()] };
        let rooms = self.rooms.pop();
        let mut rooms =
            rooms.unwrap_or_else(|| Rooms { granted: room(), assured: room(), rest: room(), whom: room().words });
        let mut counts = match weighed {
            Some(weighed) => {
                let Permitted { granted, assured, counts } = self.outcomes.permitted(weighed);
                (rooms.granted.set, rooms.assured.set) = (Some(granted), Some(assured));
                counts
            }
            None => {
                let steps = self.sites.steps(work.site, action);
                self.weigh_in_words(work, action, &steps, &mut rooms)
            }
        };
        for (reason, room) in [(Reason::Granted, &mut rooms.granted), (Reason::Assured, &mut rooms.assured)] {
            if mets.is_empty() || counts[reason as usize] == 0 {
                continue;
            }
            let mut left = None;
            for met in mets {
                left = match (room.set.take(), met.wide) {
                    (Some(set), Some(wide)) => Some(both_of(self.sets.row(set), work.words.get(wide), &mut room.words)),
                    (set, _) => {
                        room.set = set;
                        self.narrow(work, met, room.own(&self.sets));
                        None
                    }
                };
            }
            let left = left.unwrap_or_else(|| count::words(&room.words));
            counts[Reason::Blocked as usize] += counts[reason as usize] - left;
            counts[reason as usize] = left;
        }
        let granted = rooms.granted.own(&self.sets);
        if counts[Reason::Assured as usize] > 0 {
            either(granted, rooms.assured.row(&self.sets));
        }
        let allowed = work.words.put(granted);
        work.decided[action.index()] = Decided::Wide(work.wides.len() as u32);
        work.wides.push(Wide { counts, allowed });
        self.rooms.push(rooms);
    }

    /// Who is permitted an action before needs, put into rooms; users by reason.
    fn weigh_in_words(
        &mut self,
        work: &mut Work<'s>,
        action: ActionId,
        steps: &[Step],
        rooms: &mut Rooms,
    ) -> [u32; Reason::ALL.len()] {
        let mut counts = [0; Reason::ALL.len()];
        let mut items = std::mem::take(&mut work.items);
        let runs = self.items(work, action, steps, &mut items);
        let Rooms { granted, assured, rest, whom: room } = rooms;
        let mut at = match runs {
            Some(runs) => {
                counts = runs.counts;
                [granted.set, assured.set] = runs.allowed.map(Some);
                rest.set = Some(runs.rest);
                runs.known
            }
            None => {
                counts[Reason::Inactive as usize] = self.sets.count(self.plan.inactive);
                (granted.set, assured.set) = (Some(SetId::NONE), Some(SetId::NONE));
                rest.set = Some(self.plan.active);
                0
            }
        };
        while at < items.len() {
            let (reason, from) = (items[at].reason(), at);
            while at < items.len() && items[at].reason() == reason {
                at += 1;
            }
            let Some(whom) = self.whom(work, &items[from..at], room) else { continue };
            let whom = match whom {
                NamedWhere::Set(set) => self.sets.row(set),
                NamedWhere::Words(at) => work.words.get(at),
                NamedWhere::Room => room,
            };
            counts[reason as usize] += match reason {
                Reason::Granted => rest.take_into(whom, granted, &self.sets),
                Reason::Assured => rest.take_into(whom, assured, &self.sets),
                Reason::Inactive | Reason::Capped | Reason::Denied | Reason::Silent | Reason::Blocked => {
                    rest.take(whom, &self.sets)
                }
            };
        }
        work.items = items;
        let decided: u32 = counts.iter().sum();
        counts[Reason::Silent as usize] += self.people - decided;
        counts
    }

    /// Leaves of words only those who are among some.
    pub(super) fn narrow(&self, work: &Work, met: &MetNeed, words: &mut [u64]) {
        match met.wide {
            Some(wide) => both(words, work.words.get(wide)),
            None => {
                let turns = &work.turns[met.turns.0 as usize..met.turns.1 as usize];
                if met.base == SetId::ALL && turns.is_empty() {
                    return;
                }
                let is = |user: u32| words[user as usize / 64] >> (user % 64) & 1 == 1;
                let stay: Vec<(u32, bool)> = turns.iter().map(|(user, holds)| (*user, *holds && is(*user))).collect();
                both(words, self.sets.row(met.base));
                turn(words, &stay);
            }
        }
    }

    /// Whom items name together; none where they name nobody. `room` is overwritten where that is needed.
    fn whom(&mut self, work: &mut Work<'s>, items: &[Item], room: &mut [u64]) -> Option<NamedWhere> {
        let mut whom: Option<NamedWhere> = None;
        for item in items {
            match item {
                Item::Own(step) => match self.plan.rules[step.rule as usize].one {
                    Some(user) => {
                        self.to_room(work, whom, room);
                        room[user.index() / 64] |= 1 << (user.0 % 64);
                        whom = Some(NamedWhere::Room);
                    }
                    None => whom = self.with_rule(work, whom, step.rule, room),
                },
                Item::Rule(step) => whom = self.with_rule(work, whom, step.rule, room),
                Item::Run(runs, at) => {
                    let run = &runs.all[*at];
                    if run.fixed != SetId::NONE {
                        whom = self.with(work, whom, NamedWhere::Set(run.fixed), room);
                    }
                    for step in &run.varying {
                        whom = self.with_rule(work, whom, step.rule, room);
                    }
                }
            }
        }
        whom
    }

    /// Whom a rule names besides.
    fn with_rule(
        &mut self,
        work: &mut Work<'s>,
        whom: Option<NamedWhere>,
        rule: u32,
        room: &mut [u64],
    ) -> Option<NamedWhere> {
        let base = self.base(work, rule);
        let state = work.states[rule as usize];
        if self.fixed[rule as usize].is_none() {
            if state.wide {
                let own = self.wide_words(work, rule);
                return self.with(work, whom, NamedWhere::Words(own), room);
            }
            let (from, to) = (state.turns.0 as usize, state.turns.1 as usize);
            if from < to {
                if work.turns[from..to].iter().all(|(_, is)| *is) {
                    let both =
                        if base == SetId::NONE { whom } else { self.with(work, whom, NamedWhere::Set(base), room) };
                    self.to_room(work, both, room);
                    turn(room, &work.turns[from..to]);
                    return Some(NamedWhere::Room);
                }
                let own = self.turned_words(work, base, state.turns);
                return self.with(work, whom, NamedWhere::Words(own), room);
            }
        }
        if base == SetId::NONE { whom } else { self.with(work, whom, NamedWhere::Set(base), room) }
    }

    /// Some, and others besides.
    fn with(&self, work: &Work, whom: Option<NamedWhere>, other: NamedWhere, room: &mut [u64]) -> Option<NamedWhere> {
        if whom.is_none() {
            return Some(other);
        }
        self.to_room(work, whom, room);
        match other {
            NamedWhere::Set(set) => either(room, self.sets.row(set)),
            NamedWhere::Words(at) => either(room, work.words.get(at)),
            NamedWhere::Room => unreachable!("there is one room"),
        }
        Some(NamedWhere::Room)
    }

    fn to_room(&self, work: &Work, whom: Option<NamedWhere>, room: &mut [u64]) {
        match whom {
            None => room.fill(0),
            Some(NamedWhere::Set(set)) => room.copy_from_slice(self.sets.row(set)),
            Some(NamedWhere::Words(at)) => room.copy_from_slice(work.words.get(at)),
            Some(NamedWhere::Room) => {}
        }
    }

    /// The rules that speak of an action and count, those that belong to few resources among them, in order: in runs that
    /// decide the same where that is possible, singly where not.
    fn items(
        &mut self,
        work: &mut Work<'s>,
        action: ActionId,
        steps: &[Step],
        items: &mut Vec<Item>,
    ) -> Option<Rc<Runs>> {
        items.clear();
        if self.estate.layers().is_empty() {
            let runs = self.runs(work, action, steps);
            items.extend((0..runs.all.len()).map(|at| Item::Run(Rc::clone(&runs), at)));
            let before = items.len();
            let own = (0..work.own.len()).filter_map(|at| self.own_step(work, at, action));
            items.extend(own.map(Item::Own));
            if items.len() == before {
                return Some(runs);
            }
            // One that stands within a run that decides otherwise parts it.
            let parts = |own: &Item| {
                let within = |run: &Run| run.keys.0 < own.key() && own.key() < run.keys.1;
                runs.all.iter().any(|run| run.reason != own.reason() && within(run))
            };
            if !items[before..].iter().any(parts) {
                items.sort_unstable_by_key(Item::key);
                return None;
            }
        }
        self.single_items(work, action, steps, items);
        None
    }

    pub(super) fn single_items(&self, work: &Work, action: ActionId, steps: &[Step], items: &mut Vec<Item>) {
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
    fn runs(&mut self, work: &mut Work<'s>, action: ActionId, steps: &[Step]) -> Rc<Runs> {
        let known = self.sites.action(work.site, action).expect("it has a meaning");
        if let Some(runs) = &known.runs {
            return Rc::clone(runs);
        }
        let mut runs: Vec<Run> = Vec::new();
        for alike in steps.chunk_by(|a, b| a.reason == b.reason) {
            let (mut fixed, mut varying) = (SetId::NONE, Vec::new());
            for step in alike {
                if self.plan.rules[step.rule as usize].constant {
                    let users = self.base(work, step.rule);
                    fixed = self.sets.union(fixed, users);
                } else {
                    varying.push(*step);
                }
            }
            let keys = (alike[0].key, alike[alike.len() - 1].key);
            runs.push(Run { reason: alike[0].reason, keys, fixed, varying: varying.into() });
        }
        let known = runs.iter().take_while(|run| run.varying.is_empty()).count();
        let mut counts = [0; Reason::ALL.len()];
        counts[Reason::Inactive as usize] = self.sets.count(self.plan.inactive);
        let (mut rest, mut allowed) = (self.plan.active, [SetId::NONE; 2]);
        for run in &runs[..known] {
            let taken = self.sets.intersect(rest, run.fixed);
            rest = self.sets.subtract(rest, taken);
            counts[run.reason as usize] += self.sets.count(taken);
            match run.reason {
                Reason::Granted => allowed[0] = self.sets.union(allowed[0], taken),
                Reason::Assured => allowed[1] = self.sets.union(allowed[1], taken),
                Reason::Inactive | Reason::Capped | Reason::Denied | Reason::Silent | Reason::Blocked => {}
            }
        }
        let runs = Rc::new(Runs { all: runs.into(), known, counts, allowed, rest });
        self.sites.set_runs(work.site, action, &runs);
        runs
    }

    /// To whom a rule applies on the resource at hand, as words.
    pub(super) fn wide_words(&mut self, work: &mut Work<'s>, rule: u32) -> u32 {
        let state = work.states[rule as usize];
        if state.words != u32::MAX {
            return state.words;
        }
        let plan = self.plan;
        let mut words = self.spare.pop().unwrap_or_else(|| vec![0; self.sets.width()]);
        self.words_of(work, &plan.rules[rule as usize].expr, &mut words);
        let at = work.words.put(&mut words);
        self.spare.push(words);
        work.states[rule as usize].words = at;
        at
    }

    /// A set as words, some users turned.
    pub(super) fn turned_words(&mut self, work: &mut Work<'s>, set: SetId, (from, to): (u32, u32)) -> u32 {
        let own = work.words.copy(self.sets.row(set));
        turn(work.words.get_mut(own), &work.turns[from as usize..to as usize]);
        own
    }

    /// For whom an expression holds, put into words, which are overwritten.
    pub(super) fn words_of(&mut self, work: &mut Work<'s>, expr: &'s Expr, words: &mut [u64]) {
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
                    HoldsFor::Set(set) => words.copy_from_slice(self.sets.row(set)),
                    HoldsFor::But { set, list: (from, to), truth } => {
                        words.copy_from_slice(self.sets.row(set));
                        for at in from..to {
                            turn(words, &[(work.lists[at as usize], truth)]);
                        }
                    }
                    HoldsFor::Wide(value) => self.wide_leaf(*leaf, resource, value, words),
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
                others(words, self.sets.row(SetId::ALL));
            }
            Expr::And(parts) => self.each(work, parts, words, both),
            Expr::Or(parts) => self.each(work, parts, words, either),
        }
    }

    /// Several expressions in one, of which there is at least one.
    fn each(&mut self, work: &mut Work<'s>, parts: &'s [Expr], words: &mut [u64], join: fn(&mut [u64], &[u64])) {
        let (first, parts) = parts.split_first().expect("there is at least one");
        self.words_of(work, first, words);
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

    /// For whom an action is allowed on a resource that was decided on, put into words, which are overwritten.
    pub fn allowed_words(&self, work: &Work, action: ActionId, words: &mut [u64]) {
        match work.decided[action.index()] {
            Decided::Open => words.fill(0),
            Decided::Wide(wide) => words.copy_from_slice(work.words.get(work.wides[wide as usize].allowed)),
            Decided::Base(outcome) => {
                words.copy_from_slice(self.sets.row(self.outcomes.get(outcome).allowed));
                for cell in &work.cells[action.index()] {
                    turn(words, &[(cell.user, cell.reason.is_allowed())]);
                }
            }
        }
    }

    /// Whether an action is allowed for one user on a resource that was decided on.
    pub fn allows_in(&self, work: &Work, action: ActionId, user: UserId) -> bool {
        match work.decided[action.index()] {
            Decided::Open => false,
            Decided::Wide(wide) => {
                let words = work.words.get(work.wides[wide as usize].allowed);
                words[user.index() / 64] >> (user.0 % 64) & 1 == 1
            }
            Decided::Base(outcome) => {
                let cells = &work.cells[action.index()];
                match cells.binary_search_by_key(&user.0, |cell| cell.user) {
                    Ok(at) => cells[at].reason.is_allowed(),
                    Err(_) => self.sets.contains(self.outcomes.get(outcome).allowed, user.index()),
                }
            }
        }
    }

    /// How one user is decided on a resource that was decided on. Cost: where that was in words, the rules that speak of the
    /// action; otherwise next to nothing.
    pub fn cause_in(&mut self, work: &mut Work<'s>, action: ActionId, user: UserId) -> (Reason, Option<StatementId>) {
        let wide = match work.decided[action.index()] {
            Decided::Open => return (Reason::Silent, None),
            Decided::Base(outcome) => {
                let cells = &work.cells[action.index()];
                return match cells.binary_search_by_key(&user.0, |cell| cell.user) {
                    Ok(at) => (cells[at].reason, cells[at].by),
                    Err(_) => self.cause(outcome, user.0),
                };
            }
            Decided::Wide(wide) => wide,
        };
        if !self.sets.contains(self.plan.active, user.index()) {
            return (Reason::Inactive, None);
        }
        let steps = Rc::clone(&self.sites.action(work.site, action).expect("it has a meaning").steps);
        let mut own: Vec<Step> = (0..work.own.len()).filter_map(|at| self.own_step(work, at, action)).collect();
        own.sort_unstable_by_key(|step| step.key);
        let mut own = own.into_iter().peekable();
        let mut steps = steps.iter().copied().peekable();
        loop {
            let first = steps.peek().map_or(u64::MAX, |step| step.key);
            let Some(step) = own.next_if(|own| own.key < first).or_else(|| steps.next()).or_else(|| own.next()) else {
                break;
            };
            if !self.counts(work, &step) {
                continue;
            }
            if self.names(work, step.rule, user) {
                let allowed = work.words.get(work.wides[wide as usize].allowed);
                let is = allowed[user.index() / 64] >> (user.0 % 64) & 1 == 1;
                let reason = if step.reason.is_allowed() && !is { Reason::Blocked } else { step.reason };
                return (reason, Some(self.plan.rules[step.rule as usize].id));
            }
        }
        (Reason::Silent, None)
    }

    /// Whether a rule applies to one user on the resource at hand.
    pub(super) fn names(&mut self, work: &mut Work<'s>, rule: u32, user: UserId) -> bool {
        if let Some(one) = self.plan.rules[rule as usize].one {
            return one == user;
        }
        let base = self.base(work, rule);
        let state = work.states[rule as usize];
        if self.fixed[rule as usize].is_none() {
            if state.wide {
                let own = self.wide_words(work, rule);
                return work.words.get(own)[user.index() / 64] >> (user.0 % 64) & 1 == 1;
            }
            let turns = &work.turns[state.turns.0 as usize..state.turns.1 as usize];
            if let Ok(at) = turns.binary_search_by_key(&user.0, |(user, _)| *user) {
                return turns[at].1;
            }
        }
        self.sets.contains(base, user.index())
    }

    /// For whom an action is allowed on a resource that was decided on, as a set that is kept.
    pub fn allowed_in(&mut self, work: &mut Work<'s>, action: ActionId) -> SetId {
        match work.decided[action.index()] {
            Decided::Open => SetId::NONE,
            Decided::Wide(wide) => self.sets.of_words(work.words.get(work.wides[wide as usize].allowed)),
            Decided::Base(outcome) => {
                let allowed = self.outcomes.get(outcome).allowed;
                let turns = self.turned(work, action, allowed);
                if turns.is_empty() {
                    return allowed;
                }
                let own = work.words.copy(self.sets.row(allowed));
                turn(work.words.get_mut(own), &turns);
                self.sets.of_words(work.words.get(own))
            }
        }
    }

    /// Shows everybody's outcome of an action on a resource that was decided on, by reason and deciding statement, in words;
    /// the same may come several times. Cost: the words of the rules that speak of it.
    pub fn each_part(
        &mut self,
        work: &mut Work<'s>,
        action: ActionId,
        mut each: impl FnMut(Reason, Option<StatementId>, &[u64]),
    ) {
        let width = self.sets.width();
        match work.decided[action.index()] {
            Decided::Open => {}
            Decided::Base(outcome) => {
                let mut cells = vec![0; width];
                for cell in &work.cells[action.index()] {
                    turn(&mut cells, &[(cell.user, true)]);
                }
                let mut words = vec![0; width];
                for part in &self.outcomes.get(outcome).parts {
                    words.copy_from_slice(self.sets.row(part.users));
                    words.iter_mut().zip(&cells).for_each(|(word, cells)| *word &= !cells);
                    each(part.reason, part.by, &words);
                }
                for cell in &work.cells[action.index()] {
                    words.fill(0);
                    turn(&mut words, &[(cell.user, true)]);
                    each(cell.reason, cell.by, &words);
                }
            }
            Decided::Wide(wide) => {
                let Wide { counts, allowed } = work.wides[wide as usize];
                let allowed = work.words.get(allowed).to_vec();
                let blocks = counts[Reason::Blocked as usize] > 0;
                each(Reason::Inactive, None, self.sets.row(self.plan.inactive));
                let steps = Rc::clone(&self.sites.action(work.site, action).expect("it has a meaning").steps);
                let mut rest = self.sets.row(self.plan.active).to_vec();
                let [mut words, mut kept, mut blocked] = std::array::from_fn(|_| vec![0; width]);
                let mut items = Vec::new();
                self.single_items(work, action, &steps, &mut items);
                for item in items {
                    let (Item::Rule(step) | Item::Own(step)) = &item else { unreachable!("they are single") };
                    let Some(whom) = self.whom(work, std::slice::from_ref(&item), &mut words) else { continue };
                    let whom = match whom {
                        NamedWhere::Set(set) => self.sets.row(set),
                        NamedWhere::Words(at) => work.words.get(at),
                        NamedWhere::Room => &words,
                    };
                    let (some, some_blocked, left) = if blocks && step.reason.is_allowed() {
                        take_apart(&mut rest, whom, &allowed, &mut kept, &mut blocked)
                    } else {
                        let (some, left) = take_whole(&mut rest, whom, &mut kept);
                        (some, false, left)
                    };
                    let by = Some(self.plan.rules[step.rule as usize].id);
                    if some {
                        each(step.reason, by, &kept);
                    }
                    if some_blocked {
                        each(Reason::Blocked, by, &blocked);
                    }
                    if !left {
                        break;
                    }
                }
                each(Reason::Silent, None, &rest);
            }
        }
    }

    /// Whether a need keeps anybody from an action on a resource that was decided on.
    pub fn blocks(&self, work: &Work, action: ActionId) -> bool {
        match work.decided[action.index()] {
            Decided::Open => false,
            Decided::Base(outcome) => {
                let parts = &self.outcomes.get(outcome).parts;
                parts.iter().any(|part| part.reason == Reason::Blocked)
                    || work.cells[action.index()].iter().any(|cell| cell.reason == Reason::Blocked)
            }
            Decided::Wide(wide) => work.wides[wide as usize].counts[Reason::Blocked as usize] > 0,
        }
    }

    /// Everybody's outcome of an action on a resource that was decided on, by reason and deciding statement, as sets that are
    /// kept.
    pub fn parts_in(&mut self, work: &mut Work<'s>, action: ActionId) -> Vec<OutcomePart> {
        match work.decided[action.index()] {
            Decided::Open => vec![OutcomePart { reason: Reason::Silent, by: None, users: SetId::ALL }],
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
                        None => parts.push(OutcomePart { reason: cell.reason, by: cell.by, users: single }),
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
                    parts.push(OutcomePart { reason: Reason::Inactive, by: None, users: self.plan.inactive });
                }
                let mut rest = self.plan.active;
                let mut words = vec![0; self.sets.width()];
                let mut items = Vec::new();
                self.single_items(work, action, &steps, &mut items);
                for item in items {
                    let (Item::Rule(step) | Item::Own(step)) = &item else { unreachable!("they are single") };
                    let whom = self.whom(work, std::slice::from_ref(&item), &mut words);
                    self.to_room(work, whom, &mut words);
                    let users = self.sets.of_words(&words);
                    let taken = self.sets.intersect(rest, users);
                    rest = self.sets.subtract(rest, taken);
                    let by = Some(self.plan.rules[step.rule as usize].id);
                    let (kept, blocked) = match step.reason.is_allowed() {
                        true => (self.sets.intersect(taken, allowed), self.sets.subtract(taken, allowed)),
                        false => (taken, SetId::NONE),
                    };
                    parts.push(OutcomePart { reason: step.reason, by, users: kept });
                    parts.push(OutcomePart { reason: Reason::Blocked, by, users: blocked });
                }
                parts.push(OutcomePart { reason: Reason::Silent, by: None, users: rest });
                parts.retain(|part| part.users != SetId::NONE);
                parts
            }
        }
    }
}
