//! A snapshot of what an estate becomes by changes.

use super::{Change, ChangeError, apply};
use crate::snapshot::Snapshot;
use bastide_syntax::Diagnostic;

/// Why there is no snapshot of the estate after changes.
#[derive(Clone, Debug, thiserror::Error)]
pub enum Refused {
    /// A change cannot be made: its position, and why.
    #[error("{1}")]
    Change(usize, ChangeError),
    /// Decisions would depend on themselves.
    #[error("decisions would depend on themselves")]
    Circles(Vec<Diagnostic>),
}

impl Snapshot {
    /// The estate after changes, at the same moment. It shares what the changes leave alone, and this snapshot stays as it is.
    /// Cost: as [`Snapshot::beside`].
    ///
    /// # Errors
    /// A change that cannot be made, or decisions that would depend on themselves.
    pub fn after(&self, changes: &[Change]) -> Result<Snapshot, Refused> {
        let estate = apply(self.estate(), changes).map_err(|(position, why)| Refused::Change(position, why))?;
        self.beside(&estate, self.moment()).map_err(Refused::Circles)
    }
}
