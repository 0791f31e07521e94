//! Groups from data, then computed groups.

use crate::scope::Scope;
use bastide_model::catalog::PathPattern;
use bastide_model::condition::Mentions;
pub(crate) use bastide_model::groups::Computed as Body;
use bastide_model::groups::{Computed, Membership};
use bastide_model::rows::{GroupRows, MemberRow};
use bastide_model::strings::{Index, Strings};
use bastide_model::*;
use bastide_syntax::tree::{self, Declaration, GroupBody};
use bastide_syntax::{Diagnostic, Diagnostics, Span, codes};
use hashbrown::{HashMap, HashSet};

pub(crate) fn declared(trees: &[tree::File]) -> impl Iterator<Item = &tree::Group> {
    trees
        .iter()
        .flat_map(|t| &t.declarations)
        .filter_map(|d| if let Declaration::Group(g) = d { Some(g) } else { None })
}

/// Numbers the groups of data and policy and resolves the members of data groups.
pub(crate) fn build(
    rows: &GroupRows,
    trees: &[tree::File],
    people: &People,
    line: &dyn Fn(Span) -> u32,
    out: &mut Diagnostics,
) -> Groups {
    let mut names: HashMap<&str, &str> = HashMap::new();
    let mut ids: Vec<&str> = rows.members.iter().map(|(group, ..)| group.as_str()).collect();
    for (id, name) in &rows.groups {
        ids.push(id);
        if let Some(name) = name {
            names.entry(id).or_insert(name);
        }
    }
    let in_data: HashSet<&str> = ids.iter().copied().collect();
    let mut in_policy: HashMap<&str, Span> = HashMap::new();
    for group in declared(trees) {
        let (id, span) = (group.name.text.as_str(), group.name.span);
        if let Some(first) = in_policy.get(id) {
            let message = format!("group `{id}` is declared twice");
            out.push(Diagnostic::at(&codes::DECLARED_TWICE, span, message).other(*first, "the first"));
        } else if in_data.contains(id) {
            let message = format!("group `{id}` is computed here and has members in the data too");
            let mut diagnostic = Diagnostic::at(&codes::DECLARED_TWICE, span, message);
            if let Some((.., place)) = rows.members.iter().find(|(group, ..)| group == id) {
                diagnostic = diagnostic.other(place.span(), "a member from data");
            }
            out.push(diagnostic);
        }
        in_policy.entry(id).or_insert(span);
        ids.push(id);
    }
    ids.sort_unstable();
    ids.dedup();
    let ids: Strings = ids.into_iter().collect();
    let index = Index::of(&ids).0;
    let mut members: Vec<Vec<Membership>> = vec![Vec::new(); ids.len()];
    for (group, member, place) in &rows.members {
        let group = index.find(&ids, group).expect("every group of a row has an id") as usize;
        let (found, what, id) = match member {
            MemberRow::User(id) => (people.find(id).map(Member::User), "user", id),
            MemberRow::Group(id) => (index.find(&ids, id).map(|g| Member::Group(GroupId(g))), "group", id),
            MemberRow::Nobody(id) => (None, "directory entry", id),
        };
        match found {
            Some(member) => members[group].push(Membership { member, origin: place.origin() }),
            None => {
                let message = format!("group `{}` has a member that does not exist: {what} `{id}`", ids.get(group));
                let diagnostic = Diagnostic::at(&codes::UNKNOWN_REFERENCE, place.span(), message);
                out.push(match member {
                    MemberRow::User(_) => diagnostic.seek("user", id, false),
                    MemberRow::Group(_) => diagnostic.seek("group", id, false),
                    MemberRow::Nobody(_) => diagnostic,
                });
            }
        }
    }
    for list in &mut members {
        list.sort();
        list.dedup_by_key(|m| m.member);
    }
    let place = |at: usize| {
        let id = ids.get(at);
        let member = || rows.members.iter().find(|(group, ..)| group == id).map(|(.., place)| place.span());
        in_policy.get(id).copied().or_else(member).unwrap_or(Span::new(bastide_syntax::FileId(0), 0, 0))
    };
    crate::alike::groups(&ids, &place, out);
    let names = ids.iter().map(|id| names.get(id).copied().unwrap_or(id)).collect();
    let origin = |id: &str| in_policy.get(id).map(|span| Origin { file: span.file, line: line(*span) });
    let declared = ids.iter().map(origin).collect();
    Groups::new(ids, names, members, declared)
}

/// Types the bodies of computed groups, each with whether it names what does not exist.
pub(crate) fn computed(scope: &Scope, trees: &[tree::File], out: &mut Diagnostics) -> Vec<(GroupId, Body, bool)> {
    let mut bodies = Vec::new();
    for group in declared(trees) {
        let id = scope.groups.find(&group.name.text).expect("every declared group has an id");
        let before = out.len();
        let body = match &group.body {
            GroupBody::Who(who) => {
                let typed = scope.who(who, out);
                for term in &who.terms {
                    if let tree::Term::Owner(span) = term {
                        let message = "a group is made of users alone: `owner` depends on a resource";
                        out.push(Diagnostic::at(&codes::OUT_OF_PLACE, *span, message));
                    }
                }
                if let Some(condition) = &typed.condition {
                    forbid(
                        condition,
                        |m| m.resource,
                        "a group is made of users alone and cannot mention a resource",
                        out,
                    );
                }
                Computed::Who(typed)
            }
            GroupBody::Holders(action, place) => {
                let places = match place {
                    tree::Place::Path(path) if PathPattern::new(&path.raw).is_wild() => scope.place(place, out),
                    _ => scope.place(place, out).into_iter().take(1).collect(),
                };
                let Some(action) = scope.action(action, out) else { continue };
                Computed::Holders(action, places)
            }
        };
        let lost = |d: &Diagnostic| *d.code == codes::UNKNOWN_SUBJECT || *d.code == codes::STALE_PLACE;
        bodies.push((id, body, out[before..].iter().any(lost)));
    }
    bodies
}

/// Reports the innermost conditions that mention what they must not.
pub(crate) fn forbid(
    condition: &condition::Condition,
    is: impl Fn(Mentions) -> bool,
    message: &str,
    out: &mut Diagnostics,
) {
    condition.visit(&mut |inner| {
        let is_leaf = matches!(inner.test.form(), condition::Form::Leaf);
        if is_leaf && is(inner.mentions()) {
            out.push(Diagnostic::at(&codes::OUT_OF_PLACE, inner.span, message));
        }
    });
}
