//! Everybody's access on many resources.
//!
//! [`sweep`] decides every triple of given users and resources with the set engine and hands the
//! rows over one by one in order, in memory that does not grow with their number. What is made of the
//! rows stands in the other files: the table, the summary, one user's access, who has access.

mod agreement;
mod among;
mod batch;
mod compare;
mod counts;
mod grid;
mod hanging;
mod holders;
mod known;
mod ledger;
mod matrix;
mod narrow;
mod person;
mod reach;
mod statements;
mod summary;
mod tally;
mod totals;
mod turning;
mod turns;

pub use agreement::{Agreeing, Agreement, Claim, Differing, Example, agreement};
pub use compare::{Apart, Beside, Comparison, Party, compare};
pub use counts::{Alike, Asked, DecisionRow, Keys, counts, rows};
pub use grid::{AccessGrid, GridCell, grid};
pub use hanging::{Hanging, hanging};
pub use holders::{Holder, HolderProfile, Holders, HoldersBy, holders};
pub use known::{Known, Subject, known};
pub use ledger::{Ledger, LedgerLine, ledger, ledger_of};
pub use matrix::{Matrix, MatrixProfile, MatrixRow, TooLarge, matrix};
pub use narrow::{Narrowed, ReachStep, narrowing, steps};
pub(crate) use person::computed_groups;
pub use person::{Branch, Extent, InGroup, KindCount, Person, Through, in_groups, person};
pub use reach::{Elsewhere, Narrowing, Reached, asleep, narrowed, reach};
pub use statements::{Listed, Reaches, Statements, reaches, statements};
pub use summary::{Done, Running, Summary, summary};
pub use tally::Portion;
pub use totals::{Totals, totals};
pub use turns::{TurnDay, Turns, turns};

pub use crate::shares::{Shares, shares};

use crate::decide::Decision;
use crate::evaluate::{Evaluator, Work};
use crate::sets::Bits;
use crate::snapshot::Snapshot;
use among::Among;
use bastide_model::*;
use std::cell::RefCell;

/// The decisions on one resource, for the users of a sweep.
pub struct Row<'r, 's> {
    /// The resource.
    pub resource: ResourceId,
    engine: RefCell<(&'r mut Evaluator<'s>, &'r mut Work<'s>)>,
    among: &'r Among,
}

impl<'r, 's> Row<'r, 's> {
    fn of(resource: ResourceId, engine: (&'r mut Evaluator<'s>, &'r mut Work<'s>), among: &'r Among) -> Row<'r, 's> {
        Row { resource, engine: RefCell::new(engine), among }
    }

    /// The decision on an action for the user at a position of the users asked for.
    pub fn decision(&self, user: usize, action: ActionId) -> Decision {
        let (engine, work) = &mut *self.engine.borrow_mut();
        let (reason, by) = engine.cause_in(work, action, self.among.users()[user]);
        Decision { reason, by, need: None }
    }

    /// The allowed actions of the user at a position.
    pub fn allowed(&self, user: usize) -> impl Iterator<Item = ActionId> + '_ {
        let user = self.among.users()[user];
        let actions = ActionId::all(self.engine.borrow().0.estate().schema().actions.len());
        actions.filter(move |action| {
            let (engine, work) = &*self.engine.borrow();
            engine.allows_in(work, *action, user)
        })
    }

    /// Calls `each` with everybody for whom an action is allowed; with others than were asked for, it may be. `words` is
    /// room for it.
    pub fn everybody(&self, action: ActionId, words: &mut Vec<u64>, mut each: impl FnMut(usize)) {
        let (engine, work) = &*self.engine.borrow();
        words.resize(engine.sets().width(), 0);
        engine.allowed_words(work, action, words);
        let mut told = |number: usize| each(self.among.whole(number).index());
        words.iter().enumerate().for_each(|(at, word)| Bits(*word).for_each(|bit| told(at * 64 + bit)));
    }
}

/// Decides every action for every user on every resource and gives the rows to `each`, in order.
/// Memory does not grow with the rows. Where the users are few, nobody else is looked at.
///
/// # Errors
/// Whatever `each` gives back; it is not called again.
pub fn sweep<E>(
    snapshot: &Snapshot,
    users: &[UserId],
    resources: &[ResourceId],
    each: impl FnMut(Row) -> Result<(), E>,
) -> Result<(), E> {
    Among::of(snapshot, users, resources.len()).sweep(resources.iter().copied(), each)
}
