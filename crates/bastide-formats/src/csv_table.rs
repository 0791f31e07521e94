//! CSV (RFC 4180) as rows with places: a header, rows of as many cells, every cell's span at need.

use crate::text::{LONGEST_LINE, Lines};
use bastide_model::rows::{Cell, RowPlace};
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, FileId, Span, codes};
use csv::StringRecord;

/// Cells of one row, by column.
pub trait Cells {
    /// The text of a column's cell; empty where the row has none.
    fn text(&self, column: usize) -> &str;
    /// Where the cell stands.
    fn span(&self, column: usize) -> Span;
    /// Where the row stands.
    fn place(&self) -> RowPlace;
}

/// A smaller file is read in one piece.
const SMALLEST_CUT: usize = 1 << 20;

/// A CSV file being read.
pub struct CsvTable<'t> {
    file: FileId,
    text: &'t str,
    base: usize,
    reader: csv::Reader<&'t [u8]>,
    lines: Lines<'t>,
    /// Where a part without quotes goes on, and where it ends: there, cells lie in the text as they are.
    plain: Option<std::ops::Range<usize>>,
    /// Column names.
    pub header: Vec<Cell>,
}

/// A row of a [`CsvTable`].
pub struct CsvRow<'t> {
    record: StringRecord,
    /// Where the cells of a row without quotes end; empty for another one.
    ends: Vec<u32>,
    raw: &'t str,
    place: RowPlace,
}

impl Cells for CsvRow<'_> {
    fn text(&self, column: usize) -> &str {
        match self.ends.get(column) {
            Some(end) => {
                let start = if column == 0 { 0 } else { self.ends[column - 1] as usize + 1 };
                &self.raw[start..*end as usize]
            }
            None => self.record.get(column).unwrap_or(""),
        }
    }

    fn span(&self, column: usize) -> Span {
        let start = self.place.start as usize;
        let cell = cells(self.raw).0.get(column).cloned().unwrap_or(0..self.raw.len());
        Span::new(self.place.file, start + cell.start, start + cell.end)
    }

    fn place(&self) -> RowPlace {
        self.place
    }
}

impl<'t> CsvTable<'t> {
    /// Opens a file and reads its header. None where it has none, which is reported.
    pub fn open(file: FileId, text: &'t str, out: &mut Vec<Diagnostic>) -> Option<CsvTable<'t>> {
        let base = if text.starts_with('\u{feff}') { 3 } else { 0 };
        let reader = csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(&text.as_bytes()[base..]);
        let mut table = CsvTable { file, text, base, reader, lines: Lines::new(text), plain: None, header: Vec::new() };
        let mut row = table.row();
        if !table.advance(&mut row, out) {
            let span = Span::new(file, base.min(text.len()), base.min(text.len()));
            out.push(Diagnostic::at(&codes::MISSING_COLUMN, span, "the file is empty: a header row is required"));
            return None;
        }
        table.header =
            (0..row.record.len()).map(|i| Cell { text: row.text(i).to_string(), span: row.span(i) }).collect();
        Some(table)
    }

    /// The rows that begin in a part of the file in which there are no quotes, and which begins and ends at ends of
    /// lines.
    pub fn part(&self, part: std::ops::Range<usize>) -> CsvTable<'t> {
        CsvTable {
            file: self.file,
            text: self.text,
            base: part.start,
            reader: csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(&[]),
            lines: Lines::from(self.text, part.start),
            plain: Some(part),
            header: self.header.clone(),
        }
    }

    /// Cuts what follows the header into parts of about the same size, at ends of lines. One part
    /// where quotes might hide an end of line, or where the file is small.
    pub fn cut(&self, parts: usize) -> Vec<std::ops::Range<usize>> {
        let from = self.reader.position().byte() as usize + self.base;
        let parts = if self.text.len() < SMALLEST_CUT || self.text.contains('"') { 1 } else { parts.max(1) };
        let mut cuts = vec![from.min(self.text.len())];
        for i in 1..parts {
            let about = from + (self.text.len() - from) * i / parts;
            let end = self.text.as_bytes()[about..]
                .iter()
                .position(|b| *b == b'\n')
                .map_or(self.text.len(), |n| about + n + 1);
            cuts.push(end.max(cuts[cuts.len() - 1]));
        }
        cuts.push(self.text.len());
        cuts.windows(2).map(|w| w[0]..w[1]).collect()
    }

    /// An empty row to read into.
    pub fn row(&self) -> CsvRow<'t> {
        let place = RowPlace { file: self.file, line: 0, start: 0, end: 0 };
        CsvRow { record: StringRecord::new(), ends: Vec::new(), raw: "", place }
    }

    /// Reads the next row that has a cell for every column; others are reported and passed over.
    pub fn next(&mut self, row: &mut CsvRow<'t>, out: &mut Vec<Diagnostic>) -> bool {
        while self.advance(row, out) {
            let (found, expected) = (row.record.len().max(row.ends.len()), self.header.len());
            // A quote that never closes swallows the rest of the file, whatever number of cells that makes.
            let open = row.place.end as usize + 2 >= self.text.len() && cells(row.raw).1.is_some();
            if found == expected && !open {
                return true;
            }
            out.push(self.bad_row(row, found, expected));
        }
        false
    }

    fn bad_row(&self, row: &CsvRow, found: usize, expected: usize) -> Diagnostic {
        let (_, open) = cells(row.raw);
        if let Some(open) = open {
            let start = row.place.start as usize + open;
            let span = Span::new(self.file, start, start + 1);
            return Diagnostic::at(&codes::BAD_ROW, span, "a quoted cell that is not closed")
                .label("opens here")
                .help("a quote inside a quoted cell is doubled: `\"\"`");
        }
        let first = row.raw.split('\n').next().unwrap_or("").trim_end_matches('\r').len();
        let span = Span::new(self.file, row.place.start as usize, row.place.start as usize + first);
        let count = |n: usize| if n == 1 { "1 cell".to_string() } else { format!("{n} cells") };
        let diagnostic =
            Diagnostic::at(&codes::BAD_ROW, span, format!("expected {}, found {}", count(expected), found));
        if found > expected {
            diagnostic.help("a cell that holds a comma is quoted: `\"a, b\"`; elements of a set are joined by `;`")
        } else {
            diagnostic.help(format!("the columns are {}", self.header_names().join(", ")))
        }
    }

    fn header_names(&self) -> Vec<String> {
        self.header.iter().map(|c| format!("`{}`", c.text)).collect()
    }

    fn advance(&mut self, row: &mut CsvRow<'t>, out: &mut Vec<Diagnostic>) -> bool {
        if let Some(left) = self.plain.take() {
            let left = self.advance_plain(row, left, out);
            let found = left.is_some();
            self.plain = Some(left.unwrap_or(0..0));
            return found;
        }
        loop {
            let from = self.reader.position().byte() as usize + self.base;
            // The input is in memory and UTF-8 already, so reading cannot fail.
            if !matches!(self.reader.read_record(&mut row.record), Ok(true)) {
                return false;
            }
            let upto = (self.reader.position().byte() as usize + self.base).min(self.text.len());
            let skipped = self.text.as_bytes()[from..upto].iter().take_while(|b| matches!(b, b'\r' | b'\n')).count();
            let start = from + skipped;
            row.raw = self.text[start..upto].trim_end_matches(['\r', '\n']);
            let (end, line) = (start + row.raw.len(), self.lines.line(start));
            row.place = RowPlace { file: self.file, line, start: start as u32, end: end as u32 };
            if row.raw.len() <= LONGEST_LINE {
                return true;
            }
            let span = Span::new(self.file, start, start + 1);
            out.push(Diagnostic::at(&codes::LINE_TOO_LONG, span, "a row of more than 16 MiB"));
        }
    }

    /// The next row of a part without quotes, cut at commas: as the reader does it, which ends rows at line feeds and
    /// carriage returns and passes over empty ones, without a copy of any cell. What is left of the part, where
    /// there was a row.
    fn advance_plain(
        &mut self,
        row: &mut CsvRow<'t>,
        mut left: std::ops::Range<usize>,
        out: &mut Vec<Diagnostic>,
    ) -> Option<std::ops::Range<usize>> {
        let bytes = self.text.as_bytes();
        loop {
            left.start += bytes[left.clone()].iter().take_while(|b| matches!(b, b'\r' | b'\n')).count();
            if left.is_empty() {
                return None;
            }
            row.ends.clear();
            let start = left.start;
            let mut length = 0;
            for (i, b) in bytes[left.clone()].iter().enumerate() {
                match b {
                    b',' => row.ends.push(i as u32),
                    b'\n' | b'\r' => break,
                    _ => {}
                }
                length = i + 1;
            }
            row.ends.push(length as u32);
            left.start += length;
            row.raw = &self.text[start..left.start];
            let line = self.lines.line(start);
            row.place = RowPlace { file: self.file, line, start: start as u32, end: left.start as u32 };
            if length <= LONGEST_LINE {
                return Some(left);
            }
            let span = Span::new(self.file, start, start + 1);
            out.push(Diagnostic::at(&codes::LINE_TOO_LONG, span, "a row of more than 16 MiB"));
        }
    }

    /// The fields of the columns. Unknown and doubled columns are reported, and so are required ones
    /// that are not there.
    pub fn fields<F: Clone + PartialEq>(
        &self,
        field: impl Fn(&str) -> Option<F>,
        known: &[String],
        required: &[&str],
        out: &mut Vec<Diagnostic>,
    ) -> Vec<Option<F>> {
        let mut fields: Vec<Option<F>> = Vec::new();
        for cell in &self.header {
            let found = field(&cell.text);
            if found.is_none() {
                out.push(unknown_column(&cell.text, cell.span, known));
            } else if fields.contains(&found) {
                let message = format!("column `{}` stands twice", cell.text);
                out.push(Diagnostic::at(&codes::UNKNOWN_COLUMN, cell.span, message));
            }
            fields.push(found);
        }
        let whole = match (self.header.first(), self.header.last()) {
            (Some(first), Some(last)) => first.span.to(last.span),
            _ => Span::new(self.file, self.base, self.base),
        };
        for name in required {
            let wanted = field(name);
            if wanted.is_some() && !fields.contains(&wanted) {
                let message = format!("there is no column `{name}`, which is required");
                out.push(Diagnostic::at(&codes::MISSING_COLUMN, whole, message));
            }
        }
        fields
    }
}

/// The diagnostic of a column, key or mapped name that means nothing.
pub fn unknown_column(name: &str, span: Span, known: &[String]) -> Diagnostic {
    let near = nearest(name, known.iter().map(String::as_str));
    let diagnostic = Diagnostic::at(&codes::UNKNOWN_COLUMN, span, format!("unknown column `{name}`"));
    match near {
        Some(near) => diagnostic.help(format!("did you mean `{near}`?")),
        None => {
            diagnostic.help(format!("to read it, declare it: `attribute {} of ...`", bastide_syntax::quote::name(name)))
        }
    }
}

/// The byte ranges of a row's cells, quotes included, and where a quote opens that never closes.
fn cells(raw: &str) -> (Vec<std::ops::Range<usize>>, Option<usize>) {
    let mut found = Vec::new();
    let (mut start, mut quote, mut fresh) = (0, None, true);
    for (i, b) in raw.bytes().enumerate() {
        match (b, quote) {
            (b'"', None) if fresh => quote = Some(i),
            (b'"', Some(_)) => quote = None,
            // A doubled quote closes and opens again.
            (b'"', None) if raw.as_bytes()[i - 1] == b'"' => quote = Some(i),
            (b',', None) => {
                found.push(start..i);
                start = i + 1;
            }
            _ => {}
        }
        fresh = b == b',' && quote.is_none();
    }
    found.push(start..raw.len());
    (found, quote)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A part without quotes is read as the reader reads it.
    #[test]
    fn plain_parts_are_read_alike() {
        for text in ["a,b\n1,2\n\n,\n3,4\r\n\r5,6\r7,8", "a,b\nälter,日本\n,x\n\n\n1\n1,2,3\n", "a,b\n", "a,b\n\r\n \n"]
        {
            let read = |part: bool| {
                let mut out = Vec::new();
                let mut whole = CsvTable::open(FileId(0), text, &mut out).unwrap();
                let mut table = if part { whole.part(whole.cut(1).remove(0)) } else { whole.part(0..0) };
                let table = if part { &mut table } else { &mut whole };
                let (mut row, mut found) = (table.row(), Vec::new());
                while table.next(&mut row, &mut out) {
                    found.push((row.place(), row.text(0).to_string(), row.text(1).to_string(), row.span(1)));
                }
                (found, out.iter().map(|d| (d.message.clone(), d.place)).collect::<Vec<_>>())
            };
            assert_eq!(read(true), read(false), "{text:?}");
        }
    }

    fn rows(text: &str) -> (Vec<(u32, Vec<String>)>, Vec<String>) {
        let mut out = Vec::new();
        let mut found = Vec::new();
        if let Some(mut table) = CsvTable::open(FileId(0), text, &mut out) {
            let mut row = table.row();
            while table.next(&mut row, &mut out) {
                let spans = (0..table.header.len()).map(|i| text[row.span(i).range()].to_string()).collect();
                found.push((row.place().line, spans));
            }
        }
        (found, out.iter().map(|d| format!("{} [{}]", d.message, &text[d.place.unwrap().range()])).collect())
    }

    #[test]
    fn rows_know_their_lines_and_cells() {
        let text = "\u{feff}a,b\r\n1,\"x, \"\"y\"\"\n z\"\r\n\r\n2,\n";
        let (found, messages) = rows(text);
        assert_eq!(messages, Vec::<String>::new());
        let cells = |a: &str, b: &str| vec![a.to_string(), b.to_string()];
        assert_eq!(found, [(2, cells("1", "\"x, \"\"y\"\"\n z\"")), (5, cells("2", ""))]);
    }

    #[test]
    fn rows_of_another_length_and_open_quotes_are_told() {
        let (found, messages) = rows("a,b\n1\n1,2,3\n4,5\n6,\"7\n8,9\n");
        assert_eq!(found.len(), 1);
        assert_eq!(
            messages,
            [
                "expected 2 cells, found 1 [1]",
                "expected 2 cells, found 3 [1,2,3]",
                "a quoted cell that is not closed [\"]"
            ]
        );
        assert_eq!(rows("").1, ["the file is empty: a header row is required []"]);
    }
}
