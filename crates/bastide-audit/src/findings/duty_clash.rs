//! `duty-clash`: a user may do both of two actions declared `apart` on the same resource.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::sweep::{AnyGather, Gather, Here};
use crate::{Case, Found, Survey, Triple};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "duty-clash",
    group: Group::Duties,
    level: crate::Level::Error,
    what: "a user may do both of two actions declared `apart` on the same resource",
    why: "Whoever approves must not pay. One person who can do both can do it alone.",
    mind: "Nobody else is there to do it, and somebody looks at it afterwards.",
    check: Check::Resource(check),
};

/// A declaration, a pair of its duties, and who may do both.
type Clash = (usize, [ActionId; 2], FixedBitSet);

/// By clash, on how many resources, and an example.
#[derive(Clone)]
struct Clashes {
    by: HashMap<Clash, (usize, Triple)>,
    both: FixedBitSet,
    other: FixedBitSet,
}

fn check(case: &Case, _: &Survey) -> Option<Box<dyn AnyGather>> {
    let nobody = || FixedBitSet::with_capacity(case.estate.people().len());
    let clashes = || Clashes { by: HashMap::new(), both: nobody(), other: nobody() };
    (!case.estate.proofs().apart.is_empty()).then(|| Box::new(clashes()) as _)
}

impl Gather for Clashes {
    fn look(&mut self, case: &Case, _: &Survey, here: &mut Here) {
        let estate = case.estate;
        let kind = estate.catalog().kind(here.resource);
        for (at, apart) in estate.proofs().apart.iter().enumerate() {
            if !estate.schema().is_any(kind, apart.kinds.as_deref()) {
                continue;
            }
            let duties: Vec<ActionId> =
                apart.actions.ones().map(ActionId::new).filter(|a| estate.schema().fits(*a, kind)).collect();
            for (i, a) in duties.iter().enumerate() {
                for b in &duties[i + 1..] {
                    here.allowed(*a, &mut self.both);
                    here.allowed(*b, &mut self.other);
                    self.both.intersect_with(&self.other);
                    let Some(user) = self.both.minimum() else { continue };
                    let clash = (at, [*a, *b], self.both.clone());
                    self.by.entry(clash).or_insert((0, (UserId::new(user), *a, here.resource))).0 += 1;
                }
            }
        }
    }

    fn join(&mut self, later: Clashes) {
        for (clash, (resources, example)) in later.by {
            self.by.entry(clash).or_insert((0, example)).0 += resources;
        }
    }

    fn found(self, case: &Case, _: &Survey) -> Vec<Found> {
        let estate = case.estate;
        let mut by: Vec<(Clash, (usize, Triple))> = self.by.into_iter().collect();
        // Each comes with another example: where two come in the same place, the first that was met comes first.
        by.sort_unstable_by_key(|((at, duties, _), (_, (_, _, resource)))| (*at, *duties, *resource));
        let told = by.into_iter().map(|((at, duties, users), (resources, example))| {
            let names: Vec<&str> = users.ones().map(|u| estate.people().id(UserId::new(u))).collect();
            let duties: Vec<&str> = duties.iter().map(|a| estate.schema().actions[a.index()].name.as_str()).collect();
            let shown = names.iter().take(6).copied().collect::<Vec<_>>().join(", ");
            let more = if names.len() > 6 { format!(" and {} more", names.len() - 6) } else { String::new() };
            let message = format!("{shown}{more} may {} on the same resource", duties.join(" and "));
            Found::new(format!("{} {shown}", duties.join(" and ")), Some(estate.proofs().apart[at].origin), message)
                .evidence(many(resources as u64, "resource"))
                .naming_users(estate, users.ones())
                .example(Some(example))
        });
        told.collect()
    }
}
