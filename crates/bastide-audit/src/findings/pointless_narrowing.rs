//! `pointless-narrowing`: a narrow grant of what a broader one already gives to its users and to many more.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::Change;
use bastide_engine::evaluate::Evaluator;
use bastide_model::condition::Term;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "pointless-narrowing",
    group: Group::Conflict,
    level: crate::Level::Warning,
    what: "a narrow grant of what a broader one already gives to its users and to many more",
    why: "Whoever wrote the narrow one believes there is a restriction: that only these few may. There is none.",
    mind: "The broader one is about to go, and the narrow one is to stay.",
    check: Check::Statement(check),
};

fn check(case: &Case, survey: &Survey, engine: &mut Evaluator, id: StatementId) -> Vec<Found> {
    let Some(by) = broader(case, survey, engine, id) else { return Vec::new() };
    let (narrow, wide) = (survey.of(id), survey.of(by));
    let message = format!("{} restricts nobody: {} gives the same to many more", case.named(id), case.named(by));
    let found = Found::of(case, id, message)
        .evidence(format!("it reaches {}; the broader one {}", many(narrow.users as u64, "user"), wide.users))
        .example(narrow.example)
        .suggest_harmless(
            "to take it out, which changes nothing today; to restrict, narrow the broader one",
            vec![Change::Off(id)],
        );
    vec![found]
}

/// Times as many users a grant must reach to be the broader one.
const BROADER: usize = 4;

/// The broader statement that gives what a narrow grant gives, where there is one.
pub(super) fn broader(case: &Case, survey: &Survey, engine: &mut Evaluator, id: StatementId) -> Option<StatementId> {
    let of = survey.of(id);
    let s = case.estate.statement(id);
    let narrow = s.who.terms.iter().all(|t| matches!(t, Term::User(_) | Term::Members(_)));
    if s.modality != Modality::May
        || !narrow
        || of.agree == 0
        || of.sole.triples() > 0
        || !case.estate.layers().is_empty()
    {
        return None;
    }
    let (user, action, resource) = of.example?;
    let mut work = engine.look(resource);
    let mut broad = Vec::new();
    for rule in engine.rules(&work) {
        let other = engine.statement_of(rule);
        let statement = case.estate.statement(other);
        // What is given in addition is no narrowing.
        let fits = other != id
            && statement.modality.permits()
            && s.actions.is_subset(&statement.actions)
            && action.index() < s.actions.len()
            && survey.of(other).users >= BROADER * of.users
            && survey.of(other).sole.triples() > 0;
        if fits && engine.applies_to_user(&mut work, rule, user) {
            broad.push(other);
        }
    }
    engine.done(work);
    broad.sort_by_key(|id| std::cmp::Reverse(survey.of(*id).users));
    broad.into_iter().find(|broad| gives_all(case, survey, engine, id, *broad))
}

/// Whether a statement reaches everything that another one reaches.
fn gives_all(case: &Case, survey: &Survey, engine: &mut Evaluator, narrow: StatementId, broad: StatementId) -> bool {
    let places = case.estate.statement(narrow).what.places.as_deref();
    let catalog = case.estate.catalog();
    let beneath = |place: &statement::Place| catalog.subtree(place.resource).map(ResourceId).collect::<Vec<_>>();
    let resources: Vec<ResourceId> = match places {
        Some(places) => places.iter().flat_map(beneath).collect(),
        None => catalog.all().collect(),
    };
    let [mut few, mut many] = std::array::from_fn(|_| engine.nobody());
    resources.into_iter().all(|resource| {
        let mut work = engine.look(resource);
        for (id, users) in [(narrow, &mut few), (broad, &mut many)] {
            users.clear();
            if let Some(rule) = engine.rule_on(&work, id) {
                engine.applies_to(&mut work, rule, users);
            }
        }
        engine.done(work);
        few.intersect_with(&survey.active);
        few.is_subset(&many)
    })
}
