//! One engine working with the sets of another.
//!
//! An engine for an estate that lacks one statement comes to mostly the same sets by the same algebra. It
//! borrows them, works, and gives them back as they were: what it made itself is forgotten, so that any number
//! of engines can do so one after the other.

use super::SetEngine;
use super::pairs::{Classes, Pair};
use super::store::SetId;
use std::mem::swap;

/// What was there before.
pub(crate) struct Loan {
    mark: u32,
    active: SetId,
}

impl SetEngine<'_> {
    /// Lends sets, and what is known of statements, groups and conditions, to the engine of an estate that differs
    /// in nothing but statements that are off there, at the same moment. Until it gives them back, this one
    /// may only be asked for rows it has made.
    pub(crate) fn lend(&mut self, other: &mut SetEngine) -> Loan {
        debug_assert!(other.row_count() == 0, "it would mix up its own sets with these");
        self.exchange(other);
        let loan = Loan { mark: other.sets.begin(), active: other.active };
        other.active = self.active;
        other.borrowed = Some(Vec::new());
        loan
    }

    /// Takes back what was lent.
    pub(crate) fn take_back(&mut self, other: &mut SetEngine, loan: Loan) {
        other.active = loan.active;
        let touched = other.borrowed.take().unwrap_or_default();
        self.exchange(other);
        let is_new = |set: &SetId| set.0 >= loan.mark;
        let pair = |pair: &Pair| is_new(&pair.yes) || is_new(&pair.open);
        self.singles.iter_mut().for_each(|s| *s = s.filter(|set| !is_new(set)));
        self.groups.iter_mut().for_each(|g| *g = g.filter(|known| !pair(known)));
        self.leaves.retain(|_, known| !pair(known));
        self.classes.retain(|_, Classes { classes, by_value, missing }| {
            !(is_new(missing) || classes.iter().any(|(_, set)| is_new(set)) || by_value.values().any(is_new))
        });
        for (id, learnt) in touched {
            if let Some(compiled) = &mut self.compiled[id.index()] {
                compiled.forget(&learnt, loan.mark);
            }
        }
        self.sets.release(loan.mark);
    }

    fn exchange(&mut self, other: &mut SetEngine) {
        swap(&mut self.sets, &mut other.sets);
        swap(&mut self.compiled, &mut other.compiled);
        swap(&mut self.singles, &mut other.singles);
        swap(&mut self.groups, &mut other.groups);
        swap(&mut self.classes, &mut other.classes);
        swap(&mut self.leaves, &mut other.leaves);
    }
}
