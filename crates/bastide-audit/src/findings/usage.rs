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
    let mut engine = survey.evaluator();
    for &(user, action, resource) in rows {
        let mut work = engine.look(resource);
        for rule in engine.rules(&work) {
            let id = engine.statement_of(rule);
            let lists = case.estate.statement(id).actions.contains(action.index());
            if lists
                && engine.applies_to_user(&mut work, rule, user)
                && let Some((users, places)) = by.get_mut(&id)
            {
                users.insert(user);
                places.insert(resource);
            }
        }
        engine.done(work);
    }
    Some(by)
}
