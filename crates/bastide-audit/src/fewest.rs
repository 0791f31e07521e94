//! The same access by fewer statements.
//!
//! Which is the smallest set is a covering problem: no quick way to the very smallest is known. Statements are
//! taken out one after the other, each only where everybody's access stays exactly the same without it and
//! without those that went before, until none can go. That is done twice, once beginning with the statements
//! that reach the least and once with those that reach the most, and the smaller outcome is given.

use crate::{Case, Survey};
use bastide_engine::change::{Change, Described, apply, describe};
use bastide_engine::difference::{difference_while, radius};
use bastide_engine::sets::SetEngine;
use bastide_model::*;
use bastide_syntax::Diagnostic;
use schemars::JsonSchema;
use serde::Serialize;

/// Statements that can go together.
#[derive(Serialize, JsonSchema, Clone, PartialEq, Eq, Debug)]
pub struct Fewest {
    /// Statements in force.
    pub statements: usize,
    /// How many of them give the same access today.
    pub enough: usize,
    /// What can go, all of it together: permissions, in policy order.
    pub permissions: Vec<Described>,
    /// And restrictions, which take nothing away today and may be there for tomorrow.
    pub restrictions: Vec<Described>,
}

/// Looks for them. `tell` is told how many statements have been looked at.
///
/// # Errors
/// Decisions that depend on themselves.
pub fn fewest(case: &Case, survey: &Survey, tell: &dyn Fn(usize)) -> Result<Fewest, Vec<Diagnostic>> {
    let estate = case.estate;
    let mut ids: Vec<StatementId> = case.live().map(|(id, _)| id).collect();
    ids.sort_by_key(|id| (survey.of(*id).triples, std::cmp::Reverse(*id)));
    let narrow_first = without(case, &ids, tell)?;
    ids.reverse();
    let wide_first = without(case, &ids, tell)?;
    let mut gone = if wide_first.len() > narrow_first.len() { wide_first } else { narrow_first };
    gone.sort();
    // Said of all together, so it is seen of all together.
    let changes: Vec<Change> = gone.iter().map(|id| Change::Off(*id)).collect();
    if let Ok(after) = apply(estate, &changes) {
        let mut before = SetEngine::new(estate, case.moment)?;
        let mut after = SetEngine::new(&after, case.moment)?;
        let found = bastide_engine::difference::difference(&mut before, &mut after);
        assert_eq!(radius(&found).triples(), 0, "what can go one by one can go together");
    }
    let (permissions, restrictions): (Vec<StatementId>, Vec<StatementId>) =
        gone.iter().partition(|id| estate.statement(**id).modality.permits());
    let told = |ids: Vec<StatementId>| ids.iter().map(|id| describe(estate, &Change::Off(*id))).collect();
    Ok(Fewest {
        statements: ids.len(),
        enough: ids.len() - gone.len(),
        permissions: told(permissions),
        restrictions: told(restrictions),
    })
}

/// Which of the statements can go, tried in this order, again and again until none can.
fn without(case: &Case, ids: &[StatementId], tell: &dyn Fn(usize)) -> Result<Vec<StatementId>, Vec<Diagnostic>> {
    let mut estate = case.estate.clone();
    let mut left: Vec<StatementId> = ids.to_vec();
    let mut gone = Vec::new();
    let mut looked = 0;
    loop {
        let before_round = gone.len();
        let mut kept = Vec::new();
        for id in left {
            looked += 1;
            tell(looked);
            let Ok(fewer) = apply(&estate, &[Change::Off(id)]) else { continue };
            let same = {
                let mut with = SetEngine::new(&estate, case.moment)?;
                let mut than = with.without(&fewer, case.moment);
                // The first thing that differs is enough.
                difference_while(&mut with, &mut than, |_, _| false).is_some()
            };
            if same {
                estate = fewer;
                gone.push(id);
            } else {
                kept.push(id);
            }
        }
        left = kept;
        if gone.len() == before_round {
            return Ok(gone);
        }
    }
}
