//! Resources, in pre-order of the tree: a resource's subtree is the range from it to [`Catalog::ends`].
//! Siblings stand in byte order of name, then id, so that the order of rows changes nothing.

use crate::column::Column;
use crate::ids::*;
use crate::labels::Labels;
use crate::sources::{Source, Sources};
use crate::strings::Index;
use crate::value::Pattern;
use fixedbitset::FixedBitSet;
use std::sync::Arc;

/// The resources of an estate. What grows with their number is shared between a catalog and its copies until one of them
/// changes it: a change touches one column, and is tried on a copy.
#[derive(Clone, Default)]
pub struct Catalog {
    /// Ids and names.
    pub labels: Arc<Labels>,
    /// Finds an id.
    pub index: Arc<Index>,
    /// Parents; none for a root.
    pub parents: Arc<Vec<Option<ResourceId>>>,
    /// One past the last resource of the subtree.
    pub ends: Arc<Vec<u32>>,
    /// Depth; a root has 1.
    pub depths: Arc<Vec<u16>>,
    /// Kinds.
    pub kinds: Arc<Vec<KindId>>,
    /// Owners' ids as written.
    pub owners: Column,
    /// For each value of `owners`, the user, where there is one.
    pub owner_users: Vec<Option<UserId>>,
    /// States.
    pub states: Column,
    /// Resources that do not inherit.
    pub barriers: FixedBitSet,
    /// Depth of the deepest barrier at or above; 0 where there is none.
    pub barrier_depths: Arc<Vec<u16>>,
    /// Sources.
    pub sources: Arc<Sources>,
    /// One column an attribute, as it is after travel and defaults.
    pub attributes: Vec<Column>,
    /// For attributes that travel, the values resources have of their own; none for the others.
    pub own: Vec<Option<Column>>,
    /// Where each one stands in the files.
    pub origins: Arc<Vec<Origin>>,
}

impl Catalog {
    /// How many.
    pub fn len(&self) -> usize {
        self.labels.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.labels.is_empty()
    }

    /// Every resource, in pre-order.
    pub fn all(&self) -> impl DoubleEndedIterator<Item = ResourceId> + ExactSizeIterator + Clone {
        ResourceId::all(self.len())
    }

    /// The resource of an id.
    pub fn find(&self, id: &str) -> Option<ResourceId> {
        self.index.find_among(id, |number| self.labels.id(number as usize)).map(ResourceId)
    }

    /// The id.
    pub fn id(&self, resource: ResourceId) -> &str {
        self.labels.id(resource.index())
    }

    /// The name.
    pub fn name(&self, resource: ResourceId) -> &str {
        self.labels.name(resource.index())
    }

    /// The kind.
    pub fn kind(&self, resource: ResourceId) -> KindId {
        self.kinds[resource.index()]
    }

    /// The depth; a root has 1.
    pub fn depth(&self, resource: ResourceId) -> u16 {
        self.depths[resource.index()]
    }

    /// The parent.
    pub fn parent(&self, resource: ResourceId) -> Option<ResourceId> {
        self.parents[resource.index()]
    }

    /// The resource and everything above it, nearest first.
    pub fn upward(&self, resource: ResourceId) -> impl Iterator<Item = ResourceId> + '_ {
        std::iter::successors(Some(resource), |r| self.parent(*r))
    }

    /// The resource and everything beneath it.
    pub fn subtree(&self, resource: ResourceId) -> std::ops::Range<u32> {
        resource.0..self.ends[resource.index()]
    }

    /// Whether `above` is the resource or contains it.
    pub fn contains(&self, above: ResourceId, resource: ResourceId) -> bool {
        self.subtree(above).contains(&resource.0)
    }

    /// Whether anything lies beneath it.
    pub fn is_leaf(&self, resource: ResourceId) -> bool {
        self.ends[resource.index()] == resource.0 + 1
    }

    /// Direct children, in order.
    pub fn children(&self, resource: ResourceId) -> impl Iterator<Item = ResourceId> + '_ {
        let end = self.ends[resource.index()];
        let first = resource.0 + 1;
        std::iter::successors((first < end).then_some(ResourceId(first)), move |child| {
            let next = self.ends[child.index()];
            (next < end).then_some(ResourceId(next))
        })
    }

    /// Resources without a parent, in order.
    pub fn roots(&self) -> impl Iterator<Item = ResourceId> + '_ {
        let first = (!self.is_empty()).then_some(ResourceId(0));
        std::iter::successors(first, |root| {
            let next = self.ends[root.index()];
            ((next as usize) < self.len()).then_some(ResourceId(next))
        })
    }

    /// The owner: none where no owner is given; `Some(None)` where the owner is no user.
    pub fn owner(&self, resource: ResourceId) -> Option<Option<UserId>> {
        self.owners.code(resource.index()).map(|code| self.owner_users[code as usize])
    }

    /// Its sources.
    pub fn sources(&self, resource: ResourceId) -> &[Source] {
        self.sources.of(resource)
    }

    /// The path: names from the root joined by `/`, a `/` in a name written `\/`, a `\` as `\\`.
    pub fn path(&self, resource: ResourceId) -> String {
        let names: Vec<&str> = self.upward(resource).map(|r| self.name(r)).collect();
        let mut path = String::with_capacity(names.iter().map(|name| name.len() + 1).sum());
        for (at, name) in names.iter().rev().enumerate() {
            if at > 0 {
                path.push('/');
            }
            // Few names have to be told from what parts them.
            if name.contains(['/', '\\']) {
                path.push_str(&name.replace('\\', "\\\\").replace('/', "\\/"));
            } else {
                path.push_str(name);
            }
        }
        path
    }

    /// The resources whose path fits, in order. Every segment that is not wild must fit exactly.
    pub fn matching(&self, path: &PathPattern) -> Vec<ResourceId> {
        let mut found: Vec<ResourceId> = Vec::new();
        for (i, segment) in path.segments.iter().enumerate() {
            let literal = segment.literal();
            let fits = |r: &ResourceId| match &literal {
                Some(name) => self.name(*r) == name,
                None => segment.fits(self.name(*r)),
            };
            found = if i == 0 {
                self.roots().filter(fits).collect()
            } else {
                found.iter().flat_map(|r| self.children(*r)).filter(fits).collect()
            };
        }
        found
    }
}

/// A path whose segments may be wild.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct PathPattern {
    /// One pattern a segment.
    pub segments: Vec<Pattern>,
}

impl PathPattern {
    /// From the inside of a quoted path, backslashes left in: `/` separates, `\/` is a slash in a
    /// name, `*` stays within its segment.
    pub fn new(raw: &str) -> PathPattern {
        let mut segments = vec![String::new()];
        let mut chars = raw.chars();
        while let Some(c) = chars.next() {
            match c {
                '/' => segments.push(String::new()),
                '\\' => {
                    let last = segments.last_mut().expect("never empty");
                    last.push('\\');
                    last.extend(chars.next());
                }
                c => segments.last_mut().expect("never empty").push(c),
            }
        }
        PathPattern { segments: segments.iter().map(|s| Pattern::new(s, false)).collect() }
    }

    /// Whether any segment is wild.
    pub fn is_wild(&self) -> bool {
        self.segments.iter().any(|s| s.literal().is_none())
    }
}
