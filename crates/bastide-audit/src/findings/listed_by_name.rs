//! `listed-by-name`: a statement that names three or more siblings that one place would cover.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::evaluate::Evaluator;
use bastide_model::statement::Place;
use bastide_model::*;
use std::collections::{BTreeMap, BTreeSet};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "listed-by-name",
    group: Group::Brittle,
    level: crate::Level::Note,
    what: "a statement that names three or more siblings that one place would cover",
    why: "Whatever is added beside them is forgotten.",
    mind: "The others beside them must not be covered.",
    check: Check::Statement(check),
};

/// The statement with every child of a place instead of the named ones.
fn widened(catalog: &Catalog, statement: &Statement, parent: ResourceId) -> Statement {
    let mut wider = statement.clone();
    let places = wider.what.places.get_or_insert_default();
    let (named, mut kept): (Vec<Place>, Vec<Place>) =
        places.iter().partition(|p| catalog.parent(p.resource) == Some(parent));
    kept.extend(
        named
            .first()
            .into_iter()
            .flat_map(|first| catalog.children(parent).map(|child| Place { resource: child, ..*first })),
    );
    *places = kept;
    wider
}

fn check(case: &Case, survey: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let catalog = case.estate.catalog();
    let s = case.estate.statement(id);
    let Some(places) = &s.what.places else { return Vec::new() };
    let mut found = Vec::new();
    let mut by: BTreeMap<ResourceId, Vec<ResourceId>> = BTreeMap::new();
    for place in places {
        if let Some(parent) = catalog.parent(place.resource) {
            by.entry(parent).or_default().push(place.resource);
        }
    }
    for (parent, named) in by {
        // A pattern of the policy covers siblings by itself: it is one name.
        let spans: BTreeSet<u32> =
            places.iter().filter(|p| named.contains(&p.resource)).map(|p| p.span.start).collect();
        if (spans.len() as f64) < case.limits.listed {
            continue;
        }
        let others = catalog.children(parent).filter(|c| !named.contains(c)).count();
        let message =
            format!("{} names {} places in `{}` one by one", case.named(id), spans.len(), catalog.path(parent));
        let words = format!("to cover whatever is added beside them, say `{}/*` instead", catalog.path(parent));
        found.push(
            Found::of(case, id, message)
                .evidence(format!("{others} more beside them today"))
                .example(survey.of(id).example)
                .suggest_instead(words, vec![(id, Some(widened(catalog, s, parent)))]),
        );
    }
    found
}
