//! Attributes that travel: what each resource's value is after `inherit`, `highest` and `default`.

use super::people::fill;
use bastide_model::column::Column;
use bastide_model::schema::{Attribute, Travel};
use bastide_model::value::Value;
use bastide_model::{Catalog, Source};

/// The column as conditions see it. Values pass through resources whose kind does not have the
/// attribute (`has` is false there), which themselves stay without one.
pub(crate) fn travelled(
    mut column: Column,
    attribute: &Attribute,
    catalog: &Catalog,
    has: impl Fn(usize) -> bool,
) -> Column {
    let rows = catalog.len();
    match attribute.travel {
        Travel::Stays => {}
        Travel::Inherit => inherit(&mut column, catalog),
        Travel::Highest => highest(&mut column, catalog),
    }
    if attribute.travel != Travel::Stays {
        for row in (0..rows).filter(|row| !has(*row)) {
            column.set_code(row, rows, None);
        }
    }
    fill(&mut column, attribute, rows, has);
    column
}

/// Its own value (an empty set counts as none), else the parent's. Parents come first in pre-order.
fn inherit(column: &mut Column, catalog: &Catalog) {
    let rows = catalog.len();
    for resource in catalog.all() {
        let row = resource.index();
        if column.get(row).is_none_or(Value::is_empty_set)
            && let Some(parent) = catalog.parent(resource)
            && let Some(code) = column.code(parent.index())
        {
            column.set_code(row, rows, Some(code));
        }
    }
}

/// The greatest of its own, its parent's and its sources'. Repeats until nothing rises, so that a
/// circle through parents and sources ends; a value rises at most once a step of the scale.
fn highest(column: &mut Column, catalog: &Catalog) {
    let rows = catalog.len();
    loop {
        let mut rose = false;
        for resource in catalog.all() {
            let row = resource.index();
            let known = |source: &Source| if let Source::Resource(r) = source { Some(*r) } else { None };
            let from = catalog.parent(resource).into_iter().chain(catalog.sources(resource).iter().filter_map(known));
            let value = |code: Option<u32>| code.map(|c| &column.values[c as usize]);
            let own = column.code(row);
            let best = from.map(|r| column.code(r.index())).fold(own, |a, b| if value(b) > value(a) { b } else { a });
            if value(best) > value(own) {
                column.set_code(row, rows, best);
                rose = true;
            }
        }
        if !rose || catalog.sources.is_empty() {
            return;
        }
    }
}
