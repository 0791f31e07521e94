//! `person-by-person`: several users who hold the same thing singly.

use super::{Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::entry_cells;
use bastide_model::condition::Term;
use bastide_model::statement::Sort;
use bastide_model::*;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "person-by-person",
    group: Group::Brittle,
    level: crate::Level::Note,
    what: "several users who hold the same thing singly",
    why: "The fourth is forgotten, and who leaves keeps it. A group would have a name.",
    mind: "They have nothing else in common, and never will.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut by: BTreeMap<String, Vec<(StatementId, UserId)>> = BTreeMap::new();
    for (id, s) in case.live().filter(|(_, s)| s.sort == Sort::Entry && s.modality.permits()) {
        let [Term::User(user)] = s.who.terms.as_slice() else { continue };
        let cells = entry_cells(estate, s);
        by.entry(format!("{} {:?} {:?}", cells[1..].join(","), s.from, s.until)).or_default().push((id, *user));
    }
    let many = by.into_values().filter(|list| list.len() as f64 >= case.limits.singly);
    many.map(|list| {
        let (first, _) = list[0];
        let s = estate.statement(first);
        let users: Vec<&str> = list.iter().map(|(_, u)| estate.people.id(*u)).collect();
        let exact = estate.groups.all().find(|g| {
            // An inactive member gets nothing by it.
            let members = estate.groups.users(*g);
            let others = members.ones().filter(|u| list.iter().all(|(_, named)| named.index() != *u));
            let mut others = others.map(UserId::new);
            list.iter().all(|(_, u)| members.contains(u.index())) && others.all(|u| !estate.people.is_active(u))
        });
        let serve = match exact {
            Some(group) => format!("group `{}` has exactly these members", estate.groups.id(group)),
            None => "no group has exactly these members; one could be made".to_string(),
        };
        Found::of(case, first, format!("{} users hold {} singly at the same place", list.len(), case.actions(s)))
            .naming_users(estate, list.iter().map(|(_, user)| user.index()))
            .evidence(users.join(", "))
            .evidence(serve)
            .example(survey.of(first).example)
    })
    .collect()
}
