//! `contradiction`: a permission and a restriction with the same reach.

use super::meetings::sorted;
use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "contradiction",
    group: Group::Conflict,
    level: crate::Level::Error,
    what: "a permission and a restriction with the same reach",
    why: "One of the two says nothing at all, and whoever wrote it does not know.",
    mind: "Never: take one of them out.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let mut found = Vec::new();
    for ((p, d), meeting) in sorted(survey) {
        let (a, b) = (survey.of(*p), survey.of(*d));
        if a.triples == 0 || a.triples != b.triples || meeting.triples != a.triples {
            continue;
        }
        let loser = if meeting.allowed == 0 { *p } else { *d };
        let message = format!("{} and {} say the opposite of the same", case.named(*p), case.named(*d));
        found.push(
            Found::of(case, *p, message)
                .evidence(format!("{} each; allowed among them: {}", many(a.triples, "triple"), meeting.allowed))
                .example(meeting.example)
                .suggest_harmless("to take out the one that never wins", vec![Change::Off(loser)]),
        );
    }
    found
}
