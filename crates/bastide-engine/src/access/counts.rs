//! Decisions as rows, and as counts of rows: what is asked of everybody's access without visiting every pair.
//!
//! [`Asked`] says which decisions; [`rows`] gives them one by one, and [`counts`] how many of them are alike in some columns
//! ([`Keys`]). Counts come from outcomes and how often each occurs, as totals do. Cost: that of deciding on the resources; for
//! counts by user, users for each different outcome; by resource, the parts of its outcomes. Where an outcome is worked out in
//! words (others on nearly every resource) and reasons or statements are asked for, each user that is asked for is looked at.

use super::batch::Batch;
use crate::decide::Reason;
use crate::evaluate::{Decided, Evaluator, OutcomeId, Work};
use crate::snapshot::Snapshot;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::ops::Range;

/// Which decisions are asked for. Of what says nothing, all.
#[derive(Clone, Debug, Default)]
pub struct Asked {
    /// Users.
    pub users: Option<FixedBitSet>,
    /// Resources.
    pub resources: Option<FixedBitSet>,
    /// Actions.
    pub actions: Option<FixedBitSet>,
    /// Reasons, by their position in [`Reason::ALL`].
    pub reasons: Option<FixedBitSet>,
    /// Statements that decide, by number; one behind the last: that none does.
    pub statements: Option<FixedBitSet>,
}

impl Asked {
    fn user(&self, user: u32) -> bool {
        self.users.as_ref().is_none_or(|users| users.contains(user as usize))
    }

    fn action(&self, action: ActionId) -> bool {
        self.actions.as_ref().is_none_or(|actions| actions.contains(action.index()))
    }

    fn resource(&self, resource: ResourceId) -> bool {
        self.resources.as_ref().is_none_or(|resources| resources.contains(resource.index()))
    }

    fn reason(&self, reason: Reason) -> bool {
        self.reasons.as_ref().is_none_or(|reasons| reasons.contains(reason as usize))
    }

    fn by(&self, by: Option<StatementId>, statements: usize) -> bool {
        let at = by.map_or(statements, |by| by.0 as usize);
        self.statements.as_ref().is_none_or(|of| of.contains(at))
    }

    /// Whether all allowed decisions are asked for, and all refused ones, where reasons do not matter otherwise.
    fn decisions(&self) -> Option<(bool, bool)> {
        let of = |allowed: bool| Reason::ALL.into_iter().filter(move |reason| reason.is_allowed() == allowed);
        let all = |allowed: bool| {
            let asked = of(allowed).filter(|reason| self.reason(*reason)).count();
            if asked == 0 { Some(false) } else { (asked == of(allowed).count()).then_some(true) }
        };
        Some((all(true)?, all(false)?))
    }
}

/// In which columns decisions are to be alike to be counted together.
#[derive(Clone, Copy, PartialEq, Eq, Debug, Default)]
pub struct Keys {
    /// The user.
    pub user: bool,
    /// The resource.
    pub resource: bool,
    /// The kind of the resource.
    pub kind: bool,
    /// The action.
    pub action: bool,
    /// Whether it is allowed.
    pub decision: bool,
    /// Why.
    pub reason: bool,
    /// By which statement.
    pub statement: bool,
}

/// What counted decisions have in common, in the columns that were asked for; none in the others.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug, Default)]
pub struct Alike {
    /// The user.
    pub user: Option<UserId>,
    /// The resource.
    pub resource: Option<ResourceId>,
    /// The kind of the resource.
    pub kind: Option<KindId>,
    /// The action.
    pub action: Option<ActionId>,
    /// Whether it is allowed.
    pub decision: Option<bool>,
    /// Why.
    pub reason: Option<Reason>,
    /// By which statement, or that none decides.
    pub statement: Option<Option<StatementId>>,
}

/// A decision as a row: why and by what, where that was asked for.
#[derive(Clone, Copy, Debug)]
pub struct DecisionRow {
    /// The resource.
    pub resource: ResourceId,
    /// The action.
    pub action: ActionId,
    /// The user.
    pub user: UserId,
    /// Whether it is allowed.
    pub allowed: bool,
    /// Why, and by which statement.
    pub cause: Option<(Reason, Option<StatementId>)>,
}

/// Gives the decisions that are asked for, of the resources in a range, one by one. `causes`: with reasons and statements.
///
/// # Errors
/// Whatever `each` gives back; it is not called again.
pub fn rows<E>(
    snapshot: &Snapshot,
    asked: &Asked,
    range: Range<u32>,
    causes: bool,
    mut each: impl FnMut(DecisionRow) -> Result<(), E>,
) -> Result<(), E> {
    let estate = snapshot.estate();
    let statements = estate.statements().len();
    let mut engine = snapshot.evaluator();
    let decisions = asked.decisions().filter(|_| asked.statements.is_none());
    let mut words = vec![0; engine.sets().width()];
    let everybody: FixedBitSet = match &asked.users {
        Some(users) => users.clone(),
        None => (0..estate.people().len()).collect(),
    };
    for resource in range.map(ResourceId).filter(|resource| asked.resource(*resource)) {
        let mut work = engine.decide(resource);
        for action in ActionId::all(estate.schema().actions.len()).filter(|action| asked.action(*action)) {
            engine.allowed_words(&work, action, &mut words);
            let is = |words: &[u64], user: usize| words[user / 64] >> (user % 64) & 1 == 1;
            let mut one = |user: usize, allowed: bool| {
                let user = UserId::new(user);
                let cause = (causes || decisions.is_none()).then(|| engine.cause_in(&mut work, action, user));
                let asked_for = cause.is_none_or(|(reason, by)| asked.reason(reason) && asked.by(by, statements));
                match asked_for {
                    true => each(DecisionRow { resource, action, user, allowed, cause }),
                    false => Ok(()),
                }
            };
            if decisions == Some((true, false)) {
                for user in allowed_among(&words, &everybody) {
                    one(user, true)?;
                }
            } else {
                for user in everybody.ones() {
                    let allowed = is(&words, user);
                    if decisions.is_none_or(|(granted, refused)| if allowed { granted } else { refused }) {
                        one(user, allowed)?;
                    }
                }
            }
        }
        engine.done(work);
    }
    Ok(())
}

/// Users in words who are in a set, too.
fn allowed_among<'a>(words: &'a [u64], users: &'a FixedBitSet) -> impl Iterator<Item = usize> + 'a {
    users.ones().filter(|user| words[user / 64] >> (user % 64) & 1 == 1)
}

/// Counts the decisions that are asked for, of the resources in a range, by what is to be alike. The same columns may be given
/// several times: their counts are to be added.
///
/// # Errors
/// Whatever `each` gives back; it is not called again.
pub fn counts<E>(
    snapshot: &Snapshot,
    asked: &Asked,
    keys: Keys,
    range: Range<u32>,
    mut each: impl FnMut(Alike, u64) -> Result<(), E>,
) -> Result<(), E> {
    if keys.user && keys.resource {
        let alike = |row: DecisionRow, estate: &Estate| {
            let kind = estate.catalog().kind(row.resource);
            keys.alike(kind, row.action, row.allowed, row.cause, Some(row.user), Some(row.resource))
        };
        let causes = keys.reason || keys.statement;
        return rows(snapshot, asked, range, causes, |row| each(alike(row, snapshot.estate()), 1));
    }
    let mut counting = Counting::new(snapshot, asked, keys);
    for resource in range.map(ResourceId).filter(|resource| asked.resource(*resource)) {
        counting.resource(resource);
        if keys.resource {
            counting.give(&mut each)?;
        }
    }
    counting.finish();
    counting.give(&mut each)
}

impl Keys {
    fn alike(
        self,
        kind: KindId,
        action: ActionId,
        allowed: bool,
        cause: Option<(Reason, Option<StatementId>)>,
        user: Option<UserId>,
        resource: Option<ResourceId>,
    ) -> Alike {
        Alike {
            user: user.filter(|_| self.user),
            resource: resource.filter(|_| self.resource),
            kind: self.kind.then_some(kind),
            action: self.action.then_some(action),
            decision: self.decision.then_some(allowed),
            reason: cause.map(|(reason, _)| reason).filter(|_| self.reason),
            statement: cause.map(|(_, by)| by).filter(|_| self.statement),
        }
    }
}

/// A part of an outcome that is asked for.
struct Piece {
    reason: Reason,
    by: Option<StatementId>,
    /// Users in it that are asked for.
    users: Vec<u32>,
    count: u64,
}

/// Outcomes worked out in words, of a kind and an action, by user.
struct Worded {
    kind: KindId,
    action: ActionId,
    batch: Batch,
    /// On how many resources there were any.
    times: u64,
    allowed: Vec<u64>,
}

struct Counting<'s, 'a> {
    engine: Evaluator<'s>,
    estate: &'s Estate,
    asked: &'a Asked,
    keys: Keys,
    /// How many users are asked for.
    users: u64,
    /// By outcome, what of it is asked for.
    pieces: HashMap<OutcomeId, Vec<Piece>>,
    /// How often each outcome occurs, by kind.
    times: HashMap<(KindId, OutcomeId), u64>,
    /// How often an action has no meaning on a kind.
    open: HashMap<(KindId, ActionId), u64>,
    worded: HashMap<(KindId, ActionId), Worded>,
    /// What is counted. Sums may pass below nothing on the way.
    sums: HashMap<Alike, i64>,
    /// The same by user, of what else is alike.
    by_user: HashMap<Alike, Vec<i64>>,
}

impl<'s, 'a> Counting<'s, 'a> {
    fn new(snapshot: &'s Snapshot, asked: &'a Asked, keys: Keys) -> Counting<'s, 'a> {
        let estate = snapshot.estate();
        let users = asked.users.as_ref().map_or(estate.people().len(), |users| users.count_ones(..)) as u64;
        Counting {
            engine: snapshot.evaluator(),
            estate,
            asked,
            keys,
            users,
            pieces: HashMap::new(),
            times: HashMap::new(),
            open: HashMap::new(),
            worded: HashMap::new(),
            sums: HashMap::new(),
            by_user: HashMap::new(),
        }
    }

    fn is_asked(&self, reason: Reason, by: Option<StatementId>) -> bool {
        self.asked.reason(reason) && self.asked.by(by, self.estate.statements().len())
    }

    fn alike(&self, at: (KindId, ActionId, Option<ResourceId>), reason: Reason, by: Option<StatementId>) -> Alike {
        let (kind, action, resource) = at;
        self.keys.alike(kind, action, reason.is_allowed(), Some((reason, by)), None, resource)
    }

    /// Adds to the count of one user.
    fn one(&mut self, alike: Alike, user: u32, more: i64) {
        if self.keys.user {
            let people = self.estate.people().len();
            self.by_user.entry(alike).or_insert_with(|| vec![0; people])[user as usize] += more;
        } else {
            *self.sums.entry(alike).or_default() += more;
        }
    }

    fn resource(&mut self, resource: ResourceId) {
        let mut work = self.engine.decide(resource);
        let kind = self.estate.catalog().kind(resource);
        let of = self.keys.resource.then_some(resource);
        let asked = self.asked;
        for action in ActionId::all(self.estate.schema().actions.len()).filter(|action| asked.action(*action)) {
            let at = (kind, action, of);
            match work.decided(action) {
                Decided::Open => match of {
                    None => *self.open.entry((kind, action)).or_default() += 1,
                    Some(_) => self.add_open(at, 1),
                },
                Decided::Base(outcome) => {
                    match of {
                        None => *self.times.entry((kind, outcome)).or_default() += 1,
                        Some(_) => self.add_outcome(at, outcome, 1),
                    }
                    for cell in work.cells(action).iter().filter(|cell| asked.user(cell.user)) {
                        let (reason, by) = self.engine.cause(outcome, cell.user);
                        if (reason, by) == (cell.reason, cell.by) {
                            continue;
                        }
                        if self.is_asked(reason, by) {
                            self.one(self.alike(at, reason, by), cell.user, -1);
                        }
                        if self.is_asked(cell.reason, cell.by) {
                            self.one(self.alike(at, cell.reason, cell.by), cell.user, 1);
                        }
                    }
                }
                Decided::Wide(wide) => self.wide(&mut work, at, wide),
            }
        }
        self.engine.done(work);
    }

    /// An outcome that was worked out in words.
    fn wide(&mut self, work: &mut Work<'s>, at: (KindId, ActionId, Option<ResourceId>), wide: u32) {
        let (kind, action, _) = at;
        let plain = !self.keys.statement && self.asked.statements.is_none();
        if plain && !self.keys.user && self.asked.users.is_none() {
            let (by_reason, _) = work.wide(wide);
            for reason in Reason::ALL.into_iter().filter(|reason| self.asked.reason(*reason)) {
                let alike = self.alike(at, reason, None);
                *self.sums.entry(alike).or_default() += i64::from(by_reason[reason as usize]);
            }
            return;
        }
        let decisions = self.asked.decisions().filter(|_| plain && !self.keys.reason);
        if let Some((granted, refused)) = decisions {
            let (_, words) = work.wide(wide);
            if self.keys.user {
                let (width, people) = (self.engine.sets().width(), self.estate.people().len());
                let worded = self.worded.entry((kind, action)).or_insert_with(|| {
                    let allowed = vec![0; people];
                    Worded { kind, action, batch: Batch::new(width), times: 0, allowed }
                });
                worded.times += 1;
                if worded.batch.add(words) {
                    worded.turn();
                }
                return;
            }
            // Some users are asked for, and none of them by name.
            let users = self.asked.users.as_ref();
            let count = users.map_or(0, |users| allowed_among(words, users).count()) as i64;
            for (wanted, reason, count) in
                [(granted, Reason::Granted, count), (refused, Reason::Silent, self.users as i64 - count)]
            {
                if wanted {
                    *self.sums.entry(self.alike(at, reason, None)).or_default() += count;
                }
            }
            return;
        }
        let everybody = self.estate.people().len();
        for user in (0..everybody as u32).filter(|user| self.asked.user(*user)) {
            let (reason, by) = self.engine.cause_in(work, action, UserId(user));
            if self.is_asked(reason, by) {
                self.one(self.alike(at, reason, by), user, 1);
            }
        }
    }

    /// An action without a meaning, so many times.
    fn add_open(&mut self, at: (KindId, ActionId, Option<ResourceId>), times: i64) {
        if !self.is_asked(Reason::Silent, None) {
            return;
        }
        let alike = self.alike(at, Reason::Silent, None);
        if self.keys.user {
            for user in (0..self.estate.people().len() as u32).filter(|user| self.asked.user(*user)) {
                self.one(alike, user, times);
            }
        } else {
            *self.sums.entry(alike).or_default() += self.users as i64 * times;
        }
    }

    /// An outcome, so many times.
    fn add_outcome(&mut self, at: (KindId, ActionId, Option<ResourceId>), outcome: OutcomeId, times: i64) {
        let pieces = self.pieces.remove(&outcome).unwrap_or_else(|| self.pieces_of(outcome));
        for piece in &pieces {
            let alike = self.alike(at, piece.reason, piece.by);
            if self.keys.user {
                let people = self.estate.people().len();
                let sums = self.by_user.entry(alike).or_insert_with(|| vec![0; people]);
                piece.users.iter().for_each(|user| sums[*user as usize] += times);
            } else {
                *self.sums.entry(alike).or_default() += piece.count as i64 * times;
            }
        }
        if self.keys.resource {
            // It may come again; by user each comes once, at the end.
            self.pieces.insert(outcome, pieces);
        }
    }

    fn pieces_of(&self, outcome: OutcomeId) -> Vec<Piece> {
        let sets = self.engine.sets();
        let parts = self.engine.outcome(outcome).parts.iter().filter(|part| self.is_asked(part.reason, part.by));
        parts
            .map(|part| {
                let among = || sets.users(part.users).filter(|user| self.asked.user(*user as u32));
                let (users, count) = match (self.keys.user, &self.asked.users) {
                    (true, _) => (among().map(|user| user as u32).collect(), 0),
                    (false, None) => (Vec::new(), u64::from(sets.count(part.users))),
                    (false, Some(_)) => (Vec::new(), among().count() as u64),
                };
                Piece { reason: part.reason, by: part.by, users, count }
            })
            .collect()
    }

    /// Adds what was only counted how often it occurs.
    fn finish(&mut self) {
        for ((kind, outcome), times) in std::mem::take(&mut self.times) {
            let action = self.engine.outcome(outcome).action;
            self.add_outcome((kind, action, None), outcome, times as i64);
        }
        for ((kind, action), times) in std::mem::take(&mut self.open) {
            self.add_open((kind, action, None), times as i64);
        }
        let (granted, refused) = self.asked.decisions().unwrap_or_default();
        for mut worded in std::mem::take(&mut self.worded).into_values() {
            worded.turn();
            let at = (worded.kind, worded.action, None);
            for user in (0..self.estate.people().len() as u32).filter(|user| self.asked.user(*user)) {
                let allowed = worded.allowed[user as usize];
                if granted {
                    self.one(self.alike(at, Reason::Granted, None), user, allowed as i64);
                }
                if refused {
                    self.one(self.alike(at, Reason::Silent, None), user, (worded.times - allowed) as i64);
                }
            }
        }
    }

    /// Gives what was counted, and forgets it.
    fn give<E>(&mut self, each: &mut impl FnMut(Alike, u64) -> Result<(), E>) -> Result<(), E> {
        for (alike, count) in self.sums.drain().filter(|(_, count)| *count != 0) {
            each(alike, count as u64)?;
        }
        for (alike, counts) in self.by_user.drain() {
            for (user, count) in counts.into_iter().enumerate().filter(|(_, count)| *count != 0) {
                each(Alike { user: Some(UserId::new(user)), ..alike }, count as u64)?;
            }
        }
        Ok(())
    }
}

impl Worded {
    fn turn(&mut self) {
        let allowed = &mut self.allowed;
        self.batch.turn(|first, sets| {
            for (allowed, sets) in allowed.iter_mut().skip(first).zip(sets) {
                *allowed += u64::from(sets.count_ones());
            }
        });
    }
}
