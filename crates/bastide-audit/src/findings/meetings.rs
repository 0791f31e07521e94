//! Permissions and restrictions that meet, in policy order.

use crate::{Meeting, Survey};
use bastide_model::StatementId;

/// All of them.
pub fn sorted(survey: &Survey) -> Vec<(&(StatementId, StatementId), &Meeting)> {
    let mut all: Vec<_> = survey.meetings.iter().collect();
    all.sort_by_key(|(ids, _)| **ids);
    all
}
