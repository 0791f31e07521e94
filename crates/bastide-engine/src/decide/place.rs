//! Which statements reach a resource, from where, and what barriers cut off.

use super::{Candidate, Candidates, ReferenceEvaluator};
use bastide_model::*;

/// The depth of a statement's anchor for a resource, where its kinds and places reach it: the depth
/// of the deepest place left after barriers, 0 for a statement without a place. None where it does
/// not reach the resource.
pub fn covers(estate: &Estate, statement: &Statement, resource: ResourceId) -> Option<u16> {
    if !estate.schema().is_any(estate.catalog().kind(resource), statement.what.kinds.as_deref()) {
        return None;
    }
    anchor(estate, statement, resource)
}

/// The depth of a statement's anchor for a resource by its places alone, whatever its kinds.
pub fn anchor(estate: &Estate, statement: &Statement, resource: ResourceId) -> Option<u16> {
    let catalog = estate.catalog();
    let Some(places) = &statement.what.places else { return Some(0) };
    let cut = cut_depth(catalog, statement, resource);
    places
        .iter()
        .filter(|place| reaches(catalog, place, resource))
        .map(|place| catalog.depth(place.resource))
        .filter(|depth| *depth >= cut)
        .max()
}

/// Whether a place reaches a resource, barriers aside.
pub fn reaches(catalog: &Catalog, place: &statement::Place, resource: ResourceId) -> bool {
    match place.reach {
        Reach::Under => catalog.contains(place.resource, resource),
        Reach::Below => place.resource != resource && catalog.contains(place.resource, resource),
        Reach::At => place.resource == resource,
    }
}

/// Anchors above this depth are cut off: a barrier stands between them and the resource. Only `may`
/// and `may not` stop at barriers.
pub fn cut_depth(catalog: &Catalog, statement: &Statement, resource: ResourceId) -> u16 {
    match statement.modality {
        Modality::May | Modality::MayNot => catalog.barrier_depths[resource.index()],
        Modality::MayAlways | Modality::MayNever | Modality::MayOnly => 0,
    }
}

impl ReferenceEvaluator<'_> {
    pub(super) fn find_candidates(&self, resource: ResourceId) -> Candidates {
        let mut list = Vec::new();
        let mut layer = None;
        for &id in &self.live {
            let statement = self.estate.statement(id);
            let Some(depth) = covers(self.estate, statement, resource) else { continue };
            let place_truth = match &statement.what.condition {
                None => Some(Truth::True),
                Some(c) if !c.mentions().user => Some(self.condition(c, None, Some(resource))),
                Some(_) => None,
            };
            if place_truth == Some(Truth::False) {
                continue;
            }
            if !self.estate.layers().is_empty() && matches!(statement.modality, Modality::May | Modality::MayNot) {
                let own = statement.layer.unwrap_or(LayerId::new(self.estate.layers().len()));
                layer = Some(layer.map_or(own, |first: LayerId| first.min(own)));
            }
            list.push(Candidate { id, depth, place_truth });
        }
        Candidates { list, layer }
    }
}
