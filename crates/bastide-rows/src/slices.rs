//! Rows of a file that lie in slices that are wanted.

use crate::quoting::writer;
use bastide_formats::data::DataRow;
use bastide_model::inside::Literal;
use csv::QuoteStyle;
use hashbrown::HashSet;
use std::borrow::Cow;
use std::io::{self, Write};

/// A slice: a value for each column that slices are told apart by; none where it is missing.
pub type Slice<'a> = Vec<Option<Cow<'a, str>>>;

/// Rows of a file being written as CSV.
pub struct SliceRows<'a, 'o> {
    by: Vec<(usize, Literal)>,
    wanted: HashSet<Slice<'a>>,
    columns: Vec<usize>,
    table: csv::Writer<&'o mut (dyn Write + Send)>,
}

impl<'a, 'o> SliceRows<'a, 'o> {
    /// Begins with the names of the columns that are written. `by` says by which columns slices are told apart, and how their cells are
    /// read.
    ///
    /// # Errors
    /// What the output says.
    pub fn new(
        by: Vec<(usize, Literal)>,
        wanted: HashSet<Slice<'a>>,
        columns: &[(usize, &str)],
        out: &'o mut (dyn Write + Send),
    ) -> io::Result<SliceRows<'a, 'o>> {
        let mut table = writer(out, QuoteStyle::Necessary);
        table.write_record(columns.iter().map(|(_, name)| name)).map_err(io::Error::other)?;
        Ok(SliceRows { by, wanted, columns: columns.iter().map(|(at, _)| *at).collect(), table })
    }

    /// Writes a row, if its slice is wanted.
    ///
    /// # Errors
    /// What the output says.
    pub fn row(&mut self, row: &dyn DataRow) -> io::Result<()> {
        let key = self.by.iter().map(|(at, literal)| row.cell(*at).map(|text| literal.key(text)));
        if self.wanted.contains(&key.collect::<Vec<_>>()) {
            let cells = self.columns.iter().map(|at| row.cell(*at).unwrap_or(""));
            self.table.write_record(cells).map_err(io::Error::other)?;
        }
        Ok(())
    }

    /// Hands on what is left.
    ///
    /// # Errors
    /// What the output says.
    pub fn finish(&mut self) -> io::Result<()> {
        self.table.flush()
    }
}
