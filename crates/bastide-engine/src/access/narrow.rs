//! The steps by which a statement narrows whom and what it reaches.

use crate::decide::place::anchor;
use crate::evaluate::{Evaluator, Probe};
use crate::sets::count;
use bastide_model::condition::{Condition, Who};
use bastide_model::*;
use fixedbitset::FixedBitSet;

/// A step by which a statement narrows whom and what it reaches.
pub enum ReachStep<'e> {
    /// The terms of its who-clause.
    Terms(&'e Who),
    /// Its kinds.
    Kinds,
    /// Its places, barriers included.
    Places,
    /// One of its conditions.
    Condition(&'e Condition),
}

/// The steps of a statement, in the order in which its text is read.
pub fn steps(statement: &Statement) -> Vec<ReachStep<'_>> {
    let mut steps = vec![ReachStep::Terms(&statement.who)];
    steps.extend(statement.who.condition.iter().flat_map(Condition::conjuncts).map(ReachStep::Condition));
    if statement.what.kinds.is_some() {
        steps.push(ReachStep::Kinds);
    }
    if statement.what.places.is_some() {
        steps.push(ReachStep::Places);
    }
    for condition in [&statement.what.condition, &statement.condition].into_iter().flatten() {
        steps.extend(condition.conjuncts().into_iter().map(ReachStep::Condition));
    }
    steps
}

/// What is asked for the steps: of each for whom it holds for certain, and for whom it may. Steps that hang on the
/// resource's place and kind alone ask for nothing; they have a place among these all the same.
pub fn narrowing<'e>(steps: &[ReachStep<'e>]) -> Vec<Probe<'e>> {
    // Never asked for; something must stand there.
    let terms = steps.iter().find_map(|step| if let ReachStep::Terms(who) = step { Some(*who) } else { None });
    let probe = |step: &ReachStep<'e>, open: bool| match step {
        ReachStep::Terms(who) => Some(Probe::Terms(who, open)),
        ReachStep::Condition(condition) => Some(Probe::Condition(condition, open)),
        ReachStep::Kinds | ReachStep::Places => terms.map(|who| Probe::Terms(who, open)),
    };
    steps.iter().flat_map(|step| [false, true].map(|open| probe(step, open))).flatten().collect()
}

/// Who is left, step by step.
pub struct Narrowed {
    yes: FixedBitSet,
    open: FixedBitSet,
    room: FixedBitSet,
}

impl Narrowed {
    /// Room for the users of an estate.
    pub fn new(estate: &Estate) -> Narrowed {
        let room = || FixedBitSet::with_capacity(estate.people().len());
        Narrowed { yes: room(), open: room(), room: room() }
    }

    /// Narrows on a resource, by a snapshot with what [`narrowing`] asks for. `see` is shown who is left after each step.
    pub fn narrow(
        &mut self,
        engine: &mut Evaluator,
        statement: &Statement,
        steps: &[ReachStep],
        resource: ResourceId,
        mut see: impl FnMut(usize, &FixedBitSet),
    ) {
        let estate = engine.estate();
        let Narrowed { yes, open, room } = self;
        yes.insert_range(..);
        open.insert_range(..);
        let mut work = engine.look(resource);
        for (at, step) in steps.iter().enumerate() {
            let holds = match step {
                ReachStep::Kinds => {
                    estate.schema().is_any(estate.catalog().kind(resource), statement.what.kinds.as_deref())
                }
                ReachStep::Places => anchor(estate, statement, resource).is_some(),
                ReachStep::Terms(_) | ReachStep::Condition(_) if !open.is_clear() => {
                    engine.probe(&mut work, 2 * at, room);
                    yes.intersect_with(room);
                    engine.probe(&mut work, 2 * at + 1, room);
                    open.intersect_with(room);
                    true
                }
                ReachStep::Terms(_) | ReachStep::Condition(_) => true,
            };
            if !holds {
                yes.clear();
                open.clear();
            }
            see(at, if statement.modality.permits() { yes } else { open });
        }
        engine.done(work);
    }

    /// Who is left in the end: of a permission those for whom it holds for certain, of a restriction those for whom it may.
    pub fn left(&self, statement: &Statement) -> &FixedBitSet {
        if statement.modality.permits() { &self.yes } else { &self.open }
    }

    /// For how many users it cannot be said.
    pub fn undecided(&self) -> u64 {
        u64::from(count::listed(&self.open) - count::listed(&self.yes))
    }
}
