//! `group-cycle`: groups that contain each other.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_model::groups::Member;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "group-cycle",
    group: Group::Stale,
    level: crate::Level::Warning,
    what: "groups that contain each other",
    why: "Every one of them has the same members. Nobody can say any more which is the wider one.",
    mind: "Never: take one of the links out.",
    check: Check::Policy(check),
};

/// Of a longer circle the rest is counted.
const MOST_TOLD: usize = 20;

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let groups = case.estate.groups();
    let mut found = Vec::new();
    for all in groups.circles() {
        let (group, circle) = (all[0], &all[1..]);
        let names: Vec<&str> = all.iter().map(|g| groups.id(*g)).collect();
        let told = match names.len().checked_sub(MOST_TOLD) {
            Some(more @ 1..) => format!("{} and {more} more", names[..MOST_TOLD].join(", ")),
            _ => names.join(", "),
        };
        let inner = circle.iter().find(|g| groups.origin(group, Member::Group(**g)).is_some());
        let origin = inner.and_then(|g| groups.origin(group, Member::Group(*g)));
        let mut one = Found::new(names.join(", "), origin, format!("groups {told} contain each other"));
        if let Some(inner) = inner {
            one = one.suggest("to open the circle", vec![Change::Leave(Member::Group(*inner), group)]);
        }
        found.push(one);
    }
    found
}
