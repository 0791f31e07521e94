//! What somebody gets of a dataset, as SQL (ISO/IEC 9075): names and values quoted as the standard says, a condition on the
//! values of slices, the columns.
//!
//! A condition names what is given, never what is not: a value that nobody knew of yet fits none. Nothing given is `FALSE`.

pub mod policy;

use bastide_model::inside::{Inside, Literal};
use std::collections::BTreeMap;

/// Of more slices than this, columns are taken in one order only.
const MOST_TRIED: usize = 2_000;

/// A name in quotes.
pub fn name(text: &str) -> String {
    format!("\"{}\"", text.replace('"', "\"\""))
}

/// A text in quotes.
pub fn text(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// A value, as its column wants it. What is no number, day or flag after all is a text.
pub fn value(literal: Literal, of: &str) -> String {
    match literal {
        Literal::Number if of.parse::<rust_decimal::Decimal>().is_ok() => of.to_string(),
        Literal::Flag if of == "true" => "TRUE".to_string(),
        Literal::Flag if of == "false" => "FALSE".to_string(),
        Literal::Date if of.parse::<jiff::civil::Date>().is_ok() => format!("DATE {}", text(of)),
        Literal::Text | Literal::Number | Literal::Flag | Literal::Date => text(of),
    }
}

/// Values of a slice.
type RowValues<'v> = Vec<Option<&'v str>>;

/// The condition that is true of the rows of these slices, and of no other: the shortest that is found by taking one column
/// after the other. Cost: slices times columns, for each order of the columns where slices are few.
pub fn condition(inside: &Inside, slices: &[RowValues]) -> String {
    if slices.is_empty() {
        return "FALSE".to_string();
    }
    if inside.by.is_empty() {
        return "TRUE".to_string();
    }
    let first: Vec<usize> = (0..inside.by.len()).collect();
    let orders = if slices.len() > MOST_TRIED || inside.by.len() > 4 { vec![first] } else { orders(first) };
    let texts = orders.iter().map(|order| any(inside, slices, order).0);
    texts.min_by_key(String::len).expect("there is an order")
}

/// Every order of some numbers.
fn orders(of: Vec<usize>) -> Vec<Vec<usize>> {
    if of.len() < 2 {
        return vec![of];
    }
    let mut found = Vec::new();
    for at in 0..of.len() {
        let mut rest = of.clone();
        let first = rest.remove(at);
        found.extend(orders(rest).into_iter().map(|order| [vec![first], order].concat()));
    }
    found
}

/// The condition, and whether it is several joined by `OR`.
fn any(inside: &Inside, slices: &[RowValues], order: &[usize]) -> (String, bool) {
    let (at, rest) = order.split_first().expect("there is a column");
    if rest.is_empty() {
        let mut values: RowValues = slices.iter().map(|values| values[*at]).collect();
        values.sort_unstable();
        values.dedup();
        return one_of(inside, *at, &values);
    }
    // Values with which the same goes on are told together.
    let mut by_value: BTreeMap<Option<&str>, Vec<RowValues>> = BTreeMap::new();
    for values in slices {
        by_value.entry(values[*at]).or_default().push(values.clone());
    }
    let mut by_rest: BTreeMap<Vec<RowValues>, (RowValues, Vec<RowValues>)> = BTreeMap::new();
    for (value, slices) in by_value {
        let mut key: Vec<RowValues> = slices.iter().map(|values| rest.iter().map(|at| values[*at]).collect()).collect();
        key.sort_unstable();
        by_rest.entry(key).or_insert_with(|| (Vec::new(), slices)).0.push(value);
    }
    let joined = |(text, several): (String, bool)| if several { format!("({text})") } else { text };
    let parts: Vec<String> = by_rest
        .into_values()
        .map(|(values, slices)| {
            format!("{} AND {}", joined(one_of(inside, *at, &values)), joined(any(inside, &slices, rest)))
        })
        .collect();
    match parts.as_slice() {
        [one] => (one.clone(), false),
        several => (several.iter().map(|part| format!("({part})")).collect::<Vec<_>>().join(" OR "), true),
    }
}

/// That a column has one of some values.
fn one_of(inside: &Inside, at: usize, values: &[Option<&str>]) -> (String, bool) {
    let by = &inside.by[at];
    let column = name(&by.name);
    let given: Vec<String> = values.iter().flatten().map(|of| value(by.literal, of)).collect();
    let mut parts = Vec::new();
    match given.as_slice() {
        [] => {}
        [one] => parts.push(format!("{column} = {one}")),
        several => parts.push(format!("{column} IN ({})", several.join(", "))),
    }
    if values.contains(&None) {
        parts.push(format!("{column} IS NULL"));
        if inside.empty_is_none {
            parts.push(format!("{column} = ''"));
        }
    }
    (parts.join(" OR "), parts.len() > 1)
}

/// The table that a dataset is in SQL: that of the database; otherwise the name of the file.
pub fn table(inside: &Inside) -> String {
    if inside.table.is_empty() {
        let file = inside.file.rsplit('/').next().unwrap_or(&inside.file);
        return name(file.split('.').next().unwrap_or(file));
    }
    inside.table.iter().map(|part| name(part)).collect::<Vec<_>>().join(".")
}

/// A query that gives these columns of the rows of these slices. Without any column nothing is given.
pub fn query(inside: &Inside, columns: &[&str], slices: &[RowValues]) -> String {
    let (what, condition) = match columns {
        [] => ("NULL".to_string(), "FALSE".to_string()),
        columns => {
            (columns.iter().map(|column| name(column)).collect::<Vec<_>>().join(", "), condition(inside, slices))
        }
    };
    format!("SELECT {what}\nFROM {}\nWHERE {condition}\n", table(inside))
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_model::inside::SlicedBy;

    fn inside(by: &[(&str, Literal)]) -> Inside {
        let by = by
            .iter()
            .map(|(name, literal)| SlicedBy { name: name.to_string(), literal: *literal, ..SlicedBy::default() })
            .collect();
        Inside { by, file: "data/climate.parquet".into(), columns: vec!["a".into()], ..Inside::default() }
    }

    #[test]
    fn the_shorter_way_round_is_taken() {
        let two = inside(&[("house", Literal::Text), ("sort", Literal::Number)]);
        let slices: Vec<RowValues> = ["a", "b", "c"].map(|house| vec![Some(house), Some("1")]).into();
        assert_eq!(condition(&two, &slices), "\"house\" IN ('a', 'b', 'c') AND \"sort\" = 1");
        let slices: Vec<RowValues> =
            vec![vec![Some("a"), Some("1")], vec![Some("a"), Some("2")], vec![Some("b"), Some("2")], vec![None, None]];
        assert_eq!(
            condition(&two, &slices),
            "(\"house\" IS NULL AND \"sort\" IS NULL) OR (\"house\" = 'a' AND \"sort\" IN (1, 2)) OR (\"house\" = 'b' AND \"sort\" = 2)"
        );
    }

    #[test]
    fn nothing_is_false_and_values_stay_values() {
        let one = inside(&[("ho\"use", Literal::Text)]);
        assert_eq!(condition(&one, &[]), "FALSE");
        assert_eq!(condition(&one, &[vec![Some("'; drop table")]]), "\"ho\"\"use\" = '''; drop table'");
        assert_eq!(query(&one, &[], &[vec![Some("a")]]), "SELECT NULL\nFROM \"climate\"\nWHERE FALSE\n");
        assert_eq!(value(Literal::Number, "1; drop"), "'1; drop'");
        assert_eq!(value(Literal::Date, "2026-02-30"), "'2026-02-30'");
        let csv = Inside { empty_is_none: true, ..one };
        assert_eq!(condition(&csv, &[vec![None]]), "\"ho\"\"use\" IS NULL OR \"ho\"\"use\" = ''");
    }
}
