//! `label-drop`: a derived resource, or a copy, with a lower label than its source.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::{Change, ResourceCell};
use bastide_model::schema::Scalar;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "label-drop",
    group: Group::Leak,
    level: crate::Level::Error,
    what: "a derived resource, or a copy, with a lower label than its source",
    why: "The label did not follow the data.",
    mind: "What is derived holds nothing that needs the label.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let estate = case.estate;
    let linked = estate.catalog().sources.linked();
    let mut found = Vec::new();
    for (at, attribute) in estate.schema().resource_attributes.iter().enumerate() {
        let Scalar::Named(of) = attribute.scalar else { continue };
        if !estate.schema().types[of.index()].scale || attribute.set {
            continue;
        }
        let column = &estate.catalog().attributes[at];
        for resource in linked {
            for source in estate.catalog().sources(*resource) {
                let Source::Resource(source) = source else { continue };
                let (here, there) = (column.get(resource.index()), column.get(source.index()));
                let (Some(Value::Step(_, a)), Some(Value::Step(_, b))) = (here, there) else { continue };
                if a >= b {
                    continue;
                }
                let (path, from) = (estate.catalog().path(*resource), estate.catalog().path(*source));
                let values = &estate.schema().types[of.index()].values;
                let message = format!(
                    "`{path}` has the `{}` {}, and comes from `{from}`, which has {}",
                    attribute.name, values[*a as usize], values[*b as usize]
                );
                let about = format!("{} from {}", estate.catalog().id(*resource), estate.catalog().id(*source));
                let cell = ResourceCell::Attribute(ResourceAttributeId::new(at));
                let change = Change::Resource(*resource, cell, there.cloned());
                found.push(
                    Found::new(about, Some(estate.catalog().origins[resource.index()]), message)
                        .suggest("to let the label follow, declare it `highest`; for this one", vec![change]),
                );
            }
        }
    }
    found
}
