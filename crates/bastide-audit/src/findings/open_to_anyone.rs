//! `open-to-anyone`: a permission for `anyone`, with no condition on the user, for more than harmless actions, or for anything on a resource whose label is above the lowest.

use super::label::Labelled;
use super::{Check, Descriptor, Group};
use crate::sweep::{AnyGather, Gather, Here};
use crate::{Case, Found, Survey};
use bastide_model::condition::Term;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "open-to-anyone",
    group: Group::OverBroad,
    level: crate::Level::Error,
    what: "a permission for `anyone`, with no condition on the user, for more than harmless actions, or for anything on a resource whose label is above the lowest",
    why: "Whoever has an account has it, guests and services too, and so will everybody who comes. Such defaults are made while a platform is set up and stay.",
    mind: "The action is harmless in this estate after all: then list it in `[audit] harmless`.",
    check: Check::Resource(check),
};

/// The permissions for anyone that nothing on the user narrows.
#[derive(Clone)]
struct Open(Labelled);

fn check(case: &Case, survey: &Survey) -> Option<Box<dyn AnyGather>> {
    let open = case.live().filter(|(id, s)| {
        let narrowed = s.conditions().any(|c| c.mentions().user);
        s.modality.permits() && s.who.terms.contains(&Term::Anyone) && !narrowed && survey.of(*id).pairs > 0
    });
    let open = Labelled::of(case, open.map(|(id, _)| id));
    open.map(|open| Box::new(Open(open)) as _)
}

impl Gather for Open {
    fn look(&mut self, case: &Case, _: &Survey, here: &mut Here) {
        self.0.look(case, here);
    }

    fn join(&mut self, later: Open) {
        self.0.join(later.0);
    }

    fn found(self, case: &Case, survey: &Survey) -> Vec<Found> {
        let told = self.0.statements.into_iter().filter_map(|on| {
            let id = on.id;
            on.open(case, survey, |what| format!("{} lets anyone {what}", case.named(id)), None)
        });
        told.collect()
    }
}
