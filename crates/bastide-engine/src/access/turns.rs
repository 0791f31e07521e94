//! The days on which one user's access changes by itself.

use crate::calendar::turning_days;
use crate::difference::{Blocks, Radius, blocks, difference, radius};
use crate::snapshot::Snapshot;
use bastide_model::*;
use bastide_syntax::Diagnostic;
use jiff::ToSpan;
use jiff::civil::Date;

/// When a user's access changes.
#[derive(Debug)]
pub struct Turns {
    /// The user's id.
    pub user: String,
    /// The day asked from.
    pub from: String,
    /// The last day looked at.
    pub through: String,
    /// The days on which anything changes, in order.
    pub days: Vec<TurnDay>,
    /// How many days were looked at: those on which something begins or ends for somebody.
    pub looked_at: usize,
}

/// One day on which the user's access changes.
#[derive(Debug)]
pub struct TurnDay {
    /// The day from which on it is otherwise.
    pub date: String,
    /// How far it reaches, for this user.
    pub radius: Radius,
    /// What is gained and what is lost.
    pub blocks: Blocks,
}

/// The days after the moment's, up to `through`, on which what the user can do differs from the day before.
/// Cost: an evaluation for each day on which something begins or ends.
///
/// # Errors
/// Decisions that depend on themselves on one of the days.
pub fn turns(
    estate: &Estate,
    moment: &Moment,
    user: UserId,
    through: Date,
    harmless: &[String],
) -> Result<Turns, Vec<Diagnostic>> {
    let mut turns = Turns {
        user: estate.people().id(user).to_string(),
        from: moment.date.to_string(),
        through: through.to_string(),
        days: Vec::new(),
        looked_at: 0,
    };
    for day in turning_days(estate, moment, through) {
        turns.looked_at += 1;
        let before = moment.on_day(day.checked_sub(1.day()).unwrap_or(day));
        let after = moment.on_day(day);
        let (old, new) = (Snapshot::new(estate, &before)?, Snapshot::new(estate, &after)?);
        let found = difference(&old, &new, Some(user)).only(user.0);
        if !found.is_empty() {
            let blocks = blocks(&found, estate, estate, estate.groups(), harmless, usize::MAX);
            turns.days.push(TurnDay { date: day.to_string(), radius: radius(&found), blocks });
        }
    }
    Ok(turns)
}
