//! `label-exposure`: resources of a high label that more than a set number of users, or any guest, may read; the most exposed first.

use super::label::from_top;
use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::sweep::{AnyGather, Gather, Here};
use crate::{Case, Found, Survey};
use bastide_engine::evaluate::Evaluator;
use bastide_engine::sets::count;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use rayon::prelude::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "label-exposure",
    group: Group::OverBroad,
    level: crate::Level::Warning,
    what: "resources of a high label that more than a set number of users, or any guest, may read; the most exposed first",
    why: "A label says who should see a thing; what counts is who does.",
    mind: "The label is wider than its name: then set `exposure-steps` or `exposure-users`.",
    check: Check::Resource(check),
};

/// So many findings at least are told by a core that has to get ready for it.
const FEWEST: usize = 64;

/// Resources of a high label by who reads them.
#[derive(Clone)]
struct Exposed {
    read: ActionId,
    by: HashMap<FixedBitSet, Vec<ResourceId>>,
    readers: FixedBitSet,
}

fn check(case: &Case, _: &Survey) -> Option<Box<dyn AnyGather>> {
    let readers = FixedBitSet::with_capacity(case.estate.people().len());
    Some(Box::new(Exposed { read: case.reading()?, by: HashMap::new(), readers }))
}

impl Gather for Exposed {
    fn look(&mut self, case: &Case, survey: &Survey, here: &mut Here) {
        let steps = from_top(case.estate, here.resource);
        if !steps.is_some_and(|steps| f64::from(steps) < case.limits.exposure_steps) {
            return;
        }
        here.allowed(self.read, &mut self.readers);
        let many = f64::from(count::listed(&self.readers)) > case.limits.exposure_users;
        if many || !self.readers.is_disjoint(&survey.guests) {
            match self.by.get_mut(&self.readers) {
                Some(resources) => resources.push(here.resource),
                None => {
                    self.by.insert(self.readers.clone(), vec![here.resource]);
                }
            }
        }
    }

    fn join(&mut self, later: Exposed) {
        for (readers, resources) in later.by {
            self.by.entry(readers).or_default().extend(resources);
        }
    }

    fn found(self, case: &Case, survey: &Survey) -> Vec<Found> {
        let estate = case.estate;
        let mut by: Vec<(FixedBitSet, Vec<ResourceId>)> = self.by.into_iter().collect();
        let counts = |readers: &FixedBitSet| (count::listed(readers), count::both(readers, &survey.guests));
        by.sort_by_cached_key(|(readers, resources)| std::cmp::Reverse((counts(readers), resources[0])));
        let told = |engine: &mut Evaluator, (readers, resources): (FixedBitSet, Vec<ResourceId>)| {
            let ((users, guests), first) = (counts(&readers), resources[0]);
            let path = estate.catalog().path(first);
            let others =
                if resources.len() == 1 { String::new() } else { format!(" and {} more", resources.len() - 1) };
            let about = estate.catalog().id(first).to_string();
            let message =
                format!("`{path}`{others} of a high label can be read by {users} users, {guests} of them guests");
            let shows = |user: &usize| guests == 0 || survey.guests.contains(*user);
            let example = readers.ones().find(shows).map(|user| (UserId::new(user), self.read, first));
            let by = example.and_then(|(user, action, resource)| engine.cause_on(user, action, resource).1);
            let mut one = Found::new(about, Some(estate.catalog().origins[first.index()]), message)
                .example(example)
                .naming_users(estate, readers.ones())
                .naming_resources(estate, resources.iter().copied());
            if let Some(id) = by {
                one = one.evidence(format!("by {}, among others", case.named(id)));
            }
            one.evidence(many(resources.len() as u64, "resource"))
        };
        by.into_par_iter().with_min_len(FEWEST).map_init(|| survey.evaluator(), told).collect()
    }
}
