//! `no-reason`: a rule or an entry without a reason.

use super::{Descriptor, Group};
use crate::{Case, Found, Survey};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "no-reason",
    group: Group::Stale,
    level: crate::Level::Note,
    what: "a rule or an entry without a reason",
    why: "In two years nobody can say whether it may go.",
    mind: "The reason is in its name.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let live = case.live().filter(|(_, s)| s.because.is_none());
    live.map(|(id, _)| Found::of(case, id, format!("{} does not say why", case.named(id)))).collect()
}
