//! `temporary-for-ever`: full or nearly full power for one or two users by name, with no `until`.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_engine::evaluate::Evaluator;
use bastide_model::StatementId;
use bastide_model::condition::Term;
use bastide_model::show;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "temporary-for-ever",
    group: Group::Brittle,
    level: crate::Level::Warning,
    what: "full or nearly full power for one or two users by name, with no `until`",
    why: "Diagnostic power is handed out to see whether access is the problem, and forgotten.",
    mind: "It is their job, and a group for two would be no better.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, _: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let all = case.estate.schema().actions.len();
    let (s, of) = (case.estate.statement(id), survey.of(id));
    let named = !s.who.terms.is_empty() && s.who.terms.iter().all(|t| matches!(t, Term::User(_)));
    let users = s.who.terms.len() as f64 <= case.limits.temporary_users;
    // Of two or three actions, most is not yet everything.
    let power = s.everything || (all >= 4 && s.actions.count_ones(..) * 4 >= all * 3);
    let wide = s.what.places.is_none() || of.resources * 100 >= case.estate.catalog().len();
    if !(s.modality.permits() && named && users && power && wide && s.until.is_none() && of.pairs > 0) {
        return Vec::new();
    }
    let users: Vec<String> = s.who.terms.iter().map(|t| show::term(case.estate, t)).collect();
    let message = format!("{} gives {} nearly everything, and never ends", case.named(id), users.join(", "));
    let (resources, lost) = (many(of.resources as u64, "resource"), many(of.sole.lost, "triple"));
    let found = Found::of(case, id, message)
        .evidence(format!("on {resources}; solely its doing: {lost}"))
        .example(of.example)
        .suggest("to take it back", vec![Change::Off(id)]);
    vec![found]
}
