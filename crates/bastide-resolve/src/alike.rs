//! Ids that a reader takes for each other.

use bastide_model::catalog::PathPattern;
use bastide_model::strings::Strings;
use bastide_model::tidy::look;
use bastide_model::*;
use bastide_syntax::{Diagnostic, Diagnostics, Span, codes};
use hashbrown::HashMap;
use rayon::prelude::*;

/// Reports users, and groups, whose ids differ only by case or by letters that look alike; where each stands is asked for
/// what is told.
pub(crate) fn people(ids: &Strings, place: &dyn Fn(usize) -> Span, out: &mut Diagnostics) {
    let ids: Vec<&str> = ids.iter().collect();
    report("users", &ids, place, out);
}

/// The same of groups.
pub(crate) fn groups(ids: &Strings, place: &dyn Fn(usize) -> Span, out: &mut Diagnostics) {
    let ids: Vec<&str> = ids.iter().collect();
    report("groups", &ids, place, out);
}

/// Reports ids of resources that a reader takes for each other, or for a path. Every id is looked at once.
pub(crate) fn resources(catalog: &Catalog, place: &dyn Fn(ResourceId) -> Span, out: &mut Diagnostics) {
    let odd = |id: &str| id.bytes().any(|b| b == b'/' || !b.is_ascii() || b.is_ascii_uppercase());
    let odd: Vec<ResourceId> = catalog.labels.numbers_of(odd).into_iter().map(ResourceId).collect();
    looks(catalog, &odd, place, out);
    let roots = catalog.roots().filter_map(|root| catalog.find(catalog.name(root)));
    let slashed = odd.iter().copied().filter(|resource| catalog.id(*resource).contains('/'));
    let mut all: Vec<ResourceId> = roots.chain(slashed).collect();
    all.sort_unstable();
    all.dedup();
    paths(catalog, &all, place, out);
}

/// Reports ids that differ only by case or by letters of other scripts that look alike. Digits and letters of one script are
/// not compared: ids of resources are drawn by machines.
fn looks(catalog: &Catalog, odd: &[ResourceId], place: &dyn Fn(ResourceId) -> Span, out: &mut Diagnostics) {
    if odd.is_empty() {
        return;
    }
    let folded = |id: &str| if id.is_ascii() { id.to_ascii_lowercase() } else { look(id) };
    let looks: Vec<String> = odd.par_iter().map(|resource| folded(catalog.id(*resource))).collect();
    let mut by_look: HashMap<&str, Vec<ResourceId>> = HashMap::with_capacity(odd.len());
    for (look, resource) in looks.iter().zip(odd) {
        by_look.entry(look).or_default().push(*resource);
    }
    // One that is all small letters is its own look.
    let plain = catalog.labels.numbers_of(|id| by_look.contains_key(id));
    for resource in plain.into_iter().map(ResourceId) {
        let like = by_look.get_mut(catalog.id(resource)).expect("it was found");
        if !like.contains(&resource) {
            like.push(resource);
        }
    }
    let mut groups: Vec<Vec<ResourceId>> = by_look.into_values().filter(|like| like.len() > 1).collect();
    groups.iter_mut().for_each(|like| like.sort_unstable());
    groups.sort_unstable();
    for like in groups {
        let (first, second) = (like[0], like[1]);
        out.push(told("resources", catalog.id(first), catalog.id(second), like.len(), place(first), place(second)));
    }
}

/// Reports ids that are the path of something else, so that whoever writes the path gets another thing.
fn paths(catalog: &Catalog, ids: &[ResourceId], place: &dyn Fn(ResourceId) -> Span, out: &mut Diagnostics) {
    for resource in ids.iter().copied() {
        let id = catalog.id(resource);
        let others = catalog.matching(&PathPattern::new(id));
        if let Some(other) = others.into_iter().find(|other| *other != resource) {
            let message = format!(
                "the id `{id}` is the path of another resource, `{}`: whoever writes it is given the one of that id",
                catalog.id(other)
            );
            out.push(
                Diagnostic::at(&codes::ID_LIKE_A_PATH, place(resource), message).other(place(other), "the other one"),
            );
        }
    }
}

fn report(what: &str, ids: &[&str], place: impl Fn(usize) -> Span, out: &mut Diagnostics) {
    let looks: Vec<String> = ids.par_iter().map(|id| look(id)).collect();
    let mut by_look: HashMap<&str, Vec<usize>> = HashMap::with_capacity(ids.len());
    for (at, look) in looks.iter().enumerate() {
        by_look.entry(look).or_default().push(at);
    }
    let mut groups: Vec<Vec<usize>> = by_look.into_values().filter(|like| like.len() > 1).collect();
    groups.sort_unstable();
    for like in groups {
        let (first, second) = (like[0], like[1]);
        out.push(told(what, ids[first], ids[second], like.len(), place(first), place(second)));
    }
}

fn told(what: &str, a: &str, b: &str, number: usize, here: Span, there: Span) -> Diagnostic {
    let more = if number > 2 { format!(", and {} more", number - 2) } else { String::new() };
    let by = if a.to_lowercase() == b.to_lowercase() { "capitals" } else { "letters that look alike" };
    Diagnostic::at(&codes::LOOK_ALIKE, there, format!("two {what} differ only by {by}: `{a}` and `{b}`{more}"))
        .other(here, "the other one")
        .help("see that each is meant where it is named")
}
