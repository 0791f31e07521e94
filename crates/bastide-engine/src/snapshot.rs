//! An estate at a moment, ready to be asked: what every front end holds.

use crate::cancel::{Cancel, Question};
use crate::change::UserSubset;
use crate::decide::{Decision, ReferenceEvaluator};
use crate::evaluate::{Alone, Evaluator, Ground, Plan, Probe, Tuning, alone};
use bastide_model::*;
use bastide_syntax::Diagnostic;
use fixedbitset::FixedBitSet;
use std::ops::Range;
use std::sync::Arc;

/// An estate at a moment, ready to be asked. Proven free of circles once, and shared by all who ask: a clone costs nothing, and
/// many threads may ask the same one.
#[derive(Clone)]
pub struct Snapshot {
    estate: Arc<Estate>,
    moment: Arc<Moment>,
    plan: Arc<Plan>,
    cancel: Option<Cancel>,
    favourable: bool,
}

impl Snapshot {
    /// An estate at a moment. The parts of the estate are shared. Cost: users and statements once.
    ///
    /// # Errors
    /// The decisions that would depend on themselves on that date.
    pub fn new(estate: &Estate, moment: &Moment) -> Result<Snapshot, Vec<Diagnostic>> {
        Self::tuned(estate, moment, Tuning::of(estate))
    }

    /// The same, with numbers of one's own for what tells narrow from broad. The answers are the same.
    ///
    /// # Errors
    /// The decisions that would depend on themselves on that date.
    pub fn tuned(estate: &Estate, moment: &Moment, tuning: Tuning) -> Result<Snapshot, Vec<Diagnostic>> {
        Ok(Self::of(&ReferenceEvaluator::new(estate, moment)?, false, tuning, None, &[]))
    }

    /// The same, with every missing value taken in the users' favour: an unknown permission applies, an unknown
    /// restriction does not. What it allows and the ordinary one refuses hangs on an unknown.
    pub fn in_favour(&self) -> Snapshot {
        self.anew(true, self.plan.tuning, &[])
    }

    /// The same, with clauses and conditions that are asked by themselves ([`Evaluator::probe`]).
    pub fn asking(&self, probes: &[Probe]) -> Snapshot {
        self.anew(self.favourable, self.plan.tuning, probes)
    }

    /// The same, with numbers of one's own for what tells narrow from broad. The answers are the same.
    pub fn retuned(&self, tuning: Tuning) -> Snapshot {
        self.anew(self.favourable, tuning, &[])
    }

    /// The same estate at the same moment, which was proven free of circles.
    fn anew(&self, favourable: bool, tuning: Tuning, probes: &[Probe]) -> Snapshot {
        Self::of(&ReferenceEvaluator::unchecked(&self.estate, &self.moment), favourable, tuning, Some(self), probes)
    }

    /// An estate that came about by changes of this one's; what the changes leave alone is not worked out again.
    /// Cost: as [`Snapshot::new`], but the tree is walked only where it or its barriers have changed, and beneath the places
    /// of statements that came.
    ///
    /// # Errors
    /// The decisions that would depend on themselves on that date.
    pub fn beside(&self, estate: &Estate, moment: &Moment) -> Result<Snapshot, Vec<Diagnostic>> {
        let reference = ReferenceEvaluator::new(estate, moment)?;
        Ok(Self::of(&reference, self.favourable, self.plan.tuning, Some(self), &[]))
    }

    /// As [`Snapshot::beside`], where statements have gone and nothing else has changed: then no circle comes.
    pub fn without(&self, estate: &Estate) -> Snapshot {
        let moment = &self.moment;
        Self::of(&ReferenceEvaluator::unchecked(estate, moment), self.favourable, self.plan.tuning, Some(self), &[])
    }

    /// The same estate with these users alone, each with the place among them as number: nobody else is looked at, and these may do
    /// the same. Statements keep their numbers. Cost: users, statements and resources once.
    pub(crate) fn restricted_to(&self, users: &UserSubset) -> Snapshot {
        let (estate, moment) = (users.estate(&self.estate), &self.moment);
        let reference = ReferenceEvaluator::unchecked(&estate, moment);
        Self::of(&reference, self.favourable, Tuning::of(&estate), Some(self), &[])
    }

    fn of(
        reference: &ReferenceEvaluator,
        favourable: bool,
        tuning: Tuning,
        beside: Option<&Snapshot>,
        probes: &[Probe],
    ) -> Snapshot {
        let estate = reference.estate();
        let plan = Plan::new(reference, favourable, tuning, beside.map(|other| (&*other.estate, &*other.plan)), probes);
        Snapshot {
            estate: Arc::new(estate.clone()),
            moment: Arc::new(reference.moment().clone()),
            plan: Arc::new(plan),
            cancel: beside.and_then(|other| other.cancel.clone()),
            favourable,
        }
    }

    /// The same, for a question that can be stopped ([`Cancel::ask`](crate::Cancel::ask)), as are snapshots that are made of it.
    /// It is not to be kept beyond the question: what it tells after the stop is not the answer.
    #[must_use]
    pub fn cancellable(mut self, question: &Question) -> Snapshot {
        self.cancel = Some(question.cancel().clone());
        self
    }

    /// Resources one after the other. Where the question is stopped, there are no more.
    pub fn until_stopped<T>(&self, resources: impl IntoIterator<Item = T>) -> impl Iterator<Item = T> {
        resources.into_iter().take_while(|_| !self.is_stopped())
    }

    /// Whether the question is stopped, so that what is told from now on is not the answer.
    pub(crate) fn is_stopped(&self) -> bool {
        self.cancel.as_ref().is_some_and(Cancel::is_met)
    }

    /// The estate.
    pub fn estate(&self) -> &Estate {
        &self.estate
    }

    /// The moment.
    pub fn moment(&self) -> &Moment {
        &self.moment
    }

    /// Whether a missing value is taken in the users' favour.
    pub fn is_favourable(&self) -> bool {
        self.favourable
    }

    /// Decides one triple, by the specification evaluator. Cost: statements once; whoever asks much at a time asks a
    /// [`Snapshot::reference`], or an [`Snapshot::evaluator`].
    pub fn decide(&self, user: UserId, action: ActionId, resource: ResourceId) -> Decision {
        self.reference().decide(user, action, resource)
    }

    /// The specification evaluator, for one thread.
    pub fn reference(&self) -> ReferenceEvaluator<'_> {
        let reference = ReferenceEvaluator::unchecked(&self.estate, &self.moment);
        let reference = if self.favourable { reference.favourable() } else { reference };
        reference.cancellable(self.cancel.as_ref())
    }

    /// What one thread evaluates with: all users of a resource at once.
    pub fn evaluator(&self) -> Evaluator<'_> {
        Evaluator::of_all(self.ground())
    }

    /// The same, for some of the actions. What these hang on must be among them; the others have no meaning to it.
    pub(crate) fn evaluator_of(&self, actions: FixedBitSet) -> Evaluator<'_> {
        Evaluator::new(self.ground(), actions)
    }

    pub(crate) fn ground(&self) -> Ground<'_> {
        Ground { estate: &self.estate, moment: &self.moment, plan: &self.plan, cancel: self.cancel.as_ref() }
    }

    /// By statement, what is solely its doing: what would be otherwise without it. The catalog is gone through in `shares`, each
    /// by a core of its own, as far as none takes over; `of`: only these statements. None where the estate has what cannot be told for all statements at
    /// once: layers, or conditions that look at decisions. Cost: every resource once, and words for each statement that takes
    /// somebody there.
    pub fn alone(&self, shares: Vec<Range<u32>>, of: Option<&[StatementId]>) -> Option<Vec<Alone>> {
        alone(self.ground(), shares, of)
    }

    /// The rule of a statement, where it is in force and can apply to anybody.
    pub(crate) fn rule_of(&self, id: StatementId) -> Option<u32> {
        self.plan.rule(id)
    }

    /// So many words of users who gain or lose something are kept.
    pub(crate) fn told(&self) -> usize {
        self.plan.tuning.told
    }
}
