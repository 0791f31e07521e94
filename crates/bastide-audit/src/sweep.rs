//! One pass over all resources, by all cores, that feeds every check of resources: what is decided on a resource is decided
//! once, whoever asks for it.

use crate::{Case, Found, Survey};
use bastide_engine::evaluate::{Evaluator, Work};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use rayon::prelude::*;
use std::any::Any;

/// A resource on which everything was decided.
pub struct Here<'h, 's> {
    /// Which one.
    pub resource: ResourceId,
    /// What was decided.
    pub work: Work<'s>,
    /// Answers further questions about it.
    pub engine: &'h mut Evaluator<'s>,
}

impl Here<'_, '_> {
    /// Puts those for whom an action is allowed into a list, which is overwritten.
    pub fn allowed(&mut self, action: ActionId, users: &mut FixedBitSet) {
        self.engine.allowed_users(&self.work, action, users);
    }
}

/// What one check gathers, on one core, of a share of the resources: each begins as a copy of the first, which saw none.
pub trait Gather: Clone + Send + Sync + 'static {
    /// Takes a resource in. They come in the order of the tree.
    fn look(&mut self, case: &Case, survey: &Survey, here: &mut Here);

    /// Adds what was gathered of the resources that follow.
    fn join(&mut self, later: Self);

    /// What comes of it.
    fn found(self, case: &Case, survey: &Survey) -> Vec<Found>;
}

/// A [`Gather`] of any type, so that the checks of resources are a list.
pub trait AnyGather: Any + Send + Sync {
    /// A copy.
    fn again(&self) -> Box<dyn AnyGather>;

    /// As [`Gather::look`].
    fn look(&mut self, case: &Case, survey: &Survey, here: &mut Here);

    /// As [`Gather::join`], with one of the same type.
    fn join(&mut self, later: Box<dyn AnyGather>);

    /// As [`Gather::found`].
    fn found(self: Box<Self>, case: &Case, survey: &Survey) -> Vec<Found>;
}

impl<G: Gather> AnyGather for G {
    fn again(&self) -> Box<dyn AnyGather> {
        Box::new(self.clone())
    }

    fn look(&mut self, case: &Case, survey: &Survey, here: &mut Here) {
        Gather::look(self, case, survey, here);
    }

    fn join(&mut self, later: Box<dyn AnyGather>) {
        let later: Box<dyn Any> = later;
        Gather::join(self, *later.downcast().expect("shares are gathered by the same checks"));
    }

    fn found(self: Box<Self>, case: &Case, survey: &Survey) -> Vec<Found> {
        Gather::found(*self, case, survey)
    }
}

/// How a check of resources begins: nothing where there is nothing to look for.
pub type Begin = fn(&Case, &Survey) -> Option<Box<dyn AnyGather>>;

/// What the checks find, in their order. Cost: everything decided once on each resource, and what each check does there.
pub fn sweep(case: &Case, survey: &Survey, checks: &[Begin]) -> Vec<Vec<Found>> {
    let mut whole: Vec<Option<Box<dyn AnyGather>>> = checks.iter().map(|begin| begin(case, survey)).collect();
    if whole.iter().all(Option::is_none) {
        return checks.iter().map(|_| Vec::new()).collect();
    }
    let gathered = crate::survey::shares(case.estate.catalog().len()).into_par_iter().with_max_len(1).map(|share| {
        let mut engine = survey.evaluator();
        let mut gathers: Vec<Option<Box<dyn AnyGather>>> =
            whole.iter().map(|gather| gather.as_ref().map(|gather| gather.again())).collect();
        for resource in share.map(ResourceId) {
            let work = engine.decide(resource);
            let mut here = Here { resource, work, engine: &mut engine };
            for gather in gathers.iter_mut().flatten() {
                gather.look(case, survey, &mut here);
            }
            let Here { work, .. } = here;
            engine.done(work);
        }
        gathers
    });
    for share in gathered.collect::<Vec<_>>() {
        for (own, later) in whole.iter_mut().zip(share) {
            if let (Some(own), Some(later)) = (own, later) {
                own.join(later);
            }
        }
    }
    let found = |gather: Option<Box<dyn AnyGather>>| gather.map_or_else(Vec::new, |gather| gather.found(case, survey));
    whole.into_par_iter().with_max_len(1).map(found).collect()
}
