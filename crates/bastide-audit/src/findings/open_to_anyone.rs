//! `open-to-anyone`: a permission for `anyone`, with no condition on the user, for more than harmless actions, or for anything on a resource whose label is above the lowest.

use super::label::above_lowest;
use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey, Triple};
use bastide_engine::change::Change;
use bastide_model::condition::Term;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "open-to-anyone",
    group: Group::OverBroad,
    level: crate::Level::Error,
    what: "a permission for `anyone`, with no condition on the user, for more than harmless actions, or for anything on a resource whose label is above the lowest",
    why: "Whoever has an account has it, guests and services too, and so will everybody who comes. Such defaults are made while a platform is set up and stay.",
    mind: "The action is harmless in this estate after all: then list it in `[audit] harmless`.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let mut found = Vec::new();
    for (id, s) in case.live() {
        let narrowed = s.conditions().any(|c| c.mentions().user);
        let reach = survey.of(id);
        if !s.modality.permits() || !s.who.terms.contains(&Term::Anyone) || narrowed || reach.pairs == 0 {
            continue;
        }
        let (labelled, first) = labelled(case, survey, id);
        let harmful = case.is_harmful(s);
        if !harmful && labelled == 0 {
            continue;
        }
        let what = if harmful { case.actions(s) } else { format!("{} what is labelled", case.actions(s)) };
        let mut one = Found::of(case, id, format!("{} lets anyone {what}", case.named(id)))
            .evidence(format!("{} on {}", many(reach.users as u64, "user"), many(reach.resources as u64, "resource")))
            .example(first.or(reach.example));
        if labelled > 0 {
            one = one.evidence(format!("of the resources, {labelled} with a label above the lowest"));
        }
        found.push(one.suggest("to close it until somebody says whom it is for", vec![Change::Off(id)]));
    }
    found
}

/// On how many resources with a label it applies, and a triple of one.
pub(super) fn labelled(case: &Case, survey: &Survey, id: StatementId) -> (usize, Option<Triple>) {
    let estate = case.estate;
    let statement = estate.statement(id);
    let mut engine = survey.evaluator();
    let [mut users, mut allowed] = std::array::from_fn(|_| engine.nobody());
    let (mut count, mut first) = (0, None);
    for resource in estate.catalog.all().filter(|r| above_lowest(estate, *r)) {
        let mut work = engine.look(resource);
        let rule = engine.rule_on(&work, id).filter(|rule| engine.touches(&mut work, *rule));
        if let Some(rule) = rule {
            count += 1;
            if first.is_none() {
                engine.applies_to(&mut work, rule, &mut users);
                first = statement.actions.ones().map(ActionId::new).find_map(|action| {
                    engine.decide_on(&mut work, action);
                    engine.allowed_users(&work, action, &mut allowed);
                    let user = users.intersection(&allowed).next()?;
                    Some((UserId::new(user), action, resource))
                });
            }
        }
        engine.done(work);
    }
    (count, first)
}
