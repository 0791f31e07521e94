//! A column of a table: each distinct value once, and per row the number of its value.

use crate::value::Value;
use hashbrown::HashMap;

const NONE: u32 = u32::MAX;

/// Values by row. A column nothing was ever put into costs nothing.
#[derive(Default, Clone, Debug)]
pub struct Column {
    /// The distinct values, in the order of their first row.
    pub values: Vec<Value>,
    /// Per row the position in `values`; empty where no row has a value.
    cells: Vec<u32>,
}

impl Column {
    /// The value of a row.
    pub fn get(&self, row: usize) -> Option<&Value> {
        self.code(row).map(|code| &self.values[code as usize])
    }

    /// The number of a row's value.
    pub fn code(&self, row: usize) -> Option<u32> {
        self.cells.get(row).copied().filter(|code| *code != NONE)
    }

    /// Sets a row to a value by its number.
    pub fn set_code(&mut self, row: usize, rows: usize, code: Option<u32>) {
        if code.is_some() && self.cells.len() < rows {
            self.cells.resize(rows, NONE);
        }
        if row < self.cells.len() {
            self.cells[row] = code.unwrap_or(NONE);
        }
    }

    /// The number of a value, which is added where it is new. Cost: linear in the distinct values.
    pub fn intern(&mut self, value: Value) -> u32 {
        let known = self.values.iter().position(|v| *v == value);
        known.unwrap_or_else(|| {
            self.values.push(value);
            self.values.len() - 1
        }) as u32
    }

    /// The same rows in another order: the new `i` is the old `order[i]`.
    pub fn reordered(self, order: &[u32]) -> Column {
        if self.cells.is_empty() {
            return self;
        }
        let cells = order.iter().map(|&old| self.cells.get(old as usize).copied().unwrap_or(NONE)).collect();
        Column { values: self.values, cells }
    }
}

/// Fills a column row by row from text; each distinct text is read once.
#[derive(Default)]
pub struct ColumnBuilder {
    column: Column,
    seen: HashMap<Box<str>, u32>,
    known: HashMap<Value, u32>,
}

impl ColumnBuilder {
    /// Gives `row` the value of `text`; an empty text is a missing value. `parse` runs once for each
    /// distinct text.
    ///
    /// # Errors
    /// What `parse` says, at the first row of each such text; the row stays without a value.
    pub fn put(
        &mut self,
        row: usize,
        text: &str,
        parse: impl FnOnce(&str) -> Result<Value, String>,
    ) -> Result<(), String> {
        if text.is_empty() {
            return Ok(());
        }
        let code = match self.seen.get(text) {
            Some(code) => *code,
            None => {
                let parsed = parse(text);
                let code = match &parsed {
                    Ok(value) => self.code(value.clone()),
                    Err(_) => NONE,
                };
                self.seen.insert(text.into(), code);
                parsed?;
                code
            }
        };
        self.place(row, code);
        Ok(())
    }

    /// Gives `row` a value.
    pub fn put_value(&mut self, row: usize, value: Value) {
        let code = self.code(value);
        self.place(row, code);
    }

    fn code(&mut self, value: Value) -> u32 {
        let next = self.column.values.len() as u32;
        let code = *self.known.entry(value.clone()).or_insert(next);
        if code == next {
            self.column.values.push(value);
        }
        code
    }

    fn place(&mut self, row: usize, code: u32) {
        if self.column.cells.len() <= row {
            self.column.cells.resize(row + 1, NONE);
        }
        self.column.cells[row] = code;
    }

    /// Adds the rows of another builder behind the first `rows` of this one.
    pub fn append(&mut self, rows: usize, other: ColumnBuilder) {
        if other.column.cells.is_empty() {
            return;
        }
        let codes: Vec<u32> = other.column.values.into_iter().map(|value| self.code(value)).collect();
        let seen = other.seen.into_iter().filter(|(_, code)| *code != NONE);
        for (text, code) in seen {
            self.seen.entry(text).or_insert(codes[code as usize]);
        }
        self.column.cells.resize(rows, NONE);
        let renumbered =
            other.column.cells.into_iter().map(|code| if code == NONE { NONE } else { codes[code as usize] });
        self.column.cells.extend(renumbered);
    }

    /// The column.
    pub fn finish(self) -> Column {
        self.column
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_distinct_text_is_read_once_and_equal_values_share_a_number() {
        let mut builder = ColumnBuilder::default();
        let mut reads = 0;
        let texts = ["2.5", "", "2.50", "2.5", "x", "x"];
        let mut errors = Vec::new();
        for (row, text) in texts.into_iter().enumerate() {
            let read = builder.put(row, text, |t| {
                reads += 1;
                t.parse().map(Value::Number).map_err(|_| format!("no number: {t}"))
            });
            errors.extend(read.err());
        }
        let mut other = ColumnBuilder::default();
        other.put_value(1, Value::Flag(true));
        other.put_value(2, Value::Number("2.5".parse().unwrap()));
        builder.append(7, other);
        let column = builder.finish();
        let codes: Vec<_> = (5..11).map(|row| column.code(row)).collect();
        assert_eq!(codes, [None, None, None, Some(1), Some(0), None]);
        let column = column.reordered(&[3, 1, 2, 4]);
        assert_eq!(reads, 3);
        assert_eq!(errors, ["no number: x"]);
        assert_eq!((0..4).map(|row| column.code(row)).collect::<Vec<_>>(), [Some(0), None, Some(0), None]);
    }
}
