//! A column of a table: each distinct value once, and per row the number of its value.

pub use crate::distinct::{Distinct, NONE, Values};
use crate::elements::Elements;
use crate::value::Value;
use hashbrown::HashMap;
use std::sync::Arc;

/// Values by row. A column nothing was ever put into costs nothing, and a copy little until it is written into.
#[derive(Default, Clone, Debug)]
pub struct Column {
    distinct: Distinct,
    /// Per row the number of its value; empty where no row has one.
    cells: Arc<Vec<u32>>,
}

impl Column {
    /// A column of these values and their numbers by row.
    pub fn new(distinct: impl Into<Distinct>, cells: Vec<u32>) -> Column {
        let distinct = distinct.into();
        Column { cells: if distinct.is_empty() { Arc::default() } else { Arc::new(cells) }, distinct }
    }

    /// The distinct values, in the order of their first row.
    pub fn distinct(&self) -> &Distinct {
        &self.distinct
    }

    /// The elements of its values, where these are sets. Values that came later have none there.
    pub fn elements(&self) -> Option<&Elements> {
        self.distinct.elements()
    }

    /// The value of a row.
    pub fn get(&self, row: usize) -> Option<&Value> {
        self.code(row).map(|code| self.distinct.value(code))
    }

    /// The number of a row's value.
    pub fn code(&self, row: usize) -> Option<u32> {
        self.cells.get(row).copied().filter(|code| *code != NONE)
    }

    /// The numbers of the first rows; the others have no value.
    pub fn numbers(&self) -> &[u32] {
        &self.cells
    }

    /// Sets a row to a value by its number.
    pub fn set_code(&mut self, row: usize, rows: usize, code: Option<u32>) {
        if code.is_some() && self.cells.len() < rows {
            Arc::make_mut(&mut self.cells).resize(rows, NONE);
        }
        if row < self.cells.len() {
            Arc::make_mut(&mut self.cells)[row] = code.unwrap_or(NONE);
        }
    }

    /// The number of a value, which is added where it is new. Cost: linear in the distinct values.
    pub fn intern(&mut self, value: Value) -> u32 {
        self.distinct.intern(value)
    }

    /// The number of each of so many rows, to write into; [`NONE`] where a row has no value.
    pub fn codes_mut(&mut self, rows: usize) -> &mut [u32] {
        let cells = Arc::make_mut(&mut self.cells);
        cells.resize(rows, NONE);
        cells
    }

    /// The rows among so many in which two columns have different values, in order. Values are compared, not their
    /// numbers: each column numbers its own. Columns of which one is an unchanged copy of the other are the same at once.
    /// Cost: linear in the rows, and in the distinct values.
    pub fn differing(&self, other: &Column, rows: usize) -> Vec<usize> {
        let same_numbers = self.distinct.begin_alike(&other.distinct);
        if same_numbers && Arc::ptr_eq(&self.cells, &other.cells) {
            return Vec::new();
        }
        if same_numbers {
            return (0..rows).filter(|row| self.code(*row) != other.code(*row)).collect();
        }
        let numbers: HashMap<&Value, u32> = other.distinct.iter().zip(0..).collect();
        let theirs: Vec<Option<u32>> = self.distinct.iter().map(|value| numbers.get(value).copied()).collect();
        let differs = |row: &usize| match (self.code(*row), other.code(*row)) {
            (Some(own), Some(their)) => theirs[own as usize] != Some(their),
            (own, their) => own != their,
        };
        (0..rows).filter(differs).collect()
    }

    /// The same rows in another order: the new `i` is the old `order[i]`.
    pub fn reordered(self, order: &[u32]) -> Column {
        if self.cells.is_empty() {
            return self;
        }
        let cells = order.iter().map(|&old| self.cells.get(old as usize).copied().unwrap_or(NONE)).collect();
        Column { cells: Arc::new(cells), ..self }
    }
}

/// Fills a column row by row from text.
#[derive(Default)]
pub struct ColumnBuilder {
    values: Values,
    cells: Vec<u32>,
}

impl ColumnBuilder {
    /// Gives `row` the value of `text`; an empty text is a missing value. `parse` runs once for each
    /// distinct text.
    ///
    /// # Errors
    /// What `parse` says, at the first row of each such text; the row stays without a value.
    pub fn put(&mut self, row: usize, text: &str, parse: impl Fn(&str) -> Result<Value, String>) -> Result<(), String> {
        if !text.is_empty() {
            let code = self.values.number(text, parse)?;
            if self.cells.len() <= row {
                self.cells.resize(row + 1, NONE);
            }
            self.cells[row] = code;
        }
        Ok(())
    }

    /// The column.
    pub fn finish(self) -> Column {
        Column::new(self.values.finish(), self.cells)
    }
}

/// Rows of as many numbers each, a row in one piece of memory: what is moved together lies together.
#[derive(Clone)]
pub struct Grid {
    width: usize,
    cells: Vec<u32>,
}

impl Grid {
    /// No rows yet, of a number of cells each.
    pub fn new(width: usize) -> Grid {
        Grid { width: width.max(1), cells: Vec::new() }
    }

    /// How many cells a row has.
    pub fn width(&self) -> usize {
        self.width
    }

    /// Makes room for so many rows more.
    pub fn reserve(&mut self, rows: usize) {
        self.cells.reserve(rows * self.width);
    }

    /// Adds a row of empty cells.
    pub fn push(&mut self) -> &mut [u32] {
        let from = self.cells.len();
        self.cells.resize(from + self.width, NONE);
        &mut self.cells[from..]
    }

    /// Adds so many rows of empty cells.
    pub fn extend(&mut self, rows: usize) {
        self.cells.resize(self.cells.len() + rows * self.width, NONE);
    }

    /// A row to write into.
    pub fn row_mut(&mut self, row: usize) -> &mut [u32] {
        &mut self.cells[row * self.width..(row + 1) * self.width]
    }

    /// A row.
    pub fn row(&self, row: usize) -> &[u32] {
        &self.cells[row * self.width..(row + 1) * self.width]
    }

    /// The cells of one column.
    pub fn column(&self, at: usize) -> impl ExactSizeIterator<Item = u32> + '_ {
        self.cells.chunks_exact(self.width).map(move |row| row[at])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_distinct_text_is_read_once_and_equal_values_share_a_number() {
        let mut builder = ColumnBuilder::default();
        let reads = std::cell::Cell::new(0);
        let texts = ["2.5", "", "2.50", "2.5", "x", "x"];
        let mut errors = Vec::new();
        for (row, text) in texts.into_iter().enumerate() {
            let read = builder.put(row, text, |t| {
                reads.set(reads.get() + 1);
                t.parse().map(Value::Number).map_err(|_| format!("no number: {t}"))
            });
            errors.extend(read.err());
        }
        let column = builder.finish().reordered(&[3, 1, 2, 4]);
        assert_eq!(reads.get(), 3);
        assert_eq!(errors, ["no number: x"]);
        assert_eq!((0..4).map(|row| column.code(row)).collect::<Vec<_>>(), [Some(0), None, Some(0), None]);
    }

    #[test]
    fn a_copy_differs_where_it_was_written() {
        let column = Column::new(vec![Value::Flag(true), Value::Flag(false)], vec![0, NONE, 1, 0]);
        let mut copy = column.clone();
        assert_eq!(column.differing(&copy, 4), []);
        copy.set_code(1, 4, Some(1));
        copy.set_code(3, 4, None);
        assert_eq!((column.code(1), column.code(3)), (None, Some(0)), "the first is left as it was");
        assert_eq!((column.differing(&copy, 4), copy.differing(&column, 3)), (vec![1, 3], vec![1]));
        copy.set_code(1, 4, None);
        copy.set_code(3, 4, Some(0));
        assert_eq!(column.differing(&copy, 4), [], "written, and the same again");
        assert_eq!(column.differing(&Column::default(), 4), [0, 2, 3]);
    }

    #[test]
    fn values_are_compared_whatever_their_numbers() {
        let text = |t: &str| Value::Text(t.into());
        let was = Column::new(vec![text("a"), text("default")], vec![0, 1, 1, NONE]);
        let is = Column::new(vec![text("a"), text("new"), text("default")], vec![0, 1, 2, NONE]);
        assert_eq!((was.differing(&is, 4), is.differing(&was, 4)), (vec![1], vec![1]));
        let same_cells = Column { distinct: vec![text("b"), text("default")].into(), ..was.clone() };
        assert_eq!(was.differing(&same_cells, 4), [0]);
    }

    #[test]
    fn many_are_read_as_one_by_one() {
        let number = |text: &str| text.parse().map(Value::Number).map_err(|_| format!("no number: {text}"));
        let texts = ["2.5", "7", "2.50", "2.5", "0.1", "a text of more than sixteen bytes", "7"];
        let (mut one, mut many) = (Values::default(), Values::default());
        let text = |text: &str| Ok(Value::Text(text.into()));
        assert_eq!(many.numbers(&texts[..2], text), Ok(vec![0, 1]));
        let numbers = many.numbers(&texts, text).unwrap();
        assert_eq!(numbers, texts.map(|t| one.number(t, text).unwrap()));
        assert!(one.finish().iter().eq(many.finish().iter()));
        assert_eq!(numbers, [0, 1, 2, 0, 3, 4, 1]);
        let mut values = Values::default();
        assert_eq!(values.numbers(&["2.5", "2.50", "1"], number), Ok(vec![0, 0, 1]));
        assert_eq!(values.numbers(&["3", "x", "y"], number), Err("no number: x".into()));
    }

    #[test]
    fn two_lists_of_values_become_one() {
        let number = |text: &str| text.parse().map(Value::Number).map_err(|_| format!("no number: {text}"));
        let (mut values, mut others) = (Values::default(), Values::default());
        let known = ["1", "x", "2"].map(|text| values.number(text, number).unwrap_or(NONE));
        assert_eq!(known, [0, NONE, 1]);
        assert_eq!(values.number("x", number), Ok(NONE), "it was told once");
        assert_eq!(["2.0", "3", "1"].map(|text| others.number(text, number).unwrap()), [0, 1, 2]);
        let mut codes = Vec::new();
        assert_eq!(others.text_count(), 3);
        values.take_in(&others, 0..2, &mut codes);
        assert_eq!(codes, [1, 2, NONE]);
        values.take_in(&others, 2..3, &mut codes);
        assert_eq!(codes, [1, 2, 0]);
        assert_eq!(values.number("2.0", number), Ok(1));
        let column = Column::new(values.finish(), vec![0, 1, NONE]);
        assert_eq!((column.code(0), column.code(2), column.distinct().len()), (Some(0), None, 3));
    }
}
