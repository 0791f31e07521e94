//! `undecided`: decisions that hang on a missing value: the attribute, and how many users or resources lack it.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::access::{Hanging, hanging};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "undecided",
    group: Group::Brittle,
    level: crate::Level::Warning,
    what: "decisions that hang on a missing value: the attribute, and how many users or resources lack it",
    why: "In doubt there is no access. Whoever is refused for want of a value calls, and nobody sees why.",
    mind: "The value is missing on purpose: then ask for that in the condition (`is missing`).",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let told = |hanging: Hanging| {
        let first = hanging.users.first().map(|u| estate.people().origin(*u));
        let first = first.or(hanging.resources.first().map(|r| estate.catalog().origins[r.index()]));
        let missing = match hanging.users.len() {
            0 => many(hanging.resources.len() as u64, "resource"),
            users => many(users as u64, "user"),
        };
        let message = format!("decisions hang on `{}`, which is missing for {missing}", hanging.attribute);
        let by: Vec<String> = hanging.statements.iter().map(|id| case.named(*id)).collect();
        Found::new(hanging.attribute, first, message)
            .naming_users(estate, hanging.users.iter().map(|user| user.index()))
            .naming_resources(estate, hanging.resources)
            .evidence(format!("asked for by {}", by.join(", ")))
            .example(Some(hanging.example))
    };
    hanging(&survey.snapshot).into_iter().map(told).collect()
}
