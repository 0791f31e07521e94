//! What lies inside a dataset: rows by the values of some columns (slices), and columns. Both are resources of the catalog,
//! children of the dataset; how a slice is told apart stands in its id.
//!
//! ```
//! use bastide_model::inside::{Inside, SlicedBy};
//!
//! let by = ["house", "sort"].map(|name| SlicedBy { name: name.into(), ..SlicedBy::default() });
//! let inside = Inside { dataset: "d-climate".into(), by: by.into(), ..Inside::default() };
//! let id = inside.slice_id(&[Some("a;b"), None]);
//! assert_eq!(id, "d-climate#house=a%3Bb;sort");
//! assert_eq!(inside.slice_values(&id), Some(vec![Some("a;b".to_string()), None]));
//! ```

use crate::ids::Origin;
use crate::tidy::untidy;
use rust_decimal::Decimal;
use std::borrow::Cow;

/// How a value of a column is written in SQL.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub enum Literal {
    /// As a text in quotes.
    #[default]
    Text,
    /// As a number.
    Number,
    /// As `TRUE` or `FALSE`.
    Flag,
    /// As a date.
    Date,
}

impl Literal {
    /// A value in the one form by which rows are told apart: numbers that are equal are one.
    pub fn key(self, text: &str) -> Cow<'_, str> {
        if self != Literal::Number {
            return Cow::Borrowed(text);
        }
        let number = text.parse::<Decimal>().or_else(|_| Decimal::from_scientific(text));
        number.map_or(Cow::Borrowed(text), |number| Cow::Owned(number.normalize().to_string()))
    }

    /// The names by which they are kept in files.
    pub const NAMES: [(&'static str, Literal); 4] =
        [("text", Literal::Text), ("number", Literal::Number), ("flag", Literal::Flag), ("date", Literal::Date)];
}

/// A column by whose values rows are told apart.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct SlicedBy {
    /// Its name in the data.
    pub name: String,
    /// The attribute of slices that holds its values.
    pub attribute: String,
    /// How its values are written.
    pub literal: Literal,
}

impl SlicedBy {
    /// How a value stands in the names of slices; none: there is no value.
    pub fn part(&self, value: Option<&str>) -> String {
        match value {
            Some(value) => format!("{}={}", encoded(&self.name), encoded(value)),
            None => encoded(&self.name),
        }
    }
}

/// What lies inside one dataset.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Inside {
    /// The dataset's id.
    pub dataset: String,
    /// The columns by whose values rows are told apart; none: they are not.
    pub by: Vec<SlicedBy>,
    /// All columns of the data, in their order.
    pub columns: Vec<String>,
    /// Whether each column is a resource.
    pub by_column: bool,
    /// How many rows there are.
    pub rows: u64,
    /// Whether an empty text is the same as none, as in CSV.
    pub empty_is_none: bool,
    /// The file, relative to the estate.
    pub file: String,
    /// The table of a database, each part of its name apart; empty where it is a file.
    pub table: Vec<String>,
    /// Where that is said.
    pub origin: Option<Origin>,
}

impl Inside {
    /// The id of the slice with these values, one for each column by which rows are told apart; none: there is no value.
    pub fn slice_id(&self, values: &[Option<&str>]) -> String {
        format!("{}#{}", self.dataset, self.slice_name(values))
    }

    /// The name of such a slice.
    pub fn slice_name(&self, values: &[Option<&str>]) -> String {
        self.by.iter().zip(values).map(|(by, value)| by.part(*value)).collect::<Vec<_>>().join(";")
    }

    /// The values of a slice, from its id; none where it is no slice of this dataset.
    pub fn slice_values(&self, id: &str) -> Option<Vec<Option<String>>> {
        let parts: Vec<&str> = id.strip_prefix(&self.dataset)?.strip_prefix('#')?.split(';').collect();
        if parts.len() != self.by.len() {
            return None;
        }
        let value = |(by, part): (&SlicedBy, &&str)| match part.split_once('=') {
            Some((name, value)) => (decoded(name)? == by.name).then(|| decoded(value).map(Some))?,
            None => (decoded(part)? == by.name).then_some(None),
        };
        self.by.iter().zip(&parts).map(value).collect()
    }

    /// The id of a column.
    pub fn column_id(&self, name: &str) -> String {
        format!("{}.{}", self.dataset, encoded(name))
    }

    /// The name of a column in the data, from its id.
    pub fn column_name(&self, id: &str) -> Option<String> {
        let name = decoded(id.strip_prefix(&self.dataset)?.strip_prefix('.')?)?;
        self.columns.contains(&name).then_some(name)
    }
}

/// A text as a part of an id: what parts values, and what no id may hold, as the bytes that it is (RFC 3986, 2.1).
pub fn encoded(text: &str) -> String {
    let plain = |c: char| !matches!(c, '%' | ';' | '=' | '#' | '\0'..='\u{1f}');
    if text.chars().all(plain) && untidy(text).is_none() {
        return text.to_string();
    }
    let odd = untidy(text).is_some();
    let mut out = String::with_capacity(text.len() + 8);
    let last = text.chars().count().saturating_sub(1);
    for (at, c) in text.chars().enumerate() {
        let blank = c == ' ' && (at == 0 || at == last);
        if plain(c) && !blank && (c.is_ascii() || !odd) {
            out.push(c);
        } else {
            let mut bytes = [0; 4];
            c.encode_utf8(&mut bytes).bytes().for_each(|b| out.push_str(&format!("%{b:02X}")));
        }
    }
    out
}

fn decoded(text: &str) -> Option<String> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.bytes();
    while let Some(b) = rest.next() {
        if b == b'%' {
            let hex = [rest.next()?, rest.next()?];
            bytes.push(u8::from_str_radix(std::str::from_utf8(&hex).ok()?, 16).ok()?);
        } else {
            bytes.push(b);
        }
    }
    String::from_utf8(bytes).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn equal_numbers_are_one_value() {
        for text in ["1", "1.0", "1.00", "1e0", "0.1e1", "+1"] {
            assert_eq!(Literal::Number.key(text), "1", "{text}");
        }
        assert_eq!(Literal::Number.key("-0"), "0");
        assert_eq!(Literal::Number.key("1e400"), "1e400", "what is no such number stays what it is");
        assert_eq!(Literal::Text.key("1.0"), "1.0");
    }

    #[test]
    fn every_value_comes_back_and_every_id_is_tidy() {
        let by = vec![SlicedBy { name: "a=b".into(), ..SlicedBy::default() }];
        let inside = Inside { dataset: "d".into(), by, columns: vec!["x;y".into(), " z".into()], ..Inside::default() };
        let values = [
            "",
            " ",
            "a",
            "A",
            " a ",
            "a;b",
            "a=b",
            "50%",
            "%41",
            "a\u{301}",
            "\u{e1}",
            "a\nb",
            "#",
            "\u{202e}x",
            "'; drop",
        ];
        let mut ids = std::collections::BTreeSet::new();
        for value in values.map(Some).into_iter().chain([None]) {
            let id = inside.slice_id(&[value]);
            assert_eq!(untidy(&id), None, "{id:?}");
            assert_eq!(inside.slice_values(&id), Some(vec![value.map(str::to_string)]), "{id}");
            assert!(ids.insert(id));
        }
        for name in &inside.columns {
            let id = inside.column_id(name);
            assert_eq!(untidy(&id), None);
            assert_eq!(inside.column_name(&id).as_ref(), Some(name));
        }
        assert_eq!(inside.slice_values("d#other=1"), None);
        assert_eq!(inside.slice_values("d2#a%3Db=1"), None);
    }
}
