//! `overlap`: a permission and a restriction that meet on some triples: which wins, where, on how many.

use super::meetings::sorted;
use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "overlap",
    group: Group::Conflict,
    level: crate::Level::Note,
    what: "a permission and a restriction that meet on some triples: which wins, where, on how many",
    why: "Where two statements disagree, somebody should know that they do.",
    mind: "One is a deliberate exception inside the other, as its reach shows.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let mut found = Vec::new();
    for ((p, d), meeting) in sorted(survey) {
        let (a, b) = (survey.of(*p), survey.of(*d));
        if meeting.triples == 0 || (meeting.triples == a.triples && meeting.triples == b.triples) {
            continue;
        }
        let inside = if meeting.triples == b.triples {
            format!("{} lies wholly inside: an exception", case.named(*d))
        } else if meeting.triples == a.triples {
            format!("{} lies wholly inside: an exception, or a grant that gives nothing", case.named(*p))
        } else {
            "neither lies inside the other".to_string()
        };
        let wins = match meeting.allowed {
            0 => case.named(*d),
            n if n == meeting.triples => case.named(*p),
            n => format!("on {n} {}, on the others {}", case.named(*p), case.named(*d)),
        };
        let message = format!("{} and {} meet", case.named(*p), case.named(*d));
        let one = Found::of(case, *d, message)
            .evidence(format!("on {}; there wins {wins}", many(meeting.triples, "triple")))
            .evidence(inside)
            .example(meeting.example);
        found.push(Found { about: format!("{} / {}", case.stable_name(*p), case.stable_name(*d)), ..one });
    }
    found
}
