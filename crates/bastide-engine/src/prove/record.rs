//! An expectation written from what somebody can do today, to be trimmed by hand.

use crate::snapshot::Snapshot;
use bastide_model::*;
use bastide_syntax::format::format;
use bastide_syntax::{FileId, quote};
use std::collections::BTreeMap;
use std::fmt::Write;

/// How deep containers are named one by one.
const DEEPEST: u16 = 3;
/// Places that are named for one list of actions.
const MOST: usize = 24;

/// The expectation as text: what the user can do on each container down to the third level, what of
/// the rest cannot be done at all, and on how many resources of each kind each action is allowed.
pub fn record(snapshot: &Snapshot, user: UserId) -> String {
    let (estate, moment) = (snapshot.estate(), snapshot.moment());
    let mut engine = snapshot.evaluator();
    let (schema, catalog) = (estate.schema(), estate.catalog());
    let mut can: BTreeMap<Vec<usize>, Vec<ResourceId>> = BTreeMap::new();
    let mut counts: BTreeMap<(usize, usize), usize> = BTreeMap::new();
    for resource in catalog.all() {
        let work = engine.decide(resource);
        let allowed: Vec<usize> = ActionId::all(schema.actions.len())
            .filter(|action| engine.allows_in(&work, *action, user))
            .map(ActionId::index)
            .collect();
        engine.done(work);
        for action in &allowed {
            *counts.entry((catalog.kind(resource).index(), *action)).or_default() += 1;
        }
        if catalog.depth(resource) <= DEEPEST && !catalog.is_leaf(resource) {
            can.entry(allowed).or_default().push(resource);
        }
    }
    let id = estate.people().id(user);
    let mut out = format!("expect {} {{\n", quote::name(&format!("{id}-as-of-{}", moment.date)));
    let because = format!("Recorded on {}: keep what must stay so, and take out the rest.", moment.date);
    writeln!(out, "    because {}", quote::text(&because)).expect("a string takes everything");
    writeln!(out, "    user    {}", quote::name(id)).expect("a string takes everything");
    let name = |action: &usize| quote::name(&schema.actions[*action].name);
    for (actions, places) in can.iter().rev() {
        let paths: Vec<String> = places.iter().take(MOST).map(|r| place(catalog, *r)).collect();
        let (word, actions) = match actions.as_slice() {
            [] => ("cannot", schema.actions.first().map_or(Vec::new(), |a| vec![quote::name(&a.name)])),
            actions => ("can   ", actions.iter().map(name).collect()),
        };
        writeln!(out, "    {word}  {} {}", actions.join(", "), paths.join(", ")).expect("a string takes everything");
    }
    for ((kind, action), count) in counts {
        // A kind takes its sub-kinds in; then only the kind itself was counted.
        let of = KindId::new(kind);
        let has_subkinds = (0..schema.kinds.len()).map(KindId::new).any(|k| k != of && schema.is_kind(k, of));
        let kind = quote::name(&schema.kinds[kind].name);
        let exact = if has_subkinds { format!(" where resource.kind = {kind}") } else { String::new() };
        writeln!(out, "    reaches exactly {count} {kind}{exact} by {}", name(&action))
            .expect("a string takes everything");
    }
    out.push_str("}\n");
    format(FileId(0), &out).unwrap_or(out)
}

/// A place: by path, or by id where the path fits several.
fn place(catalog: &Catalog, resource: ResourceId) -> String {
    let path = catalog.path(resource);
    let pattern = catalog::PathPattern::new(&path.replace('*', "\\*"));
    if catalog.matching(&pattern) == [resource] {
        // In a path a backslash already stands for itself.
        format!("\"{}\"", path.replace('"', "\\\"").replace('*', "\\*"))
    } else {
        format!("id {}", quote::text(catalog.id(resource)))
    }
}
