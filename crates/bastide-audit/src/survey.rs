//! Everybody's access, gone through once: for each statement whom and what it reaches, on how many
//! triples the outcome is what it says, what is solely its doing; and which permissions and
//! restrictions meet.
//!
//! Resources on which the same statements apply to the same users are counted once. What an owner
//! makes different is counted singly. Sole reach is worked out for each statement by evaluating the
//! estate without it, as far as that can touch anything.

use crate::Triple;
use crate::case::Case;
use bastide_engine::access::shares;
use bastide_engine::change::{Change, apply};
use bastide_engine::difference::{Alike, Radius, difference, radius, radius_without};
use bastide_engine::sets::claims::Reaching;
use bastide_engine::sets::store::SetId;
use bastide_engine::sets::{Decided, SetEngine};
use bastide_engine::{Judge, Reason};
use bastide_model::*;
use bastide_syntax::Diagnostic;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::cell::RefCell;
use std::rc::Rc;

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
pub struct Survey<'e> {
    /// Decides single triples.
    pub judge: Judge<'e>,
    /// Decides for everybody; checks may ask it.
    pub engine: RefCell<SetEngine<'e>>,
    /// By statement.
    pub statements: Vec<StatementSurvey>,
    /// By permission and restriction.
    pub meetings: HashMap<(StatementId, StatementId), Meeting>,
    /// Active users.
    pub active: SetId,
    /// Guests who are active.
    pub guests: SetId,
}

/// Resources that are alike: the same statements apply to the same users, with the same outcomes.
type Like = (Decided, KindId, Vec<Reaching>);

impl<'e> Survey<'e> {
    /// Goes through everybody's access.
    ///
    /// # Errors
    /// Decisions that depend on themselves.
    pub fn new(case: &Case<'e>) -> Result<Survey<'e>, Vec<Diagnostic>> {
        let estate = case.estate;
        let judge = Judge::new(estate, case.moment)?;
        let mut engine = SetEngine::new(estate, case.moment)?;
        let active = engine.set_of(estate.people.active.ones());
        let guest = |u: &usize| estate.people.kind(UserId::new(*u)) == "guest";
        let guests = engine.set_of(estate.people.active.ones().filter(guest));
        let mut survey = Survey {
            judge,
            engine: RefCell::new(engine),
            statements: Vec::new(),
            meetings: HashMap::new(),
            active,
            guests,
        };
        survey.sweep(case)?;
        survey.sole(case)?;
        Ok(survey)
    }

    /// Whether a need is met for a user on a resource.
    pub fn meets(&self, user: UserId, need: schema::Need, resource: ResourceId) -> bool {
        self.judge.meets(user, need, resource)
    }

    /// What is known of a statement.
    pub fn of(&self, id: StatementId) -> &StatementSurvey {
        &self.statements[id.index()]
    }

    /// Everybody's access in shares, one for each core; the first one's engine is the survey's.
    fn sweep(&mut self, case: &Case<'e>) -> Result<(), Vec<Diagnostic>> {
        let (estate, moment, active) = (case.estate, case.moment, self.active);
        let engine = self.engine.get_mut();
        let mut shares = shares(estate.catalog.len(), SMALLEST_SHARE).into_iter();
        let first = shares.next().unwrap_or_default();
        let mut others = Vec::new();
        for share in shares {
            others.push((engine.beside(estate, moment)?, share));
        }
        let sweep = |(mut engine, share): (SetEngine<'e>, std::ops::Range<u32>)| {
            let active = engine.set_of(estate.people.active.ones());
            Tally::of(case, &mut engine, active, share)
        };
        let (mut whole, others): (Tally, Vec<Tally>) =
            rayon::join(|| Tally::of(case, engine, active, first), || others.into_par_iter().map(sweep).collect());
        others.into_iter().for_each(|other| whole.add(other));
        for (survey, words) in whole.statements.iter_mut().zip(whole.users) {
            survey.users = words.iter().map(|w| w.count_ones() as usize).sum();
        }
        (self.statements, self.meetings) = (whole.statements, whole.meetings);
        Ok(())
    }

    /// What changes if each statement is taken out, several at a time.
    fn sole(&mut self, case: &Case<'e>) -> Result<(), Vec<Diagnostic>> {
        let (estate, moment) = (case.estate, case.moment);
        let ids: Vec<StatementId> = case.live().map(|(id, _)| id).collect();
        let alike = Alike::of(&mut SetEngine::new(estate, moment)?);
        // Rules reach far and stand together: they are dealt out like cards.
        let hands = rayon::current_num_threads().max(1);
        let found: Result<Vec<Vec<(StatementId, Radius)>>, Vec<Diagnostic>> = (0..hands)
            .into_par_iter()
            .map(|hand| ids.iter().skip(hand).step_by(hands).collect::<Vec<_>>())
            .map(|ids| {
                let mut before = SetEngine::new(estate, moment)?;
                let rows = alike.as_ref().map(|alike| alike.rows(&mut before)).unwrap_or_default();
                let mut found = Vec::new();
                for id in ids {
                    let Ok(without) = apply(estate, &[Change::Off(*id)]) else { continue };
                    let mut after = before.without(&without, moment);
                    let sole = match &alike {
                        Some(alike) => radius_without(&mut before, &mut after, *id, alike, &rows),
                        None => radius(&difference(&mut before, &mut after)),
                    };
                    found.push((*id, sole));
                }
                Ok(found)
            })
            .collect();
        for (id, radius) in found?.into_iter().flatten() {
            self.statements[id.index()].sole = radius;
        }
        Ok(())
    }
}

/// Below so many resources a share of their own is not worth an engine.
const SMALLEST_SHARE: usize = 5_000;

/// What was counted of a share of the resources.
struct Tally {
    statements: Vec<StatementSurvey>,
    /// By statement, the users it applies to somewhere, as words.
    users: Vec<Vec<u64>>,
    meetings: HashMap<(StatementId, StatementId), Meeting>,
}

impl Tally {
    /// Goes through some resources.
    fn of(case: &Case, engine: &mut SetEngine, active: SetId, share: std::ops::Range<u32>) -> Tally {
        let estate = case.estate;
        let catalog = &estate.catalog;
        let mut tally = Tally {
            statements: vec![StatementSurvey::default(); estate.statements.len()],
            users: vec![Vec::new(); estate.statements.len()],
            meetings: HashMap::new(),
        };
        // Kept once: in a large estate they are what takes the most memory.
        let mut alike: HashMap<Rc<Like>, (ResourceId, u64)> = HashMap::new();
        let mut order: Vec<Once> = Vec::new();
        for resource in share.map(ResourceId) {
            let decided = engine.row(resource);
            let reaching = engine.reaching(resource);
            let owner = catalog.owner(resource).flatten();
            // Without an owner, or where the owner is as everybody, it is all one who owns it.
            let owned = |r: &Reaching| {
                owner.is_some_and(|o| {
                    engine.sets().contains(r.others, o.index()) != engine.sets().contains(r.owners, o.index())
                })
            };
            if let Some(owner) = owner.filter(|_| decided.owner.is_some() || reaching.iter().any(owned)) {
                order.push(Once::Owned(resource, owner));
                continue;
            }
            let key = (decided, catalog.kind(resource), settled(reaching));
            match alike.get_mut(&key) {
                Some((_, times)) => *times += 1,
                None => {
                    let key = Rc::new(key);
                    order.push(Once::Alike(Rc::clone(&key)));
                    alike.insert(key, (resource, 1));
                }
            }
        }
        for once in order {
            match once {
                Once::Alike(key) => {
                    let (resource, times) = alike[&key];
                    tally.count(case, (engine, active), &key, resource, times);
                }
                Once::Owned(resource, owner) => {
                    // One user stands out: counted singly, with the sets as they are for that user, which nobody
                    // asks for again.
                    let decided = engine.row(resource);
                    let mut reaching = engine.reaching(resource);
                    let single = engine.single(owner);
                    let aside = engine.aside();
                    for r in &mut reaching {
                        let is = engine.sets().contains(r.owners, owner.index());
                        if is != engine.sets().contains(r.others, owner.index()) {
                            r.others = if is { engine.either(r.others, single) } else { engine.but(r.others, single) };
                        }
                    }
                    let key = (decided, catalog.kind(resource), settled(reaching));
                    tally.count(case, (engine, active), &key, resource, 1);
                    engine.forget(aside);
                }
            }
        }
        tally
    }

    fn count(
        &mut self,
        case: &Case,
        (engine, active): (&mut SetEngine, SetId),
        key: &Like,
        resource: ResourceId,
        times: u64,
    ) {
        let estate = case.estate;
        let (_, kind, reaching) = key;
        let actions = ActionId::all(estate.schema.actions.len()).filter(|a| estate.schema.fits(*a, *kind));
        let actions: Vec<ActionId> = actions.collect();
        let allowed: Vec<SetId> = actions.iter().map(|a| engine.allowed(resource, *a)).collect();
        let mut permitted: Vec<Vec<SetId>> = vec![Vec::new(); actions.len()];
        let speaks =
            |s: &Statement, action: ActionId| s.actions.contains(action.index()) != (s.modality == Modality::MayOnly);
        for r in reaching {
            let statement = estate.statement(r.id);
            for (i, action) in actions.iter().enumerate() {
                if statement.modality.permits() && speaks(statement, *action) {
                    permitted[i].push(r.others);
                }
            }
        }
        for r in reaching {
            let statement = estate.statement(r.id);
            let survey = &mut self.statements[r.id.index()];
            survey.touches = true;
            survey.means |= actions.iter().any(|action| statement.speaks_of(*action));
            let set = engine.both(r.others, active);
            if set == SetId::NONE {
                continue;
            }
            let number = u64::from(engine.sets().count(set));
            survey.pairs += number * times;
            let words = &mut self.users[r.id.index()];
            words.resize(engine.sets().row(set).len(), 0);
            words.iter_mut().zip(engine.sets().row(set)).for_each(|(all, word)| *all |= word);
            let mut meaning = false;
            for (i, action) in actions.iter().enumerate().filter(|(_, a)| speaks(statement, **a)) {
                meaning = true;
                survey.triples += number * times;
                let yes = u64::from(engine.sets().count_both(set, allowed[i]));
                let agree = if statement.modality.permits() { yes } else { number - yes };
                survey.agree += agree * times;
                let triple = |user: Option<usize>| user.map(|u| (UserId::new(u), *action, resource));
                let (inside, outside) =
                    (engine.sets().first_of_both(set, allowed[i]), engine.sets().first_of_rest(set, allowed[i]));
                let (for_it, against) =
                    if statement.modality.permits() { (inside, outside) } else { (outside, inside) };
                if survey.example.is_none() {
                    survey.example = triple(for_it);
                }
                if survey.against.is_none() {
                    survey.against = triple(against);
                }
                if statement.modality.permits() {
                    let parts = engine.outcome(key.0.others, *action).parts.iter();
                    let blocked = parts.filter(|p| p.reason == Reason::Blocked);
                    let counts: u64 = blocked.map(|p| u64::from(engine.sets().count_both(set, p.users))).sum();
                    survey.blocked += counts * times;
                    // The owner is decided by a row of its own.
                    if let Some((owner, row)) = key.0.owner
                        && engine.sets().contains(set, owner.index())
                    {
                        let is = |row| u64::from(engine.part_of(row, owner, *action).reason == Reason::Blocked) * times;
                        survey.blocked = survey.blocked - is(key.0.others) + is(row);
                    }
                }
                if !statement.modality.permits() {
                    survey.idle += u64::from(engine.sets().count_outside(set, &permitted[i])) * times;
                }
            }
            survey.resources += if meaning { times as usize } else { 0 };
        }
        self.meet(case, (engine, active), reaching, (&actions, &allowed), resource, times);
    }

    /// Permissions and restrictions that speak of the same action to the same users.
    fn meet(
        &mut self,
        case: &Case,
        (engine, active): (&mut SetEngine, SetId),
        reaching: &[Reaching],
        (actions, allowed): (&[ActionId], &[SetId]),
        resource: ResourceId,
        times: u64,
    ) {
        let estate = case.estate;
        let weighed = |r: &&Reaching, permits: bool| {
            let s = estate.statement(r.id);
            s.modality.permits() == permits && s.modality != Modality::MayOnly
        };
        for d in reaching.iter().filter(|r| weighed(r, false)) {
            for p in reaching.iter().filter(|r| weighed(r, true)) {
                let both = engine.both(p.others, d.others);
                let both = engine.both(both, active);
                if both == SetId::NONE {
                    continue;
                }
                let (ps, ds) = (estate.statement(p.id), estate.statement(d.id));
                for (i, action) in actions.iter().enumerate() {
                    if !ps.actions.contains(action.index()) || !ds.actions.contains(action.index()) {
                        continue;
                    }
                    let meeting = self.meetings.entry((p.id, d.id)).or_default();
                    meeting.triples += u64::from(engine.sets().count(both)) * times;
                    meeting.allowed += u64::from(engine.sets().count_both(both, allowed[i])) * times;
                    if meeting.example.is_none() {
                        let user = engine.sets().users(both).next();
                        meeting.example = user.map(|u| (UserId::new(u), *action, resource));
                    }
                }
            }
        }
    }

    /// Adds another share, whose resources come later.
    fn add(&mut self, other: Tally) {
        for (own, other) in self.statements.iter_mut().zip(other.statements) {
            own.resources += other.resources;
            own.pairs += other.pairs;
            own.triples += other.triples;
            own.agree += other.agree;
            own.blocked += other.blocked;
            own.idle += other.idle;
            own.example = own.example.or(other.example);
            own.against = own.against.or(other.against);
            own.touches |= other.touches;
            own.means |= other.means;
        }
        for (own, other) in self.users.iter_mut().zip(other.users) {
            own.resize(own.len().max(other.len()), 0);
            own.iter_mut().zip(other).for_each(|(all, words)| *all |= words);
        }
        for (pair, other) in other.meetings {
            let own = self.meetings.entry(pair).or_default();
            own.triples += other.triples;
            own.allowed += other.allowed;
            own.example = own.example.or(other.example);
        }
    }
}

/// Resources that are counted at once.
enum Once {
    /// Those that are alike.
    Alike(Rc<Like>),
    /// One on which the owner stands out.
    Owned(ResourceId, UserId),
}

/// The statements that apply to anybody, each with everybody it applies to.
fn settled(mut reaching: Vec<Reaching>) -> Vec<Reaching> {
    reaching.iter_mut().for_each(|r| r.owners = r.others);
    reaching.retain(|r| r.others != SetId::NONE);
    reaching
}
