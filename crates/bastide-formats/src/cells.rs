//! Cells that stand in no table: gathered from other forms, to be read as a table's are.

use crate::csv_table::Cells;
use bastide_model::rows::RowPlace;
use bastide_syntax::Span;

/// Cells gathered from a file that is not a table.
pub struct LooseCells {
    /// The texts, by column.
    pub texts: Vec<String>,
    /// Where the whole row stands.
    pub place: RowPlace,
}

impl Cells for LooseCells {
    fn text(&self, column: usize) -> &str {
        &self.texts[column]
    }

    fn span(&self, _column: usize) -> Span {
        self.place.span()
    }

    fn place(&self) -> RowPlace {
        self.place
    }
}

/// Joins the elements of a set as a cell holds them.
pub fn join_set<'a>(elements: impl IntoIterator<Item = &'a str>) -> String {
    let escaped: Vec<String> = elements.into_iter().map(|e| e.replace('\\', "\\\\").replace(';', "\\;")).collect();
    escaped.join(";")
}
