//! What a remedy costs. The order of remedies goes by it, so what goes into it is said here whole:
//!
//! - a fixed charge for the sort of change (see [`super::ideas`]): taking back a wrong entry, a wrong
//!   membership, or filling in a missing value is cheap; a grant to one person by name or an exception
//!   for one person is dear, since such things go stale and nobody remembers them;
//! - for the same user's other triples, six for each doubling of their number, and four more where
//!   they are gained on labelled resources: a membership brings more than was asked for;
//! - for other users' triples, nine for each doubling;
//! - where others gain more than harmless actions, fifteen, and where guests gain anything, fifteen.
//!
//! A remedy that mends a cause (the account is not active, a value is missing, a membership or an entry
//! stands out as a mistake) does elsewhere what it does here, and that is likely to be right: its
//! other triples weigh one for each doubling. Joining a group of people alike weighs four for the user's
//! own, and two more for labelled ones: what the group holds may be far more than was asked for.

use super::ideas::Idea;
use crate::change::Change;
use crate::difference::{Block, Side};

/// The cost of a remedy with these gains and losses.
pub fn cost(idea: &Idea, blocks: &[Block], user: &str, wanted: bool) -> u32 {
    let (mut own, mut labelled, mut others) = (0u64, 0u64, 0u64);
    let (mut harm, mut guests) = (false, false);
    for block in blocks {
        let each = (block.actions.len() * block.resources) as u64;
        let is_own = block.users.iter().any(|u| u == user);
        let rest = block.users.len() as u64 - u64::from(is_own);
        let gained = block.side == Side::Gained;
        own += if is_own { each } else { 0 };
        labelled += if is_own && gained { (block.actions.len() * block.labelled) as u64 } else { 0 };
        others += rest * each;
        harm |= gained && rest > 0 && block.harmful;
        guests |= gained && rest > 0 && block.guests > 0;
        // What goes the other way than wished is a loss of somebody's work.
        if gained != wanted {
            others += block.triples;
        }
    }
    // The wished triple itself is no side effect.
    let own = own.saturating_sub(1);
    let joins = idea.changes.iter().any(|c| matches!(c, Change::Join(..)));
    let sides = if idea.mends && joins {
        4 * doublings(own) + 2 * doublings(labelled.min(own))
    } else if idea.mends {
        doublings(own) + doublings(others)
    } else {
        6 * doublings(own) + 4 * doublings(labelled.min(own)) + 9 * doublings(others)
    };
    idea.charge + sides + 15 * u32::from(harm) + 15 * u32::from(guests)
}

/// How often a number has doubled from nothing: 0 for 0, 1 for 1, 2 for 2 and 3, 3 for 4 to 7.
fn doublings(number: u64) -> u32 {
    u64::BITS - number.leading_zeros()
}
