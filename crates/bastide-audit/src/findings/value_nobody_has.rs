//! `value-nobody-has`: a comparison with a value that no user or resource carries.

use super::{Check, Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_model::Value;
use bastide_model::column::Column;
use bastide_model::condition::*;
use bastide_model::show;
use bastide_model::statement::Comparison;
use hashbrown::{HashMap, HashSet};

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "value-nobody-has",
    group: Group::Brittle,
    level: crate::Level::Warning,
    what: "a comparison with a value that no user or resource carries",
    why: "The value was renamed, or never came to be. The condition is always false, or always true.",
    mind: "The value is about to come.",
    check: Check::Policy(check),
};

/// Which values a column carries, of those that some row has.
type Carried<'e> = HashSet<&'e Value>;

fn carried(column: &Column, rows: usize) -> Carried<'_> {
    (0..rows)
        .filter_map(|row| column.code(row))
        .collect::<HashSet<u32>>()
        .into_iter()
        .map(|code| column.distinct().value(code))
        .collect()
}

fn check(case: &Case, _: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let (users, resources) = (estate.people().len(), estate.catalog().len());
    // A column is gone through once, however many conditions ask for it.
    let mut of_users: HashMap<usize, Carried> = HashMap::new();
    let mut of_resources: HashMap<Option<usize>, Carried> = HashMap::new();
    let mut found = Vec::new();
    for (id, s) in case.live() {
        for condition in s.conditions() {
            condition.visit(&mut |inner| {
                let equal = |of: &Compared| matches!(of.comparison, Comparison::Equal | Comparison::NotEqual);
                let Some(Compared { left, right, .. }) = inner.test.compared().filter(equal) else { return };
                for (of, value) in [(left, right), (right, left)] {
                    let Operand::Literal(value) = value else { continue };
                    let values = match of {
                        Operand::User(UserField::Attribute(at)) => {
                            of_users.entry(at.index()).or_insert_with(|| carried(estate.people().attribute(*at), users))
                        }
                        Operand::Resource(_, ResourceField::Attribute(at)) => of_resources
                            .entry(Some(at.index()))
                            .or_insert_with(|| carried(&estate.catalog().attributes[at.index()], resources)),
                        Operand::Resource(_, ResourceField::State) => {
                            of_resources.entry(None).or_insert_with(|| carried(&estate.catalog().states, resources))
                        }
                        _ => continue,
                    };
                    if !values.contains(value) {
                        let text = show::condition(estate, inner);
                        found.push(Found::of(
                            case,
                            id,
                            format!("`{text}` in {}: nothing has that value", case.named(id)),
                        ));
                    }
                }
            });
        }
    }
    found
}
