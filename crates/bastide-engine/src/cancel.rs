//! Stopping a question whose answer is no longer wanted.

use std::any::Any;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Stops questions from another thread. Copies stop the same questions.
#[derive(Clone, Default, Debug)]
pub struct Cancel(Arc<AtomicBool>);

/// The question was stopped, and has no answer.
#[derive(Clone, Copy, PartialEq, Eq, Debug, thiserror::Error)]
#[error("the question was stopped")]
pub struct Cancelled;

impl Cancel {
    /// Stops what is being asked, and whatever is asked from now on.
    pub fn cancel(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether it is stopped.
    pub fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }

    /// Asks something of snapshots that are [cancellable](crate::Snapshot::cancellable) by this.
    ///
    /// The question ends by unwinding, on all its threads, before the next resource is decided. That is no panic: no hook is
    /// called, and nothing is told. What it held is dropped; snapshots stay as they are.
    ///
    /// # Errors
    /// It was stopped.
    pub fn ask<T>(&self, question: impl FnOnce() -> T) -> Result<T, Cancelled> {
        if self.is_cancelled() {
            return Err(Cancelled);
        }
        // What a question leaves half done belongs to it, and nobody sees it afterwards.
        catch_unwind(AssertUnwindSafe(question)).map_err(|payload: Box<dyn Any + Send>| match payload.downcast() {
            Ok(cancelled) => *cancelled,
            Err(fault) => resume_unwind(fault),
        })
    }

    /// Ends the question at hand, where it is stopped.
    pub(crate) fn check(&self) {
        if self.is_cancelled() {
            resume_unwind(Box::new(Cancelled));
        }
    }
}
