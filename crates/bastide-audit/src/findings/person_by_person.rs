//! `person-by-person`: several users who hold the same thing singly.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::entry_cells;
use bastide_model::condition::Term;
use bastide_model::statement::Sort;
use bastide_model::*;
use hashbrown::HashMap;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "person-by-person",
    group: Group::Brittle,
    level: crate::Level::Note,
    what: "several users who hold the same thing singly",
    why: "The fourth is forgotten, and who leaves keeps it. A group would have a name.",
    mind: "They have nothing else in common, and never will.",
    check: Check::Policy(check),
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
    // Groups by those of their members who are active: an inactive one gets nothing by them.
    let active = |users: &mut dyn Iterator<Item = usize>| -> Vec<usize> {
        users.filter(|user| estate.people().is_active(UserId::new(*user))).collect()
    };
    let mut groups: HashMap<Vec<usize>, Vec<GroupId>> = HashMap::new();
    for group in estate.groups().all() {
        groups.entry(active(&mut estate.groups().users(group).ones())).or_default().push(group);
    }
    many.map(|list| {
        let (first, _) = list[0];
        let s = estate.statement(first);
        let users: Vec<&str> = list.iter().map(|(_, u)| estate.people().id(*u)).collect();
        let mut named: Vec<usize> = list.iter().map(|(_, user)| user.index()).collect();
        named.sort_unstable();
        named.dedup();
        let alike = groups.get(&active(&mut named.iter().copied())).into_iter().flatten();
        let mut alike = alike.filter(|g| named.iter().all(|user| estate.groups().users(**g).contains(*user)));
        let exact = alike.next().copied();
        let serve = match exact {
            Some(group) => format!("group `{}` has exactly these members", estate.groups().id(group)),
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
