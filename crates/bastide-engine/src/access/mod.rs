//! Everybody's access on many resources.
//!
//! [`sweep`] decides every triple of given users and resources, on all cores, and hands the rows
//! over one by one in order, in memory that does not grow with their number. What is made of the
//! rows stands in the other files: the table, the summary, one user's access, who has access.

mod holders;
mod matrix;
mod person;
mod profiles;
mod summary;

pub use holders::{Holder, Holders, HoldersBy, holders};
pub use matrix::{Matrix, MatrixProfile, MatrixRow, matrix};
pub(crate) use person::computed_groups;
pub use person::{Branch, InGroup, KindCount, Person, Through, person};
pub use profiles::Profiles;
pub use summary::{Summary, Totals, summary, totals};

use crate::decide::{Decision, Judge};
use bastide_model::*;
use bastide_syntax::Diagnostic;
use rayon::prelude::*;

/// How many decisions are kept at a time.
const AT_A_TIME: usize = 1 << 21;

/// The decisions on one resource.
pub struct Row {
    /// The resource.
    pub resource: ResourceId,
    actions: usize,
    decisions: Vec<Decision>,
}

impl Row {
    /// The decision on an action for the user at a position of the users asked for.
    pub fn decision(&self, user: usize, action: ActionId) -> Decision {
        self.decisions[user * self.actions + action.index()]
    }

    /// The decisions for the user at a position, by action.
    pub fn of_user(&self, user: usize) -> &[Decision] {
        &self.decisions[user * self.actions..(user + 1) * self.actions]
    }

    /// The allowed actions of the user at a position.
    pub fn allowed(&self, user: usize) -> impl Iterator<Item = ActionId> + '_ {
        self.of_user(user).iter().enumerate().filter(|(_, d)| d.is_allowed()).map(|(a, _)| ActionId::new(a))
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
///
/// # Errors
/// A decision that depends on itself, before the first row; whatever `each` gives back.
pub fn sweep<E: Send>(
    estate: &Estate,
    moment: &Moment,
    users: &[UserId],
    resources: &[ResourceId],
    mut each: impl FnMut(Row) -> Result<(), E>,
) -> Result<(), Stopped<E>> {
    let first = Judge::new(estate, moment).map_err(Stopped::Cycle)?;
    let actions = estate.schema.actions.len();
    let threads = rayon::current_num_threads().max(1);
    let per_thread = (AT_A_TIME / (users.len() * actions).max(1) / threads).clamp(1, 512);
    let mut judges: Vec<Judge> = (1..threads).map(|_| first.again()).collect();
    judges.insert(0, first);
    for round in resources.chunks(per_thread * threads) {
        let rows: Vec<Vec<Row>> = judges
            .par_iter_mut()
            .zip(round.par_chunks(per_thread))
            .map(|(judge, part)| part.iter().map(|resource| row(judge, users, *resource)).collect())
            .collect();
        for row in rows.into_iter().flatten() {
            each(row).map_err(Stopped::Receiver)?;
        }
    }
    Ok(())
}

fn row(judge: &Judge, users: &[UserId], resource: ResourceId) -> Row {
    let actions = judge.estate().schema.actions.len();
    let candidates = judge.candidates(resource);
    let mut decisions = Vec::with_capacity(users.len() * actions);
    for &user in users {
        for action in ActionId::all(actions) {
            decisions.push(judge.decide_among(&candidates, user, action, resource));
        }
    }
    Row { resource, actions, decisions }
}
