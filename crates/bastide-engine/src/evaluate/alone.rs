//! What is solely the doing of each statement: what would be decided otherwise without it, for all statements in one pass.
//!
//! Before needs, one rule decides on each user: the first in order that applies. Without it the next one does, and without any
//! other nothing changes. So two passes over the rules that speak of an action are enough for all of them: one in order, which
//! says whom each takes; and one backward, which says who would be permitted the action from each rule on. What is otherwise
//! on a resource goes on to whatever needs it there, beneath, or on what is derived from it.
//!
//! Cost: words of a set for each rule that speaks of an action, once for all resources that are alike: on which the same sets
//! come together, beneath resources that are alike. Conditions that look at decisions, and layers, would make more of a rule
//! than what it decides; of such an estate nothing is told here.

use super::compile::Expr;
use super::wide::Item;
use super::words::{both, either};
use super::{Decided, Evaluator, Ground, Work};
use crate::decide::targets;
use crate::sets::count::{both_words, words as count_words};
use crate::sets::gathered::Gathered;
use crate::sets::store::{Bits, SetId};
use crate::shares::Shares;
use bastide_model::schema::Target;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use multiversion::multiversion;
use rayon::prelude::*;
use std::ops::Range;
use std::rc::Rc;

/// What is otherwise without a statement.
#[derive(Clone, Debug, Default)]
pub struct Alone {
    /// Triples that are allowed without it, and refused with it.
    pub gained: u64,
    /// Triples that are refused without it, and allowed with it.
    pub lost: u64,
    /// Resources on which anything is otherwise.
    pub resources: usize,
    /// Users for whom anything is.
    pub users: Gathered,
}

/// For whom an action is otherwise without a rule.
#[derive(Clone)]
struct Flip {
    rule: u32,
    users: Flipped,
}

#[derive(Clone)]
enum Flipped {
    Listed(Box<[u32]>),
    Many(Box<[u64]>),
}

/// So many resources are taken at a time: some take a thousand times as long as others.
const STEP: u32 = 256;

/// So many users take less room as a list.
const FEW: usize = 16;

fn has(words: &[u64], user: u32) -> bool {
    words[user as usize / 64] >> (user % 64) & 1 == 1
}

impl Flipped {
    fn of(words: &[u64]) -> Flipped {
        let count = count_words(words) as usize;
        if count > FEW {
            return Flipped::Many(words.into());
        }
        // Many of these are made, and room that is not exact is asked for twice.
        let mut list = Vec::with_capacity(count);
        if count > 0 {
            for (at, word) in words.iter().enumerate() {
                Bits(*word).for_each(|bit| list.push((at * 64 + bit) as u32));
            }
        }
        Flipped::Listed(list.into())
    }

    fn is_empty(&self) -> bool {
        matches!(self, Flipped::Listed(users) if users.is_empty())
    }

    /// Turns these users over in words.
    fn turn(&self, words: &mut [u64]) {
        match self {
            Flipped::Listed(users) => users.iter().for_each(|user| words[*user as usize / 64] ^= 1 << (user % 64)),
            Flipped::Many(many) => words.iter_mut().zip(many).for_each(|(word, many)| *word ^= many),
        }
    }
}

/// An action on a resource: for whom it is allowed, and for whom it would be otherwise.
struct Flips {
    /// Others have other numbers.
    number: u32,
    allowed: Box<[u64]>,
    /// By rule, in order.
    flips: Vec<Flip>,
    /// By rule: how many gain, and how many lose.
    counts: Vec<(u32, u32, u32)>,
}

impl Flips {
    /// The same, not counted yet.
    fn again(&self) -> Flips {
        let (allowed, flips) = (self.allowed.clone(), self.flips.clone());
        Flips { number: self.number, allowed, flips, counts: Vec::new() }
    }

    /// How many words it takes, roughly.
    fn size(&self) -> usize {
        let flips = self.flips.iter().map(|flip| match &flip.users {
            Flipped::Listed(_) => 8,
            Flipped::Many(many) => many.len() + 4,
        });
        self.allowed.len() + flips.sum::<usize>()
    }
}

/// Resources that are alike: by action, where it has a meaning, what is otherwise.
struct AloneClass {
    number: u32,
    actions: Box<[Option<Rc<Flips>>]>,
}

/// Whether everything of an estate can be told here: its rules do not look at decisions, and there are no layers.
fn is_plain(ground: Ground) -> bool {
    let mut plain = ground.estate.layers().is_empty();
    for rule in &ground.plan.rules {
        rule.expr.visit(&mut |inner| plain &= !matches!(inner, Expr::Ask(..) | Expr::Held(..)));
    }
    plain
}

/// By statement, what is otherwise without it, of some statements where these are given; none where the estate has what cannot
/// be told so.
pub(crate) fn alone(ground: Ground, shares: Vec<Range<u32>>, of: Option<&[StatementId]>) -> Option<Vec<Alone>> {
    if !is_plain(ground) {
        return None;
    }
    let mut wanted = FixedBitSet::with_capacity(ground.plan.rules.len());
    match of {
        Some(ids) => wanted.extend(ids.iter().filter_map(|id| ground.plan.rule(*id)).map(|rule| rule as usize)),
        None => wanted.insert_range(..),
    }
    let work = Shares::new(shares, STEP);
    let walk = |share| AloneWalk::new(ground, wanted.clone()).share(work.all(share));
    let found: Vec<Vec<Alone>> = (0..work.len()).into_par_iter().with_max_len(1).map(walk).collect();
    let mut all = vec![Alone::default(); ground.estate.statements().len()];
    for (rule, of) in found.into_iter().flat_map(|share| share.into_iter().enumerate()) {
        let own = &mut all[ground.plan.rules[rule].id.index()];
        own.gained += of.gained;
        own.lost += of.lost;
        own.resources += of.resources;
        own.users.join(of.users);
    }
    Some(all)
}

/// Goes through resources.
struct AloneWalk<'s> {
    engine: Evaluator<'s>,
    /// The rules that are asked about.
    wanted: FixedBitSet,
    by_rule: Vec<Alone>,
    /// By rule, the last resource that was counted for it.
    counted: Vec<u32>,
    /// Classes that may be met again.
    known: HashMap<Box<[u32]>, Rc<AloneClass>>,
    /// Before needs, by what is decided there; and after needs, by that and what is needed.
    befores: HashMap<u32, Rc<Flips>>,
    afters: HashMap<Box<[u32]>, Rc<Flips>>,
    /// How many words those take.
    kept: usize,
    /// How many classes and flips there were.
    numbers: u32,
    /// The classes of the resources above the one at hand.
    above: Vec<(ResourceId, Rc<AloneClass>)>,
    /// Those of sources and the like.
    elsewhere: HashMap<ResourceId, Rc<AloneClass>>,
    room: Room,
}

/// Kept for its room.
#[derive(Default)]
struct Room {
    rest: Vec<u64>,
    permitted: Vec<u64>,
    from: Vec<u64>,
    words: Vec<u64>,
    met: Vec<u64>,
    /// Whom rules take, one after the other.
    taken: Vec<u64>,
}

/// So many words of what is looked up are kept, before they are let go.
const MOST_KEPT: usize = 1 << 24;

/// Where the words of a rule's users stand.
#[derive(Clone, Copy)]
enum WordsAt {
    Set(SetId),
    Words(u32),
    One(UserId),
}

/// Whom a rule takes.
enum Taker {
    One(UserId),
    /// Where their words begin.
    Many(usize),
}

/// What is known of a resource beside what is decided there: the classes of others that its actions need, and by action what is
/// decided before needs, where that is looked up.
struct Surroundings {
    needed: HashMap<ResourceId, Rc<AloneClass>>,
    weighed: Vec<Option<u32>>,
}

impl<'s> AloneWalk<'s> {
    fn new(ground: Ground<'s>, wanted: FixedBitSet) -> AloneWalk<'s> {
        let engine = Evaluator::of_all(ground);
        let width = engine.sets.width();
        let room = || vec![0; width];
        let rules = ground.plan.rules.len();
        AloneWalk {
            wanted,
            by_rule: vec![Alone::default(); rules],
            counted: vec![u32::MAX; rules],
            known: HashMap::new(),
            befores: HashMap::new(),
            afters: HashMap::new(),
            kept: 0,
            numbers: 0,
            above: Vec::new(),
            elsewhere: HashMap::new(),
            room: Room { rest: room(), permitted: room(), from: room(), words: room(), met: room(), taken: Vec::new() },
            engine,
        }
    }

    fn share(mut self, share: impl Iterator<Item = u32>) -> Vec<Alone> {
        let catalog = self.engine.estate.catalog();
        for resource in share.map(ResourceId) {
            if self.engine.is_stopped() {
                break;
            }
            while self.above.last().is_some_and(|(above, _)| !catalog.contains(*above, resource)) {
                self.above.pop();
            }
            let class = self.class(resource);
            for (rule, gained, lost) in class.actions.iter().flatten().flat_map(|flips| &flips.counts) {
                let of = &mut self.by_rule[*rule as usize];
                of.gained += u64::from(*gained);
                of.lost += u64::from(*lost);
                if std::mem::replace(&mut self.counted[*rule as usize], resource.0) != resource.0 {
                    of.resources += 1;
                }
            }
            if !catalog.is_leaf(resource) {
                self.above.push((resource, class));
            }
        }
        self.by_rule
    }

    /// The class of a resource that is asked for from elsewhere.
    fn asked(&mut self, resource: ResourceId) -> Rc<AloneClass> {
        if let Some(known) = self.known_of(resource) {
            return known;
        }
        let class = self.class(resource);
        self.keep_asked(resource, &class);
        class
    }

    fn keep_asked(&mut self, resource: ResourceId, class: &Rc<AloneClass>) {
        self.kept += 8 + class.actions.iter().flatten().map(|flips| flips.size()).sum::<usize>();
        self.elsewhere.insert(resource, Rc::clone(class));
    }

    fn known_of(&self, resource: ResourceId) -> Option<Rc<AloneClass>> {
        let above = self.above.iter().rev().find(|(above, _)| *above == resource).map(|(_, class)| class);
        above.or_else(|| self.elsewhere.get(&resource)).map(Rc::clone)
    }

    /// The class of a resource. What its actions need elsewhere comes first, each by itself: however deep the tree, and however
    /// long a chain of links, only one resource is being decided at a time.
    fn class(&mut self, resource: ResourceId) -> Rc<AloneClass> {
        if self.kept > MOST_KEPT {
            self.known.clear();
            self.befores.clear();
            self.afters.clear();
            self.elsewhere.clear();
            self.kept = 0;
        }
        let mut open = vec![(resource, false)];
        let mut seen: HashSet<ResourceId> = HashSet::new();
        while let Some((asked, ready)) = open.pop() {
            if ready && asked != resource {
                let class = self.make(asked);
                self.keep_asked(asked, &class);
            } else if !ready && seen.insert(asked) && (asked == resource || self.known_of(asked).is_none()) {
                open.push((asked, true));
                self.needed(asked, &mut open);
            }
        }
        self.make(resource)
    }

    /// Adds what the actions that have a meaning on a resource need elsewhere.
    fn needed(&self, resource: ResourceId, open: &mut Vec<(ResourceId, bool)>) {
        let estate = self.engine.estate;
        let kind = estate.catalog().kind(resource);
        let actions = estate.schema().actions.iter().enumerate();
        let fitting = actions.filter(|(at, _)| estate.schema().fits(ActionId::new(*at), kind));
        for need in fitting.flat_map(|(_, action)| &action.needs).filter(|need| need.target != Target::Own) {
            open.extend(targets(estate, resource, need.target).found.into_iter().map(|target| (target, false)));
        }
    }

    fn make(&mut self, resource: ResourceId) -> Rc<AloneClass> {
        let estate = self.engine.estate;
        let schema = estate.schema();
        let mut work = self.engine.decide(resource);
        let mut plain = true;
        let mut key: Vec<u32> = Vec::new();
        let mut beside = Surroundings { needed: HashMap::new(), weighed: vec![None; schema.actions.len()] };
        for action in ActionId::all(schema.actions.len()) {
            match work.decided[action.index()] {
                Decided::Open => key.push(u32::MAX),
                Decided::Wide(_) => plain = false,
                Decided::Base(outcome) => {
                    let before = self.engine.outcomes.get(outcome).weighed;
                    key.push(before);
                    if self.is_alike(&mut work, action) {
                        beside.weighed[action.index()] = Some(before);
                    } else {
                        plain = false;
                    }
                }
            }
        }
        // What the actions need elsewhere.
        let kind = estate.catalog().kind(resource);
        for action in ActionId::all(schema.actions.len()).filter(|action| schema.fits(*action, kind)) {
            for need in schema.actions[action.index()].needs.iter().filter(|need| need.target != Target::Own) {
                let targets = targets(estate, resource, need.target);
                key.push(if targets.unmet { u32::MAX } else { targets.found.len() as u32 });
                for target in targets.found {
                    let class = match beside.needed.get(&target) {
                        Some(known) => Rc::clone(known),
                        None => self.asked(target),
                    };
                    key.push(class.number);
                    beside.needed.insert(target, class);
                }
            }
        }
        let known = self.known.get(&key[..]).filter(|_| plain).map(Rc::clone);
        let class = known.unwrap_or_else(|| {
            let mut rows: HashMap<u32, WordsAt> = HashMap::new();
            let mut done: Vec<Option<Rc<Flips>>> = vec![None; schema.actions.len()];
            for action in ActionId::all(schema.actions.len()) {
                self.action(&mut work, (resource, action), &beside, &mut rows, &mut done);
            }
            let class = Rc::new(AloneClass { number: self.next(), actions: done.into() });
            if plain {
                self.kept += key.len();
                self.known.insert(key.into(), Rc::clone(&class));
            }
            class
        });
        self.engine.done(work);
        class
    }

    fn next(&mut self) -> u32 {
        self.numbers += 1;
        self.numbers
    }

    /// Whether the rules that speak of an action on a resource apply to sets that are kept, and nobody else.
    fn is_alike(&mut self, work: &mut Work<'s>, action: ActionId) -> bool {
        let of = &mut self.engine;
        let varying = Rc::clone(&of.sites.action(work.site, action).expect("it has a meaning").varying);
        let alike = varying.iter().all(|step| {
            let state = of.state(work, step.rule);
            !state.wide && state.turns.0 == state.turns.1
        });
        alike && !work.own.iter().any(|(rule, _)| of.plan.rules[*rule as usize].speaks.contains(action.index()))
    }

    /// Where the users of a rule stand.
    fn row(&mut self, work: &mut Work<'s>, rule: u32, rows: &mut HashMap<u32, WordsAt>) -> WordsAt {
        if let Some(set) =
            self.engine.fixed[rule as usize].filter(|_| self.engine.plan.rules[rule as usize].one.is_none())
        {
            return WordsAt::Set(set);
        }
        if let Some(known) = rows.get(&rule) {
            return *known;
        }
        let of = &mut self.engine;
        let row = match of.plan.rules[rule as usize].one {
            Some(one) => WordsAt::One(one),
            None => {
                let base = of.base(work, rule);
                let state = work.states[rule as usize];
                if of.fixed[rule as usize].is_some() {
                    WordsAt::Set(base)
                } else if state.wide {
                    WordsAt::Words(of.wide_words(work, rule))
                } else if state.turns.0 < state.turns.1 {
                    WordsAt::Words(of.turned_words(work, base, state.turns))
                } else {
                    WordsAt::Set(base)
                }
            }
        };
        rows.insert(rule, row);
        row
    }

    fn action(
        &mut self,
        work: &mut Work<'s>,
        (resource, action): (ResourceId, ActionId),
        beside: &Surroundings,
        rows: &mut HashMap<u32, WordsAt>,
        done: &mut Vec<Option<Rc<Flips>>>,
    ) {
        if done[action.index()].is_some() || work.decided[action.index()] == Decided::Open {
            return;
        }
        let estate = self.engine.estate;
        let needs = &estate.schema().actions[action.index()].needs;
        for need in needs.iter().filter(|need| need.target == Target::Own) {
            self.action(work, (resource, need.action), beside, rows, done);
        }
        // Everything that must be allowed, with what would be otherwise there; none where something is missing.
        let mut asked: Vec<Option<Rc<Flips>>> = Vec::new();
        for need in needs {
            if need.target == Target::Own {
                asked.push(done[need.action.index()].clone());
                continue;
            }
            let targets = targets(estate, resource, need.target);
            asked.extend(targets.unmet.then_some(None));
            asked.extend(targets.found.iter().map(|target| beside.needed[target].actions[need.action.index()].clone()));
        }
        let weighed = beside.weighed[action.index()];
        let before = match weighed.and_then(|weighed| self.befores.get(&weighed)) {
            Some(known) => Rc::clone(known),
            None => {
                let before = Rc::new(self.before(work, action, rows));
                if let Some(weighed) = weighed {
                    self.kept += before.size();
                    self.befores.insert(weighed, Rc::clone(&before));
                }
                before
            }
        };
        let key: Option<Box<[u32]>> = weighed.map(|_| {
            let number = |flips: &Option<Rc<Flips>>| flips.as_ref().map_or(u32::MAX, |flips| flips.number);
            std::iter::once(before.number).chain(asked.iter().map(number)).collect()
        });
        if let Some(known) = key.as_ref().and_then(|key| self.afters.get(key)) {
            done[action.index()] = Some(Rc::clone(known));
            return;
        }
        let mut flips = match asked.is_empty() {
            // Nothing is needed: it stays as it is.
            true => Rc::try_unwrap(before).unwrap_or_else(|before| before.again()),
            false => after_needs(&before, &asked, &mut self.room),
        };
        flips.number = self.next();
        self.gather(&mut flips);
        let flips = Rc::new(flips);
        if let Some(key) = key {
            self.kept += flips.size() + key.len();
            self.afters.insert(key, Rc::clone(&flips));
        }
        done[action.index()] = Some(flips);
    }

    /// Counts what is otherwise, and takes its users in.
    fn gather(&mut self, of: &mut Flips) {
        let width = of.allowed.len();
        for Flip { rule, users } in &of.flips {
            let gathered = &mut self.by_rule[*rule as usize].users;
            let (all, lost) = match users {
                Flipped::Listed(users) => {
                    let mark = |words: &mut Vec<u64>| {
                        words.resize(width, 0);
                        users.iter().for_each(|user| words[*user as usize / 64] |= 1 << (user % 64));
                    };
                    gathered.add_with(mark, Some(users));
                    (users.len() as u32, users.iter().filter(|user| has(&of.allowed, **user)).count() as u32)
                }
                Flipped::Many(many) => {
                    let mark = |words: &mut Vec<u64>| {
                        words.resize(width, 0);
                        either(words, many);
                    };
                    gathered.add_with(mark, None);
                    (count_words(many), both_words(many, &of.allowed))
                }
            };
            of.counts.push((*rule, all - lost, lost));
        }
    }

    /// Before needs: who is permitted, and for whom that would be otherwise without the rule that decides.
    fn before(&mut self, work: &mut Work<'s>, action: ActionId, rows: &mut HashMap<u32, WordsAt>) -> Flips {
        let steps = Rc::clone(&self.engine.sites.action(work.site, action).expect("it has a meaning").steps);
        let mut items = Vec::new();
        self.engine.single_items(work, action, &steps, &mut items);
        let steps: Vec<(u32, bool, WordsAt)> = items
            .into_iter()
            .map(|item| {
                let (Item::Rule(step) | Item::Own(step)) = item else { unreachable!("they are single") };
                (step.rule, step.reason.is_allowed(), self.row(work, step.rule, rows))
            })
            .collect();
        let number = self.next();
        let of = &self.engine;
        let Room { rest, permitted, from, words, taken, .. } = &mut self.room;
        let width = rest.len();
        let row = |row: WordsAt| match row {
            WordsAt::Set(set) => of.sets.row(set),
            WordsAt::Words(at) => work.words.get(at),
            WordsAt::One(_) => unreachable!("one user has no words"),
        };
        rest.copy_from_slice(of.sets.row(of.plan.active));
        permitted.fill(0);
        taken.clear();
        let mut takers: Vec<(usize, Taker)> = Vec::new();
        for (at, (rule, permits, of_rule)) in steps.iter().enumerate() {
            let wanted = self.wanted.contains(*rule as usize);
            if let WordsAt::One(one) = of_rule {
                if has(rest, one.0) {
                    let (word, bit) = (one.index() / 64, 1u64 << (one.0 % 64));
                    rest[word] &= !bit;
                    permitted[word] |= if *permits { bit } else { 0 };
                    takers.extend(wanted.then_some((at, Taker::One(*one))));
                }
                continue;
            }
            let (some, left) = take(rest, row(*of_rule), words);
            if some != 0 {
                if *permits {
                    either(permitted, words);
                }
                if wanted {
                    takers.push((at, Taker::Many(taken.len())));
                    taken.extend_from_slice(words);
                }
            }
            if left == 0 {
                break;
            }
        }
        // Backward: who would be permitted from each rule on.
        from.fill(0);
        let mut flips = Vec::new();
        for (at, (rule, permits, of_rule)) in steps.iter().enumerate().rev() {
            let Some((taker, _)) = takers.last() else { break };
            if *taker == at {
                let (_, taker) = takers.pop().expect("it was looked at");
                let users = match taker {
                    Taker::One(one) if has(from, one.0) == *permits => Flipped::Listed([].into()),
                    Taker::One(one) => Flipped::Listed([one.0].into()),
                    Taker::Many(at) => {
                        otherwise(words, &taken[at..at + width], from, if *permits { u64::MAX } else { 0 });
                        Flipped::of(words)
                    }
                };
                if !users.is_empty() {
                    flips.push(Flip { rule: *rule, users });
                }
            }
            match of_rule {
                WordsAt::One(one) => {
                    let bit = 1u64 << (one.0 % 64);
                    let word = &mut from[one.index() / 64];
                    *word = if *permits { *word | bit } else { *word & !bit };
                }
                of_rule if *permits => either(from, row(*of_rule)),
                of_rule => without(from, row(*of_rule)),
            }
        }
        // A rule that reaches from several depths takes users at several places.
        flips.sort_by_key(|flip| flip.rule);
        Flips { number, allowed: permitted.as_slice().into(), flips: merged(flips, width), counts: Vec::new() }
    }
}

/// Flips of one rule together.
fn merged(flips: Vec<Flip>, width: usize) -> Vec<Flip> {
    if flips.windows(2).all(|pair| pair[0].rule != pair[1].rule) {
        return flips;
    }
    let together = |same: &[Flip]| {
        let mut words = vec![0; width];
        same.iter().for_each(|flip| flip.users.turn(&mut words));
        Flip { rule: same[0].rule, users: Flipped::of(&words) }
    };
    flips.chunk_by(|a, b| a.rule == b.rule).map(together).collect()
}

/// For whom an action is allowed after needs, and for whom it would be otherwise without each rule.
fn after_needs(before: &Flips, asked: &[Option<Rc<Flips>>], room: &mut Room) -> Flips {
    let Room { words, met, from: all_met, .. } = room;
    all_met.fill(u64::MAX);
    for need in asked {
        match need {
            Some(need) => both(all_met, &need.allowed),
            None => all_met.fill(0),
        }
    }
    let mut allowed = before.allowed.clone();
    both(&mut allowed, all_met);
    let mut flips = Vec::new();
    // What has no meaning is not allowed without anything, either.
    if asked.iter().all(Option::is_some) {
        let mut rules: Vec<u32> = before.flips.iter().map(|flip| flip.rule).collect();
        rules.extend(asked.iter().flatten().flat_map(|need| need.flips.iter().map(|flip| flip.rule)));
        rules.sort_unstable();
        rules.dedup();
        let flip_of = |flips: &Flips, rule: u32| flips.flips.binary_search_by_key(&rule, |flip| flip.rule).ok();
        for rule in rules {
            let own = flip_of(before, rule);
            let hangs = asked.iter().flatten().any(|need| flip_of(need, rule).is_some());
            let users = match own.map(|at| &before.flips[at].users) {
                // What is needed is as it was.
                Some(Flipped::Listed(users)) if !hangs => {
                    Flipped::Listed(users.iter().filter(|user| has(all_met, **user)).copied().collect())
                }
                Some(Flipped::Many(many)) if !hangs => {
                    words.copy_from_slice(many);
                    both(words, all_met);
                    Flipped::of(words)
                }
                own => {
                    words.copy_from_slice(&before.allowed);
                    own.into_iter().for_each(|users| users.turn(words));
                    for need in asked.iter().flatten() {
                        match flip_of(need, rule) {
                            Some(at) => {
                                met.copy_from_slice(&need.allowed);
                                need.flips[at].users.turn(met);
                                both(words, met);
                            }
                            None => both(words, &need.allowed),
                        }
                    }
                    words.iter_mut().zip(&allowed).for_each(|(word, allowed)| *word ^= allowed);
                    Flipped::of(words)
                }
            };
            if !users.is_empty() {
                flips.push(Flip { rule, users });
            }
        }
    }
    Flips { number: 0, allowed, flips, counts: Vec::new() }
}

/// Takes those who are left out of words, puts them into others, and says whether there are any, and any left.
#[multiversion(targets("x86_64+avx512f+avx512dq+avx512vl", "x86_64+avx2"))]
fn take(rest: &mut [u64], row: &[u64], words: &mut [u64]) -> (u64, u64) {
    let (mut some, mut left) = (0, 0);
    for ((word, rest), row) in words.iter_mut().zip(rest.iter_mut()).zip(row) {
        *word = *rest & row;
        *rest &= !row;
        some |= *word;
        left |= *rest;
    }
    (some, left)
}

#[multiversion(targets("x86_64+avx512f+avx512dq+avx512vl", "x86_64+avx2"))]
fn without(words: &mut [u64], other: &[u64]) {
    for (word, other) in words.iter_mut().zip(other) {
        *word &= !other;
    }
}

/// Those taken who are permitted from there on, or with all bits turned are not.
#[multiversion(targets("x86_64+avx512f+avx512dq+avx512vl", "x86_64+avx2"))]
fn otherwise(words: &mut [u64], taken: &[u64], from: &[u64], turned: u64) {
    for ((word, taken), from) in words.iter_mut().zip(taken).zip(from) {
        *word = taken & (from ^ turned);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Snapshot;
    use bastide_testkit::random::{Shape, plan};

    /// Whoever goes through which resources, and in whatever order: it comes to the same.
    #[test]
    fn shares_come_to_the_same() {
        let mut random = fastrand::Rng::with_seed(5);
        let (mut lost, mut gained) = (0, 0);
        for seed in 0..200 {
            let estate = plan(seed, Shape::PLAIN).case().estate();
            let moment = Moment::on(jiff::civil::date(2026, 11, 24), estate.schema());
            let Ok(snapshot) = Snapshot::new(&estate, &moment) else { continue };
            let ground = snapshot.ground();
            if !is_plain(ground) {
                continue;
            }
            let mut wanted = FixedBitSet::with_capacity(ground.plan.rules.len());
            wanted.insert_range(..);
            let resources = estate.catalog().len() as u32;
            let whole = AloneWalk::new(ground, wanted.clone()).share(0..resources);
            let mut order: Vec<u32> = (0..resources).collect();
            random.shuffle(&mut order);
            let mut shared = vec![Alone::default(); whole.len()];
            for share in order.chunks(random.usize(1..=order.len())) {
                for (own, of) in
                    shared.iter_mut().zip(AloneWalk::new(ground, wanted.clone()).share(share.iter().copied()))
                {
                    own.gained += of.gained;
                    own.lost += of.lost;
                    own.resources += of.resources;
                    own.users.join(of.users);
                }
            }
            for (whole, shared) in whole.iter().zip(&shared) {
                let told = |of: &Alone| (of.gained, of.lost, of.resources, of.users.count());
                assert_eq!(told(whole), told(shared), "seed {seed}");
                lost += whole.lost;
                gained += whole.gained;
            }
        }
        assert!(lost > 2_000 && gained > 500, "{lost} lost, {gained} gained");
    }
}
