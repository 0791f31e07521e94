//! Labels: values of a scale that travels to the highest.

use bastide_engine::difference::is_labelled;
use bastide_model::schema::{Scalar, Travel};
use bastide_model::*;

/// The step of a resource's label, and how many steps its scale has; of several the one nearest the top.
fn step(estate: &Estate, resource: ResourceId) -> Option<(u16, u16)> {
    let labels = estate.schema.resource_attributes.iter().zip(&estate.catalog.attributes);
    let labels = labels.filter(|(a, _)| a.travel == Travel::Highest);
    let steps = labels.filter_map(|(a, column)| match (a.scalar, column.get(resource.index())) {
        (Scalar::Named(of), Some(Value::Step(_, step))) => {
            Some((*step, estate.schema.types[of.index()].values.len() as u16))
        }
        _ => None,
    });
    steps.max_by_key(|(step, all)| u32::from(*step) * 1000 / u32::from((*all).max(1)))
}

/// Whether somebody gave a resource a label above the lowest: one of its own, or by travel one above
/// the default. What nobody labelled has the default, which says nothing of it.
pub fn above_lowest(estate: &Estate, resource: ResourceId) -> bool {
    let own = estate.schema.resource_attributes.iter().zip(&estate.catalog.own);
    let own = own.filter(|(a, _)| a.travel == Travel::Highest).filter_map(|(_, column)| column.as_ref());
    let mut steps = own.filter_map(|column| column.get(resource.index()));
    steps.any(|value| matches!(value, Value::Step(_, step) if *step > 0)) || is_labelled(estate, resource)
}

/// How many steps below the top a resource's label is.
pub fn from_top(estate: &Estate, resource: ResourceId) -> Option<u16> {
    step(estate, resource).map(|(step, all)| all - 1 - step)
}
