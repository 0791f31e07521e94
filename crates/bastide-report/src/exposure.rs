//! Who may read what is labelled: by the steps of the scale, the highest first.

use bastide_audit::{Case, Survey};
use bastide_engine::sets::count;
use bastide_model::schema::{Scalar, Travel};
use bastide_model::*;
use serde::Serialize;

/// So many resources of the two highest steps are listed, the most exposed first.
const MOST: usize = 12;

/// Who may read what is labelled.
#[derive(Serialize)]
pub struct Exposure {
    /// The action that is looked at.
    pub action: String,
    /// By step.
    pub steps: Vec<Exposed>,
    /// The most exposed resources of the highest steps: path, step, readers, guests among them.
    pub most: Vec<(String, String, u32, u32)>,
}

/// The resources of one step.
#[derive(Clone, Default, Serialize)]
pub struct Exposed {
    /// The step.
    pub step: String,
    /// How many resources.
    pub resources: usize,
    /// The fewest readers one has.
    pub least: u32,
    /// As many or fewer have half of them.
    pub middle: u32,
    /// The most readers one has.
    pub most: u32,
    /// How many of them a guest may read.
    pub open_to_guests: usize,
}

/// None where the estate has no labels, or no harmless action.
pub(crate) fn exposure(case: &Case, survey: &Survey) -> Option<Exposure> {
    let estate = case.estate;
    let (label, names) = labels(estate)?;
    let read = case.reading()?;
    let mut engine = survey.evaluator();
    let mut allowed = engine.nobody();
    let mut by: Vec<Vec<(u32, u32, ResourceId)>> = vec![Vec::new(); names.len()];
    for resource in estate.catalog().all() {
        let Some(Value::Step(_, step)) = estate.catalog().attributes[label].get(resource.index()) else { continue };
        let step = *step as usize;
        engine.allowed(resource, read, &mut allowed);
        let guests = count::both(&allowed, &survey.guests);
        by[step].push((count::listed(&allowed), guests, resource));
    }
    let mut steps = Vec::new();
    let mut most = Vec::new();
    for (name, mut list) in names.iter().zip(by).rev() {
        list.sort_by_key(|(readers, guests, resource)| (std::cmp::Reverse((*guests > 0, *readers)), *resource));
        let mut readers: Vec<u32> = list.iter().map(|(n, _, _)| *n).collect();
        readers.sort_unstable();
        if steps.len() < 2 {
            let shown = list.iter().take(MOST);
            most.extend(shown.map(|(n, g, r)| (estate.catalog().path(*r), name.clone(), *n, *g)));
        }
        steps.push(Exposed {
            step: name.clone(),
            resources: list.len(),
            least: readers.first().copied().unwrap_or_default(),
            middle: readers.get(readers.len().saturating_sub(1) / 2).copied().unwrap_or_default(),
            most: readers.last().copied().unwrap_or_default(),
            open_to_guests: list.iter().filter(|(_, guests, _)| *guests > 0).count(),
        });
    }
    Some(Exposure { action: estate.schema().actions[read.index()].name.clone(), steps, most })
}

/// The first attribute of resources whose values are steps of a scale and travel to the highest, and the
/// names of the steps.
fn labels(estate: &Estate) -> Option<(usize, Vec<String>)> {
    estate.schema().resource_attributes.iter().enumerate().find_map(|(at, attribute)| match attribute.scalar {
        Scalar::Named(of) if attribute.travel == Travel::Highest => {
            Some((at, estate.schema().types[of.index()].values.clone()))
        }
        _ => None,
    })
}
