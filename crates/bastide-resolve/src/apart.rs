//! Parts of a catalog that stand on their own: what is in one hangs on nothing in another, and no rule speaks of one.

use bastide_model::condition::{Condition, HoldsTarget, Test};
use bastide_model::groups::Computed;
use bastide_model::statement::Sort;
use bastide_model::{Catalog, Estate, ResourceId, Source};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Span, codes, tree};

/// Where a resource stands: its part, if it is in one.
fn part(catalog: &Catalog, parts: &[FileId], resource: ResourceId) -> Option<FileId> {
    Some(catalog.origins[resource.index()].file).filter(|file| parts.contains(file))
}

/// Reports resources of a part that lie in another one or are made of what is elsewhere.
pub(crate) fn resources(
    catalog: &Catalog,
    place: &dyn Fn(ResourceId) -> Span,
    parts: &[FileId],
    out: &mut Diagnostics,
) {
    if parts.is_empty() {
        return;
    }
    let shared = "what it hangs on must be in the same file, or in a table without `parts`";
    for resource in catalog.all() {
        let Some(own) = part(catalog, parts, resource) else { continue };
        let is_elsewhere = |other: ResourceId| part(catalog, parts, other).is_some_and(|file| file != own);
        if let Some(parent) = catalog.parent(resource).filter(|parent| is_elsewhere(*parent)) {
            let message = format!("`{}` lies in `{}`, in another part", catalog.id(resource), catalog.id(parent));
            out.push(Diagnostic::at(&codes::OUT_OF_PART, place(resource), message).help(shared));
        }
        for source in catalog.sources(resource) {
            let (id, where_to) = match source {
                Source::Resource(source) if is_elsewhere(*source) => (catalog.id(*source), "in another part"),
                Source::Resource(_) => continue,
                Source::Missing(id) => (id.as_str(), "which is neither in its part nor in what all parts share"),
            };
            let message = format!("`{}` has the source `{id}`, {where_to}", catalog.id(resource));
            out.push(Diagnostic::at(&codes::OUT_OF_PART, place(resource), message).help(shared));
        }
    }
}

/// Reports rules and computed groups that name what lies in a part.
pub(crate) fn rules(estate: &Estate, trees: &[tree::File], parts: &[FileId], out: &mut Diagnostics) {
    if parts.is_empty() {
        return;
    }
    let catalog = estate.catalog();
    let mut told = |whose: &str, resource: ResourceId, span: Span| {
        if part(catalog, parts, resource).is_some() {
            let message = format!("{whose} names `{}`, which lies in a part of the catalog", catalog.id(resource));
            let help = "rules speak of what all parts share; what lies in a part is named by access entries";
            out.push(Diagnostic::at(&codes::OUT_OF_PART, span, message).help(help));
        }
    };
    let held = |whose: &str, condition: &Condition, told: &mut dyn FnMut(&str, ResourceId, Span)| {
        condition.visit(&mut |inner| {
            if let Test::Holds(_, HoldsTarget::Place(resource)) = inner.test {
                told(whose, resource, inner.span);
            }
        });
    };
    for statement in estate.statements().iter().filter(|statement| statement.sort == Sort::Rule) {
        let whose = format!("rule `{}`", statement.name);
        for place in statement.what.places.iter().flatten() {
            told(&whose, place.resource, place.span);
        }
        for condition in statement.conditions() {
            held(&whose, condition, &mut told);
        }
    }
    for group in crate::groups::declared(trees) {
        let Some(id) = estate.groups().find(&group.name.text) else { continue };
        let whose = format!("group `{}`", group.name.text);
        match estate.groups().computed(id) {
            Some(Computed::Who(who)) => {
                who.condition.iter().for_each(|condition| held(&whose, condition, &mut told));
            }
            Some(Computed::Holders(_, places)) => {
                places.iter().for_each(|place| told(&whose, *place, group.name.span));
            }
            None => {}
        }
    }
}
