//! `full-power`: users who may do every action on every root: the list, each with the chain of groups by which it is so.

use super::{Descriptor, Group};
use crate::Level;
use crate::{Case, Found, Survey};
use bastide_engine::explain::ways;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "full-power",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "users who may do every action on every root: the list, each with the chain of groups by which it is so",
    why: "Nested groups make administrators nobody remembers making.",
    mind: "The list is short, and every name on it belongs there.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let roots: Vec<ResourceId> = estate.catalog.roots().collect();
    let mut engine = survey.engine.borrow_mut();
    let mut all = survey.active;
    for root in &roots {
        let kind = estate.catalog.kind(*root);
        for action in ActionId::all(estate.schema.actions.len()).filter(|a| estate.schema.fits(*a, kind)) {
            let allowed = engine.allowed(*root, action);
            all = engine.both(all, allowed);
        }
    }
    let users: Vec<UserId> = engine.sets().users(all).map(UserId::new).collect();
    let Some(first) = users.first().copied().filter(|_| !roots.is_empty()) else { return Vec::new() };
    let last = |r: ResourceId| {
        ActionId::all(estate.schema.actions.len()).rfind(|a| estate.schema.fits(*a, estate.catalog.kind(r)))
    };
    let mut found = Found::new(
        "users with full power",
        None,
        format!("{} may do everything on every root", users_text(users.len())),
    );
    for user in &users {
        let by = last(roots[0]).and_then(|action| survey.judge.decide(*user, action, roots[0]).by);
        let chain = by.map_or(String::new(), |id| {
            let ways = ways(&survey.judge, estate.statement(id), *user, Some(roots[0]));
            let told = ways.iter().map(|w| {
                // The lines that say so: who added them can be looked up.
                let places = if w.places.is_empty() { String::new() } else { format!(" [{}]", w.places.join(", ")) };
                let chain = if w.chain.is_empty() { w.by.clone() } else { w.chain.join(" > ") };
                format!("{chain}{places}")
            });
            format!(", by {} as {}", case.named(id), told.collect::<Vec<_>>().join("; "))
        });
        let kind = estate.people.kind(*user);
        let kind = if kind == "person" { String::new() } else { format!(" ({kind})") };
        found = found.evidence(format!("{}{kind}{chain}", estate.people.id(*user)));
    }
    if users.len() as f64 > case.limits.full_power {
        found.level = Some(Level::Error);
    }
    let example = last(roots[0]).map(|action| (first, action, roots[0]));
    vec![found.example(example).suggest(
        "to take somebody out, try it: `bastide why USER ACTION RESOURCE --want refused` names the link",
        Vec::new(),
    )]
}

fn users_text(count: usize) -> String {
    if count == 1 { "1 user".into() } else { format!("{count} users") }
}
