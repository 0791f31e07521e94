//! What would mend a finding, evaluated: several changes at a time, each against what holds today.

use crate::{Case, StatementSurvey, Suggested, Suggestion, Survey};
use bastide_engine::change::{Change, Few, UserCell, apply, describe};
use bastide_engine::difference::{Radius, difference, is_same, radius};
use bastide_engine::evaluate::Snapshot;
use bastide_model::*;
use rayon::prelude::*;
use std::sync::Arc;

/// Whether what is claimed to change nobody's access changes it in another session that conditions tell apart.
pub(crate) fn changes_elsewhere(case: &Case, others: &[Moment], suggested: &Suggested) -> bool {
    if !suggested.harmless || others.is_empty() {
        return false;
    }
    let Ok(after) = apply(case.estate, &suggested.changes) else { return false };
    others.par_iter().any(|moment| {
        let Ok(old) = Snapshot::new(case.estate, moment) else { return true };
        let Ok(new) = old.beside(&after, moment) else { return true };
        !is_same(&old, &new)
    })
}

/// Evaluates what was suggested, in order. None where nothing was, and where it was claimed to change nothing, and does.
pub(crate) fn evaluated(case: &Case, survey: &Survey, suggested: Vec<Option<Suggested>>) -> Vec<Option<Suggestion>> {
    let today = Today { estate: case.estate, snapshot: &survey.snapshot, statements: &survey.statements };
    let one = |suggested: Option<Suggested>| suggestion(&today, suggested?);
    suggested.into_par_iter().with_max_len(1).map(one).collect()
}

/// What holds today.
struct Today<'t> {
    estate: &'t Estate,
    snapshot: &'t Snapshot,
    statements: &'t [StatementSurvey],
}

impl Today<'_> {
    /// What changes by another estate.
    fn against(&self, after: &Estate) -> Option<Radius> {
        let new = self.snapshot.beside(after, self.snapshot.moment()).ok()?;
        Some(radius(&difference(self.snapshot, &new, None)))
    }
}

fn suggestion(today: &Today, suggested: Suggested) -> Option<Suggestion> {
    let estate = today.estate;
    let changes = suggested.changes.iter().map(|c| describe(estate, c)).collect();
    let radius = if !suggested.instead.is_empty() {
        Some(today.against(&reworded(estate, suggested.instead))?)
    } else if suggested.changes.is_empty() {
        None
    } else {
        Some(changed(today, &suggested.changes)?)
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
    // Whoever is not active is refused whatever else holds.
    let wakes = |change: &Change| matches!(change, Change::User(_, UserCell::Active, _));
    let few = Few::of(estate, changes, moment);
    let asleep = |few: &Few| !few.users().iter().any(|user| estate.people.is_active(*user));
    if few.as_ref().is_some_and(asleep) && !changes.iter().any(wakes) {
        return Some(Radius::default());
    }
    let Some((small, after)) = few.and_then(|few| few.both(estate, changes)) else {
        return today.against(&apply(estate, changes).ok()?);
    };
    let old = Snapshot::new(&small, moment).ok()?;
    let new = old.beside(&after, moment).ok()?;
    Some(radius(&difference(&old, &new, None)))
}
