//! `column-in-the-open`: a column of a high label that is open to whoever reads its dataset.

use super::label::from_top;
use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::inside::contents;
use bastide_model::*;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "column-in-the-open",
    group: Group::OverBroad,
    level: crate::Level::Error,
    what: "a column of a high label in a dataset of a lower one, and whoever reads the dataset reads the column",
    why: "Somebody labelled the column because of what is in it; the label keeps nobody out.",
    mind: "Nobody reads the dataset who may not see the column, and that is meant.",
    check: Check::Policy(check),
};

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    let Some(read) = case.reading() else { return Vec::new() };
    let mut engine = survey.evaluator();
    let [mut of_dataset, mut of_column] = std::array::from_fn(|_| engine.nobody());
    let mut found = Vec::new();
    for contents in contents(estate) {
        let Some(steps) = from_top(estate, contents.dataset) else { continue };
        engine.allowed(contents.dataset, read, &mut of_dataset);
        for (column, name) in &contents.columns {
            let high =
                from_top(estate, *column).is_some_and(|own| own < steps && f64::from(own) < case.limits.exposure_steps);
            if !high {
                continue;
            }
            engine.allowed(*column, read, &mut of_column);
            let Some(user) = of_dataset.minimum().filter(|_| of_dataset.is_subset(&of_column)) else { continue };
            let path = estate.catalog().path(contents.dataset);
            let message = format!(
                "column `{name}` of `{path}` has a high label, and all of the {} who read the dataset read it",
                many(of_dataset.count_ones(..) as u64, "user")
            );
            let about = estate.catalog().id(*column).to_string();
            found.push(
                Found::new(about, Some(estate.catalog().origins[column.index()]), message)
                    .evidence(format!(
                        "of them, {}",
                        many(of_dataset.intersection_count(&survey.guests) as u64, "guest")
                    ))
                    .naming_users(estate, of_dataset.ones())
                    .example(Some((UserId::new(user), read, *column))),
            );
        }
    }
    found
}
