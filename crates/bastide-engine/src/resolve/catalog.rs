//! The catalog: parents linked, rows put in pre-order, containment and references checked.

use super::people::{duplicates, required};
use super::travel;
use bastide_model::catalog::Source;
use bastide_model::column::Column;
use bastide_model::rows::{CatalogRows, RowPlace};
use bastide_model::schema::{Attribute, Travel};
use bastide_model::strings::Index;
use bastide_model::value::Value;
use bastide_model::*;
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, codes};
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::sync::Arc;

/// A tree deeper than this is an error.
const DEEPEST: u16 = 1000;
/// The nearest id is looked for this often at most: it reads every id.
const MOST_SUGGESTIONS: usize = 20;
const NONE: u32 = u32::MAX;

pub(super) fn build(rows: CatalogRows, schema: &Schema, people: &People, out: &mut Vec<Diagnostic>) -> Catalog {
    let count = rows.ids.len();
    let (index, twice) = Index::of(&rows.ids);
    duplicates("resource", &rows.ids, &twice, &rows.places, out);
    let parents = link(&rows, &index, out);
    let Some(tree) = order(&rows, &parents, out) else { return Catalog::default() };
    let Tree { order, ends, depths } = tree;
    let mut position = vec![NONE; count];
    for (new, &old) in order.iter().enumerate() {
        position[old as usize] = new as u32;
    }
    // Each column is put into the new order by itself, several at a time.
    let put = |old: &u32| *old as usize;
    let ((ids, names), ((owners, states), (places, index))) = rayon::join(
        || rayon::join(|| rows.ids.reordered(&order), || rows.names.reordered(&order)),
        || {
            rayon::join(
                || rayon::join(|| rows.owners.reordered(&order), || rows.states.reordered(&order)),
                || {
                    rayon::join(
                        || order.iter().map(|old| rows.places[put(old)]).collect::<Vec<RowPlace>>(),
                        || index.renumbered(&position),
                    )
                },
            )
        },
    );
    let barriers: FixedBitSet = (0..order.len()).filter(|&new| rows.barriers.contains(order[new] as usize)).collect();
    let parent = |old: &u32| Some(parents[put(old)]).filter(|p| *p != NONE).map(|p| ResourceId(position[p as usize]));
    let mut catalog = Catalog {
        index: Arc::new(index),
        names: Arc::new(names),
        parents: order.iter().map(parent).collect(),
        ends,
        depths,
        kinds: order.iter().map(|old| rows.kinds[put(old)]).collect(),
        owner_users: owners
            .values
            .iter()
            .map(|v| if let Value::Text(id) = v { people.find(id) } else { None })
            .collect(),
        owners,
        states,
        barriers,
        barrier_depths: Vec::new(),
        sources: HashMap::new(),
        attributes: Vec::new(),
        own: Vec::new(),
        origins: places.iter().map(|p| p.origin()).collect(),
        ids: Arc::new(ids),
    };
    catalog.barrier_depths = barrier_depths(&catalog);
    // A parent that is not there was reported; that its child is no root need not be said as well.
    let lost = |old: u32| parents[old as usize] == NONE && !rows.parents.get(old as usize).is_empty();
    let orphans: FixedBitSet = (0..order.len()).filter(|&new| lost(order[new])).collect();
    containment(&catalog, schema, &places, &orphans, out);
    unknown_owners(&catalog, &places, out);
    for (row, ids) in &rows.sources {
        let resource = ResourceId(position[*row as usize]);
        let sources =
            ids.iter().map(|id| catalog.find(id).map_or(Source::Missing(id.clone()), Source::Resource)).collect();
        catalog.sources.insert(resource, sources);
    }
    check_sources(&catalog, &places, out);
    let has = |attribute: &Attribute, row: usize| schema.is_any(catalog.kinds[row], attribute.kinds.as_deref());
    let (columns, own): (Vec<Column>, Vec<Option<Column>>) = schema
        .resource_attributes
        .par_iter()
        .zip(rows.attributes)
        .map(|(attribute, column)| {
            let column = column.reordered(&order);
            let own = (attribute.travel != Travel::Stays).then(|| column.clone());
            (travel::travelled(column, attribute, &catalog, |row| has(attribute, row)), own)
        })
        .unzip();
    for (attribute, column) in schema.resource_attributes.iter().zip(&columns) {
        required(column, attribute, &catalog.ids, &places, "resource", |row| has(attribute, row), out);
    }
    catalog.attributes = columns;
    catalog.own = own;
    catalog
}

/// The row of each row's parent.
fn link(rows: &CatalogRows, index: &Index, out: &mut Vec<Diagnostic>) -> Vec<u32> {
    let find = |row: usize| match rows.parents.get(row) {
        "" => NONE,
        parent => index.find(&rows.ids, parent).unwrap_or(NONE),
    };
    let parents: Vec<u32> = (0..rows.ids.len()).into_par_iter().map(find).collect();
    let lost = |row: &usize| parents[*row] == NONE && !rows.parents.get(*row).is_empty();
    let lost = (0..parents.len()).filter(lost).filter(|row| !rows.broken.contains(rows.parents.get(*row)));
    for (told, row) in lost.enumerate() {
        let parent = rows.parents.get(row);
        let message =
            format!("resource `{}` has the parent `{parent}`, which is not in the catalog", rows.ids.get(row));
        let mut diagnostic = Diagnostic::at(&codes::UNKNOWN_PARENT, rows.places[row].span(), message);
        if told < MOST_SUGGESTIONS
            && let Some(near) = nearest(parent, rows.ids.iter())
        {
            diagnostic = diagnostic.help(format!("did you mean `{near}`?"));
        }
        out.push(diagnostic);
    }
    parents
}

struct Tree {
    /// Old rows in pre-order.
    order: Vec<u32>,
    ends: Vec<u32>,
    depths: Vec<u16>,
}

/// Puts rows in pre-order, siblings by name, then id. None where the tree has a cycle or is too
/// deep, which is reported.
fn order(rows: &CatalogRows, parents: &[u32], out: &mut Vec<Diagnostic>) -> Option<Tree> {
    let count = parents.len();
    // Children of each row in one list, cut by `first`; roots stand under `count`.
    let slot = |p: u32| if p == NONE { count } else { p as usize };
    let mut first = vec![0u32; count + 2];
    for &p in parents {
        first[slot(p) + 1] += 1;
    }
    for i in 1..first.len() {
        first[i] += first[i - 1];
    }
    let mut next = first.clone();
    let mut children = vec![0u32; count];
    for (row, &p) in parents.iter().enumerate() {
        let at = &mut next[slot(p)];
        children[*at as usize] = row as u32;
        *at += 1;
    }
    sort_siblings(rows, &first, &mut children);
    let mut tree = Tree { order: Vec::with_capacity(count), ends: vec![0; count], depths: Vec::with_capacity(count) };
    // Each level holds the children still to come and the position to close when they are done.
    let mut levels: Vec<(u32, u32, Option<u32>)> = vec![(first[count], first[count + 1], None)];
    while let Some((at, end, open)) = levels.last_mut() {
        if at == end {
            if let Some(open) = open {
                tree.ends[*open as usize] = tree.order.len() as u32;
            }
            levels.pop();
            continue;
        }
        let row = children[*at as usize];
        *at += 1;
        let depth = levels.len() as u16;
        if depth > DEEPEST {
            let message = format!("resource `{}` lies deeper than {DEEPEST} levels", rows.ids.get(row as usize));
            out.push(Diagnostic::at(&codes::TOO_DEEP, rows.places[row as usize].span(), message));
            return None;
        }
        let position = tree.order.len() as u32;
        tree.order.push(row);
        tree.depths.push(depth);
        levels.push((first[row as usize], first[row as usize + 1], Some(position)));
    }
    if tree.order.len() < count {
        parent_cycles(rows, parents, &tree.order, out);
        return None;
    }
    Some(tree)
}

/// Sorts each group of siblings by name, then id. `first` says where each group begins and the last
/// one ends; halves are sorted at the same time.
fn sort_siblings(rows: &CatalogRows, first: &[u32], children: &mut [u32]) {
    const ENOUGH: usize = 1 << 14;
    let groups = first.len() - 1;
    if children.len() > ENOUGH && groups > 1 {
        let middle = first[0] + children.len() as u32 / 2;
        let cut = first.partition_point(|at| *at < middle).clamp(1, groups - 1);
        let (left, right) = children.split_at_mut((first[cut] - first[0]) as usize);
        rayon::join(|| sort_siblings(rows, &first[..=cut], left), || sort_siblings(rows, &first[cut..], right));
        return;
    }
    let mut sorted: Vec<(&str, &str, u32)> = Vec::new();
    for group in first.windows(2) {
        let siblings = &mut children[(group[0] - first[0]) as usize..(group[1] - first[0]) as usize];
        if siblings.len() > 1 {
            sorted.clear();
            sorted.extend(siblings.iter().map(|r| (rows.names.get(*r as usize), rows.ids.get(*r as usize), *r)));
            sorted.sort_unstable();
            siblings.iter_mut().zip(&sorted).for_each(|(to, (.., row))| *to = *row);
        }
    }
}

/// Rows no root leads to lie on or under a cycle; each cycle is named whole, once.
fn parent_cycles(rows: &CatalogRows, parents: &[u32], reached: &[u32], out: &mut Vec<Diagnostic>) {
    let mut seen: FixedBitSet = reached.iter().map(|r| *r as usize).collect();
    seen.grow(parents.len());
    for start in 0..parents.len() {
        let mut path: Vec<usize> = Vec::new();
        let mut row = start;
        while !seen.put(row) {
            path.push(row);
            row = parents[row] as usize;
        }
        let Some(from) = path.iter().position(|r| *r == row) else { continue };
        let ids: Vec<&str> = path[from..].iter().map(|r| rows.ids.get(*r)).collect();
        let message = format!("resources contain each other: `{}` is in `{}`", ids.join("` is in `"), ids[0]);
        out.push(Diagnostic::at(&codes::PARENT_CYCLE, rows.places[row].span(), message));
    }
}

pub(crate) fn barrier_depths(catalog: &Catalog) -> Vec<u16> {
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

fn containment(
    catalog: &Catalog,
    schema: &Schema,
    places: &[RowPlace],
    orphans: &FixedBitSet,
    out: &mut Vec<Diagnostic>,
) {
    for resource in catalog.all() {
        let kind = &schema.kinds[catalog.kind(resource).index()];
        let (id, place) = (catalog.id(resource), places[resource.index()].span());
        let message = match catalog.parent(resource) {
            None if kind.containers.is_empty() || orphans.contains(resource.index()) => continue,
            None => format!("`{id}` has no parent, and kind `{}` cannot be a root", kind.name),
            Some(parent) => {
                let holder = catalog.kind(parent);
                if kind.containers.iter().any(|c| schema.is_kind(holder, *c)) {
                    continue;
                }
                let holder = &schema.kinds[holder.index()].name;
                format!(
                    "`{id}` of kind `{}` lies in `{}` of kind `{holder}`, which cannot hold it",
                    kind.name,
                    catalog.id(parent)
                )
            }
        };
        let names: Vec<&str> = kind.containers.iter().map(|c| schema.kinds[c.index()].name.as_str()).collect();
        let note = match names.as_slice() {
            [] => format!("`{}` is a kind of roots: it lies in nothing", kind.name),
            names => format!("`{}` lies in {}", kind.name, names.join(" or ")),
        };
        out.push(Diagnostic::at(&codes::MISPLACED, place, message).note(note).other(kind.span, "declared here"));
    }
}

fn unknown_owners(catalog: &Catalog, places: &[RowPlace], out: &mut Vec<Diagnostic>) {
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
        let Value::Text(owner) = &catalog.owners.values[code] else { continue };
        let resources = if *count == 1 { "1 resource".into() } else { format!("{count} resources") };
        let message = format!("owner `{owner}` does not exist: {resources} without a known owner");
        out.push(Diagnostic::at(&codes::UNKNOWN_REFERENCE, places[*first].span(), message).label("the first"));
    }
}

/// Reports sources that are not there, and cycles of sources, each named whole.
fn check_sources(catalog: &Catalog, places: &[RowPlace], out: &mut Vec<Diagnostic>) {
    let mut linked: Vec<ResourceId> = catalog.sources.keys().copied().collect();
    linked.sort();
    for &resource in &linked {
        for source in catalog.sources(resource) {
            if let Source::Missing(id) = source {
                let message =
                    format!("resource `{}` has the source `{id}`, which is not in the catalog", catalog.id(resource));
                out.push(Diagnostic::at(&codes::UNKNOWN_REFERENCE, places[resource.index()].span(), message));
            }
        }
    }
    let next = |r: ResourceId| -> Vec<ResourceId> {
        let known = |s: &Source| if let Source::Resource(r) = s { Some(*r) } else { None };
        catalog.sources(r).iter().filter_map(known).collect()
    };
    for cycle in super::cycles::cycles(&linked, next) {
        let ids: Vec<&str> = cycle.iter().map(|r| catalog.id(*r)).collect();
        let message = format!("resources are derived from each other: `{}` from `{}`", ids.join("` from `"), ids[0]);
        out.push(Diagnostic::at(&codes::SOURCE_CYCLE, places[cycle[0].index()].span(), message));
    }
}
