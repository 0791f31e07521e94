//! What `why` answers.

use crate::history::Touched;
use bastide_engine::explain::Explanation;
use bastide_engine::remedy::Remedies;

/// The whole answer.
pub struct WhyAnswer {
    /// The decision, explained.
    pub explanation: Explanation,
    /// Who changed the lines of the statements last; empty outside a git checkout.
    pub touched: Vec<Touched>,
    /// What would turn it; none where no remedies were asked for.
    pub remedies: Option<Remedies>,
}
