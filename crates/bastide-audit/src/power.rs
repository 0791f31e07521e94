//! Who may do everything.

use crate::{Case, Survey, Triple};
use bastide_engine::explain::{Way, ways};
use bastide_model::*;

/// A user who may do every action on every root.
pub struct Powerful {
    /// Who.
    pub user: UserId,
    /// The statement that lets the last action pass on the first root.
    pub by: Option<StatementId>,
    /// How that statement reaches the user.
    pub ways: Vec<Way>,
    /// The decision that was looked at.
    pub example: Triple,
}

/// Everybody active who may do every action on every root, in the order of users.
pub fn powerful(case: &Case, survey: &Survey) -> Vec<Powerful> {
    let estate = case.estate;
    let fitting = |root: ResourceId| {
        let kind = estate.catalog().kind(root);
        ActionId::all(estate.schema().actions.len()).filter(move |a| estate.schema().fits(*a, kind))
    };
    let mut engine = survey.evaluator();
    let (mut all, mut allowed) = (survey.active.clone(), engine.nobody());
    for root in estate.catalog().roots() {
        for action in fitting(root) {
            engine.allowed(root, action, &mut allowed);
            all.intersect_with(&allowed);
        }
    }
    // Without a root, or without an action on it, there is no power to have.
    let Some((root, action)) = estate.catalog().roots().next().and_then(|r| Some((r, fitting(r).next_back()?))) else {
        return Vec::new();
    };
    let reference = survey.reference();
    let found = all.ones().map(UserId::new).map(|user| {
        let by = reference.decide(user, action, root).by;
        let ways = by.map_or(Vec::new(), |id| ways(&reference, estate.statement(id), user, Some(root)));
        Powerful { user, by, ways, example: (user, action, root) }
    });
    found.collect()
}
