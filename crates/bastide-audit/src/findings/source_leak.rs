//! `source-leak`: users who cannot read a resource, and can read a link to it or something derived from it.

use super::{Descriptor, Group};
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
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let Some(read) = estate.schema.actions.iter().position(|a| case.harmless.contains(&a.name)).map(ActionId::new)
    else {
        return Vec::new();
    };
    let mut engine = survey.engine.borrow_mut();
    let mut linked: Vec<ResourceId> = estate.catalog.sources.keys().copied().collect();
    linked.sort();
    let mut found = Vec::new();
    for resource in linked {
        for source in estate.catalog.sources(resource) {
            let Source::Resource(source) = source else { continue };
            let (here, there) = (engine.allowed(resource, read), engine.allowed(*source, read));
            let here = engine.both(here, survey.active);
            let leak = engine.but(here, there);
            let count = engine.sets().count(leak);
            if count == 0 {
                continue;
            }
            let (path, from) = (estate.catalog.path(resource), estate.catalog.path(*source));
            let about = format!("{} from {}", estate.catalog.id(resource), estate.catalog.id(*source));
            let user = engine.sets().users(leak).next();
            let message = format!(
                "{} can read `{path}`, which comes from `{from}`, and not that",
                many(u64::from(count), "user")
            );
            found.push(
                Found::new(about, Some(estate.catalog.origins[resource.index()]), message)
                    .evidence(format!(
                        "of them, {}",
                        many(u64::from(engine.sets().count_both(leak, survey.guests)), "guest")
                    ))
                    .naming_users(estate, engine.sets().users(leak))
                    .example(user.map(|u| (UserId::new(u), read, resource))),
            );
        }
    }
    found
}
