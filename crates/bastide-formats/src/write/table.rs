//! Edits of CSV files: cells and rows change, everything else stays byte for byte.

use crate::csv_table::{Cells, CsvTable};
use bastide_syntax::{Diagnostics, FileId, Span};

/// A row as edits ask for it.
pub struct Row<'r> {
    /// Its line, from 1.
    pub line: u32,
    header: &'r [String],
    cells: &'r dyn Cells,
}

impl Row<'_> {
    /// The cell of a column; empty where there is no such column.
    pub fn get(&self, column: &str) -> &str {
        self.header.iter().position(|h| h == column).map_or("", |at| self.cells.text(at))
    }
}

/// Which rows are meant.
pub type Is<'i> = dyn Fn(&Row) -> bool + 'i;

/// The byte ranges of the rows that fit, their line ends left out, and of their cells in a column.
fn find(text: &str, is: &Is, column: Option<&str>) -> Option<(Vec<Span>, Vec<Span>)> {
    let mut out = Diagnostics::new();
    let mut table = CsvTable::open(FileId(0), text, &mut out)?;
    let header: Vec<String> = table.header.iter().map(|c| c.text.clone()).collect();
    let at = column.and_then(|column| header.iter().position(|h| h == column));
    let (mut rows, mut cells) = (Vec::new(), Vec::new());
    let mut row = table.row();
    while table.next(&mut row, &mut out) {
        let asked = Row { line: row.place().line, header: &header, cells: &row };
        if is(&asked) {
            rows.push(row.place().span());
            cells.extend(at.map(|at| row.span(at)));
        }
    }
    Some((rows, cells))
}

/// Whether any row fits.
pub fn has_row(text: &str, is: &Is) -> bool {
    find(text, is, None).is_some_and(|(rows, _)| !rows.is_empty())
}

/// The text without the rows that fit; none where none fits.
pub fn remove_rows(text: &str, is: &Is) -> Option<String> {
    let (rows, _) = find(text, is, None)?;
    if rows.is_empty() {
        return None;
    }
    let mut out = text.to_string();
    for row in rows.iter().rev() {
        let range = row.range();
        let rest = &text[range.end..];
        let end = if rest.starts_with("\r\n") { 2 } else { usize::from(rest.starts_with('\n')) };
        out.replace_range(range.start..range.end + end, "");
    }
    Some(out)
}

/// The text with the cell of a column set in the rows that fit; the column is added where it is not
/// there. None where no row fits.
pub fn set_cell(text: &str, is: &Is, column: &str, value: &str) -> Option<String> {
    let (rows, cells) = find(text, is, Some(column))?;
    if rows.is_empty() {
        return None;
    }
    if cells.is_empty() {
        if value.is_empty() {
            return Some(text.to_string());
        }
        return set_cell(&add_column(text, column)?, is, column, value);
    }
    let separator = separator(text)?;
    let mut out = text.to_string();
    for cell in cells.iter().rev() {
        out.replace_range(cell.range(), &quoted(value, separator));
    }
    Some(out)
}

/// The text with a column of that name, empty where it was not there. None where it is no table.
pub fn with_column(text: &str, column: &str) -> Option<String> {
    let table = CsvTable::open(FileId(0), text, &mut Diagnostics::new())?;
    if table.header.iter().any(|c| c.text == column) { Some(text.to_string()) } else { add_column(text, column) }
}

fn add_column(text: &str, column: &str) -> Option<String> {
    let (rows, _) = find(text, &|_| true, None)?;
    let table = CsvTable::open(FileId(0), text, &mut Diagnostics::new())?;
    let header = table.header.last()?.span.range().end;
    let separator = char::from(table.separator);
    let mut out = text.to_string();
    for row in rows.iter().rev() {
        out.insert(row.range().end, separator);
    }
    out.insert_str(header, &format!("{separator}{}", quoted(column, separator)));
    Some(out)
}

/// The text with one more row; columns that are not given stay empty. None where a column that is
/// given, and not empty, is not there.
pub fn append(text: &str, cells: &[(&str, String)]) -> Option<String> {
    let table = CsvTable::open(FileId(0), text, &mut Diagnostics::new())?;
    let header: Vec<&str> = table.header.iter().map(|c| c.text.as_str()).collect();
    if cells.iter().any(|(column, value)| !value.is_empty() && !header.contains(column)) {
        return None;
    }
    let separator = char::from(table.separator);
    let value =
        |column: &&str| cells.iter().find(|(c, _)| c == column).map_or(String::new(), |(_, v)| quoted(v, separator));
    let row: Vec<String> = header.iter().map(value).collect();
    let end = if text.contains("\r\n") { "\r\n" } else { "\n" };
    let before = if text.ends_with('\n') { "" } else { end };
    Some(format!("{text}{before}{}{end}", row.join(&separator.to_string())))
}

/// What parts the cells of a table.
fn separator(text: &str) -> Option<char> {
    Some(char::from(CsvTable::open(FileId(0), text, &mut Diagnostics::new())?.separator))
}

/// A cell, quoted where it must be.
fn quoted(value: &str, separator: char) -> String {
    if value.contains([separator, '"', '\n', '\r']) {
        format!("\"{}\"", value.replace('"', "\"\""))
    } else {
        value.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "id,name,team\r\na,\"Ann, \"\"A\"\"\",x\r\nb,Bea,\r\n";

    #[test]
    fn a_cell_is_set_and_nothing_else_moves() {
        let is = |id: &'static str| move |row: &Row| row.get("id") == id;
        assert_eq!(
            set_cell(TEXT, &is("b"), "team", "y, \"z\"").unwrap(),
            "id,name,team\r\na,\"Ann, \"\"A\"\"\",x\r\nb,Bea,\"y, \"\"z\"\"\"\r\n"
        );
        assert_eq!(set_cell(TEXT, &is("a"), "name", "Ann").unwrap(), "id,name,team\r\na,Ann,x\r\nb,Bea,\r\n");
        assert_eq!(
            set_cell(TEXT, &is("a"), "house", "h").unwrap(),
            "id,name,team,house\r\na,\"Ann, \"\"A\"\"\",x,h\r\nb,Bea,,\r\n"
        );
        assert_eq!(set_cell(TEXT, &is("c"), "team", "y"), None);
        let other = "id;name\na;Ann\n";
        assert_eq!(set_cell(other, &is("a"), "name", "x;y, z").unwrap(), "id;name\na;\"x;y, z\"\n");
        assert_eq!(set_cell(other, &is("a"), "team", "t").unwrap(), "id;name;team\na;Ann;t\n");
        assert_eq!(
            append(other, &[("name", "B".to_string()), ("id", "b".to_string())]).unwrap(),
            "id;name\na;Ann\nb;B\n"
        );
    }

    #[test]
    fn rows_come_and_go() {
        assert_eq!(remove_rows(TEXT, &|row| row.line == 2).unwrap(), "id,name,team\r\nb,Bea,\r\n");
        assert_eq!(remove_rows("id\na\nb", &|row| row.get("id") == "b").unwrap(), "id\na\n");
        assert_eq!(remove_rows(TEXT, &|_| false), None);
        let cells = [("team", "t".to_string()), ("id", "c".to_string())];
        assert_eq!(append(TEXT, &cells).unwrap(), format!("{TEXT}c,,t\r\n"));
        assert_eq!(append("id,team\na,x", &cells).unwrap(), "id,team\na,x\nc,t\n");
        assert_eq!(append("id\na\n", &cells), None);
    }
}
