//! What resources are links to or are derived from.

use crate::ids::ResourceId;

/// A resource that another is a link to or is derived from.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Source {
    /// It is in the catalog.
    Resource(ResourceId),
    /// It is not; the id as written.
    Missing(String),
}

/// The sources of all resources, one list after the other: they are asked for on every resource.
#[derive(Clone, Default, Debug)]
pub struct Sources {
    /// By resource, where its list begins, and where the last one ends; empty where no resource has sources.
    starts: Vec<u32>,
    list: Vec<Source>,
    linked: Vec<ResourceId>,
}

impl Sources {
    /// Lists of so many resources, each resource once.
    pub fn new(resources: usize, lists: impl IntoIterator<Item = (ResourceId, Vec<Source>)>) -> Sources {
        let mut lists: Vec<(ResourceId, Vec<Source>)> =
            lists.into_iter().filter(|(_, list)| !list.is_empty()).collect();
        if lists.is_empty() {
            return Sources::default();
        }
        lists.sort_unstable_by_key(|(resource, _)| *resource);
        let mut starts = vec![0; resources + 1];
        lists.iter().for_each(|(resource, list)| starts[resource.index() + 1] = list.len() as u32);
        for at in 0..resources {
            starts[at + 1] += starts[at];
        }
        let linked = lists.iter().map(|(resource, _)| *resource).collect();
        Sources { starts, linked, list: lists.into_iter().flat_map(|(_, list)| list).collect() }
    }

    /// The sources of a resource.
    pub fn of(&self, resource: ResourceId) -> &[Source] {
        match self.starts.get(resource.index()..resource.index() + 2) {
            Some(ends) => &self.list[ends[0] as usize..ends[1] as usize],
            None => &[],
        }
    }

    /// The resources that have any, in order.
    pub fn linked(&self) -> &[ResourceId] {
        &self.linked
    }

    /// All sources, by the resources that have them.
    pub fn all(&self) -> impl Iterator<Item = &Source> {
        self.list.iter()
    }

    /// Whether no resource has any.
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }
}
