//! What would mend a finding, evaluated: several changes at a time, each against what holds today.

use crate::survey::shares;
use crate::{Case, StatementSurvey, Suggested, Suggestion, Survey};
use bastide_engine::change::{Change, Few, UserCell, apply, describe};
use bastide_engine::difference::{self, Radius, is_same, radius};
use bastide_engine::evaluate::{Snapshot, alone};
use bastide_model::*;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::collections::BTreeMap;
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
        let found = if ids.is_empty() { None } else { alone(&today, shares(estate.catalog.len()), Some(&ids)) };
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
    let asleep = |few: Few| !few.users().iter().any(|user| estate.people.is_active(*user));
    !changes.iter().any(wakes) && Few::named(estate, changes).is_some_and(asleep)
}

/// Evaluates what was suggested, in order. None where nothing was, and where it was claimed to change nothing, and does.
pub(crate) fn evaluated(case: &Case, survey: &Survey, suggested: Vec<Option<Suggested>>) -> Vec<Option<Suggestion>> {
    let today = Today { estate: case.estate, snapshot: &survey.snapshot, statements: &survey.statements };
    let mut known = today.single_users(&suggested);
    let pairs: Vec<(Option<Suggested>, Option<Radius>)> =
        suggested.into_iter().enumerate().map(|(at, suggested)| (suggested, known.remove(&at))).collect();
    let one = |(suggested, known): (Option<Suggested>, Option<Radius>)| suggestion(&today, suggested?, known);
    pairs.into_par_iter().with_max_len(1).map(one).collect()
}

/// What holds today.
struct Today<'t> {
    estate: &'t Estate,
    snapshot: &'t Snapshot,
    statements: &'t [StatementSurvey],
}

impl Today<'_> {
    /// How far suggestions reach of which each touches one user alone: those of many users are tried at once, since no decision
    /// looks at another user.
    fn single_users(&self, suggested: &[Option<Suggested>]) -> HashMap<usize, Radius> {
        let estate = self.estate;
        let mut by_user: BTreeMap<UserId, Vec<usize>> = BTreeMap::new();
        for (at, suggested) in suggested.iter().enumerate() {
            let Some(suggested) = suggested else { continue };
            if !suggested.instead.is_empty() || suggested.changes.is_empty() || alone_off(suggested).is_some() {
                continue;
            }
            if let Some([user]) = Few::named(estate, &suggested.changes).as_ref().map(Few::users)
                && estate.people.is_active(*user)
            {
                by_user.entry(*user).or_default().push(at);
            }
        }
        let rounds = by_user.values().map(Vec::len).max().unwrap_or_default();
        let mut found = HashMap::new();
        for round in 0..rounds {
            let chosen: Vec<(UserId, usize)> =
                by_user.iter().filter_map(|(user, all)| Some((*user, *all.get(round)?))).collect();
            let changes = |at: usize| suggested[at].as_ref().map_or(&[][..], |of| &of.changes[..]);
            let all: Vec<Change> = chosen.iter().flat_map(|(_, at)| changes(*at)).cloned().collect();
            let few = Few::several(chosen.iter().map(|(user, _)| *user).collect());
            // What cannot be tried together is tried one by one.
            let Some((small, after)) = few.both(estate, &all) else { continue };
            let moment = self.snapshot.moment();
            let Ok(old) = Snapshot::new(&small, moment) else { continue };
            let Ok(new) = old.beside(&after, moment) else { continue };
            let radii = difference::by_user(&difference::difference(&old, &new, None));
            for (user, at) in chosen {
                let number = few.number(user).expect("the user is one of them");
                found.insert(at, radii.get(&number.0).copied().unwrap_or_default());
            }
        }
        found
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
    let mut after = estate.clone();
    for (id, statement) in instead {
        let place = &mut after.statements[id.index()];
        match statement {
            Some(statement) => *place = Arc::new(statement),
            None => Arc::make_mut(place).off = true,
        }
    }
    after
}

/// The blast radius of changes. What goes with one statement the survey knows already; what touches one
/// user alone is worked out with that user alone.
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
    let Some((small, after)) = Few::of(estate, changes, moment).and_then(|few| few.both(estate, changes)) else {
        return today.against(&apply(estate, changes).ok()?);
    };
    let old = Snapshot::new(&small, moment).ok()?;
    let new = old.beside(&after, moment).ok()?;
    Some(radius(&difference::difference(&old, &new, None)))
}
