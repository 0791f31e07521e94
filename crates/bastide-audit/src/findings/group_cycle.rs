//! `group-cycle`: groups that contain each other.

use super::{Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::groups::Member;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "group-cycle",
    group: Group::Stale,
    level: crate::Level::Warning,
    what: "groups that contain each other",
    why: "Every one of them has the same members. Nobody can say any more which is the wider one.",
    mind: "Never: take one of the links out.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let groups = &case.estate.groups;
    let mut told: Vec<GroupId> = Vec::new();
    let mut found = Vec::new();
    for group in groups.all() {
        let beneath: Vec<GroupId> = groups.beneath(group).into_iter().filter(|g| *g != group).collect();
        let circle: Vec<GroupId> = beneath.into_iter().filter(|g| groups.beneath(*g).contains(&group)).collect();
        if circle.is_empty() || told.contains(&group) {
            continue;
        }
        told.extend(&circle);
        let names: Vec<&str> = std::iter::once(&group).chain(&circle).map(|g| groups.id(*g)).collect();
        let inner = circle.iter().find(|g| groups.origin(group, Member::Group(**g)).is_some());
        let origin = inner.and_then(|g| groups.origin(group, Member::Group(*g)));
        let mut one = Found::new(names.join(", "), origin, format!("groups {} contain each other", names.join(", ")));
        if let Some(inner) = inner {
            one = one.suggest("to open the circle", vec![Change::Leave(Member::Group(*inner), group)]);
        }
        found.push(one);
    }
    found
}
