//! `[[inside]]`: what lies inside a dataset, and where its rows are.

use super::import::{Counting, Import, System};
use super::{DataSource, Reader};
use crate::text::Placed;
use bastide_syntax::{Diagnostic, codes};
use toml::Spanned;
use toml::de::DeValue;

/// More slices than this are an error, where the manifest does not say otherwise.
const MOST_SLICES: usize = 5_000_000;

/// One `[[inside]]`.
#[derive(Clone, Debug)]
pub struct InsideSource {
    /// The dataset's id.
    pub dataset: Placed,
    /// The file; where rows lie in a database, the one in which an import keeps what it found.
    pub data: DataSource,
    /// The columns by whose values rows are told apart.
    pub slices: Vec<Placed>,
    /// Whether each column is a resource.
    pub columns: bool,
    /// More slices than this are an error.
    pub at_most: usize,
    /// By column, our attributes of it and their values.
    pub marked: Vec<(Placed, Vec<(Placed, Placed)>)>,
    /// The table of a database, each part of its name apart.
    pub table: Option<Vec<String>>,
}

/// The parts of a name as SQL writes it: parted by points, perhaps in quotes. None where it is no such name.
pub fn table_name(text: &str) -> Option<Vec<String>> {
    let mut parts = Vec::new();
    let mut rest = text;
    loop {
        let (part, after) = match rest.strip_prefix('"') {
            Some(quoted) => {
                let mut name = String::new();
                let mut letters = quoted.char_indices();
                let end = loop {
                    match letters.next()? {
                        (at, '"') if quoted[at + 1..].starts_with('"') => {
                            name.push('"');
                            letters.next();
                        }
                        (at, '"') => break at + 1,
                        (_, c) => name.push(c),
                    }
                };
                (name, &quoted[end..])
            }
            None => {
                let end = rest.find('.').unwrap_or(rest.len());
                (rest[..end].to_string(), &rest[end..])
            }
        };
        if part.is_empty() || part.contains('\0') {
            return None;
        }
        parts.push(part);
        if after.is_empty() {
            return (parts.len() <= 2).then_some(parts);
        }
        rest = after.strip_prefix('.')?;
    }
}

impl Reader<'_> {
    /// The sources, and the imports by which what is in databases is found out.
    pub(super) fn insides(&mut self, value: &Spanned<DeValue>) -> (Vec<InsideSource>, Vec<Import>) {
        let (mut found, mut imports): (Vec<InsideSource>, Vec<Import>) = Default::default();
        let DeValue::Array(list) = value.get_ref() else {
            self.wrong(value, "expected `[[inside]]`: there may be several");
            return (found, imports);
        };
        for value in list {
            let Some((inside, import)) = self.inside(value) else { continue };
            if let Some(other) = found.iter().find(|other| other.dataset.text == inside.dataset.text) {
                let message = format!("what lies inside `{}` is said twice", inside.dataset.text);
                let told = Diagnostic::at(&codes::MANIFEST, inside.dataset.span, message);
                self.out.push(told.other(other.dataset.span, "here is the other one"));
                continue;
            }
            found.push(inside);
            imports.extend(import);
        }
        (found, imports)
    }

    fn inside(&mut self, value: &Spanned<DeValue>) -> Option<(InsideSource, Option<Import>)> {
        let table = self.table(value)?;
        let given = |name: &str| table.iter().find(|(key, _)| key.get_ref() == name).map(|(_, value)| value);
        let Some(dataset) = given("dataset") else {
            self.wrong(value, "an inside that does not say of which `dataset`");
            return None;
        };
        let dataset = self.text(dataset)?;
        let mut known =
            vec!["dataset", "file", "slices", "columns", "marked", "attributes", "values", "at_least", "at_most"];
        let of_database = ["from", "table", "secret", "authority", "wait", "clear"];
        let from = given("from");
        if from.is_some() {
            known.extend(of_database);
        }
        self.entries(table, &known);
        let data_keys: Vec<&str> = ["file", "attributes", "values", "at_least"].to_vec();
        let data = self.part_of(value, &data_keys)?;
        let slices = given("slices").map_or(Vec::new(), |value| self.texts(value));
        let columns = given("columns").is_some_and(|value| self.flag(value));
        let at_most = given("at_most").and_then(|value| self.number(value)).map_or(MOST_SLICES, |most| most as usize);
        let marked = given("marked").map_or(Vec::new(), |value| self.marks(value));
        if let Some((column, _)) = marked.first().filter(|_| !columns) {
            let told =
                Diagnostic::at(&codes::MANIFEST, column.span, "a column is marked, and columns are not told apart");
            self.out.push(told.help("to tell them apart, write `columns = true`"));
        }
        if slices.is_empty() && !columns {
            let told =
                Diagnostic::at(&codes::MANIFEST, dataset.span, "neither `slices` nor `columns`: nothing is told apart");
            self.out
                .push(told.help("name the columns by whose values rows are told apart, as in `slices = [\"house\"]`"));
        }
        for (at, slice) in slices.iter().enumerate() {
            if let Some(other) = slices[..at].iter().find(|other| other.text == slice.text) {
                let told =
                    Diagnostic::at(&codes::MANIFEST, slice.span, format!("column `{}` stands twice", slice.text));
                self.out.push(told.other(other.span, "here it stands first"));
            }
        }
        let Some(from) = from else {
            return Some((InsideSource { dataset, data, slices, columns, at_most, marked, table: None }, None));
        };
        let name = given("table").and_then(|value| self.text(value));
        let Some(name) = name else {
            self.wrong(value, "`from` a database, and no `table`");
            return None;
        };
        let Some(parts) = table_name(&name.text) else {
            let told = Diagnostic::at(&codes::MANIFEST, name.span, format!("`{}` is no name of a table", name.text));
            self.out.push(told.help("write it as SQL does: `lab.climate`, or `lab.\"Climate 2026\"`"));
            return None;
        };
        if !data.file.text.ends_with(".jsonl") {
            let message = "what an import finds in a table is kept as JSON Lines: `file` must end in `.jsonl`";
            self.out.push(Diagnostic::at(&codes::MANIFEST, data.file.span, message));
        }
        let counting =
            Counting { table: parts.clone(), slices: slices.iter().map(|slice| slice.text.clone()).collect() };
        let mut import = self.reached(from, System::Database)?;
        (import.name, import.into, import.counting) = (dataset.clone(), data.file.clone(), Some(counting));
        import.at_most = Some(at_most as u64);
        for (key, value) in table {
            if ["secret", "authority", "wait", "clear"].contains(&key.get_ref().as_ref()) {
                self.setting(&mut import, (key, value));
            }
        }
        Some((InsideSource { dataset, data, slices, columns, at_most, marked, table: Some(parts) }, Some(import)))
    }

    /// `[inside.marked.COLUMN]`: attributes of a column.
    fn marks(&mut self, value: &Spanned<DeValue>) -> Vec<(Placed, Vec<(Placed, Placed)>)> {
        let mut found = Vec::new();
        let Some(table) = self.table(value) else { return found };
        for (column, marks) in table {
            let column = Placed { text: column.get_ref().to_string(), span: self.span(column) };
            let Some(marks) = self.table(marks) else { continue };
            let mut list = Vec::new();
            for (name, value) in marks {
                let name = Placed { text: name.get_ref().to_string(), span: self.span(name) };
                list.extend(self.text(value).map(|value| (name, value)));
            }
            found.push((column, list));
        }
        found
    }
}
