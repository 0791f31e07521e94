//! What would mend a finding, evaluated: several changes at a time, each against what holds today.

use crate::{Case, StatementSurvey, Suggested, Suggestion};
use bastide_engine::change::{Change, Few, UserCell, apply, describe};
use bastide_engine::difference::{Radius, difference, difference_while, radius, sides};
use bastide_engine::sets::SetEngine;
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
        let Ok(mut old) = SetEngine::new(case.estate, moment) else { return true };
        let Ok(mut new) = old.beside(&after, moment) else { return true };
        difference_while(&mut old, &mut new, |_, _| false).is_none()
    })
}

/// Evaluates what was suggested, in order. None where nothing was, and where it was claimed to change nothing, and does.
pub(crate) fn evaluated<'e>(
    case: &Case<'e>,
    known: &[StatementSurvey],
    suggested: Vec<Option<Suggested>>,
) -> Vec<Option<Suggestion>> {
    let (estate, moment): (&'e Estate, &'e Moment) = (case.estate, case.moment);
    let one =
        |today: &mut Today<'e>, suggested: Option<Suggested>| suggestion(estate, moment, known, today, suggested?);
    suggested.into_par_iter().with_max_len(1).map_init(Today::default, one).collect()
}

/// The estate as it is, evaluated once for all changes that are compared with it on one core.
#[derive(Default)]
struct Today<'e>(Option<SetEngine<'e>>);

impl<'e> Today<'e> {
    /// What changes by another estate.
    fn radius(&mut self, estate: &'e Estate, moment: &'e Moment, after: &Estate) -> Option<Radius> {
        if self.0.is_none() {
            self.0 = SetEngine::new(estate, moment).ok();
        }
        let old = self.0.as_mut()?;
        let mut new = old.beside(after, moment).ok()?;
        Some(radius(&difference(old, &mut new)))
    }
}

fn suggestion<'e>(
    estate: &'e Estate,
    moment: &'e Moment,
    known: &[StatementSurvey],
    today: &mut Today<'e>,
    suggested: Suggested,
) -> Option<Suggestion> {
    let changes = suggested.changes.iter().map(|c| describe(estate, c)).collect();
    let radius = if !suggested.instead.is_empty() {
        Some(today.radius(estate, moment, &reworded(estate, suggested.instead))?)
    } else if suggested.changes.is_empty() {
        None
    } else {
        Some(changed(estate, moment, known, today, &suggested.changes)?)
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
fn changed<'e>(
    estate: &'e Estate,
    moment: &'e Moment,
    known: &[StatementSurvey],
    today: &mut Today<'e>,
    changes: &[Change],
) -> Option<Radius> {
    if let [Change::Off(id)] = changes {
        let statement = estate.statement(*id);
        let live = statement.is_on() && statement.in_date(moment.date);
        return Some(if live { known[id.index()].sole } else { Radius::default() });
    }
    // Whoever is not active is refused whatever else holds.
    let wakes = |change: &Change| matches!(change, Change::User(_, UserCell::Active, _));
    let few = Few::of(estate, changes, moment);
    let asleep = |few: &Few| !few.users().iter().any(|user| estate.people.is_active(*user));
    if few.as_ref().is_some_and(asleep) && !changes.iter().any(wakes) {
        return Some(Radius::default());
    }
    let Some((small, after)) = few.and_then(|few| few.both(estate, changes)) else {
        return today.radius(estate, moment, &apply(estate, changes).ok()?);
    };
    let (mut old, mut new) = sides((&small, moment), (&after, moment)).ok()?;
    Some(radius(&difference(&mut old, &mut new)))
}
