//! `copies`: rules that are alike but for a constant that an attribute of the user and one of the resource share.

use super::{Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_engine::show;
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
    check,
};

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
            .evidence(format!("one rule with `{one}` would say the same"))
            .example(survey.of(ids[0]).example)
    })
    .collect()
}
