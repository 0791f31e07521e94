//! `rows-open-to-everybody`: a dataset whose rows are told apart, and every one of them is open to everybody.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::inside::contents;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "rows-open-to-everybody",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "a dataset whose rows are told apart, and every active user gets every one of them",
    why: "Whoever told rows apart meant that not everybody sees all of them; a wider statement opens them.",
    mind: "The rows are told apart for their numbers alone.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut engine = survey.evaluator();
    let mut allowed = engine.nobody();
    let mut found = Vec::new();
    if survey.active.is_clear() {
        return found;
    }
    for contents in contents(estate).into_iter().filter(|contents| contents.slices.len() > 1) {
        for action in ActionId::all(estate.schema().actions.len()) {
            let everybody = contents.slices.iter().all(|slice| {
                engine.allowed(slice.resource, action, &mut allowed);
                survey.active.is_subset(&allowed)
            });
            if !everybody {
                continue;
            }
            let first = contents.slices[0].resource;
            let user = UserId::new(survey.active.minimum().unwrap_or_default());
            let mut work = engine.look(first);
            engine.decide_on(&mut work, action);
            let (_, by) = engine.cause_in(&mut work, action, user);
            engine.done(work);
            let name = &estate.schema().actions[action.index()].name;
            let path = estate.catalog().path(contents.dataset);
            let message =
                format!("everybody can {name} each of the {} of `{path}`", many(contents.slices.len() as u64, "slice"));
            let origin = estate.catalog().origins[contents.dataset.index()];
            let mut one = Found::new(contents.inside.dataset.clone(), Some(origin), message)
                .evidence(format!(
                    "{}, and no active user who does not get all of them",
                    many(contents.inside.rows, "row")
                ))
                .example(Some((user, action, first)));
            if let Some(id) = by {
                one = one.evidence(format!("by {}, among others", case.named(id)));
            }
            found.push(one);
        }
    }
    found
}
