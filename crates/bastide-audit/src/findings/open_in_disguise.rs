//! `open-in-disguise`: a permission for anyone whose condition on the user is true of nearly everybody.

use super::label::Labelled;
use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::sweep::{AnyGather, Gather, Here};
use crate::{Case, Found, Survey};
use bastide_model::condition::{Condition, Term};
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "open-in-disguise",
    group: Group::OverBroad,
    level: crate::Level::Error,
    what: "a permission for `anyone` with a condition on the user that is true of nearly everybody, for more than harmless actions, or for anything on a resource whose label is above the lowest",
    why: "It reads as if it chose somebody, and it chooses everybody who has an account.",
    mind: "The condition is about to mean fewer: then fill the attribute in first.",
    check: Check::Resource(check),
};

/// The permissions for anyone whose condition chooses nobody, and of how many active users that is true.
#[derive(Clone)]
struct Disguised {
    open: Labelled,
    numbers: Vec<usize>,
    active: usize,
}

fn check(case: &Case, survey: &Survey) -> Option<Box<dyn AnyGather>> {
    let reference = survey.reference();
    let estate = case.estate;
    let active: Vec<UserId> = estate.people().all().filter(|u| estate.people().is_active(*u)).collect();
    let mut numbers = Vec::new();
    let open = case.live().filter(|(id, s)| {
        // What asks for user and resource together chooses somebody else on each.
        let about = |c: &&Condition| c.mentions().user && !c.mentions().resource && !c.mentions().session;
        let parts: Vec<&Condition> = s.conditions().flat_map(Condition::conjuncts).collect();
        let narrowing: Vec<&Condition> = parts.iter().copied().filter(about).collect();
        let others = parts.iter().any(|c| c.mentions().user && !about(c));
        if !s.modality.permits()
            || !s.who.terms.contains(&Term::Anyone)
            || narrowing.is_empty()
            || others
            || survey.of(*id).pairs == 0
        {
            return false;
        }
        let meant = |user: &&UserId| narrowing.iter().all(|c| reference.condition(c, Some(**user), None).is_true());
        let number = active.iter().filter(meant).count();
        let nearly = number as f64 >= case.limits.nearly_everybody * active.len() as f64;
        if nearly {
            numbers.push(number);
        }
        nearly
    });
    let open = Labelled::of(case, open.map(|(id, _)| id))?;
    Some(Box::new(Disguised { open, numbers, active: active.len() }))
}

impl Gather for Disguised {
    fn look(&mut self, case: &Case, _: &Survey, here: &mut Here) {
        self.open.look(case, here);
    }

    fn join(&mut self, later: Disguised) {
        self.open.join(later.open);
    }

    fn found(self, case: &Case, survey: &Survey) -> Vec<Found> {
        let told = self.open.statements.into_iter().zip(self.numbers).filter_map(|(on, number)| {
            let named = case.named(on.id);
            let message =
                |what: &str| format!("{named} lets nearly anyone {what}: its condition is true of nearly everybody");
            let shows = format!("it is true of {number} of {}", many(self.active as u64, "active user"));
            on.open(case, survey, message, Some(shows))
        });
        told.collect()
    }
}
