//! The specification evaluator: one user, one action, one resource at a time, step by step as the
//! decision procedure says. It is the yardstick; clarity goes before speed.
//!
//! What a statement says of a user alone, and of a resource alone, is worked out once and kept,
//! and so are the decisions that needs ask for. Nothing else is clever.

mod condition;
pub mod place;
mod stratify;
mod weigh;

pub use stratify::stratification;

use crate::cancel::Cancel;
use bastide_model::schema::{Need, Target};
use bastide_model::*;
use hashbrown::HashMap;
use std::cell::{Cell, OnceCell, RefCell};
use std::sync::Arc;

/// Why an outcome is what it is, in the order of the steps.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum Reason {
    /// Permitted by a `may`.
    Granted,
    /// Permitted by a `may always`.
    Assured,
    /// The user is not active.
    Inactive,
    /// A `may never`, or a `may only` that does not list the action.
    Capped,
    /// A `may not` decides.
    Denied,
    /// Nothing permits it, or the action has no meaning here.
    Silent,
    /// Permitted, but a need is not met.
    Blocked,
}

impl Reason {
    /// All, in order.
    pub const ALL: [Reason; 7] = [
        Reason::Granted,
        Reason::Assured,
        Reason::Inactive,
        Reason::Capped,
        Reason::Denied,
        Reason::Silent,
        Reason::Blocked,
    ];

    /// Whether the outcome is allowed.
    pub fn is_allowed(self) -> bool {
        matches!(self, Reason::Granted | Reason::Assured)
    }

    /// As it is written everywhere.
    pub fn word(self) -> &'static str {
        match self {
            Reason::Granted => "granted",
            Reason::Assured => "assured",
            Reason::Inactive => "inactive",
            Reason::Capped => "capped",
            Reason::Denied => "denied",
            Reason::Silent => "silent",
            Reason::Blocked => "blocked",
        }
    }
}

/// An outcome and what decided it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Decision {
    /// Why.
    pub reason: Reason,
    /// The first statement, in policy order, that decided; none where nothing did.
    pub by: Option<StatementId>,
    /// The need that is not met, where that is the reason.
    pub need: Option<Need>,
}

impl Decision {
    /// Whether it is allowed.
    pub fn is_allowed(self) -> bool {
        self.reason.is_allowed()
    }

    fn new(reason: Reason, by: Option<StatementId>) -> Decision {
        Decision { reason, by, need: None }
    }
}

/// A statement that reaches a resource.
pub(crate) struct Candidate {
    pub id: StatementId,
    /// Depth of its anchor.
    pub depth: u16,
    /// Its `where`, where that is the same for every user.
    pub place_truth: Option<Truth>,
}

/// What reaches a resource, and which layer controls it.
pub(crate) struct Candidates {
    pub list: Vec<Candidate>,
    pub layer: Option<LayerId>,
}

/// Where less of the stack than this is left, it grows by a segment.
pub(crate) const RED_ZONE: usize = 128 << 10;
/// By how much it grows.
pub(crate) const SEGMENT: usize = 2 << 20;

/// How many needs' decisions are kept before they are forgotten: a bound on memory.
const MOST_KEPT: usize = 64 << 20;
/// How many resources' candidates are kept.
const MOST_CANDIDATES: usize = 8192;

/// By user; none where it was not asked yet.
type UserTruths = Box<[Cell<Option<Truth>>]>;

/// Answers for one moment.
pub struct ReferenceEvaluator<'e> {
    pub(crate) estate: &'e Estate,
    pub(crate) moment: &'e Moment,
    /// Statements that are on and in date, in policy order.
    pub(crate) live: Vec<StatementId>,
    /// For each statement and user: what its who and while say, where they mention no resource.
    /// Made when the statement is first asked about: there may be many statements and many users.
    user_truths: Vec<Option<OnceCell<UserTruths>>>,
    groups: RefCell<HashMap<(GroupId, UserId), Truth>>,
    candidates: RefCell<HashMap<ResourceId, Arc<Candidates>>>,
    kept: RefCell<HashMap<ResourceId, Vec<Option<bool>>>>,
    /// Whether a missing value is taken in the user's favour; see [`ReferenceEvaluator::favourable`].
    favourable: bool,
    cancel: Option<&'e Cancel>,
}

/// The resources a target leads to.
pub(crate) struct Targets {
    pub found: Vec<ResourceId>,
    /// Whether one is wanted that is not there, so that a need on it cannot be met.
    pub unmet: bool,
}

/// Resolves a target from a resource.
pub(crate) fn targets(estate: &Estate, resource: ResourceId, target: Target) -> Targets {
    let catalog = estate.catalog();
    match target {
        Target::Own => Targets { found: vec![resource], unmet: false },
        Target::Parent => Targets { found: catalog.parent(resource).into_iter().collect(), unmet: false },
        Target::Source => {
            let mut targets = Targets { found: Vec::new(), unmet: false };
            for source in catalog.sources(resource) {
                match source {
                    Source::Resource(found) => targets.found.push(*found),
                    Source::Missing(_) => targets.unmet = true,
                }
            }
            targets
        }
        Target::Kind(kind) => {
            let above = catalog.upward(resource).skip(1).find(|r| estate.schema().is_kind(catalog.kind(*r), kind));
            Targets { unmet: above.is_none(), found: above.into_iter().collect() }
        }
    }
}

impl<'e> ReferenceEvaluator<'e> {
    /// Another one for the same moment, for another thread.
    pub fn again(&self) -> Self {
        ReferenceEvaluator {
            favourable: self.favourable,
            cancel: self.cancel,
            ..Self::unchecked(self.estate, self.moment)
        }
    }

    /// One that settles every missing value in the user's favour: an unknown permission
    /// applies, an unknown restriction does not. Where it allows what the ordinary one refuses,
    /// the decision hangs on an unknown.
    pub fn favourable(&self) -> Self {
        ReferenceEvaluator { favourable: true, cancel: self.cancel, ..Self::unchecked(self.estate, self.moment) }
    }

    /// One of conditions alone: it knows of no statements.
    pub(crate) fn asking(estate: &'e Estate, moment: &'e Moment) -> Self {
        ReferenceEvaluator {
            estate,
            moment,
            live: Vec::new(),
            user_truths: Vec::new(),
            groups: RefCell::default(),
            candidates: RefCell::default(),
            kept: RefCell::default(),
            favourable: false,
            cancel: None,
        }
    }

    pub(crate) fn unchecked(estate: &'e Estate, moment: &'e Moment) -> Self {
        let on = |s: &Statement| s.is_on() && s.in_date(moment.date);
        let live = StatementId::all(estate.statements().len()).filter(|id| on(estate.statement(*id))).collect();
        let user_truths = estate
            .statements()
            .iter()
            .map(|s| {
                let alone = !s.who.mentions_resource() && s.condition.as_ref().is_none_or(|c| !c.mentions().resource);
                alone.then(OnceCell::new)
            })
            .collect();
        ReferenceEvaluator {
            estate,
            moment,
            live,
            user_truths,
            groups: RefCell::default(),
            candidates: RefCell::default(),
            kept: RefCell::default(),
            favourable: false,
            cancel: None,
        }
    }

    /// The same, whose questions can be stopped.
    pub(crate) fn cancellable(self, cancel: Option<&'e Cancel>) -> Self {
        ReferenceEvaluator { cancel, ..self }
    }

    /// The estate.
    pub fn estate(&self) -> &'e Estate {
        self.estate
    }

    /// The moment.
    pub fn moment(&self) -> &'e Moment {
        self.moment
    }

    /// The decision on one triple.
    pub fn decide(&self, user: UserId, action: ActionId, resource: ResourceId) -> Decision {
        if self.cancel.is_some_and(Cancel::is_met) {
            let nothing = Candidates { list: Vec::new(), layer: None };
            return self.decide_among(&nothing, user, action, resource);
        }
        // Needs lead from one resource to the next, up a deep tree or along many links: the stack grows with them.
        stacker::maybe_grow(RED_ZONE, SEGMENT, || self.decide_among(&self.candidates(resource), user, action, resource))
    }

    /// Whether one triple is allowed. Answers are kept: needs ask the same of a parent many times.
    pub fn allows(&self, user: UserId, action: ActionId, resource: ResourceId) -> bool {
        let actions = self.estate.schema().actions.len();
        let at = user.index() * actions + action.index();
        if let Some(known) = self.kept.borrow().get(&resource).and_then(|row| row[at]) {
            return known;
        }
        let allowed = self.decide(user, action, resource).is_allowed();
        let mut kept = self.kept.borrow_mut();
        let row = actions * self.estate.people().len();
        if (kept.len() + 1) * row > MOST_KEPT {
            kept.clear();
        }
        kept.entry(resource).or_insert_with(|| vec![None; row])[at] = Some(allowed);
        allowed
    }

    /// Whether a need is met for a user on a resource.
    pub fn meets(&self, user: UserId, need: Need, resource: ResourceId) -> bool {
        let targets = targets(self.estate, resource, need.target);
        !targets.unmet && targets.found.iter().all(|t| self.allows(user, need.action, *t))
    }

    /// The statements that reach a resource.
    pub(crate) fn candidates(&self, resource: ResourceId) -> Arc<Candidates> {
        if let Some(known) = self.candidates.borrow().get(&resource) {
            return Arc::clone(known);
        }
        let made = Arc::new(self.find_candidates(resource));
        // A leaf is asked about once, by itself; what lies above others is asked about again.
        if !self.estate.catalog().is_leaf(resource) {
            let mut kept = self.candidates.borrow_mut();
            if kept.len() >= MOST_CANDIDATES {
                kept.clear();
            }
            kept.insert(resource, Arc::clone(&made));
        }
        made
    }
}
