//! `too-wide-a-place`: with usage data: what was used of a grant on a container fits in a few places beneath it.

use super::usage::used;
use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::{Change, entry};
use bastide_engine::difference::{How, fold};
use bastide_model::condition::Term;
use bastide_model::*;
use std::sync::Arc;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "too-wide-a-place",
    group: Group::OverBroad,
    level: crate::Level::Note,
    what: "with usage data: what was used of a grant on a container fits in a few places beneath it",
    why: "The narrower grants would have sufficed, and would not have reached what came beside them.",
    mind: "The work moves from place to place, and the year is not over.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let Some(by) = used(case, survey) else { return Vec::new() };
    let catalog = case.estate.catalog();
    let mut found = Vec::new();
    for (id, (users, places)) in by {
        let of = survey.of(id);
        let wide = case.estate.statement(id).what.places.iter().flatten().filter(|p| p.reach != Reach::At);
        let containers: Vec<ResourceId> = wide.map(|p| p.resource).filter(|r| !catalog.is_leaf(*r)).collect();
        if containers.is_empty() || places.is_empty() {
            continue;
        }
        // The containers in which it was used, as deep as they hold together.
        let used: Vec<ResourceId> = places.into_iter().collect();
        let folds = fold(catalog, &used, case.limits.usage_places as usize);
        let narrow: Vec<String> = folds.iter().map(|f| f.path.clone()).collect();
        let still_wide = containers.iter().any(|c| narrow.contains(&catalog.path(*c)));
        let covered: usize =
            folds.iter().filter_map(|f| if f.how == How::One { Some(1) } else { covered(case, &f.path) }).sum();
        if still_wide || folds.len() as f64 > case.limits.usage_places || covered * 2 > of.resources {
            continue;
        }
        let message = format!("{} was used in {} of what it covers", case.named(id), many(folds.len() as u64, "place"));
        // The narrower entries instead, each with the actions that were used there.
        let s = case.estate.statement(id);
        let instead = match (s.who.terms.as_slice(), s.who.condition.is_none(), s.condition.is_none()) {
            ([term @ (Term::User(_) | Term::Members(_))], true, true) if s.what.condition.is_none() => {
                let mut changes = vec![Change::Off(id)];
                for fold in &folds {
                    let Some(place) = place_of(case, &fold.path) else { continue };
                    let reach = if fold.how == How::One { Reach::At } else { Reach::Under };
                    let mut narrow = entry(term.clone(), s.modality, s.actions.clone(), Some(place), reach);
                    (narrow.from, narrow.until) = (s.from, s.until);
                    changes.push(Change::Give(Arc::new(narrow)));
                }
                changes
            }
            _ => Vec::new(),
        };
        let idle = of.users.saturating_sub(users.len());
        found.push(
            Found::of(case, id, message)
                .suggest("to keep what was used and give up the rest", instead)
                .evidence(format!("{} used none of it", many(idle as u64, "user")))
                .evidence(format!("by {} of {} users: {}", users.len(), of.users, narrow.join(", ")))
                .evidence(format!("{covered} of {} resources would have sufficed", of.resources))
                .example(of.example),
        );
    }
    found
}

fn place_of(case: &Case, path: &str) -> Option<ResourceId> {
    let pattern = bastide_model::catalog::PathPattern::new(&path.replace('*', "\\*"));
    case.estate.catalog().matching(&pattern).first().copied()
}

fn covered(case: &Case, path: &str) -> Option<usize> {
    Some(case.estate.catalog().subtree(place_of(case, path)?).len())
}
