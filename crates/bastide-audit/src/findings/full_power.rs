//! `full-power`: users who may do every action on every root: the list, each with the chain of groups by which it is so.

use super::{Check, Descriptor, Group};
use crate::power::powerful;
use crate::{Case, Found, Level, Survey};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "full-power",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "users who may do every action on every root: the list, each with the chain of groups by which it is so",
    why: "Nested groups make administrators nobody remembers making.",
    mind: "The list is short, and every name on it belongs there.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let users = powerful(case, survey);
    let Some(first) = users.first() else { return Vec::new() };
    let mut found = Found::new(
        "users with full power",
        None,
        format!("{} may do everything on every root", users_text(users.len())),
    );
    for powerful in &users {
        let chain = powerful.by.map_or(String::new(), |id| {
            let told = powerful.ways.iter().map(|w| {
                // The lines that say so: who added them can be looked up.
                let places = if w.places.is_empty() { String::new() } else { format!(" [{}]", w.places.join(", ")) };
                let chain = if w.chain.is_empty() { w.by.clone() } else { w.chain.join(" > ") };
                format!("{chain}{places}")
            });
            format!(", by {} as {}", case.named(id), told.collect::<Vec<_>>().join("; "))
        });
        let kind = estate.people().kind(powerful.user);
        let kind = if kind == "person" { String::new() } else { format!(" ({kind})") };
        let places = powerful.ways.iter().flat_map(|way| way.places.iter().cloned()).collect();
        found = found.evidence_at(format!("{}{kind}{chain}", estate.people().id(powerful.user)), places);
    }
    if users.len() as f64 > case.limits.full_power {
        found.level = Some(Level::Error);
    }
    let found = found.naming_users(estate, users.iter().map(|powerful| powerful.user.index()));
    vec![found.example(Some(first.example)).suggest(
        "to take somebody out, try it: `bastide why USER ACTION RESOURCE --want refused` names the link",
        Vec::new(),
    )]
}

fn users_text(count: usize) -> String {
    if count == 1 { "1 user".into() } else { format!("{count} users") }
}
