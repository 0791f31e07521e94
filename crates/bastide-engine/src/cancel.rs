//! Stopping a question whose answer is no longer wanted.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

/// Stops questions from another thread. Copies stop the same questions.
#[derive(Clone, Debug, Default)]
pub struct Cancel(Arc<Stop>);

#[derive(Debug)]
struct Stop {
    asked_for: AtomicBool,
    /// Whether a question came upon it, so that what it tells is not the answer.
    met: AtomicBool,
    /// After so many looks it stops by itself.
    looks: AtomicU64,
}

/// It never stops by itself.
const NEVER: u64 = u64::MAX;

impl Default for Stop {
    fn default() -> Stop {
        Stop { asked_for: AtomicBool::default(), met: AtomicBool::default(), looks: AtomicU64::new(NEVER) }
    }
}

/// The question was stopped, and has no answer.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
#[error("the question was stopped")]
pub struct Cancelled;

/// A question that is being asked, and can be stopped: what [`Cancel::ask`] hands to it, for
/// [`Snapshot::cancellable`](crate::Snapshot::cancellable).
#[derive(Debug)]
pub struct Question(Cancel);

impl Question {
    pub(crate) fn cancel(&self) -> &Cancel {
        &self.0
    }
}

impl Cancel {
    /// One that stops by itself: so many times a question that looks whether it is stopped may go on, the next time it may not. A
    /// question looks before each resource. So a test can stop it anywhere.
    pub fn after(looks: u64) -> Cancel {
        Cancel(Arc::new(Stop { looks: AtomicU64::new(looks), ..Stop::default() }))
    }

    /// Stops what is being asked, and whatever is asked from now on.
    pub fn cancel(&self) {
        self.0.asked_for.store(true, Ordering::Relaxed);
    }

    /// Whether it is stopped.
    pub fn is_cancelled(&self) -> bool {
        self.0.asked_for.load(Ordering::Relaxed)
    }

    /// Asks something of snapshots that are [cancellable](crate::Snapshot::cancellable) by the question.
    ///
    /// Where it is stopped, the question ends by itself, and soon: it is told of no further resource, and wherever it asks all the
    /// same, no statement reaches any more, so that nobody is allowed anything. What it makes of that is thrown away. Nothing
    /// unwinds, and snapshots stay as they are.
    ///
    /// # Errors
    /// It was stopped.
    pub fn ask<T>(&self, question: impl FnOnce(&Question) -> T) -> Result<T, Cancelled> {
        if self.is_cancelled() {
            return Err(Cancelled);
        }
        let told = question(&Question(self.clone()));
        // All threads of the question have come to their end: whatever they met is seen here.
        if self.0.met.load(Ordering::Relaxed) { Err(Cancelled) } else { Ok(told) }
    }

    /// Whether the question at hand is to end. Whoever asks must act on it: from then on there is no answer.
    pub(crate) fn is_met(&self) -> bool {
        let looks = &self.0.looks;
        if looks.load(Ordering::Relaxed) != NEVER {
            let less = looks.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |looks| looks.checked_sub(1));
            if less.is_err() {
                self.cancel();
            }
        }
        let is = self.is_cancelled();
        if is {
            self.0.met.store(true, Ordering::Relaxed);
        }
        is
    }
}
