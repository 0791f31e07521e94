//! `inactive-member`: an inactive user who is still named, or still in a group that gives more than harmless access.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::condition::Term;
use bastide_model::groups::Member;
use bastide_model::*;
use std::collections::BTreeSet;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "inactive-member",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "an inactive user who is still named, or still in a group that gives more than harmless access",
    why: "The day the account is switched on again, everything is back.",
    mind: "The account sleeps, and is to come back as it was.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut powerful: BTreeSet<GroupId> = BTreeSet::new();
    for (id, s) in case.live().filter(|(_, s)| s.modality.permits() && case.is_harmful(s)) {
        if survey.of(id).touches {
            powerful.extend(s.who.terms.iter().filter_map(|t| if let Term::Members(g) = t { Some(*g) } else { None }));
        }
    }
    let mut found = Vec::new();
    let by_user = case.by_user();
    for user in estate.people().all().filter(|u| !estate.people().is_active(*u)) {
        let groups: Vec<&str> = powerful
            .iter()
            .filter(|g| estate.groups().users(**g).contains(user.index()))
            .map(|g| estate.groups().id(*g))
            .collect();
        let named: Vec<String> = by_user.get(&user).into_iter().flatten().map(|id| case.named(*id)).collect();
        if groups.is_empty() && named.is_empty() {
            continue;
        }
        let id = estate.people().id(user);
        let mut one =
            Found::new(id, Some(estate.people().origin(user)), format!("`{id}` is inactive and still has a place"));
        one = one.naming(groups.iter().map(|group| format!("group {group}"))).naming(named.iter().cloned());
        if !groups.is_empty() {
            one = one.evidence(format!("in {}", groups.join(", ")));
        }
        if !named.is_empty() {
            one = one.evidence(format!("named in {}", named.join(", ")));
        }
        let changes = estate.groups().direct(user).iter().map(|g| Change::Leave(Member::User(user), *g)).collect();
        found.push(one.suggest_harmless("to end the memberships, which changes nothing today", changes));
    }
    found
}
