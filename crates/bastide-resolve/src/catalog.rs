//! The catalog: parents linked, rows put in pre-order, containment and references checked.

use crate::people::required;
use crate::preorder::{Links, Tree, tree};
use crate::travel;
use bastide_model::column::{Column, NONE};
use bastide_model::graph::{cycles, has_cycle};
use bastide_model::labels::Labels;
use bastide_model::rows::{CatalogPart, CatalogRows, RowPlace, grid};
use bastide_model::schema::{Attribute, Travel};
use bastide_model::value::Value;
use bastide_model::*;
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::sync::Arc;

/// The nearest id is looked for this often at most: it reads every id.
const MOST_SUGGESTIONS: usize = 20;

/// `parts`: the files that stand on their own.
pub(crate) fn build(
    rows: CatalogRows,
    schema: &Schema,
    people: &People,
    parts: &[FileId],
    out: &mut Diagnostics,
) -> Catalog {
    let links = link(&rows, out);
    let Some(tree) = tree(&rows, &links, out) else {
        let labels = Labels::of(&rows, (0..rows.len() as u32).collect());
        doubles(&rows, labels.order(), &labels.index().1, out);
        // No tree, and so no resources; each attribute has its column all the same.
        let count = schema.resource_attributes.len();
        return Catalog { attributes: vec![Column::default(); count], own: vec![None; count], ..Catalog::default() };
    };
    let Tree { order, columns, parents, ends, depths } = tree;
    let labels = Arc::new(Labels::of(&rows, order));
    let mut columns = columns.into_iter();
    let mut next = || columns.next().unwrap_or_default();
    let [named_parents, kinds, files, lines, owners, states] = [(); grid::ATTRIBUTES].map(|()| next());
    let attributes: Vec<Column> = rows.attributes.iter().map(|values| Column::new(values.clone(), next())).collect();
    let places = Places { rows: &rows, order: labels.order(), parents: &named_parents };
    let linked = || {
        let barriers: FixedBitSet = (0..kinds.len()).filter(|new| kinds[*new] & grid::BARRIER != 0).collect();
        let owners = Column::new(rows.owners.clone(), owners);
        let origin = |(file, line): (u32, u32)| Origin { file: FileId(file), line };
        let mut catalog = Catalog {
            labels: Arc::clone(&labels),
            index: Arc::default(),
            parents: Arc::new(parents),
            ends: Arc::new(ends),
            depths: Arc::new(depths),
            kinds: Arc::new(kinds.into_iter().map(|kind| KindId(kind & !grid::BARRIER)).collect()),
            owner_users: owners
                .distinct()
                .iter()
                .map(|v| if let Value::Text(id) = v { people.find(id) } else { None })
                .collect(),
            owners,
            states: Column::new(rows.states.clone(), states),
            barriers,
            barrier_depths: Arc::default(),
            sources: Arc::default(),
            attributes: Vec::new(),
            own: Vec::new(),
            origins: Arc::new(files.into_iter().zip(lines).map(origin).collect()),
        };
        catalog.barrier_depths = Arc::new(barrier_depths(&catalog));
        let mut out = Diagnostics::new();
        containment(&catalog, schema, &places, &mut out);
        unknown_owners(&catalog, &places, &mut out);
        (catalog, out)
    };
    let ((index, twice), (mut catalog, misplaced)) = rayon::join(|| labels.index(), linked);
    catalog.index = Arc::new(index);
    doubles(&rows, labels.order(), &twice, out);
    out.extend(misplaced);
    if !rows.sources.is_empty() {
        let mut position = vec![NONE; rows.len()];
        labels.order().iter().enumerate().for_each(|(new, old)| position[*old as usize] = new as u32);
        let source = |id: &String| catalog.find(id).map_or(Source::Missing(id.clone()), Source::Resource);
        let lists = rows.sources.par_iter().with_min_len(1024);
        let lists = lists.map(|(row, ids)| (ResourceId(position[*row as usize]), ids.iter().map(source).collect()));
        let lists: Vec<(ResourceId, Vec<Source>)> = lists.collect();
        catalog.sources = Arc::new(Sources::new(catalog.len(), lists));
    }
    check_sources(&catalog, &places, out);
    let place = |resource: ResourceId| places.at(resource.index()).span();
    crate::alike::resources(&catalog, &place, out);
    crate::apart::resources(&catalog, &place, parts, out);
    let has = |attribute: &Attribute| -> Vec<bool> {
        KindId::all(schema.kinds.len()).map(|kind| schema.is_any(kind, attribute.kinds.as_deref())).collect()
    };
    let (columns, own): (Vec<Column>, Vec<Option<Column>>) = schema
        .resource_attributes
        .par_iter()
        .zip(attributes)
        .map(|(attribute, column)| {
            let own = (attribute.travel != Travel::Stays).then(|| column.clone());
            let has = has(attribute);
            (travel::travelled(column, attribute, &catalog, |row| has[catalog.kinds[row].index()]), own)
        })
        .unzip();
    for (attribute, column) in schema.resource_attributes.iter().zip(&columns).filter(|(a, _)| a.required) {
        let has = has(attribute);
        let missing = |row: usize| has[catalog.kinds[row].index()];
        let resource = |row: usize| format!("resource `{}`", labels.id(row));
        required(column, attribute, catalog.len(), &resource, &|row| places.at(row), missing, out);
    }
    catalog.attributes = columns;
    catalog.own = own;
    // Of a large catalog that takes a while, and nobody has to wait for it.
    rayon::spawn(move || drop((rows, named_parents)));
    catalog
}

/// Where resources stand in the files; asked for only where something is wrong.
struct Places<'r> {
    rows: &'r CatalogRows,
    order: &'r [u32],
    /// Numbers of the parents that were named.
    parents: &'r [u32],
}

impl Places<'_> {
    fn at(&self, new: usize) -> RowPlace {
        self.rows.place(self.order[new] as usize)
    }

    /// Whether a parent was named that is not there.
    fn is_orphan(&self, catalog: &Catalog, resource: ResourceId) -> bool {
        catalog.parent(resource).is_none() && self.parents[resource.index()] != NONE
    }
}

/// Reports ids that stand twice, whatever the order in which they were met: all but the first in the files.
fn doubles(rows: &CatalogRows, order: &[u32], twice: &[(u32, u32)], out: &mut Diagnostics) {
    let mut same: HashMap<u32, Vec<u32>> = HashMap::new();
    for (later, first) in twice {
        let old = |new: &u32| order[*new as usize];
        same.entry(*first).or_insert_with(|| vec![old(first)]).push(old(later));
    }
    let mut groups: Vec<Vec<u32>> = same.into_values().collect();
    groups.iter_mut().for_each(|group| group.sort_unstable());
    groups.sort_unstable();
    for group in groups {
        for later in &group[1..] {
            let message = format!("resource `{}` stands twice", rows.id(*later as usize));
            let (here, there) = (rows.place(*later as usize).span(), rows.place(group[0] as usize).span());
            out.push(Diagnostic::at(&codes::DUPLICATE_ID, here, message).other(there, "the first"));
        }
    }
}

/// Looks every id up among those of parents, which are few: the table of all ids is far larger.
pub(crate) fn link(rows: &CatalogRows, out: &mut Diagnostics) -> Links {
    let mut own = vec![NONE; rows.len()];
    let mut left = own.as_mut_slice();
    let mut parts: Vec<(&CatalogPart, &mut [u32])> = Vec::new();
    for part in rows.parts() {
        let (of_part, others) = left.split_at_mut(part.rows().len());
        parts.push((part, of_part));
        left = others;
    }
    parts.into_par_iter().with_max_len(1).for_each(|(part, own)| {
        let find = |row: usize| rows.parents.find(part.texts.get(2 * row)).unwrap_or(NONE);
        own.iter_mut().enumerate().for_each(|(row, own)| *own = find(row));
    });
    let mut by_number = vec![NONE; rows.parents.texts().len()];
    for (row, number) in own.iter_mut().enumerate().filter(|(_, number)| **number != NONE) {
        // The first of an id that stands twice.
        match &mut by_number[*number as usize] {
            place if *place == NONE => *place = row as u32,
            _ => *number = NONE,
        }
    }
    let links = Links { rows: by_number, own };
    if links.rows.contains(&NONE) {
        lost(rows, &links, out);
    }
    links
}

/// Reports parents that are not there.
fn lost(rows: &CatalogRows, links: &Links, out: &mut Diagnostics) {
    let lost = |row: &usize| !rows.parent(*row).is_empty() && links.parent(rows, *row) == NONE;
    let lost = (0..rows.len()).filter(lost).filter(|row| !rows.broken.contains(rows.parent(*row)));
    for (told, row) in lost.enumerate() {
        let parent = rows.parent(row);
        let message = format!("resource `{}` has the parent `{parent}`, which is not in the catalog", rows.id(row));
        let mut diagnostic = Diagnostic::at(&codes::UNKNOWN_PARENT, rows.place(row).span(), message);
        if told < MOST_SUGGESTIONS
            && let Some(near) = nearest(parent, (0..rows.len()).map(|row| rows.id(row)))
        {
            diagnostic = diagnostic.help(format!("did you mean `{near}`?"));
        }
        out.push(diagnostic);
    }
}

/// How deep the nearest barrier at or above each resource stands; 0 where there is none.
pub fn barrier_depths(catalog: &Catalog) -> Vec<u16> {
    let mut depths: Vec<u16> = Vec::with_capacity(catalog.len());
    for resource in catalog.all() {
        depths.push(if catalog.barriers.contains(resource.index()) {
            catalog.depth(resource)
        } else {
            catalog.parent(resource).map_or(0, |parent| depths[parent.index()])
        });
    }
    depths
}

/// Reports what lies in something that may not hold it, and roots of kinds that lie in something.
fn containment(catalog: &Catalog, schema: &Schema, places: &Places, out: &mut Diagnostics) {
    let kinds = schema.kinds.len();
    // By kind and the kind of the parent; the last of each is for roots.
    let mut fits = vec![false; kinds * (kinds + 1)];
    for (kind, of) in schema.kinds.iter().enumerate() {
        for holder in KindId::all(kinds) {
            fits[kind * (kinds + 1) + holder.index()] = of.containers.iter().any(|c| schema.is_kind(holder, *c));
        }
        fits[kind * (kinds + 1) + kinds] = of.containers.is_empty();
    }
    for resource in catalog.all() {
        let parent = catalog.parent(resource);
        let holder = parent.map_or(kinds, |parent| catalog.kind(parent).index());
        if fits[catalog.kind(resource).index() * (kinds + 1) + holder] || places.is_orphan(catalog, resource) {
            continue;
        }
        let kind = &schema.kinds[catalog.kind(resource).index()];
        let (id, place) = (catalog.id(resource), places.at(resource.index()).span());
        let message = match parent {
            None => format!("`{id}` has no parent, and kind `{}` cannot be a root", kind.name),
            Some(parent) => format!(
                "`{id}` of kind `{}` lies in `{}` of kind `{}`, which cannot hold it",
                kind.name,
                catalog.id(parent),
                schema.kinds[holder].name
            ),
        };
        let names: Vec<&str> = kind.containers.iter().map(|c| schema.kinds[c.index()].name.as_str()).collect();
        let note = match names.as_slice() {
            [] => format!("`{}` is a kind of roots: it lies in nothing", kind.name),
            names => format!("`{}` lies in {}", kind.name, names.join(" or ")),
        };
        out.push(Diagnostic::at(&codes::MISPLACED, place, message).note(note).other(kind.span, "declared here"));
    }
}

fn unknown_owners(catalog: &Catalog, places: &Places, out: &mut Diagnostics) {
    let mut seen: Vec<(usize, usize)> = vec![(0, 0); catalog.owner_users.len()];
    for resource in catalog.all() {
        if let Some(code) = catalog.owners.code(resource.index())
            && catalog.owner_users[code as usize].is_none()
        {
            let (first, count) = &mut seen[code as usize];
            if *count == 0 {
                *first = resource.index();
            }
            *count += 1;
        }
    }
    for (code, (first, count)) in seen.iter().enumerate().filter(|(_, (_, count))| *count > 0) {
        let Value::Text(owner) = catalog.owners.distinct().value(code as u32) else { continue };
        let resources = if *count == 1 { "1 resource".into() } else { format!("{count} resources") };
        let message = format!("owner `{owner}` does not exist: {resources} without a known owner");
        out.push(Diagnostic::at(&codes::UNKNOWN_REFERENCE, places.at(*first).span(), message).label("the first"));
    }
}

/// Reports sources that are not there, and cycles of sources, each named whole.
fn check_sources(catalog: &Catalog, places: &Places, out: &mut Diagnostics) {
    let linked = catalog.sources.linked();
    for &resource in linked {
        for source in catalog.sources(resource) {
            if let Source::Missing(id) = source {
                let message =
                    format!("resource `{}` has the source `{id}`, which is not in the catalog", catalog.id(resource));
                out.push(Diagnostic::at(&codes::UNKNOWN_REFERENCE, places.at(resource.index()).span(), message));
            }
        }
    }
    let next = |r: ResourceId| -> Vec<ResourceId> {
        let known = |s: &Source| if let Source::Resource(r) = s { Some(*r) } else { None };
        catalog.sources(r).iter().filter_map(known).collect()
    };
    let starts = linked.iter().map(|resource| resource.index());
    if !has_cycle(catalog.len(), starts, |r| next(ResourceId::new(r)).into_iter().map(|r| r.index())) {
        return;
    }
    for cycle in cycles(linked, next) {
        let ids: Vec<&str> = cycle.iter().map(|r| catalog.id(*r)).collect();
        let message = format!("resources are derived from each other: `{}` from `{}`", ids.join("` from `"), ids[0]);
        out.push(Diagnostic::at(&codes::SOURCE_CYCLE, places.at(cycle[0].index()).span(), message));
    }
}
