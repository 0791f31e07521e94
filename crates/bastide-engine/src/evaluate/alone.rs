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
use super::{Decided, Evaluator, Snapshot, Work};
use crate::access::Gathered;
use crate::decide::targets;
use crate::sets::store::{Bits, SetId};
use bastide_model::schema::Target;
use bastide_model::*;
use hashbrown::HashMap;
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
    Few(Box<[u32]>),
    Many(Box<[u64]>),
}

/// So many users take less room as a list.
const FEW: usize = 16;

impl Flipped {
    fn of(words: &[u64]) -> Flipped {
        let count: usize = words.iter().map(|word| word.count_ones() as usize).sum();
        if count > FEW {
            return Flipped::Many(words.into());
        }
        let users = words.iter().enumerate();
        Flipped::Few(users.flat_map(|(at, word)| Bits(*word).map(move |bit| (at * 64 + bit) as u32)).collect())
    }

    /// Turns these users over in words.
    fn turn(&self, words: &mut [u64]) {
        match self {
            Flipped::Few(users) => users.iter().for_each(|user| words[*user as usize / 64] ^= 1 << (user % 64)),
            Flipped::Many(many) => words.iter_mut().zip(many).for_each(|(word, many)| *word ^= many),
        }
    }
}

/// An action on a resource: for whom it is allowed, and for whom it would be otherwise.
struct Flips {
    allowed: Box<[u64]>,
    /// By rule, in order.
    flips: Vec<Flip>,
}

/// Resources that are alike.
struct Class {
    number: u32,
    /// By action, where anything asks for it from elsewhere.
    asked: Box<[Option<Rc<Flips>>]>,
    /// By rule: what is gained and lost on each of them.
    counts: Vec<(u32, u64, u64)>,
}

/// Whether everything of an estate can be told here: its rules do not look at decisions, and there are no layers.
fn is_plain(snapshot: &Snapshot) -> bool {
    let mut plain = snapshot.estate.layers.is_empty();
    for rule in &snapshot.plan.rules {
        rule.expr.visit(&mut |inner| plain &= !matches!(inner, Expr::Ask(..) | Expr::Held(..)));
    }
    plain
}

/// By statement, what is otherwise without it; none where the estate has what cannot be told so.
pub fn alone(snapshot: &Snapshot, shares: Vec<Range<u32>>) -> Option<Vec<Alone>> {
    if !is_plain(snapshot) {
        return None;
    }
    let found: Vec<Vec<Alone>> =
        shares.into_par_iter().with_max_len(1).map(|share| Walk::new(snapshot).share(share)).collect();
    let mut all = vec![Alone::default(); snapshot.estate.statements.len()];
    for share in found {
        for (rule, of) in share.into_iter().enumerate() {
            let own = &mut all[snapshot.plan.rules[rule].id.index()];
            own.gained += of.gained;
            own.lost += of.lost;
            own.resources += of.resources;
            own.users.join(of.users);
        }
    }
    Some(all)
}

/// Goes through resources.
struct Walk<'s> {
    engine: Evaluator<'s>,
    by_rule: Vec<Alone>,
    /// Classes that may be met again.
    known: HashMap<Box<[u32]>, Rc<Class>>,
    /// How many classes there were.
    classes: u32,
    /// Those of the resources above the one at hand.
    above: Vec<(ResourceId, Rc<Class>)>,
    /// Those of sources and the like.
    elsewhere: HashMap<ResourceId, Rc<Class>>,
    kept: usize,
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
}

/// So many flips of other resources are kept, before they are let go.
const MOST_KEPT: usize = 1 << 16;

/// Where the words of a rule's users stand.
#[derive(Clone, Copy)]
enum Row {
    Set(SetId),
    Words(u32),
    One(UserId),
}

impl<'s> Walk<'s> {
    fn new(snapshot: &'s Snapshot) -> Walk<'s> {
        let engine = snapshot.evaluator();
        let width = engine.sets.width();
        let room = || vec![0; width];
        Walk {
            by_rule: vec![Alone::default(); snapshot.plan.rules.len()],
            known: HashMap::new(),
            classes: 0,
            above: Vec::new(),
            elsewhere: HashMap::new(),
            kept: 0,
            room: Room { rest: room(), permitted: room(), from: room(), words: room(), met: room() },
            engine,
        }
    }

    fn share(mut self, share: Range<u32>) -> Vec<Alone> {
        let catalog = &self.engine.estate.catalog;
        for resource in share.map(ResourceId) {
            let class = self.class(resource, true);
            for (rule, gained, lost) in &class.counts {
                let of = &mut self.by_rule[*rule as usize];
                of.gained += gained;
                of.lost += lost;
                of.resources += 1;
            }
            if !catalog.is_leaf(resource) {
                self.above.push((resource, class));
            }
        }
        self.by_rule
    }

    /// The class of a resource. Those above it come first, iteratively, for deep trees. `counted`: its users are taken in.
    fn class(&mut self, resource: ResourceId, counted: bool) -> Rc<Class> {
        let catalog = &self.engine.estate.catalog;
        if counted {
            while self.above.last().is_some_and(|(above, _)| !catalog.contains(*above, resource)) {
                self.above.pop();
            }
        } else if let Some((_, known)) = self.above.iter().rev().find(|(above, _)| *above == resource) {
            return Rc::clone(known);
        } else if let Some(known) = self.elsewhere.get(&resource) {
            return Rc::clone(known);
        }
        if self.engine.plan.asks_up {
            let is_new = |of: &Self, r: &ResourceId| {
                !of.elsewhere.contains_key(r) && !of.above.iter().rev().any(|(above, _)| above == r)
            };
            let chain: Vec<ResourceId> =
                catalog.upward(resource).skip(1).take_while(|above| is_new(self, above)).collect();
            let mut held = Vec::new();
            for above in chain.into_iter().rev() {
                held.push(self.make(above, false));
            }
        }
        self.make(resource, counted)
    }

    fn make(&mut self, resource: ResourceId, counted: bool) -> Rc<Class> {
        let estate = self.engine.estate;
        let schema = &estate.schema;
        let mut work = self.engine.decide(resource);
        let mut plain = true;
        let mut key: Vec<u32> = Vec::new();
        for action in ActionId::all(schema.actions.len()) {
            match work.decided[action.index()] {
                Decided::Open => key.push(u32::MAX),
                Decided::Wide(_) => plain = false,
                Decided::Base(outcome) => {
                    key.push(self.engine.outcomes.get(outcome).weighed);
                    plain &= self.is_alike(&mut work, action);
                }
            }
        }
        // What the actions need elsewhere.
        let mut needed: HashMap<ResourceId, Rc<Class>> = HashMap::new();
        for action in
            ActionId::all(schema.actions.len()).filter(|action| schema.fits(*action, estate.catalog.kind(resource)))
        {
            for need in schema.actions[action.index()].needs.iter().filter(|need| need.target != Target::Own) {
                let targets = targets(estate, resource, need.target);
                key.push(if targets.unmet { u32::MAX } else { targets.found.len() as u32 });
                for target in targets.found {
                    let class = match needed.get(&target) {
                        Some(known) => Rc::clone(known),
                        None => self.class(target, false),
                    };
                    key.push(class.number);
                    needed.insert(target, class);
                }
            }
        }
        if plain && let Some(known) = self.known.get(&key[..]) {
            let class = Rc::clone(known);
            self.engine.done(work);
            self.keep(resource, &class, counted);
            return class;
        }
        let class = self.new_class(&mut work, resource, &needed);
        self.engine.done(work);
        let class = Rc::new(class);
        if plain {
            self.known.insert(key.into(), Rc::clone(&class));
        }
        self.keep(resource, &class, counted);
        class
    }

    fn keep(&mut self, resource: ResourceId, class: &Rc<Class>, counted: bool) {
        if counted {
            return;
        }
        if self.kept > MOST_KEPT {
            self.elsewhere.clear();
            self.kept = 0;
        }
        self.kept += 1 + class.asked.iter().flatten().map(|flips| flips.flips.len()).sum::<usize>();
        self.elsewhere.insert(resource, Rc::clone(class));
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

    fn new_class(
        &mut self,
        work: &mut Work<'s>,
        resource: ResourceId,
        needed: &HashMap<ResourceId, Rc<Class>>,
    ) -> Class {
        let actions = self.engine.estate.schema.actions.len();
        let mut rows: HashMap<u32, Row> = HashMap::new();
        let mut done: Vec<Option<Rc<Flips>>> = vec![None; actions];
        for action in ActionId::all(actions) {
            self.action(work, resource, action, needed, &mut rows, &mut done);
        }
        let mut counts: HashMap<u32, (u64, u64)> = HashMap::new();
        for flips in done.iter().flatten() {
            for Flip { rule, users } in &flips.flips {
                let sum = counts.entry(*rule).or_default();
                self.by_rule[*rule as usize].users.add_with(
                    |words| {
                        words.resize(flips.allowed.len(), 0);
                        match users {
                            Flipped::Few(users) => {
                                users.iter().for_each(|user| words[*user as usize / 64] |= 1 << (user % 64));
                            }
                            Flipped::Many(many) => words.iter_mut().zip(many).for_each(|(word, many)| *word |= many),
                        }
                    },
                    match users {
                        Flipped::Few(users) => Some(users),
                        Flipped::Many(_) => None,
                    },
                );
                let lost = |user: u32| flips.allowed[user as usize / 64] >> (user % 64) & 1 == 1;
                let (gained, lost) = match users {
                    Flipped::Few(users) => {
                        let lost = users.iter().filter(|user| lost(**user)).count();
                        (users.len() - lost, lost)
                    }
                    Flipped::Many(many) => {
                        let pairs = many.iter().zip(&flips.allowed);
                        pairs.fold((0, 0), |(gained, lost), (many, allowed)| {
                            (
                                gained + (many & !allowed).count_ones() as usize,
                                lost + (many & allowed).count_ones() as usize,
                            )
                        })
                    }
                };
                *sum = (sum.0 + gained as u64, sum.1 + lost as u64);
            }
        }
        let plan = self.engine.plan;
        let asked =
            done.into_iter().enumerate().map(|(action, of)| of.filter(|_| plan.asked.contains(action))).collect();
        self.classes += 1;
        let counts = counts.into_iter().map(|(rule, (gained, lost))| (rule, gained, lost)).collect();
        Class { number: self.classes, asked, counts }
    }

    /// Where the users of a rule stand.
    fn row(&mut self, work: &mut Work<'s>, rule: u32, rows: &mut HashMap<u32, Row>) -> Row {
        if let Some(known) = rows.get(&rule) {
            return *known;
        }
        let of = &mut self.engine;
        let row = match of.plan.rules[rule as usize].one {
            Some(one) => Row::One(one),
            None => {
                let base = of.base(work, rule);
                let state = work.states[rule as usize];
                if of.fixed[rule as usize].is_some() {
                    Row::Set(base)
                } else if state.wide {
                    Row::Words(of.wide_words(work, rule))
                } else if state.turns.0 < state.turns.1 {
                    Row::Words(of.turned_words(work, base, state.turns))
                } else {
                    Row::Set(base)
                }
            }
        };
        rows.insert(rule, row);
        row
    }

    fn action(
        &mut self,
        work: &mut Work<'s>,
        resource: ResourceId,
        action: ActionId,
        needed: &HashMap<ResourceId, Rc<Class>>,
        rows: &mut HashMap<u32, Row>,
        done: &mut Vec<Option<Rc<Flips>>>,
    ) {
        if done[action.index()].is_some() || work.decided[action.index()] == Decided::Open {
            return;
        }
        let estate = self.engine.estate;
        let needs = &estate.schema.actions[action.index()].needs;
        for need in needs.iter().filter(|need| need.target == Target::Own) {
            self.action(work, resource, need.action, needed, rows, done);
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
            asked.extend(targets.found.iter().map(|target| needed[target].asked[need.action.index()].clone()));
        }
        let steps = Rc::clone(&self.engine.sites.action(work.site, action).expect("it has a meaning").steps);
        let mut items = Vec::new();
        self.engine.single_items(work, action, &steps, &mut items);
        let steps: Vec<(u32, bool, Row)> = items
            .into_iter()
            .map(|item| {
                let (Item::Rule(step) | Item::Own(step)) = item else { unreachable!("they are single") };
                (step.rule, step.reason.is_allowed(), self.row(work, step.rule, rows))
            })
            .collect();
        let mut room = std::mem::take(&mut self.room);
        let before = self.taken(work, &steps, &mut room);
        let flips = after_needs(&before, &asked, &mut room);
        self.room = room;
        done[action.index()] = Some(Rc::new(flips));
    }

    /// Before needs: who is permitted, and for whom that would be otherwise without the rule that decides.
    fn taken(&self, work: &Work, steps: &[(u32, bool, Row)], room: &mut Room) -> Flips {
        let of = &self.engine;
        let Room { rest, permitted, from, words, .. } = room;
        let row = |row: Row| match row {
            Row::Set(set) => Some(of.sets.row(set)),
            Row::Words(at) => Some(work.words.get(at)),
            Row::One(_) => None,
        };
        rest.copy_from_slice(of.sets.row(of.plan.active));
        permitted.fill(0);
        let mut takers: Vec<(usize, Flipped)> = Vec::new();
        for (at, (_, permits, of_rule)) in steps.iter().enumerate() {
            let mut some = 0;
            match (*of_rule, row(*of_rule)) {
                (Row::One(one), _) => {
                    let (word, bit) = (one.index() / 64, 1u64 << (one.0 % 64));
                    if rest[word] & bit == 0 {
                        continue;
                    }
                    rest[word] &= !bit;
                    permitted[word] |= if *permits { bit } else { 0 };
                    takers.push((at, Flipped::Few([one.0].into())));
                    continue;
                }
                (_, Some(row)) => {
                    for ((word, rest), row) in words.iter_mut().zip(rest.iter_mut()).zip(row) {
                        *word = *rest & row;
                        *rest &= !row;
                        some |= *word;
                    }
                }
                (Row::Set(_) | Row::Words(_), None) => unreachable!("they have words"),
            }
            if some != 0 {
                if *permits {
                    permitted.iter_mut().zip(&*words).for_each(|(permitted, word)| *permitted |= word);
                }
                takers.push((at, Flipped::of(words)));
            }
        }
        // Backward: who would be permitted from each rule on.
        from.fill(0);
        let mut flips = Vec::new();
        let mut takers = takers.into_iter().rev().peekable();
        for (at, (rule, permits, of_rule)) in steps.iter().enumerate().rev() {
            if let Some((_, users)) = takers.next_if(|(taker, _)| *taker == at) {
                let otherwise = |user: &u32| (from[*user as usize / 64] >> (user % 64) & 1 == 1) != *permits;
                let users = match users {
                    Flipped::Few(users) => Flipped::Few(users.iter().copied().filter(otherwise).collect()),
                    Flipped::Many(many) => {
                        let turned = if *permits { u64::MAX } else { 0 };
                        let pairs = words.iter_mut().zip(&many).zip(&*from);
                        pairs.for_each(|((word, many), from)| *word = many & (from ^ turned));
                        Flipped::of(words)
                    }
                };
                if !matches!(&users, Flipped::Few(users) if users.is_empty()) {
                    flips.push(Flip { rule: *rule, users });
                }
            }
            match (*of_rule, row(*of_rule)) {
                (Row::One(one), _) => {
                    let bit = 1u64 << (one.0 % 64);
                    let word = &mut from[one.index() / 64];
                    *word = if *permits { *word | bit } else { *word & !bit };
                }
                (_, Some(row)) if *permits => from.iter_mut().zip(row).for_each(|(from, row)| *from |= row),
                (_, Some(row)) => from.iter_mut().zip(row).for_each(|(from, row)| *from &= !row),
                (Row::Set(_) | Row::Words(_), None) => unreachable!("they have words"),
            }
        }
        // A rule that reaches from several depths takes users at several places.
        flips.sort_by_key(|flip| flip.rule);
        Flips { allowed: permitted.as_slice().into(), flips: merged(flips, permitted.len()) }
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
    let Room { words, met, .. } = room;
    let mut allowed = before.allowed.clone();
    for need in asked {
        match need {
            Some(need) => allowed.iter_mut().zip(&need.allowed).for_each(|(word, met)| *word &= met),
            None => allowed.fill(0),
        }
    }
    if asked.iter().any(Option::is_none) {
        // What has no meaning is not allowed without anything, either.
        return Flips { allowed, flips: Vec::new() };
    }
    let mut rules: Vec<u32> = before.flips.iter().map(|flip| flip.rule).collect();
    rules.extend(asked.iter().flatten().flat_map(|need| need.flips.iter().map(|flip| flip.rule)));
    rules.sort_unstable();
    rules.dedup();
    let flip_of = |flips: &Flips, rule: u32| flips.flips.binary_search_by_key(&rule, |flip| flip.rule).ok();
    let mut flips = Vec::new();
    for rule in rules {
        words.copy_from_slice(&before.allowed);
        if let Some(at) = flip_of(before, rule) {
            before.flips[at].users.turn(words);
        }
        for need in asked.iter().flatten() {
            match flip_of(need, rule) {
                Some(at) => {
                    met.copy_from_slice(&need.allowed);
                    need.flips[at].users.turn(met);
                    words.iter_mut().zip(&*met).for_each(|(word, met)| *word &= met);
                }
                None => words.iter_mut().zip(&need.allowed).for_each(|(word, met)| *word &= met),
            }
        }
        words.iter_mut().zip(&allowed).for_each(|(word, allowed)| *word ^= allowed);
        let users = Flipped::of(words);
        if !matches!(&users, Flipped::Few(users) if users.is_empty()) {
            flips.push(Flip { rule, users });
        }
    }
    Flips { allowed, flips }
}
