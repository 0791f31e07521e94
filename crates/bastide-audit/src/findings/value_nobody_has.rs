//! `value-nobody-has`: a comparison with a value that no user or resource carries.

use super::{Descriptor, Group};
use crate::{Case, Found, Survey};
use bastide_model::condition::*;
use bastide_model::show;
use bastide_model::statement::Comparison;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "value-nobody-has",
    group: Group::Brittle,
    level: crate::Level::Warning,
    what: "a comparison with a value that no user or resource carries",
    why: "The value was renamed, or never came to be. The condition is always false, or always true.",
    mind: "The value is about to come.",
    check,
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let _ = survey;
    let estate = case.estate;
    let mut found = Vec::new();
    for (id, s) in case.live() {
        for condition in s.conditions() {
            condition.visit(&mut |inner| {
                let equal = |of: &Compared| matches!(of.comparison, Comparison::Equal | Comparison::NotEqual);
                let Some(Compared { left, right, .. }) = inner.test.compared().filter(equal) else { return };
                for (of, value) in [(left, right), (right, left)] {
                    let Operand::Literal(value) = value else { continue };
                    let carried = match of {
                        Operand::User(UserField::Attribute(at)) => {
                            let column = &estate.people.attributes[at.index()];
                            (0..estate.people.len()).any(|row| column.get(row) == Some(value))
                        }
                        Operand::Resource(_, ResourceField::Attribute(at)) => {
                            let column = &estate.catalog.attributes[at.index()];
                            (0..estate.catalog.len()).any(|row| column.get(row) == Some(value))
                        }
                        Operand::Resource(_, ResourceField::State) => {
                            (0..estate.catalog.len()).any(|row| estate.catalog.states.get(row) == Some(value))
                        }
                        _ => continue,
                    };
                    if !carried {
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
