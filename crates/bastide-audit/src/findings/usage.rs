//! What was used of what statements give.

use crate::{Case, Survey};
use bastide_model::*;
use jiff::ToSpan;
use std::collections::{BTreeMap, BTreeSet};

/// Who used a statement, and where.
pub type Use = (BTreeSet<UserId>, BTreeSet<ResourceId>);

/// By permission in force for the whole window, the users who used it and where; none without usage
/// data. What began within the window has not had its time yet.
pub fn used(case: &Case, survey: &Survey) -> Option<BTreeMap<StatementId, Use>> {
    let rows = case.used.as_ref()?;
    let first = case.moment.date.saturating_sub((case.limits.usage_days as i64).days());
    let live = case.live().filter(|(_, s)| s.modality.permits() && s.from.is_none_or(|from| from <= first));
    let mut by: BTreeMap<StatementId, Use> = live.map(|(id, _)| (id, Default::default())).collect();
    let mut engine = survey.engine.borrow_mut();
    for &(user, action, resource) in rows {
        let owner = case.estate.catalog.owner(resource).flatten() == Some(user);
        for reaching in engine.reaching(resource) {
            let set = if owner { reaching.owners } else { reaching.others };
            let lists = case.estate.statement(reaching.id).actions.contains(action.index());
            if lists
                && engine.sets().contains(set, user.index())
                && let Some((users, places)) = by.get_mut(&reaching.id)
            {
                users.insert(user);
                places.insert(resource);
            }
        }
    }
    Some(by)
}
