//! `copies`: rules that are alike but for a constant that an attribute of the user and one of the resource share.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_model::condition::{Condition, Test};
use bastide_model::show;
use bastide_model::statement::Sort;
use bastide_model::*;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "copies",
    group: Group::Brittle,
    level: crate::Level::Note,
    what: "rules that are alike but for a constant that an attribute of the user and one of the resource share",
    why: "A fifth house needs a fifth copy, and somebody will forget it.",
    mind: "The copies will not stay alike.",
    check: Check::Policy(check),
};

/// The first rule with the comparison of both attributes in place of the constant, and without the others.
fn one_for_all(estate: &Estate, ids: &[StatementId]) -> Vec<(StatementId, Option<Statement>)> {
    let first = estate.statement(ids[0]);
    let last = |c: &Option<Condition>| match c.as_ref().map(|c| (&c.test, c)) {
        Some((Test::And(all), _)) => all.last().cloned(),
        Some((_, whole)) => Some(whole.clone()),
        None => None,
    };
    let (Some(mut who), Some(what)) = (last(&first.who.condition), last(&first.what.condition)) else {
        return Vec::new();
    };
    let (Test::Compare { right, .. }, Test::Compare { left, .. }) = (&mut who.test, what.test) else {
        return Vec::new();
    };
    *right = left;
    let mut one = first.clone();
    replace_last(&mut one.who.condition, Some(who));
    replace_last(&mut one.what.condition, None);
    let others = ids[1..].iter().map(|id| (*id, None));
    std::iter::once((ids[0], Some(one))).chain(others).collect()
}

/// Puts something in the place of the last part of a condition, or takes it away.
fn replace_last(condition: &mut Option<Condition>, by: Option<Condition>) {
    match condition.as_mut().map(|c| &mut c.test) {
        Some(Test::And(all)) => {
            all.pop();
            all.extend(by);
        }
        _ => *condition = by,
    }
}

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut by: BTreeMap<String, Vec<StatementId>> = BTreeMap::new();
    for (id, s) in case.live().filter(|(_, s)| s.sort == Sort::Rule) {
        let (Some(who), Some(what)) = (&s.who.condition, &s.what.condition) else { continue };
        let (who, what) = (show::condition(estate, who), show::condition(estate, what));
        let Some((_, a)) = who.rsplit_once(" = ") else { continue };
        let Some((_, b)) = what.rsplit_once(" = ") else { continue };
        if a != b || who.contains(" or ") || what.contains(" or ") {
            continue;
        }
        let terms: Vec<String> = s.who.terms.iter().map(|t| show::term(estate, t)).collect();
        let key = format!(
            "{} {} {terms:?} {:?} {} {} {:?}",
            s.modality.words(),
            case.actions(s),
            s.what.kinds,
            who.trim_end_matches(a),
            what.trim_end_matches(b),
            s.condition.as_ref().map(|c| show::condition(estate, c)),
        );
        by.entry(key).or_default().push(id);
    }
    let many = by.into_values().filter(|ids| ids.len() >= 3);
    many.map(|ids| {
        let names: Vec<String> = ids.iter().map(|id| case.named(*id)).collect();
        let s = estate.statement(ids[0]);
        let side = |c: &Option<condition::Condition>| {
            c.as_ref().map_or(String::new(), |c| {
                show::condition(estate, c).rsplit_once(" = ").map_or(String::new(), |(l, _)| l.to_string())
            })
        };
        let one = format!("where {} = {}", side(&s.who.condition), side(&s.what.condition));
        Found::of(case, ids[0], format!("{} rules differ in one value alone", ids.len()))
            .evidence(names.join(", "))
            .example(survey.of(ids[0]).example)
            .suggest_instead(
                format!("to need no further copy, keep one of them with `{one}`"),
                one_for_all(estate, &ids),
            )
    })
    .collect()
}
