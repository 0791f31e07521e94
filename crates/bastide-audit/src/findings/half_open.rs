//! `half-open`: an action that needs two things at once, and users who have only one of them.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::Reason;
use bastide_model::schema::{Need, Target};
use bastide_model::*;
use std::collections::{BTreeMap, BTreeSet};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "half-open",
    group: Group::Conflict,
    level: crate::Level::Note,
    what: "an action that needs two things at once, and users who have only one of them",
    why: "Two gates must both be passed. Whoever passes one was probably meant to pass both, or neither.",
    mind: "The one gate is for something else as well.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut engine = survey.engine.borrow_mut();
    let mut by: BTreeMap<(StatementId, ActionId), (u64, BTreeSet<usize>, Triple)> = BTreeMap::new();
    for resource in estate.catalog.all() {
        let kind = estate.catalog.kind(resource);
        for (at, declared) in estate.schema.actions.iter().enumerate() {
            let action = ActionId::new(at);
            if declared.needs.len() < 2 || !estate.schema.fits(action, kind) {
                continue;
            }
            let blocked: Vec<(usize, Option<StatementId>)> = engine
                .parts(resource, action)
                .iter()
                .filter(|p| p.reason == Reason::Blocked)
                .flat_map(|p| engine.sets().users(p.users).map(|u| (u, p.by)).collect::<Vec<_>>())
                .collect();
            for (user, id) in blocked {
                let user = UserId::new(user);
                let (met, missed): (Vec<Need>, Vec<Need>) =
                    declared.needs.iter().partition(|need| survey.meets(user, **need, resource));
                // What is closed with its source is meant to be.
                let meant = missed.iter().all(|need| need.target == Target::Source);
                if let Some(id) = id.filter(|_| !met.is_empty() && !meant) {
                    let entry =
                        by.entry((id, action)).or_insert_with(|| (0, BTreeSet::new(), (user, action, resource)));
                    entry.0 += 1;
                    entry.1.insert(user.index());
                }
            }
        }
    }
    by.into_iter()
        .map(|((id, action), (triples, users, example))| {
            let name = &estate.schema.actions[action.index()].name;
            let message =
                format!("{} gives {name}, and some of its users meet only a part of what that needs", case.named(id));
            Found::of(case, id, message)
                .naming_users(estate, users)
                .evidence(many(triples, "triple"))
                .example(Some(example))
        })
        .collect()
}
