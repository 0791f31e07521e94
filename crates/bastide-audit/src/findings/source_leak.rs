//! `source-leak`: users who cannot read a resource, and can read a link to it or something derived from it.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "source-leak",
    group: Group::Leak,
    level: crate::Level::Error,
    what: "users who cannot read a resource, and can read a link to it or something derived from it",
    why: "A link opens what its source keeps shut.",
    mind: "What is derived holds nothing of what is kept shut: then do not name it as a source.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let Some(read) = case.reading() else { return Vec::new() };
    let mut engine = survey.evaluator();
    let [mut leak, mut there] = std::array::from_fn(|_| engine.nobody());
    let linked = estate.catalog().sources.linked();
    let mut found = Vec::new();
    for &resource in linked {
        for source in estate.catalog().sources(resource) {
            let Source::Resource(source) = source else { continue };
            engine.allowed(resource, read, &mut leak);
            engine.allowed(*source, read, &mut there);
            leak.difference_with(&there);
            let count = leak.count_ones(..) as u64;
            if count == 0 {
                continue;
            }
            let (path, from) = (estate.catalog().path(resource), estate.catalog().path(*source));
            let about = format!("{} from {}", estate.catalog().id(resource), estate.catalog().id(*source));
            let user = leak.minimum();
            let message = format!("{} can read `{path}`, which comes from `{from}`, and not that", many(count, "user"));
            found.push(
                Found::new(about, Some(estate.catalog().origins[resource.index()]), message)
                    .evidence(format!("of them, {}", many(leak.intersection_count(&survey.guests) as u64, "guest")))
                    .naming_users(estate, leak.ones())
                    .example(user.map(|u| (UserId::new(u), read, resource))),
            );
        }
    }
    found
}
