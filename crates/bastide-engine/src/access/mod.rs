//! Everybody's access on many resources.
//!
//! [`sweep`] decides every triple of given users and resources with the set engine and hands the
//! rows over one by one in order, in memory that does not grow with their number. What is made of the
//! rows stands in the other files: the table, the summary, one user's access, who has access.

mod batch;
mod compare;
mod hanging;
mod holders;
mod known;
mod ledger;
mod matrix;
mod person;
mod profiles;
mod reach;
mod statements;
mod summary;
mod tally;
mod turns;

pub use compare::{Apart, Beside, Comparison, Party, compare};
pub use hanging::{Hanging, hanging};
pub use holders::{Holder, HolderProfile, Holders, HoldersBy, holders};
pub use known::{Known, Subject, known};
pub use ledger::{Ledger, LedgerLine, ledger};
pub use matrix::{Matrix, MatrixProfile, MatrixRow, matrix};
pub(crate) use person::computed_groups;
pub use person::{Branch, InGroup, KindCount, Person, Through, person};
pub use profiles::Profiles;
pub use reach::{Narrowing, Reached, reach};
pub use statements::{Listed, Statements, statements};
pub use summary::{Done, Summary, Totals, shares, summary, totals};
pub use turns::{TurnDay, Turns, turns};

use crate::decide::Decision;
use crate::sets::{Decided, SetEngine};
use bastide_model::*;
use bastide_syntax::Diagnostic;

/// The decisions on one resource, for the users of a sweep.
pub struct Row<'r, 'e> {
    /// The resource.
    pub resource: ResourceId,
    engine: &'r SetEngine<'e>,
    decided: Decided,
    users: &'r [UserId],
    actions: usize,
}

impl Row<'_, '_> {
    /// The decision on an action for the user at a position of the users asked for.
    pub fn decision(&self, user: usize, action: ActionId) -> Decision {
        let part = self.engine.part(self.decided, self.users[user], action);
        Decision { reason: part.reason, by: part.by, need: None }
    }

    /// The allowed actions of the user at a position.
    pub fn allowed(&self, user: usize) -> impl Iterator<Item = ActionId> + '_ {
        let user = self.users[user];
        ActionId::all(self.actions).filter(move |action| self.engine.allows(self.decided, user, *action))
    }

    /// The engine that decided.
    pub fn engine(&self) -> &SetEngine<'_> {
        self.engine
    }

    /// What is decided.
    pub fn decided(&self) -> Decided {
        self.decided
    }
}

/// Why a sweep ended early.
#[derive(Debug)]
pub enum Stopped<E> {
    /// Decisions that depend on themselves: nothing was evaluated.
    Cycle(Vec<Diagnostic>),
    /// What the receiver of the rows gave back.
    Receiver(E),
}

/// Decides every action for every user on every resource and gives the rows to `each`, in order.
/// Memory does not grow with the rows.
///
/// # Errors
/// A decision that depends on itself, before the first row; whatever `each` gives back.
pub fn sweep<E>(
    estate: &Estate,
    moment: &Moment,
    users: &[UserId],
    resources: &[ResourceId],
    mut each: impl FnMut(Row) -> Result<(), E>,
) -> Result<(), Stopped<E>> {
    let mut engine = SetEngine::new(estate, moment).map_err(Stopped::Cycle)?;
    let actions = estate.schema.actions.len();
    for &resource in resources {
        let decided = engine.row(resource);
        each(Row { resource, engine: &engine, decided, users, actions }).map_err(Stopped::Receiver)?;
    }
    Ok(())
}
