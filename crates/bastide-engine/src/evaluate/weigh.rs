//! Outcomes of actions for all users at once, worked out once for each combination of what they hang on.

use super::fold::Parted;
use super::site::Step;
use super::{Decided, Evaluator, MetNeed, Work};
use crate::decide::Reason;
use crate::sets::store::SetId;
use crate::sets::{Bits, Keyed, count, of_length};
use bastide_model::*;
use hashbrown::{DefaultHashBuilder, HashMap, HashSet};
use std::cell::{Cell, OnceCell};
use std::hash::BuildHasher;
use std::rc::Rc;

/// For so many users in all it is put down what takes each.
const PUT_DOWN: usize = 1 << 24;
/// Who is permitted an action is listed where they are at most so many times as many as are decided one by one.
const LISTED: usize = 4;

/// An outcome that is kept.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct OutcomeId(pub u32);

impl OutcomeId {
    /// Its number.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// Everybody with the same reason and the same deciding statement.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct OutcomePart {
    /// Why.
    pub reason: Reason,
    /// The statement that decides, where one does.
    pub by: Option<StatementId>,
    /// Who.
    pub users: SetId,
}

/// Users whom the same rule takes, before needs.
#[derive(Clone, Copy, Debug)]
pub struct Taken {
    /// The place of the rule in the order in which each takes its users.
    pub key: u64,
    /// Why, by what, who.
    pub part: OutcomePart,
    /// Who is left to the next ones.
    pub rest: SetId,
}

/// What is decided for whom, on one action.
pub struct Outcome {
    /// The action.
    pub action: ActionId,
    /// Before needs: disjoint parts that together are all users.
    pub weighed: u32,
    /// Who meets the needs of the action, but for users who are decided one by one.
    pub met: SetId,
    /// After needs.
    pub parts: Box<[OutcomePart]>,
    /// Everybody for whom it is allowed.
    pub allowed: SetId,
}

/// What was found of an action on the resource at hand before needs.
pub(super) struct Looked {
    /// What is decided before needs, where that is known.
    pub weighed: Option<u32>,
    /// Whether some rule names many, who are others on other resources.
    pub wide: bool,
    /// Whether some users are to be decided one by one.
    pub turns: bool,
    /// Whether the classes of values say all that is to be said of them.
    pub plain: bool,
    /// What it is looked up by.
    pub classes: Vec<u32>,
}

/// What is decided before needs.
struct Weighed {
    taken: Box<[Taken]>,
    permitted: Permitted,
    /// Who is permitted it, where that was asked.
    listed: OnceCell<Box<[u32]>>,
    /// How often it was asked what takes a user.
    asked: Cell<u32>,
    /// By user, the position of what takes the user, where that was asked often.
    by_user: OnceCell<Box<[u8]>>,
}

/// Who is permitted something before needs, and everybody by reason.
#[derive(Clone, Copy)]
pub struct Permitted {
    /// Who is granted it.
    pub granted: SetId,
    /// Who is assured of it.
    pub assured: SetId,
    /// Users by reason.
    pub counts: [u32; Reason::ALL.len()],
}

/// Those that were met.
pub struct Outcomes {
    weighed: Vec<Weighed>,
    by_sets: Vec<Keyed<u32, u32>>,
    /// The same by classes of values, which is told sooner.
    by_classes: Vec<Keyed<u32, u32>>,
    all: Vec<Outcome>,
    finished: HashMap<(u32, ActionId, SetId), OutcomeId>,
    /// What combinations that were met hash to: where two are the same, one is kept before it is met again.
    met: HashSet<u64>,
    hasher: DefaultHashBuilder,
    /// For how many users it may still be put down what takes them.
    by_user_room: Cell<usize>,
}

impl Default for Outcomes {
    fn default() -> Outcomes {
        Outcomes {
            weighed: Vec::new(),
            by_sets: Vec::new(),
            by_classes: Vec::new(),
            all: Vec::new(),
            finished: HashMap::new(),
            met: HashSet::new(),
            hasher: DefaultHashBuilder::default(),
            by_user_room: Cell::new(PUT_DOWN),
        }
    }
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

    /// Whether a combination was not met before; it is from now on.
    fn is_new(&mut self, key: &[u32]) -> bool {
        self.met.insert(self.hasher.hash_one(key))
    }

    /// Before needs, in the order in which rules take their users.
    pub fn weighed(&self, weighed: u32) -> &[Taken] {
        &self.weighed[weighed as usize].taken
    }

    /// Who is permitted something before needs.
    pub fn permitted(&self, weighed: u32) -> Permitted {
        self.weighed[weighed as usize].permitted
    }
}

impl<'s> Evaluator<'s> {
    /// Decides an action on the resource at hand, if that is not done yet.
    pub(super) fn action(&mut self, work: &mut Work<'s>, action: ActionId) {
        if work.decided[action.index()] != Decided::Open {
            return;
        }
        let Some(of) = self.sites.action(work.site, action) else { return };
        let speaks = |of: &Self, (rule, _): &(u32, u16)| of.plan.rules[*rule as usize].speaks.contains(action.index());
        let owns = work.own.iter().any(|own| speaks(self, own));
        if of.is_constant
            && !owns
            && let Some(known) = of.constant
        {
            work.decided[action.index()] = Decided::Base(known);
            return;
        }
        let is_constant = of.is_constant;
        let mut looked = self.by_classes(work, action);
        if owns {
            for at in 0..work.own.len() {
                let own = work.own[at];
                if speaks(self, &own) {
                    looked.turns = true;
                    looked.wide |= self.is_broad(own.0);
                }
            }
        }
        let mut met = SetId::ALL;
        let (mut mets, mut wide_met) = (work.spare_mets.pop().unwrap_or_default(), false);
        mets.clear();
        for at in 0..self.estate.schema().actions[action.index()].needs.len() {
            let need = self.estate.schema().actions[action.index()].needs[at];
            let of_need = self.met(work, need.target, need.action);
            wide_met |= of_need.wide.is_some();
            looked.turns |= of_need.turns.0 < of_need.turns.1;
            if of_need.wide.is_none() {
                met = self.sets.intersect(met, of_need.base);
            }
            mets.push(of_need);
        }
        if !looked.wide && looked.weighed.is_none() {
            looked.weighed = self.by_sets(work, action);
            if let Some(weighed) = looked.weighed.filter(|_| looked.plain) {
                of_length(&mut self.outcomes.by_classes, looked.classes.len()).insert(&looked.classes, weighed);
            }
        }
        work.classes = looked.classes;
        match looked.weighed.filter(|_| !looked.wide) {
            None => self.in_words(work, action, &mets, None),
            Some(weighed) => {
                let met = if wide_met { self.few(work, weighed, &mets, met) } else { Some(met) };
                match met.and_then(|met| self.finish(work, (weighed, action), met)) {
                    Some(outcome) => {
                        work.decided[action.index()] = Decided::Base(outcome);
                        if is_constant && !owns {
                            self.sites.set_constant(work.site, action, outcome);
                        }
                        if looked.turns || wide_met {
                            self.patch(work, (action, outcome), looked.plain, (&mets, wide_met));
                        }
                    }
                    None => self.in_words(work, action, &mets, (!looked.turns).then_some(weighed)),
                }
            }
        }
        work.spare_mets.push(mets);
    }

    /// What is decided before needs, by the classes of the values that its rules hang on, where that was met. Otherwise the
    /// rules are asked one by one.
    fn by_classes(&mut self, work: &mut Work<'s>, action: ActionId) -> Looked {
        let of = self.sites.action(work.site, action).expect("it has a meaning");
        let (speaking, varying) = (of.speaking, Rc::clone(&of.varying));
        let Parted { folds, texts, others } = of.parted.clone();
        let resource = work.resource.expect("it is being decided on");
        let (mut wide, mut turns, mut plain) = (false, false, true);
        let mut classes = std::mem::take(&mut work.classes);
        classes.clear();
        classes.extend([speaking, work.layer.map_or(u32::MAX, |layer| layer.0)]);
        for fold in folds.iter() {
            let class = self.class(work, *fold, resource);
            plain &= class.plain;
            classes.push(class.number);
        }
        for text in texts.iter() {
            let class = self.text_class(work, *text, resource);
            plain &= class.plain;
            classes.push(class.number);
        }
        for step in others.iter() {
            let state = self.state(work, step.rule);
            wide |= state.wide;
            turns |= state.turns.0 < state.turns.1;
            classes.push(state.base.0);
        }
        let mut weighed = None;
        if plain && !wide {
            weighed = self.outcomes.by_classes.get(classes.len()).and_then(|known| known.get(&classes));
        }
        if weighed.is_none() {
            self.put_down_texts(work, &texts);
            for step in varying.iter() {
                let state = self.state(work, step.rule);
                wide |= state.wide;
                turns |= state.turns.0 < state.turns.1;
            }
        }
        Looked { weighed, wide, turns, plain, classes }
    }

    /// Where a need is met by many, who are others on other resources: whether few of those who are permitted the action before
    /// needs are kept from it, or few are not. Then these are listed in [`Work::few`], to be decided one by one, and what is
    /// given back stands for who meets the needs: all whom `met` has, or nobody. Cost: those who are permitted, or the words of
    /// a set.
    fn few(&self, work: &mut Work<'s>, weighed: u32, mets: &[MetNeed], met: SetId) -> Option<SetId> {
        let most = self.plan.tuning.narrow;
        let Weighed { permitted: Permitted { granted, assured, counts }, listed, .. } =
            &self.outcomes.weighed[weighed as usize];
        let permitted = (counts[Reason::Granted as usize] + counts[Reason::Assured as usize]) as usize;
        let wide: Vec<&[u64]> = mets.iter().filter_map(|met| met.wide.map(|wide| work.words.get(wide))).collect();
        let meets = |user: &u32| wide.iter().all(|words| words[*user as usize / 64] >> (user % 64) & 1 == 1);
        let list = (permitted <= most * LISTED).then(|| {
            let users = || [*granted, *assured].into_iter().flat_map(|set| self.sets.users(set));
            listed.get_or_init(|| users().map(|user| user as u32).collect())
        });
        let rows = [self.sets.row(*granted), self.sets.row(*assured)];
        let kept = match (list, &wide[..]) {
            (Some(list), _) => list.iter().filter(|user| meets(user)).count(),
            (None, [meets]) => count::of_either(rows[0], rows[1], meets) as usize,
            (None, _) => return None,
        };
        let are_kept = kept <= permitted - kept;
        if kept.min(permitted - kept) > most {
            return None;
        }
        work.few.clear();
        match list {
            Some(list) => work.few.extend(list.iter().filter(|user| meets(user) == are_kept)),
            None => {
                for (at, ((granted, assured), meets)) in rows[0].iter().zip(rows[1]).zip(wide[0]).enumerate() {
                    let users = (granted | assured) & if are_kept { *meets } else { !meets };
                    work.few.extend(Bits(users).map(|bit| (at * 64 + bit) as u32));
                }
            }
        }
        Some(if are_kept { SetId::NONE } else { met })
    }

    /// What is decided before needs, by the sets of the rules that hang on the resource; none where they come together for the
    /// first time: that may never be met again. What lies above others is asked for again.
    fn by_sets(&mut self, work: &mut Work<'s>, action: ActionId) -> Option<u32> {
        let of = self.sites.action(work.site, action).expect("it has a meaning");
        let (speaking, varying, steps) = (of.speaking, Rc::clone(&of.varying), Rc::clone(&of.steps));
        let mut key = std::mem::take(&mut work.key);
        key.clear();
        key.extend([speaking, work.layer.map_or(u32::MAX, |layer| layer.0)]);
        key.extend(varying.iter().map(|step| work.states[step.rule as usize].base.0));
        let known = self.outcomes.by_sets.get(key.len()).and_then(|known| known.get(&key));
        let once = self.sets.size() * self.sets.width() >= self.plan.tuning.once && self.is_leaf(work);
        let full = self.is_full(work);
        let weighed = known.or_else(|| {
            if full || once && self.outcomes.is_new(&key) {
                return None;
            }
            let weighed = self.weigh(work, &steps);
            of_length(&mut self.outcomes.by_sets, key.len()).insert(&key, weighed);
            Some(weighed)
        });
        work.key = key;
        weighed
    }

    /// Whether so many sets are kept that no more may be. What lies above others is asked for again, and kept all the same.
    fn is_full(&self, work: &Work) -> bool {
        self.sets.size() * self.sets.width() >= self.plan.tuning.most && self.is_leaf(work)
    }

    fn is_leaf(&self, work: &Work) -> bool {
        work.resource.is_some_and(|resource| self.estate.catalog().is_leaf(resource))
    }

    /// Rules take their users, one after the other.
    fn weigh(&mut self, work: &mut Work<'s>, steps: &[Step]) -> u32 {
        let mut taken: Vec<Taken> = Vec::new();
        let mut rest = self.plan.active;
        if self.plan.inactive != SetId::NONE {
            let part = OutcomePart { reason: Reason::Inactive, by: None, users: self.plan.inactive };
            taken.push(Taken { key: 0, part, rest });
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
                rest = self.sets.subtract(rest, own);
                taken.push(Taken { key: step.key, part: OutcomePart { reason: step.reason, by, users: own }, rest });
            }
        }
        if rest != SetId::NONE {
            let part = OutcomePart { reason: Reason::Silent, by: None, users: rest };
            taken.push(Taken { key: u64::MAX, part, rest: SetId::NONE });
        }
        let mut permitted = Permitted { granted: SetId::NONE, assured: SetId::NONE, counts: [0; Reason::ALL.len()] };
        for Taken { part, .. } in &taken {
            permitted.counts[part.reason as usize] += self.sets.count(part.users);
            match part.reason {
                Reason::Granted => permitted.granted = self.sets.union(permitted.granted, part.users),
                Reason::Assured => permitted.assured = self.sets.union(permitted.assured, part.users),
                Reason::Inactive | Reason::Capped | Reason::Denied | Reason::Silent | Reason::Blocked => {}
            }
        }
        let (taken, listed, by_user) = (taken.into(), OnceCell::new(), OnceCell::new());
        self.outcomes.weighed.push(Weighed { taken, permitted, listed, asked: Cell::new(0), by_user });
        self.outcomes.weighed.len() as u32 - 1
    }

    /// Whether a rule counts in the layer that controls the resource at hand.
    pub(super) fn counts(&self, work: &Work, step: &Step) -> bool {
        let weighed = matches!(step.reason, Reason::Granted | Reason::Denied);
        !weighed || self.estate.layers().is_empty() || work.layer == Some(self.plan.rules[step.rule as usize].layer)
    }

    /// What is permitted must have its needs met. None where that is not known, and so many sets are kept that no more may be.
    fn finish(&mut self, work: &Work, (weighed, action): (u32, ActionId), met: SetId) -> Option<OutcomeId> {
        let known = self.outcomes.finished.get(&(weighed, action, met)).copied();
        known.or_else(|| (!self.is_full(work)).then(|| self.new_outcome(weighed, action, met)))
    }

    fn new_outcome(&mut self, weighed: u32, action: ActionId, met: SetId) -> OutcomeId {
        let mut parts: Vec<OutcomePart> = Vec::new();
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
                parts.push(OutcomePart { users: kept, ..part });
                allowed = self.sets.union(allowed, kept);
            }
            if blocked != SetId::NONE {
                parts.push(OutcomePart { reason: Reason::Blocked, users: blocked, ..part });
            }
        }
        let outcome = OutcomeId(self.outcomes.all.len() as u32);
        self.outcomes.all.push(Outcome { action, weighed, met, parts: parts.into(), allowed });
        self.outcomes.finished.insert((weighed, action, met), outcome);
        outcome
    }

    /// What takes a user before needs. Cost: the logarithm of how many rules take somebody; next to nothing where that is asked
    /// often: then it is put down for everybody, as long as there is room.
    pub(super) fn taken(&self, outcome: OutcomeId, user: u32) -> Taken {
        let of = &self.outcomes.weighed[self.outcomes.get(outcome).weighed as usize];
        if let Some(by_user) = of.by_user.get() {
            return of.taken[usize::from(by_user[user as usize])];
        }
        of.asked.set(of.asked.get().saturating_add(1));
        if of.asked.get() == self.plan.tuning.often && of.taken.len() <= usize::from(u8::MAX) {
            let room = &self.outcomes.by_user_room;
            if let Some(left) = room.get().checked_sub(self.people as usize) {
                room.set(left);
                let mut by_user: Box<[u8]> = vec![0; self.people as usize].into();
                for (at, taken) in of.taken.iter().enumerate() {
                    self.sets.users(taken.part.users).for_each(|user| by_user[user] = at as u8);
                }
                of.by_user.get_or_init(|| by_user);
            }
        }
        of.taken[of.taken.partition_point(|taken| self.sets.contains(taken.rest, user as usize))]
    }

    /// How a user is decided by an outcome.
    pub fn cause(&self, outcome: OutcomeId, user: u32) -> (Reason, Option<StatementId>) {
        let part = self.taken(outcome, user).part;
        (self.with_needs(part.reason, outcome, user), part.by)
    }

    /// A reason before needs, after them, as an outcome says.
    pub(super) fn with_needs(&self, reason: Reason, outcome: OutcomeId, user: u32) -> Reason {
        let blocked = reason.is_allowed() && !self.sets.contains(self.outcomes.get(outcome).met, user as usize);
        if blocked { Reason::Blocked } else { reason }
    }
}
