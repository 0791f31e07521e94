//! Circles of membership that pass through a computed group.

use bastide_model::graph::components;
use bastide_model::*;
use bastide_syntax::tree::{self, Declaration};
use bastide_syntax::{Diagnostic, Diagnostics, codes};
use hashbrown::{HashMap, HashSet};
use std::collections::VecDeque;

/// Membership cycles that pass through a computed group, each once, the computed group first.
pub fn computed_cycles(groups: &Groups) -> Vec<Vec<GroupId>> {
    let named: Vec<Vec<GroupId>> = groups.all().map(|group| groups.named(group)).collect();
    let mut circle_of = vec![0; groups.len()];
    let mut sizes = Vec::new();
    for (at, circle) in components(groups.len(), |g| named[g].iter().map(|g| g.index())).into_iter().enumerate() {
        circle.iter().for_each(|group| circle_of[*group] = at);
        sizes.push(circle.len());
    }
    let mut told: HashSet<GroupId> = HashSet::new();
    let mut found = Vec::new();
    for start in groups.all().filter(|g| groups.computed(*g).is_some()) {
        let is_itself = named[start.index()].contains(&start);
        if told.contains(&start) || (sizes[circle_of[start.index()]] == 1 && !is_itself) {
            continue;
        }
        // The shortest way round, through the first names.
        let mut from: HashMap<GroupId, GroupId> = HashMap::new();
        let mut queue = VecDeque::from([start]);
        let last = loop {
            let Some(group) = queue.pop_front() else { break None };
            if named[group.index()].contains(&start) {
                break Some(group);
            }
            for next in named[group.index()].iter().filter(|g| circle_of[g.index()] == circle_of[start.index()]) {
                if *next != start && !from.contains_key(next) {
                    from.insert(*next, group);
                    queue.push_back(*next);
                }
            }
        };
        let Some(last) = last else { continue };
        let mut path = vec![last];
        while let Some(before) = from.get(&path[path.len() - 1]).filter(|_| path[path.len() - 1] != start) {
            path.push(*before);
        }
        path.reverse();
        told.extend(&path);
        found.push(path);
    }
    found
}

/// A cycle of groups in words.
pub fn cycle_text(groups: &Groups, cycle: &[GroupId]) -> String {
    let ids: Vec<&str> = cycle.iter().map(|g| groups.id(*g)).collect();
    format!("group `{0}` depends on itself: {1} > {0}", ids[0], ids.join(" > "))
}

/// Reports membership cycles that pass through a computed group.
pub(crate) fn groups(groups: &Groups, trees: &[tree::File], out: &mut Diagnostics) {
    for cycle in computed_cycles(groups) {
        let first = groups.id(cycle[0]);
        let span = trees.iter().flat_map(|t| &t.declarations).find_map(|d| match d {
            Declaration::Group(g) if g.name.text == first => Some(g.name.span),
            _ => None,
        });
        let span = span.expect("a computed group is declared");
        let note = "a cycle through data groups alone is legal; one through a computed group has no meaning";
        out.push(Diagnostic::at(&codes::GROUP_CYCLE, span, cycle_text(groups, &cycle)).note(note));
    }
}
