//! Values of resources as numbers.

use bastide_model::column::NONE;
use bastide_model::condition::*;
use bastide_model::*;

/// The values of resources as numbers: equal numbers, equal values.
///
/// They are asked for several times a resource, and so are looked up where they lie, and not by way of the catalog.
pub struct Cells<'e> {
    estate: &'e Estate,
    parents: &'e [Option<ResourceId>],
    kinds: &'e [KindId],
    owners: &'e [u32],
    states: &'e [u32],
    attributes: Box<[&'e [u32]]>,
}

impl<'e> Cells<'e> {
    /// Those of an estate's resources.
    pub fn of(estate: &'e Estate) -> Cells<'e> {
        let catalog = estate.catalog();
        Cells {
            estate,
            parents: &catalog.parents,
            kinds: &catalog.kinds,
            owners: catalog.owners.numbers(),
            states: catalog.states.numbers(),
            attributes: catalog.attributes.iter().map(|column| column.numbers()).collect(),
        }
    }

    /// The parent.
    pub fn parent(&self, resource: ResourceId) -> Option<ResourceId> {
        self.parents[resource.index()]
    }

    /// The kind.
    pub fn kind(&self, resource: ResourceId) -> KindId {
        self.kinds[resource.index()]
    }

    /// The value of a field; [`NONE`] where it is missing.
    pub fn field(&self, of: Step, field: ResourceField, resource: ResourceId) -> u32 {
        let Some(resource) = self.step(of, resource) else { return NONE };
        let number = |cells: &[u32]| cells.get(resource.index()).copied().unwrap_or(NONE);
        match field {
            ResourceField::Id | ResourceField::Name | ResourceField::Path => resource.0,
            ResourceField::Kind => self.kind(resource).0,
            ResourceField::Owner => number(self.owners),
            ResourceField::State => number(self.states),
            ResourceField::Attribute(id) => number(self.attributes[id.index()]),
        }
    }

    /// The resource a step leads to.
    pub fn step(&self, step: Step, resource: ResourceId) -> Option<ResourceId> {
        match step {
            Step::Own => Some(resource),
            Step::Parent => self.parent(resource),
            Step::Kind(kind) => {
                let mut upward = self.estate.catalog().upward(resource);
                upward.find(|above| self.estate.schema().is_kind(self.kind(*above), kind))
            }
        }
    }
}

/// How many values a field can have, a missing one included; none where that is not known beforehand.
pub fn radix(estate: &Estate, field: ResourceField) -> Option<u32> {
    let catalog = estate.catalog();
    let values = match field {
        ResourceField::Id | ResourceField::Name | ResourceField::Path => return None,
        ResourceField::Kind => estate.schema().kinds.len(),
        ResourceField::Owner => catalog.owners.distinct().len(),
        ResourceField::State => catalog.states.distinct().len(),
        ResourceField::Attribute(id) => catalog.attributes[id.index()].distinct().len(),
    };
    u32::try_from(values + 1).ok()
}
