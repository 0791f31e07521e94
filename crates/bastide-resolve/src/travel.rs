//! Attributes that travel: what each resource's value is after `inherit`, `highest` and `default`.

use crate::people::fill;
use bastide_model::column::{Column, NONE};
use bastide_model::schema::{Attribute, Travel};
use bastide_model::{Catalog, ResourceId, Source};

/// The column as conditions see it. Values pass through resources whose kind does not have the
/// attribute (`has` is false there), which themselves stay without one.
pub fn travelled(mut column: Column, attribute: &Attribute, catalog: &Catalog, has: impl Fn(usize) -> bool) -> Column {
    let rows = catalog.len();
    match attribute.travel {
        Travel::Stays => {}
        Travel::Inherit => inherit(&mut column, catalog),
        Travel::Highest => highest(&mut column, catalog),
    }
    if attribute.travel != Travel::Stays && !column.distinct().is_empty() {
        for (row, code) in column.codes_mut(rows).iter_mut().enumerate() {
            if !has(row) {
                *code = NONE;
            }
        }
    }
    fill(&mut column, attribute, rows, has);
    column
}

/// Its own value (an empty set counts as none), else the parent's. Parents come first in pre-order.
fn inherit(column: &mut Column, catalog: &Catalog) {
    let distinct = column.distinct().clone();
    if distinct.is_empty() {
        return;
    }
    let codes = column.codes_mut(catalog.len());
    for row in 0..codes.len() {
        let none = codes[row] == NONE || distinct.is_empty_set(codes[row]);
        if none
            && let Some(parent) = catalog.parents[row]
            && codes[parent.index()] != NONE
        {
            codes[row] = codes[parent.index()];
        }
    }
}

/// The greatest of its own, its parent's and its sources'. Repeats until nothing rises, so that a
/// circle through parents and sources ends; a value rises at most once a step of the scale.
fn highest(column: &mut Column, catalog: &Catalog) {
    // Values by how great they are; the last is no value, which is the least.
    let mut greater: Vec<u32> = (0..column.distinct().len() as u32).collect();
    greater.sort_by(|a, b| column.distinct().value(*a).cmp(column.distinct().value(*b)));
    let mut ranks = vec![0; greater.len() + 1];
    greater.iter().enumerate().for_each(|(rank, code)| ranks[*code as usize] = rank + 1);
    if greater.is_empty() {
        return;
    }
    let codes = column.codes_mut(catalog.len());
    let rank = |code: u32| ranks[(code as usize).min(ranks.len() - 1)];
    loop {
        let mut rose = false;
        for resource in catalog.all() {
            let mut best = codes[resource.index()];
            let mut rise = |from: ResourceId| {
                let other = codes[from.index()];
                if rank(other) > rank(best) {
                    best = other;
                    rose = true;
                }
            };
            catalog.parent(resource).into_iter().for_each(&mut rise);
            for source in catalog.sources(resource) {
                if let Source::Resource(source) = source {
                    rise(*source);
                }
            }
            codes[resource.index()] = best;
        }
        if !rose || catalog.sources.is_empty() {
            return;
        }
    }
}
