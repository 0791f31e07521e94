//! What would mend a finding, evaluated: several changes at a time, each against what holds today.

use crate::survey::shares;
use crate::{Case, StatementSurvey, Suggested, Suggestion, Survey};
use bastide_engine::Snapshot;
use bastide_engine::change::{Change, UserCell, UserCopies, UserSubset, apply, describe};
use bastide_engine::difference::{self, Radius, is_same, radius};
use bastide_model::*;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::sync::Arc;

/// Of each suggestion, whether what is claimed to change nobody's access changes it in another session that conditions tell
/// apart.
pub(crate) fn change_elsewhere(case: &Case, others: &[Moment], suggested: &[Option<&Suggested>]) -> Vec<bool> {
    let estate = case.estate;
    let mut changes = vec![false; suggested.len()];
    let claims = || suggested.iter().enumerate().filter_map(|(at, of)| Some((at, (*of).filter(|of| of.harmless)?)));
    for moment in others {
        let Ok(today) = Snapshot::new(estate, moment) else {
            claims().for_each(|(at, _)| changes[at] = true);
            break;
        };
        // What goes with single statements is told of all of them at once.
        let ids: Vec<StatementId> = claims().filter_map(|(_, of)| alone_off(of)).collect();
        let found = if ids.is_empty() { None } else { today.alone(shares(estate.catalog().len()), Some(&ids)) };
        let rest = claims().filter(|(at, of)| !(changes[*at] || found.is_some() && alone_off(of).is_some()));
        let rest: Vec<(usize, &Suggested)> = rest.collect();
        let differs = |(at, of): (usize, &Suggested)| {
            if touches_nobody(estate, &of.changes) {
                return None;
            }
            let after = apply(estate, &of.changes).ok()?;
            let new = today.beside(&after, moment);
            new.map_or(true, |new| !is_same(&today, &new)).then_some(at)
        };
        let differing: Vec<usize> = rest.into_par_iter().with_max_len(1).filter_map(differs).collect();
        differing.into_iter().for_each(|at| changes[at] = true);
        if let Some(found) = found {
            for (at, id) in claims().filter_map(|(at, of)| Some((at, alone_off(of)?))) {
                changes[at] |= found[id.index()].gained + found[id.index()].lost > 0;
            }
        }
    }
    changes
}

/// The statement that goes, where nothing else is suggested.
fn alone_off(suggested: &Suggested) -> Option<StatementId> {
    match suggested.changes[..] {
        [Change::Off(id)] => Some(id),
        _ => None,
    }
}

/// Whether changes touch nobody but users who are not active, and do not make them so: these are refused whatever else holds.
fn touches_nobody(estate: &Estate, changes: &[Change]) -> bool {
    let wakes = |change: &Change| matches!(change, Change::User(_, UserCell::Active, _));
    let asleep = |few: UserSubset| !few.users().iter().any(|user| estate.people().is_active(*user));
    !changes.iter().any(wakes) && UserSubset::named(estate, changes).is_some_and(asleep)
}

/// Evaluates what was suggested, in order. None where nothing was, and where it was claimed to change nothing, and does.
pub(crate) fn evaluated(case: &Case, survey: &Survey, suggested: Vec<Option<Suggested>>) -> Vec<Option<Suggestion>> {
    let today = Today { estate: case.estate, snapshot: &survey.snapshot, statements: &survey.statements };
    let mut known: HashMap<usize, Radius> = today.resources(&suggested).into_iter().collect();
    known.extend(today.few_users(&suggested));
    let pairs: Vec<(Option<Suggested>, Option<Radius>)> =
        suggested.into_iter().enumerate().map(|(at, suggested)| (suggested, known.remove(&at))).collect();
    let one = |(suggested, known): (Option<Suggested>, Option<Radius>)| suggestion(&today, suggested?, known);
    pairs.into_par_iter().with_max_len(1).map(one).collect()
}

/// So many copies of users at most are there at once: more would be a larger estate than most are.
const MOST_COPIES: usize = 8192;

/// Suggestions in lists, of each of which all users whom they touch can be there at once.
fn at_once(suggested: Vec<(usize, UserSubset)>) -> Vec<Vec<(usize, UserSubset)>> {
    let mut lists: Vec<Vec<(usize, UserSubset)>> = Vec::new();
    let mut copies = MOST_COPIES;
    for one in suggested {
        copies += one.1.users().len();
        if copies > MOST_COPIES {
            copies = one.1.users().len();
            lists.push(Vec::new());
        }
        lists.last_mut().expect("just pushed").push(one);
    }
    lists
}

/// What holds today.
struct Today<'t> {
    estate: &'t Estate,
    snapshot: &'t Snapshot,
    statements: &'t [StatementSurvey],
}

impl Today<'_> {
    /// How far suggestions reach that touch few users each, tried where these users are alone: no decision looks at another
    /// user. Where the changes are of single users, each suggestion has copies of them, and all are tried at once; otherwise
    /// those are that touch nobody in common.
    fn few_users(&self, suggested: &[Option<Suggested>]) -> Vec<(usize, Radius)> {
        let (estate, moment) = (self.estate, self.snapshot.moment());
        let about = |(at, of): (usize, &'_ Option<Suggested>)| {
            let of = of.as_ref().filter(|of| of.instead.is_empty() && !of.changes.is_empty())?;
            (alone_off(of).is_none() && !touches_nobody(estate, &of.changes)).then_some(at)
        };
        let about: Vec<usize> = suggested.iter().enumerate().filter_map(about).collect();
        let changes = |at: usize| suggested[at].as_ref().map_or(&[][..], |of| &of.changes[..]);
        // Whom each touches; and the first round in which none of them is touched by another one.
        let touched = about.par_iter().with_min_len(8).map_init(
            || self.snapshot.reference(),
            |reference, at| Some((*at, UserSubset::by_reference(reference, changes(*at))?)),
        );
        let touched: Vec<Option<(usize, UserSubset)>> = touched.collect();
        let (copied, mut others): (Vec<_>, Vec<_>) =
            touched.into_iter().flatten().partition(|(at, _)| UserCopies::can(changes(*at)));
        let mut found: Vec<(usize, Radius)> = Vec::new();
        for some in at_once(copied) {
            match self.on_copies(&some, &changes) {
                Some(radii) => found.extend(radii),
                None => others.extend(some),
            }
        }
        others.sort_unstable_by_key(|(at, _)| *at);
        let mut taken = vec![0u32; estate.people().len()];
        let mut rounds: Vec<Vec<(usize, UserSubset)>> = Vec::new();
        for (at, few) in others {
            let round = few.users().iter().map(|user| taken[user.index()]).max().unwrap_or_default();
            few.users().iter().for_each(|user| taken[user.index()] = round + 1);
            if rounds.len() <= round as usize {
                rounds.resize_with(round as usize + 1, Vec::new);
            }
            rounds[round as usize].push((at, few));
        }
        let tried = |round: Vec<(usize, UserSubset)>| {
            let all: Vec<Change> = round.iter().flat_map(|(at, _)| changes(*at)).cloned().collect();
            let users = UserSubset::several(round.iter().flat_map(|(_, few)| few.users()).copied().collect());
            let mut owners: Vec<usize> = vec![0; users.users().len()];
            for (at, few) in &round {
                few.users().iter().filter_map(|user| users.number(*user)).for_each(|user| owners[user.index()] = *at);
            }
            // What cannot be tried together is tried one by one.
            let (small, after) = users.both(estate, &all)?;
            let old = Snapshot::new(&small, moment).ok()?;
            let new = old.beside(&after, moment).ok()?;
            let difference = difference::difference(&old, &new, None);
            let mut radii = difference::by_part(&difference, |user| owners.get(user as usize).copied());
            Some(round.iter().map(|(at, _)| (*at, radii.remove(at).unwrap_or_default())).collect::<Vec<_>>())
        };
        found.par_extend(rounds.into_par_iter().with_max_len(1).filter_map(tried).flatten_iter());
        found
    }

    /// How far suggestions reach, each tried on copies of the users whom it touches. None where one of them cannot be tried so.
    fn on_copies<'c>(
        &self,
        suggested: &[(usize, UserSubset)],
        changes: &dyn Fn(usize) -> &'c [Change],
    ) -> Option<Vec<(usize, Radius)>> {
        let moment = self.snapshot.moment();
        let copies = UserCopies::of(suggested);
        let trials = suggested.iter().map(|(at, _)| (*at, changes(*at)));
        let (before, after) = copies.both(&self.snapshot.reference(), trials)?;
        let old = Snapshot::new(&before, moment).ok()?;
        let new = old.beside(&after, moment).ok()?;
        let difference = difference::difference(&old, &new, None);
        let mut radii = difference::by_part(&difference, |copy| copies.trial(copy));
        Some(suggested.iter().map(|(at, _)| (*at, radii.remove(at).unwrap_or_default())).collect())
    }

    /// How far suggestions reach that change the data of resources alone: those that can touch nothing in common are tried at
    /// once.
    fn resources(&self, suggested: &[Option<Suggested>]) -> Vec<(usize, Radius)> {
        let about = |(at, of): (usize, &'_ Option<Suggested>)| {
            let of = of.as_ref().filter(|of| of.instead.is_empty() && !of.changes.is_empty())?;
            of.changes.iter().all(|change| matches!(change, Change::Resource(..))).then_some(at)
        };
        let about: Vec<usize> = suggested.iter().enumerate().filter_map(about).collect();
        let changes = |at: &usize| suggested[*at].as_ref().map_or(&[][..], |of| &of.changes[..]);
        let lists: Vec<&[Change]> = about.iter().map(changes).collect();
        let radii = if lists.is_empty() { Vec::new() } else { difference::apart(self.snapshot, &lists) };
        about.into_iter().zip(radii).filter_map(|(at, radius)| Some((at, radius?))).collect()
    }

    /// What changes by another estate.
    fn against(&self, after: &Estate) -> Option<Radius> {
        let new = self.snapshot.beside(after, self.snapshot.moment()).ok()?;
        Some(radius(&difference::difference(self.snapshot, &new, None)))
    }
}

fn suggestion(today: &Today, suggested: Suggested, known: Option<Radius>) -> Option<Suggestion> {
    let estate = today.estate;
    let changes = suggested.changes.iter().map(|c| describe(estate, c)).collect();
    let radius = if !suggested.instead.is_empty() {
        Some(today.against(&reworded(estate, suggested.instead))?)
    } else if suggested.changes.is_empty() {
        None
    } else {
        Some(match known {
            Some(known) => known,
            None => changed(today, &suggested.changes)?,
        })
    };
    if suggested.harmless && radius.is_some_and(|radius| radius.triples() > 0) {
        return None;
    }
    Some(Suggestion { words: suggested.words, changes, radius })
}

/// The estate with statements worded otherwise, or gone.
fn reworded(estate: &Estate, instead: Vec<(StatementId, Option<Statement>)>) -> Estate {
    let mut statements = estate.statements().to_vec();
    for (id, statement) in instead {
        let place = &mut statements[id.index()];
        match statement {
            Some(statement) => *place = Arc::new(statement),
            None => Arc::make_mut(place).off = true,
        }
    }
    estate.with_statements(statements)
}

/// The blast radius of changes that were not tried with others. What goes with one statement the survey knows already; what
/// touches few users is worked out with them alone.
fn changed(today: &Today, changes: &[Change]) -> Option<Radius> {
    let (estate, moment) = (today.estate, today.snapshot.moment());
    if let [Change::Off(id)] = changes {
        let statement = estate.statement(*id);
        let live = statement.is_on() && statement.in_date(moment.date);
        return Some(if live { today.statements[id.index()].sole } else { Radius::default() });
    }
    if touches_nobody(estate, changes) {
        return Some(Radius::default());
    }
    let Some((small, after)) = UserSubset::of(estate, changes, moment).and_then(|few| few.both(estate, changes)) else {
        return today.against(&apply(estate, changes).ok()?);
    };
    let old = Snapshot::new(&small, moment).ok()?;
    let new = old.beside(&after, moment).ok()?;
    Some(radius(&difference::difference(&old, &new, None)))
}
