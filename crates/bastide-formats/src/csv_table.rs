//! CSV (RFC 4180) as rows with places: a header, rows of as many cells, every cell's span at need.

use crate::text::{LONGEST_LINE, Lines};
use bastide_model::rows::{Cell, RowPlace};
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Span, codes};
use csv::StringRecord;
use std::io::Cursor;

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
    /// What parts its cells.
    pub separator: u8,
    reader: csv::Reader<Cursor<&'t [u8]>>,
    lines: Lines<'t>,
    /// Column names.
    pub header: Vec<Cell>,
}

/// A row of a [`CsvTable`].
pub struct CsvRow<'t> {
    record: StringRecord,
    raw: &'t str,
    separator: u8,
    place: RowPlace,
}

impl CsvRow<'_> {
    /// Where each cell stands.
    pub fn spans(&self) -> Vec<Span> {
        let start = self.place.start as usize;
        let span = |cell: std::ops::Range<usize>| Span::new(self.place.file, start + cell.start, start + cell.end);
        cells(self.raw, self.separator).0.into_iter().map(span).collect()
    }
}

impl Cells for CsvRow<'_> {
    fn text(&self, column: usize) -> &str {
        self.record.get(column).unwrap_or("")
    }

    fn span(&self, column: usize) -> Span {
        let start = self.place.start as usize;
        let cell = cells(self.raw, self.separator).0.get(column).cloned().unwrap_or(0..self.raw.len());
        Span::new(self.place.file, start + cell.start, start + cell.end)
    }

    fn place(&self) -> RowPlace {
        self.place
    }
}

impl<'t> CsvTable<'t> {
    /// Opens a file and reads its header. None where it has none, which is reported.
    pub fn open(file: FileId, text: &'t str, out: &mut Diagnostics) -> Option<CsvTable<'t>> {
        let base = if text.starts_with('\u{feff}') { 3 } else { 0 };
        if let Some(at) = lone_return(text) {
            let message = "a line that ends in a carriage return alone";
            let help = "save the file with line feeds: what follows would be a row for some programs and a part of this one for others";
            out.push(Diagnostic::at(&codes::BAD_ROW, Span::new(file, at, at + 1), message).help(help));
        }
        let mut table = CsvTable::over(file, text, base, separator(&text[base..]));
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

    /// Of a text that begins at a byte.
    fn over(file: FileId, text: &'t str, base: usize, separator: u8) -> CsvTable<'t> {
        let bytes = Cursor::new(&text.as_bytes()[base..]);
        let reader =
            csv::ReaderBuilder::new().has_headers(false).flexible(true).delimiter(separator).from_reader(bytes);
        CsvTable { file, text, base, separator, reader, lines: Lines::new(text), header: Vec::new() }
    }

    /// Goes on at a byte. False where it cannot.
    fn seek(&mut self, byte: usize) -> bool {
        let mut position = csv::Position::new();
        position.set_byte((byte - self.base) as u64);
        self.reader.seek(position).is_ok()
    }

    /// The line, from 1, at which what follows the header begins.
    pub fn first_line(&self) -> u32 {
        Lines::new(self.text).line(self.passed())
    }

    /// How many bytes of the text were read.
    fn passed(&self) -> usize {
        (self.reader.position().byte() as usize + self.base).min(self.text.len())
    }

    /// Cuts what follows the header into parts of about the same size, at ends of lines. None where the file is small.
    pub fn plain(&self, parts: usize) -> Option<Vec<Plain<'t>>> {
        if self.text.len() < SMALLEST_CUT || parts < 2 {
            return None;
        }
        let bytes = self.text.as_bytes();
        let from = self.passed();
        let mut cuts = vec![from];
        for i in 1..parts {
            let about = from + (bytes.len() - from) * i / parts;
            let end = bytes[about..].iter().position(|b| *b == b'\n').map_or(bytes.len(), |n| about + n + 1);
            cuts.push(end.max(cuts[cuts.len() - 1]));
        }
        cuts.push(bytes.len());
        let part = |left| Plain {
            file: self.file,
            text: self.text,
            width: self.header.len(),
            separator: self.separator,
            left,
            line: 0,
            reader: OpenCsv::default(),
        };
        Some(cuts.windows(2).map(|ends| part(ends[0]..ends[1])).collect())
    }

    /// An empty row to read into.
    pub fn row(&self) -> CsvRow<'t> {
        let place = RowPlace { file: self.file, line: 0, start: 0, end: 0 };
        CsvRow { record: StringRecord::new(), raw: "", separator: self.separator, place }
    }

    /// Reads the next row that has a cell for every column; others are reported and passed over.
    pub fn next(&mut self, row: &mut CsvRow<'t>, out: &mut Diagnostics) -> bool {
        while self.advance(row, out) {
            let (found, expected) = (row.record.len(), self.header.len());
            // A quote that never closes swallows the rest of the file, whatever number of cells that makes.
            let open = row.place.end as usize + 2 >= self.text.len() && cells(row.raw, self.separator).1.is_some();
            if found == expected && !open {
                return true;
            }
            out.push(self.bad_row(row, found, expected));
        }
        false
    }

    fn bad_row(&self, row: &CsvRow, found: usize, expected: usize) -> Diagnostic {
        let (_, open) = cells(row.raw, self.separator);
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
            let help = match self.separator {
                b',' => {
                    "a cell that holds a comma is quoted: `\"a, b\"`; elements of a set are joined by `;`".to_string()
                }
                separator => {
                    let shown =
                        if separator == b'\t' { "a tab".to_string() } else { format!("`{}`", char::from(separator)) };
                    format!(
                        "the cells of this file are parted by {shown}, as its header is: one that holds it is quoted"
                    )
                }
            };
            diagnostic.help(help)
        } else {
            diagnostic.help(format!("the columns are {}", self.header_names().join(", ")))
        }
    }

    fn header_names(&self) -> Vec<String> {
        self.header.iter().map(|c| format!("`{}`", c.text)).collect()
    }

    fn advance(&mut self, row: &mut CsvRow<'t>, out: &mut Diagnostics) -> bool {
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

    /// The fields of the columns. Unknown and doubled columns are reported, and so are required ones
    /// that are not there.
    pub fn fields<F: Clone + PartialEq>(
        &self,
        field: impl Fn(&str) -> Option<F>,
        known: &[String],
        required: &[&str],
        out: &mut Diagnostics,
    ) -> Vec<Option<F>> {
        self.fields_but(field, known, required, &|_| false, out)
    }

    /// As [`CsvTable::fields`]; columns that are `asked` for otherwise need be no field.
    pub fn fields_but<F: Clone + PartialEq>(
        &self,
        field: impl Fn(&str) -> Option<F>,
        known: &[String],
        required: &[&str],
        asked: &dyn Fn(&str) -> bool,
        out: &mut Diagnostics,
    ) -> Vec<Option<F>> {
        let mut fields: Vec<Option<F>> = Vec::new();
        for cell in &self.header {
            let found = field(&cell.text);
            if found.is_none() && asked(&cell.text) {
                // It is looked at by whoever asked.
            } else if found.is_none() {
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

/// The first carriage return outside of quotes that no line feed follows.
fn lone_return(text: &str) -> Option<usize> {
    let bytes = text.as_bytes();
    let is_lone = |at: &usize| bytes.get(at + 1) != Some(&b'\n');
    // Hardly any file has one, and to look for it takes no time.
    let first = memchr::memchr_iter(b'\r', bytes).find(is_lone)?;
    let mut quoted = bytes[..first].iter().filter(|b| **b == b'"').count() % 2 == 1;
    for (at, byte) in bytes.iter().enumerate().skip(first) {
        match byte {
            b'"' => quoted = !quoted,
            b'\r' if !quoted && is_lone(&at) => return Some(at),
            _ => {}
        }
    }
    None
}

/// What parts the cells of a table: the one of the usual separators that stands most often in its first line.
fn separator(text: &str) -> u8 {
    let mut counts = [(b',', 0), (b';', 0), (b'\t', 0), (b'|', 0)];
    let mut quoted = false;
    for byte in text.bytes().skip_while(|byte| matches!(byte, b'\r' | b'\n')) {
        match byte {
            b'"' => quoted = !quoted,
            b'\n' | b'\r' if !quoted => break,
            _ if quoted => {}
            byte => counts.iter_mut().filter(|(separator, _)| *separator == byte).for_each(|(_, count)| *count += 1),
        }
    }
    // Of several that stand there as often, the first is meant.
    counts.into_iter().rev().max_by_key(|(_, count)| *count).map_or(b',', |(separator, _)| separator)
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
fn cells(raw: &str, separator: u8) -> (Vec<std::ops::Range<usize>>, Option<usize>) {
    let mut found = Vec::new();
    let (mut start, mut quote, mut fresh) = (0, None, true);
    for (i, b) in raw.bytes().enumerate() {
        match (b, quote) {
            (b'"', None) if fresh => quote = Some(i),
            (b'"', Some(_)) => quote = None,
            // A doubled quote closes and opens again.
            (b'"', None) if raw.as_bytes()[i - 1] == b'"' => quote = Some(i),
            (b, None) if b == separator => {
                found.push(start..i);
                start = i + 1;
            }
            _ => {}
        }
        fresh = b == separator && quote.is_none();
    }
    found.push(start..raw.len());
    (found, quote)
}

/// So many rows are cut into cells at a time, and some more.
const BLOCK: usize = 512;
/// Quotes are looked for so many bytes ahead; a longer row is left to the reader.
const AHEAD: usize = BLOCK << 7;

/// A part of a file, read in blocks of rows where no quotes might hide a comma or an end of line: as the reader does it,
/// which ends rows at line feeds and carriage returns and passes over empty ones, without a copy of any cell. Whoever
/// works on one column of a block after the other waits less for memory.
#[derive(Clone)]
pub struct Plain<'t> {
    file: FileId,
    text: &'t str,
    width: usize,
    separator: u8,
    /// What is still to be read.
    left: std::ops::Range<usize>,
    /// How many lines of the part were read.
    line: u32,
    reader: OpenCsv<'t>,
}

/// What reads rows with quotes, once there was one: to make it takes as long as to read many rows. A copy makes its own.
#[derive(Default)]
struct OpenCsv<'t>(Option<Box<CsvTable<'t>>>);

impl Clone for OpenCsv<'_> {
    fn clone(&self) -> Self {
        OpenCsv(None)
    }
}

/// Rows of a [`Plain`] part.
pub struct Block<'t> {
    file: FileId,
    text: &'t str,
    width: usize,
    /// Where each row begins, and how many lines of its part come before it.
    rows: Vec<(u32, u32)>,
    /// Where each cell ends, row by row.
    ends: Vec<u32>,
}

impl<'t> Plain<'t> {
    /// How many bytes are still to be read.
    pub fn bytes(&self) -> usize {
        self.left.len()
    }

    /// No rows yet.
    pub fn block(&self) -> Block<'t> {
        Block { file: self.file, text: self.text, width: self.width, rows: Vec::new(), ends: Vec::new() }
    }

    /// How many lines were read.
    pub fn lines(&self) -> u32 {
        self.line
    }

    /// Whether all of it was read.
    pub fn is_read(&self) -> bool {
        self.left.is_empty()
    }

    /// Reads the next rows in place of those in the block: none at the end of the part, and none where the next row has
    /// quotes or is long, which is for [`Plain::quoted`]. False where a row is not in order, which is left to the other
    /// reader to report.
    pub fn next(&mut self, block: &mut Block<'t>) -> bool {
        block.rows.clear();
        block.ends.clear();
        let bytes = self.text.as_bytes();
        let std::ops::Range { start: mut row, end: whole } = self.left.clone();
        // As far as it is known that there are no quotes: many bytes at once, where to look for the first one would go
        // through them one by one.
        let ahead = &bytes[row..whole.min(row + AHEAD)];
        let has_quote = |piece: &[u8]| piece.iter().fold(false, |quoted, byte| quoted | (*byte == b'"'));
        let end = match ahead.chunks(1 << 8).position(has_quote) {
            None => row + ahead.len(),
            Some(piece) => {
                let quote = (piece << 8..ahead.len()).find(|at| ahead[*at] == b'"').unwrap_or(ahead.len());
                ahead[..quote].iter().rposition(|byte| *byte == b'\n').map_or(row, |feed| row + feed + 1)
            }
        };
        let (mut at, mut first) = (row, 0);
        let mut close = |row: usize, to: usize, line: u32, block: &mut Block| {
            block.rows.push((row as u32, line));
            block.ends.push(to as u32);
            let cells = block.ends.len() - first;
            first = block.ends.len();
            cells == self.width && to - row <= LONGEST_LINE
        };
        while at < end && block.rows.len() < BLOCK {
            let piece = bytes.get(at..at + 8).filter(|_| at + 8 <= end).and_then(|b| b.try_into().ok());
            let word = piece.map_or_else(|| last_word(&bytes[at..end]), u64::from_le_bytes);
            let (comma, feed) = (places(word, self.separator), places(word, b'\n'));
            let mut marks = comma | feed | places(word, b'\r');
            while marks != 0 {
                let mark = marks & marks.wrapping_neg();
                let to = at + mark.trailing_zeros() as usize / 8;
                marks ^= mark;
                if comma & mark != 0 {
                    block.ends.push(to as u32);
                    continue;
                }
                if to > row && !close(row, to, self.line, block) {
                    return false;
                }
                self.line += u32::from(feed & mark != 0);
                row = to + 1;
            }
            at += 8;
        }
        if end == whole && at >= whole && row < whole {
            if !close(row, whole, self.line, block) {
                return false;
            }
            row = whole;
        }
        // Cells of a row that is not whole are read once more.
        block.ends.truncate(first);
        self.left.start = row;
        true
    }

    /// Reads rows with the reader, one at least, as long as they have quotes. False where one is not in order, or none takes
    /// it.
    pub fn quoted(&mut self, mut take: impl FnMut(&CsvRow<'t>) -> bool) -> bool {
        let (text, base) = (&self.text[..self.left.end], self.left.start);
        let bytes = text.as_bytes();
        let table =
            self.reader.0.get_or_insert_with(|| Box::new(CsvTable::over(self.file, text, base, self.separator)));
        if !table.seek(base) {
            return false;
        }
        table.lines = Lines { text, at: base, line: self.line };
        let (mut row, mut out) = (table.row(), Diagnostics::new());
        while table.advance(&mut row, &mut out) {
            let open = row.place.end as usize + 2 >= text.len() && cells(row.raw, self.separator).1.is_some();
            if open || row.record.len() != self.width || !out.is_empty() || !take(&row) {
                return false;
            }
            let next = bytes[table.passed()..].split(|byte| *byte == b'\n').find(|line| !matches!(line, [] | [b'\r']));
            if !next.is_some_and(|line| line.contains(&b'"')) {
                break;
            }
        }
        self.left.start = table.passed();
        self.line = table.lines.line(self.left.start);
        out.is_empty()
    }
}

impl<'t> Block<'t> {
    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Whether a row has nothing in a column.
    pub fn is_missing(&self, row: usize, column: usize) -> bool {
        let cell = self.cell(row, column);
        cell.start == cell.end
    }

    /// Where a row's cell lies.
    fn cell(&self, row: usize, column: usize) -> std::ops::Range<usize> {
        let at = row * self.width + column;
        let start = if column == 0 { self.rows[row].0 } else { self.ends[at - 1] + 1 };
        start as usize..self.ends[at] as usize
    }

    /// The text of a row's cell.
    pub fn text(&self, row: usize, column: usize) -> &'t str {
        &self.text[self.cell(row, column)]
    }

    /// Where a row stands, its line counted from 0 in the part.
    pub fn place(&self, row: usize) -> RowPlace {
        let (start, line) = self.rows[row];
        RowPlace { file: self.file, line, start, end: self.ends[(row + 1) * self.width - 1] }
    }
}

/// The highest bit of each byte of a word that is this one; all other bits are 0.
fn places(word: u64, byte: u8) -> u64 {
    const LOW: u64 = u64::from_ne_bytes([0x7f; 8]);
    let other = word ^ u64::from_ne_bytes([byte; 8]);
    !(((other & LOW) + LOW) | other | LOW)
}

/// Fewer than eight bytes, filled up.
fn last_word(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0, |word, byte| word << 8 | u64::from(*byte))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_parts_cells_is_seen_in_the_header() {
        for (text, wanted) in [
            ("id,name\n1;2,x\n", b','),
            ("id;name;x,y\n", b';'),
            ("id\tname\n1,2,3\n", b'\t'),
            ("\n\"a;b;c\"|d\n", b'|'),
            ("id\n", b','),
            ("", b','),
        ] {
            assert_eq!(separator(text), wanted, "{text}");
        }
        let mut out = Diagnostics::new();
        let mut table = CsvTable::open(FileId(0), "id;name\na;\"x;y\"\nb;1,2\nc;d;e\n", &mut out).unwrap();
        let mut row = table.row();
        let mut rows = Vec::new();
        while table.next(&mut row, &mut out) {
            rows.push((row.text(1).to_string(), row.span(1).range()));
        }
        assert_eq!(rows, [("x;y".to_string(), 10..15), ("1,2".to_string(), 18..21)]);
        let told = &out.finish()[0];
        assert!(told.helps[0].text.contains("parted by `;`"), "{told:?}");
    }

    /// A part is read as the reader reads it, wherever words, blocks, parts and quotes end.
    #[test]
    fn plain_parts_are_read_alike() {
        let random = |seed: u64| {
            let mut random = fastrand::Rng::with_seed(seed);
            let ends = ["\n", "\r\n", "\r", "\n\n"];
            let plain = ["ab", "älter", "日本", " ", "0123456789abcdef"];
            let quoted = ["\"x, y\"", "\"two\nlines\"", "\"\"\"it\"\"\"", "5\" wide", "\"\"", "\"a\"b"];
            // Some have many quotes, some few, some none.
            let rare = [1, 3, 100, usize::MAX][random.usize(..4)];
            let piece = |random: &mut fastrand::Rng| {
                if random.usize(..rare) == 0 { random.choice(quoted) } else { random.choice(plain) }.unwrap_or_default()
            };
            let mut text = String::from("a,b\n");
            for _ in 0..random.usize(..2000) {
                text += piece(&mut random);
                text += ",";
                text += piece(&mut random);
                text += ends[random.usize(..4)];
            }
            text
        };
        let small = [
            "a,b\n1,2\n\n,\n3,4\r\n\r5,6\r7,8",
            "a,b\nälter,日本\n,x\n\n\n1,2\n",
            "a,b\n",
            "a,b\n\r\n\n",
            "a,b\n1,2\n3,\"\"",
            "a,b\n1,2\n\"\",",
        ];
        let long = ["", "\"", "\n1,\"2\"\n"].map(|more| format!("a,b\n1,2\n3,{}{more}", "x".repeat(AHEAD)));
        for text in small.map(String::from).into_iter().chain(long).chain((0..60).map(random)) {
            // Carriage returns alone are told when the file is opened; rows are cut at them all the same.
            let mut table = CsvTable::open(FileId(0), &text, &mut Diagnostics::new()).unwrap();
            let mut out = Diagnostics::new();
            let from = table.reader.position().byte() as usize;
            let mut part = Plain {
                file: FileId(0),
                text: &text,
                width: 2,
                separator: b',',
                left: from..text.len(),
                line: 0,
                reader: OpenCsv::default(),
            };
            let (mut row, mut block) = (table.row(), part.block());
            while !part.is_read() {
                assert!(part.next(&mut block), "{text:?}");
                let mut same = |place: RowPlace, cells: [&str; 2]| {
                    assert!(table.next(&mut row, &mut out), "{text:?} {out:?}");
                    assert_eq!(RowPlace { line: place.line + 2, ..place }, row.place(), "{text:?}");
                    assert_eq!(cells, [row.text(0), row.text(1)]);
                    true
                };
                for at in 0..block.len() {
                    same(block.place(at), [block.text(at, 0), block.text(at, 1)]);
                }
                if block.is_empty() && !part.is_read() {
                    assert!(part.quoted(|row| same(row.place(), [row.text(0), row.text(1)])), "{text:?}");
                }
            }
            assert!(!table.next(&mut row, &mut out) && out.is_empty() && part.left.is_empty(), "{text:?} {out:?}");
        }
        // What is not in order is left to the reader; a quoted cell that goes on in the next part, too.
        let odd = [
            "a,b\n1\n",
            "a,b\n1,2,3\n4,5",
            "a,b\n1,2\n \n",
            "a,b\n1,2\n3,\"4\n",
            "a,b\n\"1\",2,3\n",
            "a,b\n1\n2,\"3\"\n",
        ];
        for text in odd {
            let mut part = Plain {
                file: FileId(0),
                text,
                width: 2,
                separator: b',',
                left: 4..text.len(),
                line: 0,
                reader: OpenCsv::default(),
            };
            let mut block = part.block();
            let mut in_order = true;
            while in_order && !part.is_read() {
                in_order = part.next(&mut block) && (!block.is_empty() || part.quoted(|_| true));
            }
            assert!(!in_order, "{text:?}");
        }
    }

    /// The parts of a file are the file, and know their lines.
    #[test]
    fn files_are_cut_at_ends_of_lines() {
        let mut text = String::from("a,b\n");
        let mut number = 0;
        while text.len() < SMALLEST_CUT {
            text += &format!("{number},{}\n", "x".repeat(number % 90));
            number += 1;
        }
        let table = CsvTable::open(FileId(0), &text, &mut Diagnostics::new()).unwrap();
        for parts in [2, 3, 8] {
            let (mut next, mut first) = (0, table.first_line());
            for mut part in table.plain(parts).unwrap() {
                let mut block = part.block();
                while part.next(&mut block) && !block.is_empty() {
                    for row in 0..block.len() {
                        assert_eq!(block.text(row, 0), next.to_string());
                        assert_eq!(first + block.place(row).line, next + 2);
                        next += 1;
                    }
                }
                first += part.lines();
            }
            assert_eq!(next as usize, number);
        }
        assert!(table.plain(1).is_none());
    }

    fn rows(text: &str) -> (Vec<(u32, Vec<String>)>, Vec<String>) {
        let mut out = Diagnostics::new();
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
