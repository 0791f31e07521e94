//! `undecided`: decisions that hang on a missing value: the attribute, and how many users or resources lack it.

use super::{Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::decide::place::covers;
use bastide_model::condition::*;
use bastide_model::*;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "undecided",
    group: Group::Brittle,
    level: crate::Level::Warning,
    what: "decisions that hang on a missing value: the attribute, and how many users or resources lack it",
    why: "In doubt there is no access. Whoever is refused for want of a value calls, and nobody sees why.",
    mind: "The value is missing on purpose: then ask for that in the condition (`is missing`).",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let mut lacking: BTreeMap<String, (usize, Option<Origin>, Vec<String>)> = BTreeMap::new();
    for (id, s) in case.live().filter(|(id, _)| survey.of(*id).touches || !survey.of(*id).touches) {
        for condition in [&s.who.condition, &s.what.condition, &s.condition].into_iter().flatten() {
            condition.visit(&mut |inner| {
                for operand in operands(&inner.test) {
                    let (name, missing, first) = match operand {
                        Operand::User(UserField::Attribute(at)) => {
                            let attribute = &estate.schema.user_attributes[at.index()];
                            if attribute.set {
                                continue;
                            }
                            let column = &estate.people.attributes[at.index()];
                            let meant = |u: &UserId| estate.people.is_active(*u) && terms_mean(survey, s, *u);
                            let lack: Vec<UserId> =
                                estate.people.all().filter(|u| column.get(u.index()).is_none()).filter(meant).collect();
                            let first = lack.first().map(|u| estate.people.origins[u.index()]);
                            (format!("user.{}", attribute.name), lack.len(), first)
                        }
                        Operand::Resource(Step::Own, ResourceField::Attribute(at)) => {
                            let attribute = &estate.schema.resource_attributes[at.index()];
                            if attribute.set {
                                continue;
                            }
                            let column = &estate.catalog.attributes[at.index()];
                            let lack: Vec<ResourceId> = estate
                                .catalog
                                .all()
                                .filter(|r| covers(estate, s, *r).is_some() && column.get(r.index()).is_none())
                                .collect();
                            let first = lack.first().map(|r| estate.catalog.origins[r.index()]);
                            (format!("resource.{}", attribute.name), lack.len(), first)
                        }
                        _ => continue,
                    };
                    if missing > 0 {
                        let entry = lacking.entry(name).or_insert((0, first, Vec::new()));
                        entry.0 = entry.0.max(missing);
                        entry.2.push(case.named(id));
                    }
                }
            });
        }
    }
    lacking
        .into_iter()
        .map(|(name, (count, origin, mut by))| {
            by.dedup();
            let what = if name.starts_with("user.") { "user" } else { "resource" };
            let message = format!("decisions hang on `{name}`, which is missing for {}", many(count as u64, what));
            Found::new(name, origin, message).evidence(format!("asked for by {}", by.join(", ")))
        })
        .collect()
}

fn operands(test: &Test) -> Vec<&Operand> {
    match test {
        Test::Flag(o) => vec![o],
        Test::Like { operand, .. } => vec![operand],
        Test::Compare { left, right, .. } | Test::Sets { left, right, .. } => vec![left, right],
        // Whether a value is there is never unknown.
        _ => Vec::new(),
    }
}

fn terms_mean(survey: &Survey, s: &Statement, user: UserId) -> bool {
    s.who.terms.iter().any(|t| match t {
        Term::Anyone | Term::Owner => true,
        Term::User(one) => *one == user,
        Term::Members(group) => survey.judge.member(user, *group) != Truth::False,
        Term::Nobody(_) => false,
    })
}
