//! Everybody's access, gone through once: for each statement whom and what it reaches, on how many
//! triples the outcome is what it says, what is solely its doing; and which permissions and
//! restrictions meet.
//!
//! Resources on which the same statements apply to the same users are counted once; where users are decided one by one, what
//! has nothing to do with them is looked up all the same. What is solely the doing of each statement is worked out for all of
//! them at once ([`alone`]); where conditions look at decisions, and where there are layers, by evaluating the estate without
//! it, as far as that can touch anything.

use crate::Triple;
use crate::case::Case;
use bastide_engine::Snapshot;
use bastide_engine::access::{self, Shares};
use bastide_engine::change::{Change, apply};
use bastide_engine::difference::{Radius, difference, radius};
use bastide_engine::evaluate::{Alone, Decided, Evaluator, OutcomeId, Work};
use bastide_engine::sets::gathered::Gathered;
use bastide_engine::sets::{count, store::SetId};
use bastide_engine::{Reason, ReferenceEvaluator};
use bastide_model::*;
use bastide_syntax::Diagnostic;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::ops::Range;

/// What is known of one statement.
#[derive(Clone, Default, Debug)]
pub struct StatementSurvey {
    /// Users it applies to somewhere.
    pub users: usize,
    /// Resources on which it applies to anybody and one of its actions has a meaning.
    pub resources: usize,
    /// Pairs of user and resource.
    pub pairs: u64,
    /// Triples of actions that have a meaning there, users who are active alone.
    pub triples: u64,
    /// Of them, those whose outcome is as it says: allowed for a permission, refused for a restriction.
    pub agree: u64,
    /// Of a permission, those that are permitted and refused for a need.
    pub blocked: u64,
    /// Of a restriction, those that no permission applies to.
    pub idle: u64,
    /// What changes if it is taken out.
    pub sole: Radius,
    /// A triple whose outcome is as it says, or any in its reach.
    pub example: Option<Triple>,
    /// A triple of its reach whose outcome is not as it says.
    pub against: Option<Triple>,
    /// Whether it applies to somebody by its words at all, active or not.
    pub touches: bool,
    /// Whether it does so where one of its actions has a meaning.
    pub means: bool,
}

/// A permission and a restriction that meet.
#[derive(Clone, Default, Debug)]
pub struct Meeting {
    /// On how many triples.
    pub triples: u64,
    /// Of them, those that are allowed.
    pub allowed: u64,
    /// One of them.
    pub example: Option<Triple>,
}

/// The survey.
pub struct Survey {
    /// Decides for everybody.
    pub snapshot: Snapshot,
    /// By statement.
    pub statements: Vec<StatementSurvey>,
    /// By permission and restriction.
    pub meetings: HashMap<(StatementId, StatementId), Meeting>,
    /// Active users.
    pub active: FixedBitSet,
    /// Guests who are active.
    pub guests: FixedBitSet,
}

impl Survey {
    /// Goes through everybody's access.
    ///
    /// # Errors
    /// Decisions that depend on themselves.
    pub fn new(case: &Case) -> Result<Survey, Vec<Diagnostic>> {
        let estate = case.estate;
        let people = estate.people();
        let mut active = people.active().clone();
        active.grow(people.len());
        let mut guests = FixedBitSet::with_capacity(people.len());
        guests.extend(active.ones().filter(|user| people.kind(UserId::new(*user)) == "guest"));
        let snapshot = Snapshot::new(estate, case.moment)?;
        // One core may be through its share long before another one: then it helps with what is left.
        let work = Shares::new(shares(estate.catalog().len()), STEP);
        let (tallies, alone) = rayon::join(
            || {
                let of = |share| Tally::of(case, &snapshot, &active, work.all(share));
                (0..work.len()).into_par_iter().with_max_len(1).map(of).collect::<Vec<Tally>>()
            },
            || snapshot.alone(shares(estate.catalog().len()), None),
        );
        let mut whole = Tally::none(estate);
        tallies.into_iter().for_each(|tally| whole.add(tally));
        for (survey, users) in whole.statements.iter_mut().zip(&whole.users) {
            survey.users = users.count();
        }
        let Tally { mut statements, meetings, .. } = whole;
        match alone {
            Some(found) => {
                for (survey, Alone { gained, lost, resources, users }) in statements.iter_mut().zip(found) {
                    survey.sole = Radius { users: users.count(), resources, gained, lost };
                }
            }
            None => {
                for (id, sole) in one_by_one(case, &snapshot) {
                    statements[id.index()].sole = sole;
                }
            }
        }
        Ok(Survey { snapshot, statements, meetings, active, guests })
    }

    /// What one core asks.
    pub fn evaluator(&self) -> Evaluator<'_> {
        self.snapshot.evaluator()
    }

    /// What decides single triples, for one core.
    pub fn reference(&self) -> ReferenceEvaluator<'_> {
        self.snapshot.reference()
    }

    /// What is known of a statement.
    pub fn of(&self, id: StatementId) -> &StatementSurvey {
        &self.statements[id.index()]
    }
}

/// What changes if each statement is taken out, several at a time.
fn one_by_one(case: &Case, snapshot: &Snapshot) -> Vec<(StatementId, Radius)> {
    let ids: Vec<StatementId> = case.live().map(|(id, _)| id).collect();
    let without = |id: StatementId| {
        let without = apply(case.estate, &[Change::Off(id)]).ok()?;
        let after = snapshot.without(&without);
        Some((id, radius(&difference(snapshot, &after, None))))
    };
    ids.into_par_iter().with_max_len(1).filter_map(without).collect()
}

/// Shares of so many resources, one for each core where there are enough of them.
pub(crate) fn shares(resources: usize) -> Vec<Range<u32>> {
    access::shares(resources, SMALLEST_SHARE)
}

/// Below so many resources a share of their own is not worth an engine.
const SMALLEST_SHARE: usize = 5_000;

/// So many resources are taken at a time.
const STEP: u32 = 256;

/// What was counted of some of the resources.
struct Tally {
    statements: Vec<StatementSurvey>,
    /// By statement, the users it applies to somewhere.
    users: Vec<Gathered>,
    meetings: HashMap<(StatementId, StatementId), Meeting>,
}

/// A statement that reaches a resource, and whom it applies to there: where the list of the active ones among them is to be
/// found, and the number of the set, where that is one that is kept.
struct Reaching {
    id: StatementId,
    rule: u32,
    at: usize,
    set: Option<SetId>,
    /// How many of them are active.
    number: u32,
}

/// Resources that are counted at once: the kind, the outcomes, and whom the statements that reach apply to.
type Like = Box<[u32]>;

/// Lists of users on the resource at hand. They are made where they are asked for: what is known of kept sets is looked up.
struct Lists {
    all: Vec<FixedBitSet>,
    made: Vec<bool>,
    people: usize,
}

impl Lists {
    /// A list, where it may be made; whatever was in it is gone.
    fn make(&mut self, at: usize) -> &mut FixedBitSet {
        while self.all.len() <= at {
            self.all.push(FixedBitSet::with_capacity(self.people));
        }
        self.made.resize(self.made.len().max(at + 1), false);
        self.made[at] = true;
        &mut self.all[at]
    }

    fn is_made(&self, at: usize) -> bool {
        self.made.get(at).is_some_and(|made| *made)
    }
}

/// What is looked up, since it comes again on many resources.
#[derive(Default)]
struct Known {
    /// Of a set, how many active users are in it.
    active: HashMap<SetId, u32>,
    /// Of a set and an outcome, how many of the set are allowed, and of a permission's, how many of it are kept out by a need.
    outcomes: HashMap<(bool, SetId, OutcomeId), (u32, u32)>,
    /// Of two sets, how many active users they have in common.
    pairs: HashMap<(SetId, SetId), u32>,
    /// Of them, how many are allowed by an outcome.
    allowed: HashMap<(SetId, SetId, OutcomeId), u32>,
    /// Of a set, the first, how many active users are in none of the others.
    idle: HashMap<Box<[SetId]>, u32>,
}

/// A resource at hand, on which everything was decided, and the lists of users on it: first those of who is allowed each action,
/// then those of whom each statement applies to.
struct OnResource<'h, 's> {
    engine: &'h mut Evaluator<'s>,
    work: Work<'s>,
    active: &'h FixedBitSet,
    actions: Vec<ActionId>,
    lists: &'h mut Lists,
}

impl OnResource<'_, '_> {
    /// Makes the list of who is allowed an action, where it is not made yet.
    fn allowed(&mut self, at: usize) {
        if !self.lists.is_made(at) {
            self.engine.allowed_users(&self.work, self.actions[at], self.lists.make(at));
        }
    }

    /// Makes the list of active users whom a statement applies to, where it is not made yet.
    fn users(&mut self, r: &Reaching) {
        if !self.lists.is_made(r.at) {
            self.rule(r.rule, r.at);
        }
    }

    fn rule(&mut self, rule: u32, at: usize) -> Option<SetId> {
        let users = self.lists.make(at);
        let set = self.engine.applies_to(&mut self.work, rule, users);
        users.intersect_with(self.active);
        set
    }

    fn list(&self, at: usize) -> &FixedBitSet {
        &self.lists.all[at]
    }
}

impl Tally {
    fn none(estate: &Estate) -> Tally {
        let count = estate.statements().len();
        Tally {
            statements: vec![StatementSurvey::default(); count],
            users: vec![Gathered::default(); count],
            meetings: HashMap::new(),
        }
    }

    /// Goes through some resources.
    fn of(case: &Case, snapshot: &Snapshot, active: &FixedBitSet, share: impl Iterator<Item = u32>) -> Tally {
        let estate = case.estate;
        let mut engine = snapshot.evaluator();
        let mut tally = Tally::none(estate);
        let mut known = Known::default();
        let mut lists = Lists { all: Vec::new(), made: Vec::new(), people: estate.people().len() };
        let mut times: HashMap<Like, usize> = HashMap::new();
        // The first of those that are alike, and how many there are.
        let mut alike: Vec<(ResourceId, u64)> = Vec::new();
        let mut key: Vec<u32> = Vec::new();
        for resource in share.map(ResourceId) {
            let mut work = engine.decide(resource);
            key.clear();
            key.push(estate.catalog().kind(resource).0);
            let mut plain = true;
            for action in ActionId::all(estate.schema().actions.len()) {
                match work.decided(action) {
                    Decided::Open => key.push(u32::MAX),
                    Decided::Base(outcome) => key.push(outcome.0),
                    Decided::Wide(_) => plain = false,
                }
                plain &= work.cells(action).is_empty();
            }
            if plain {
                for rule in engine.rules(&work) {
                    match engine.kept_set(&mut work, rule) {
                        Some(SetId::NONE) => {}
                        Some(set) => key.extend([rule, set.0]),
                        None => {
                            plain = false;
                            break;
                        }
                    }
                }
            }
            if !plain {
                // No other will be like it: it is decided once.
                tally.count(case, (&mut engine, work, active), (&mut known, &mut lists), resource, 1);
                continue;
            }
            engine.done(work);
            match times.get(&key[..]) {
                Some(at) => {
                    let (first, times) = &mut alike[*at];
                    (*first, *times) = (resource.min(*first), *times + 1);
                }
                None => {
                    times.insert(key.as_slice().into(), alike.len());
                    alike.push((resource, 1));
                }
            }
        }
        drop(times);
        for (resource, times) in alike {
            let work = engine.decide(resource);
            tally.count(case, (&mut engine, work, active), (&mut known, &mut lists), resource, times);
        }
        tally
    }

    fn count<'s>(
        &mut self,
        case: &Case,
        (engine, work, active): (&mut Evaluator<'s>, Work<'s>, &FixedBitSet),
        (known, lists): (&mut Known, &mut Lists),
        resource: ResourceId,
        times: u64,
    ) {
        let estate = case.estate;
        let kind = estate.catalog().kind(resource);
        let actions = ActionId::all(estate.schema().actions.len()).filter(|a| estate.schema().fits(*a, kind));
        let actions: Vec<ActionId> = actions.collect();
        lists.made.clear();
        let mut here = OnResource { engine, work, active, actions, lists };
        let mut reaching: Vec<Reaching> = Vec::new();
        for rule in here.engine.rules(&here.work) {
            let at = here.actions.len() + reaching.len();
            let id = here.engine.statement_of(rule);
            let (touches, number, set) = match here.engine.kept_set(&mut here.work, rule) {
                Some(set) => {
                    let number = match known.active.get(&set) {
                        Some(known) => *known,
                        None => {
                            here.rule(rule, at);
                            let number = count::listed(here.list(at));
                            known.active.insert(set, number);
                            number
                        }
                    };
                    (set != SetId::NONE, number, Some(set))
                }
                None => {
                    let touches = here.engine.touches(&mut here.work, rule);
                    let set = here.rule(rule, at);
                    (touches, count::listed(here.list(at)), set)
                }
            };
            if touches {
                let survey = &mut self.statements[id.index()];
                survey.touches = true;
                survey.means |= here.actions.iter().any(|action| estate.statement(id).speaks_of(*action));
            }
            match number {
                0 if here.lists.is_made(at) => here.lists.made[at] = false,
                0 => {}
                number => reaching.push(Reaching { id, rule, at, set, number }),
            }
        }
        let plain: Vec<Option<OutcomeId>> = here
            .actions
            .iter()
            .map(|action| match here.work.decided(*action) {
                Decided::Base(outcome) if here.work.cells(*action).is_empty() => Some(outcome),
                Decided::Base(_) | Decided::Wide(_) | Decided::Open => None,
            })
            .collect();
        let mut blocked: Vec<Option<FixedBitSet>> = vec![None; here.actions.len()];
        let mut permitted: Vec<Option<FixedBitSet>> = vec![None; here.actions.len()];
        // By action, the permissions that speak of it, and whether the sets of all of them are kept.
        let mut permitting: Vec<Option<(Vec<&Reaching>, bool)>> = vec![None; here.actions.len()];
        for r in &reaching {
            let statement = estate.statement(r.id);
            let permits = statement.modality.permits();
            let number = u64::from(r.number);
            self.statements[r.id.index()].pairs += number * times;
            if !self.users[r.id.index()].has_last(r.set) {
                here.users(r);
                self.users[r.id.index()].add(here.list(r.at), r.set);
            }
            let survey = &mut self.statements[r.id.index()];
            let mut meaning = false;
            for i in 0..here.actions.len() {
                let action = here.actions[i];
                if !statement.speaks_of(action) {
                    continue;
                }
                meaning = true;
                survey.triples += number * times;
                let kept = r.set.zip(plain[i]).map(|(set, outcome)| (permits, set, outcome));
                let (yes, stopped) = match kept.and_then(|kept| known.outcomes.get(&kept)) {
                    Some(known) => *known,
                    None => {
                        here.users(r);
                        here.allowed(i);
                        let yes = count::both(here.list(r.at), here.list(i));
                        let stopped = if permits {
                            let blocked =
                                blocked[i].get_or_insert_with(|| blocked_on(here.engine, &mut here.work, action));
                            count::both(&here.lists.all[r.at], blocked)
                        } else {
                            0
                        };
                        if let Some(kept) = kept {
                            known.outcomes.insert(kept, (yes, stopped));
                        }
                        (yes, stopped)
                    }
                };
                let (yes, no) = (u64::from(yes), number - u64::from(yes));
                survey.agree += if permits { yes } else { no } * times;
                survey.blocked += u64::from(stopped) * times;
                let (some_for, some_against) = if permits { (yes > 0, no > 0) } else { (no > 0, yes > 0) };
                let wanted = [
                    is_earlier(survey.example, resource) && some_for,
                    is_earlier(survey.against, resource) && some_against,
                ];
                if wanted != [false; 2] {
                    here.users(r);
                    here.allowed(i);
                    let (users, allowed) = (here.list(r.at), here.list(i));
                    let triple = |user: Option<usize>| user.map(|u| (UserId::new(u), action, resource));
                    let inside = || triple(users.intersection(allowed).next());
                    let outside = || triple(users.difference(allowed).next());
                    if wanted[0] {
                        survey.example = if permits { inside() } else { outside() };
                    }
                    if wanted[1] {
                        survey.against = if permits { outside() } else { inside() };
                    }
                }
                if !permits {
                    let (others, all_kept) = permitting[i].get_or_insert_with(|| {
                        let speaks = |r: &&Reaching| {
                            let s = estate.statement(r.id);
                            s.modality.permits() && s.speaks_of(action)
                        };
                        let others: Vec<&Reaching> = reaching.iter().filter(speaks).collect();
                        let all_kept = others.iter().all(|r| r.set.is_some());
                        (others, all_kept)
                    });
                    let kept = r.set.filter(|_| *all_kept);
                    let kept: Option<Box<[SetId]>> =
                        kept.map(|set| std::iter::once(set).chain(others.iter().filter_map(|r| r.set)).collect());
                    let idle = match kept.as_ref().and_then(|kept| known.idle.get(kept)) {
                        Some(known) => *known,
                        None => {
                            here.users(r);
                            let by_any = permitted[i].get_or_insert_with(|| {
                                let mut all = FixedBitSet::with_capacity(estate.people().len());
                                for other in others.iter() {
                                    here.users(other);
                                    all.union_with(here.list(other.at));
                                }
                                all
                            });
                            let idle = count::without(here.list(r.at), by_any);
                            if let Some(kept) = kept {
                                known.idle.insert(kept, idle);
                            }
                            idle
                        }
                    };
                    survey.idle += u64::from(idle) * times;
                }
            }
            survey.resources += if meaning { times as usize } else { 0 };
        }
        self.meet(case, &reaching, &plain, (known, &mut here), (resource, times));
        let OnResource { engine, work, .. } = here;
        engine.done(work);
    }

    /// Permissions and restrictions that speak of the same action to the same users.
    fn meet(
        &mut self,
        case: &Case,
        reaching: &[Reaching],
        plain: &[Option<OutcomeId>],
        (known, here): (&mut Known, &mut OnResource),
        (resource, times): (ResourceId, u64),
    ) {
        let estate = case.estate;
        let weighed = reaching.iter().map(|r| (r, estate.statement(r.id)));
        let weighed = weighed.filter(|(_, statement)| statement.modality != Modality::MayOnly);
        let (permissions, restrictions): (Vec<_>, Vec<_>) = weighed.partition(|(_, s)| s.modality.permits());
        let mut fitting = FixedBitSet::with_capacity(estate.schema().actions.len());
        fitting.extend(here.actions.iter().map(|action| action.index()));
        let mut spoken = FixedBitSet::with_capacity(fitting.len());
        for (d, ds) in restrictions {
            spoken.clone_from(&fitting);
            spoken.intersect_with(&ds.actions);
            for (p, ps) in &permissions {
                if spoken.is_disjoint(&ps.actions) {
                    continue;
                }
                let kept = p.set.zip(d.set);
                let lists = |here: &mut OnResource| {
                    here.users(p);
                    here.users(d);
                };
                let both = match kept.and_then(|kept| known.pairs.get(&kept)) {
                    Some(known) => *known,
                    None => {
                        lists(here);
                        let both = count::both(here.list(p.at), here.list(d.at));
                        if let Some(kept) = kept {
                            known.pairs.insert(kept, both);
                        }
                        both
                    }
                };
                if both == 0 {
                    continue;
                }
                let meeting = self.meetings.entry((p.id, d.id)).or_default();
                for (i, plain) in plain.iter().enumerate() {
                    let action = here.actions[i];
                    if !spoken.contains(action.index()) || !ps.actions.contains(action.index()) {
                        continue;
                    }
                    let kept = kept.zip(*plain).map(|((p, d), outcome)| (p, d, outcome));
                    let may = match kept.and_then(|kept| known.allowed.get(&kept)) {
                        Some(known) => *known,
                        None => {
                            lists(here);
                            here.allowed(i);
                            let may = count::all_three(here.list(p.at), here.list(d.at), here.list(i));
                            if let Some(kept) = kept {
                                known.allowed.insert(kept, may);
                            }
                            may
                        }
                    };
                    meeting.triples += u64::from(both) * times;
                    meeting.allowed += u64::from(may) * times;
                    if is_earlier(meeting.example, resource) {
                        lists(here);
                        let user = here.list(p.at).intersection(here.list(d.at)).next();
                        meeting.example = user.map(|u| (UserId::new(u), action, resource));
                    }
                }
            }
        }
    }

    /// Adds what was counted of others.
    fn add(&mut self, other: Tally) {
        for (own, other) in self.statements.iter_mut().zip(other.statements) {
            own.resources += other.resources;
            own.pairs += other.pairs;
            own.triples += other.triples;
            own.agree += other.agree;
            own.blocked += other.blocked;
            own.idle += other.idle;
            own.example = earlier(own.example, other.example);
            own.against = earlier(own.against, other.against);
            own.touches |= other.touches;
            own.means |= other.means;
        }
        for (own, other) in self.users.iter_mut().zip(other.users) {
            own.join(other);
        }
        for (pair, other) in other.meetings {
            let own = self.meetings.entry(pair).or_default();
            own.triples += other.triples;
            own.allowed += other.allowed;
            own.example = earlier(own.example, other.example);
        }
    }
}

/// The example on the resource that comes first.
fn earlier(one: Option<Triple>, other: Option<Triple>) -> Option<Triple> {
    [one, other].into_iter().flatten().min_by_key(|(.., resource)| *resource)
}

/// Whether a resource comes before the one of an example: the first one in the catalog is told, in whatever order they are
/// counted.
fn is_earlier(example: Option<Triple>, resource: ResourceId) -> bool {
    example.is_none_or(|(_, _, at)| resource < at)
}

/// Who is permitted an action on a resource that was decided on, and kept out for a need.
fn blocked_on<'s>(engine: &mut Evaluator<'s>, work: &mut Work<'s>, action: ActionId) -> FixedBitSet {
    let mut blocked = engine.nobody();
    if !engine.blocks(work, action) {
        return blocked;
    }
    let mut part = engine.nobody();
    engine.each_part(work, action, |reason, _, words| {
        if reason == Reason::Blocked {
            bastide_engine::evaluate::put(words, &mut part);
            blocked.union_with(&part);
        }
    });
    blocked
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::random::{Shape, plan};
    use std::collections::BTreeMap;

    /// Whoever counts which resources, and in whatever order: the numbers and the examples are the same.
    #[test]
    fn shares_come_to_the_same() {
        let mut random = fastrand::Rng::with_seed(3);
        let (mut examples, mut met) = (0, 0);
        for seed in 0..150 {
            let estate = plan(seed, Shape::ALL).case().estate();
            let moment = Moment::on("2026-11-24".parse().expect("a day"), estate.schema());
            let case = Case {
                estate: &estate,
                moment: &moment,
                harmless: Vec::new(),
                limits: crate::Limits::default(),
                levels: Vec::new(),
                diagnostics: &[],
                lines: Vec::new(),
                used: None,
            };
            let Ok(snapshot) = Snapshot::new(&estate, &moment) else { continue };
            let mut active = estate.people().active().clone();
            active.grow(estate.people().len());
            let resources = estate.catalog().len() as u32;
            let whole = Tally::of(&case, &snapshot, &active, 0..resources);
            let mut steps: Vec<Range<u32>> = Vec::new();
            while steps.last().map_or(0, |step| step.end) < resources {
                let from = steps.last().map_or(0, |step| step.end);
                steps.push(from..(from + random.u32(1..5)).min(resources));
            }
            random.shuffle(&mut steps);
            let mut shared = Tally::none(&estate);
            let share = random.usize(1..=steps.len());
            for steps in steps.chunks(share) {
                shared.add(Tally::of(&case, &snapshot, &active, steps.iter().cloned().flatten()));
            }
            assert_eq!(told(&whole), told(&shared), "seed {seed}");
            examples += whole.statements.iter().filter(|survey| survey.example.is_some()).count();
            met += whole.meetings.values().filter(|meeting| meeting.example.is_some()).count();
        }
        assert!(examples > 500 && met > 100, "{examples} examples, {met} meetings");
    }

    fn told(tally: &Tally) -> String {
        let users: Vec<usize> = tally.users.iter().map(Gathered::count).collect();
        let meetings: BTreeMap<_, _> = tally.meetings.iter().collect();
        format!("{:?} {users:?} {meetings:?}", tally.statements)
    }
}
