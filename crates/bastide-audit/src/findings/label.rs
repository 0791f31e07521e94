//! Labels: values of a scale that travels to the highest.

use bastide_model::schema::{Scalar, Travel};
use bastide_model::*;

/// The step of a resource's label, and how many steps its scale has; of several the one nearest the top.
fn step(estate: &Estate, resource: ResourceId) -> Option<(u16, u16)> {
    let labels = estate.schema.resource_attributes.iter().zip(&estate.catalog.attributes);
    let labels = labels.filter(|(a, _)| a.travel == Travel::Highest);
    let steps = labels.filter_map(|(a, column)| match (a.scalar, column.get(resource.index())) {
        (Scalar::Named(of), Some(Value::Step(_, step))) => Some((*step, estate.schema.types[of.index()].values.len() as u16)),
        _ => None,
    });
    steps.max_by_key(|(step, all)| u32::from(*step) * 1000 / u32::from((*all).max(1)))
}

/// Whether a resource has a label above the lowest.
pub fn above_lowest(estate: &Estate, resource: ResourceId) -> bool {
    step(estate, resource).is_some_and(|(step, _)| step > 0)
}

/// How many steps below the top a resource's label is.
pub fn from_top(estate: &Estate, resource: ResourceId) -> Option<u16> {
    step(estate, resource).map(|(step, all)| all - 1 - step)
}
