//! The same access by fewer statements.
//!
//! Which is the smallest set is a covering problem: no quick way to the very smallest is known. Statements are
//! taken out one after the other, each only where everybody's access stays exactly the same without it and
//! without those that went before, until none can go. That is done twice, once beginning with the statements
//! that reach the least and once with those that reach the most, and the smaller outcome is given.
//!
//! Access must stay the same in every session that conditions can tell apart. Where not all of these can be tried, what
//! asks for the attribute in question is left aside and counted, and it is said which attribute that is.

use crate::{Case, Survey};
use bastide_engine::Snapshot;
use bastide_engine::change::{Change, Described, apply, describe};
use bastide_engine::difference::is_same;
use bastide_engine::sessions::{Sessions, mentioned_by, sessions};
use bastide_model::*;
use bastide_syntax::Diagnostic;

/// Statements that can go together.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Fewest {
    /// Statements in force.
    pub statements: usize,
    /// How many of them give the same access today.
    pub enough: usize,
    /// What can go, all of it together: permissions, in policy order.
    pub permissions: Vec<Described>,
    /// And restrictions, which take nothing away today and may be there for tomorrow.
    pub restrictions: Vec<Described>,
    /// In how many sessions that conditions tell apart access is the same without them: the one asked for among them.
    pub sessions: usize,
    /// Attributes of the session of which not every value that matters was tried.
    pub open: Vec<String>,
    /// Statements that ask for one of these, and were left aside.
    pub aside: usize,
}

/// Looks for them. `tell` is told how many statements have been looked at.
///
/// # Errors
/// Decisions that depend on themselves.
pub fn fewest(case: &Case, survey: &Survey, tell: &dyn Fn(usize)) -> Result<Fewest, Vec<Diagnostic>> {
    let estate = case.estate;
    let sessions = sessions(estate, case.moment, None);
    let open = |s: &Statement| mentioned_by(estate, s).iter().any(|id| sessions.open.contains(id));
    let statements = case.live().count();
    let mut ids: Vec<StatementId> = case.live().filter(|(_, s)| !open(s)).map(|(id, _)| id).collect();
    ids.sort_by_key(|id| (survey.of(*id).triples, std::cmp::Reverse(*id)));
    let narrow_first = without(case, &sessions, &ids, tell)?;
    ids.reverse();
    let wide_first = without(case, &sessions, &ids, tell)?;
    let mut gone = if wide_first.len() > narrow_first.len() { wide_first } else { narrow_first };
    gone.sort();
    // Said of all together, so it is seen of all together.
    let changes: Vec<Change> = gone.iter().map(|id| Change::Off(*id)).collect();
    if let Ok(after) = apply(estate, &changes) {
        for moment in &sessions.moments {
            let (before, after) = (Snapshot::new(estate, moment)?, Snapshot::new(&after, moment)?);
            assert!(is_same(&before, &after), "what can go one by one can go together");
        }
    }
    let (permissions, restrictions): (Vec<StatementId>, Vec<StatementId>) =
        gone.iter().partition(|id| estate.statement(**id).modality.permits());
    let told = |ids: Vec<StatementId>| ids.iter().map(|id| describe(estate, &Change::Off(*id))).collect();
    Ok(Fewest {
        statements,
        enough: statements - gone.len(),
        permissions: told(permissions),
        restrictions: told(restrictions),
        sessions: sessions.moments.len(),
        open: sessions.open.iter().map(|id| estate.schema().session_attributes[id.index()].name.clone()).collect(),
        aside: statements - ids.len(),
    })
}

/// Which of the statements can go, tried in this order, again and again until none can.
fn without(
    case: &Case,
    sessions: &Sessions,
    ids: &[StatementId],
    tell: &dyn Fn(usize),
) -> Result<Vec<StatementId>, Vec<Diagnostic>> {
    let mut estate = case.estate.clone();
    let mut with: Vec<Snapshot> =
        sessions.moments.iter().map(|moment| Snapshot::new(&estate, moment)).collect::<Result<_, _>>()?;
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
            let than = |with: &Snapshot| {
                let than = with.without(&fewer);
                is_same(with, &than).then_some(than)
            };
            let than: Option<Vec<Snapshot>> = with.iter().map(than).collect();
            if let Some(than) = than {
                (estate, with) = (fewer, than);
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
