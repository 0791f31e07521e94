//! How cells are quoted.

use bastide_model::Estate;
use csv::{QuoteStyle, Writer, WriterBuilder};
use std::io::Write;

/// A writer in a style.
pub fn writer<W: Write>(out: W, style: QuoteStyle) -> Writer<W> {
    WriterBuilder::new().quote_style(style).from_writer(out)
}

/// Whether a line that began with a text would be taken for a command by what runs the program.
pub fn is_command(text: &str) -> bool {
    matches!(bastide_syntax::no_commands(text), std::borrow::Cow::Owned(told) if told != text)
}

/// The style for a table of an estate: every cell is quoted for spreadsheets, which part cells at other signs than commas,
/// too; and where an id would make a command of the line it begins.
pub fn style(estate: &Estate, for_spreadsheet: bool) -> QuoteStyle {
    let odd = |id: &str| id.starts_with([':', '#']) && is_command(id);
    let mut ids = estate.people().ids().chain(estate.catalog().labels.ids());
    if for_spreadsheet || ids.any(odd) { QuoteStyle::Always } else { QuoteStyle::Necessary }
}
