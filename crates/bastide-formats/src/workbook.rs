//! Sheets of workbooks as tables: Office Open XML (ISO/IEC 29500, `.xlsx`) and OpenDocument (ISO/IEC 26300, `.ods`).
//!
//! A sheet becomes the text of a table, a row a line, so that places in it are said by the numbers of its rows. Of a formula
//! its value is taken, as it was saved. Cost: all cells of the sheet once.

use crate::store::Limited;
use bastide_syntax::nearest::nearest;
use calamine::{CellErrorType, Data, DataRef, ExcelDateTime, Ods, Reader, Xlsx};
use quick_xml::events::Event;
use std::collections::{BTreeMap, BTreeSet};
use std::io::Cursor;

/// More cells than this are no table that somebody keeps.
const MOST_CELLS: usize = 20_000_000;
/// A workbook has no more columns, and no more rows.
const MOST_COLUMNS: usize = 16_384;

/// The cells of a sheet that hold something, by row and column.
type SheetCells = BTreeMap<u32, BTreeMap<u32, String>>;

/// The text of a sheet as a table parted by commas; of the first one where none is named.
///
/// # Errors
/// It is no workbook, it has no such sheet, a cell holds an error, or it is larger than it may be.
pub fn table(path: &str, bytes: &[u8], sheet: Option<&str>) -> Result<String, String> {
    let is_open_document = path.ends_with(".ods");
    fits(bytes, is_open_document)?;
    let wrong = |error: &dyn std::fmt::Display| format!("it is no workbook that can be read: {error}");
    let cells = if is_open_document {
        let mut book: Ods<_> = Ods::new(Cursor::new(bytes)).map_err(|e| wrong(&e))?;
        let name = named(&book.sheet_names(), sheet)?;
        let range = book.worksheet_range(&name).map_err(|e| wrong(&e))?;
        let (down, right) = range.start().unwrap_or_default();
        let mut cells = SheetCells::new();
        for (row, column, value) in range.used_cells() {
            let (row, column) = (down + row as u32, right + column as u32);
            put(&mut cells, row, column, text(value).map_err(|e| at(row, column, &e))?)?;
        }
        cells
    } else {
        let mut book: Xlsx<_> = Xlsx::new(Cursor::new(bytes)).map_err(|e| wrong(&e))?;
        let name = named(&book.sheet_names(), sheet)?;
        let mut reader = book.worksheet_cells_reader(&name).map_err(|e| wrong(&e))?;
        let mut cells = SheetCells::new();
        while let Some(cell) = reader.next_cell().map_err(|e| wrong(&e))? {
            let (row, column) = cell.get_position();
            let text = text_of(cell.get_value()).map_err(|e| at(row, column, &e))?;
            put(&mut cells, row, column, text)?;
        }
        cells
    };
    Ok(written(&cells))
}

/// The name of a sheet.
fn named(names: &[String], sheet: Option<&str>) -> Result<String, String> {
    let Some(wanted) = sheet else { return names.first().cloned().ok_or_else(|| "it has no sheet".to_string()) };
    if names.iter().any(|name| name == wanted) {
        return Ok(wanted.to_string());
    }
    let near = nearest(wanted, names.iter().map(String::as_str));
    let near =
        near.map_or_else(|| format!("its sheets are {}", names.join(", ")), |near| format!("did you mean `{near}`?"));
    Err(format!("it has no sheet `{wanted}`: {near}"))
}

/// Sees that a workbook comes to no more than a table may. What is packed may come to anything, and a cell may be said to be
/// repeated any number of times.
fn fits(bytes: &[u8], is_open_document: bool) -> Result<(), String> {
    let wrong = |error: &dyn std::fmt::Display| format!("it is no workbook that can be read: {error}");
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes)).map_err(|e| wrong(&e))?;
    let mut all = Limited::new(std::io::empty(), bytes.len() as u64);
    for at in 0..archive.len() {
        let file = archive.by_index(at).map_err(|e| wrong(&e))?;
        let is_content = is_open_document && file.name().is_ok_and(|name| name == "content.xml");
        let mut limited = all.with(file);
        if is_content {
            repeats(std::io::BufReader::new(&mut limited))?;
        }
        std::io::copy(&mut limited, &mut std::io::sink()).map_err(|e| wrong(&e))?;
        all = limited.with(std::io::empty());
    }
    Ok(())
}

/// Counts the cells of an OpenDocument sheet with their repetitions, up to the last in a row that holds something.
fn repeats(content: impl std::io::BufRead) -> Result<(), String> {
    let mut reader = quick_xml::Reader::from_reader(content);
    let (mut buffer, mut all, mut row, mut held, mut rows) = (Vec::new(), 0usize, 0usize, 0usize, 1usize);
    loop {
        buffer.clear();
        let event =
            reader.read_event_into(&mut buffer).map_err(|e| format!("it is no workbook that can be read: {e}"))?;
        let element = match &event {
            Event::Start(element) | Event::Empty(element) => element,
            Event::End(element) if element.name().as_ref() == "table:table-row" => {
                // A row that holds nothing is not kept; one that does, as often as it is repeated.
                all = all.saturating_add(held.saturating_mul(if held > 0 { rows } else { 0 }));
                if all > MOST_CELLS {
                    return Err(format!("it says that it has more than {MOST_CELLS} cells"));
                }
                continue;
            }
            Event::Eof => return Ok(()),
            _ => continue,
        };
        let repeated = |name: &str, most: usize| {
            let value = element.attributes().flatten().find(|a| a.key.as_ref() == name);
            let number = value.and_then(|a| a.value.parse::<usize>().ok());
            number.unwrap_or(1).min(most)
        };
        match element.name().as_ref() {
            "table:table-row" => {
                rows = repeated("table:number-rows-repeated", 1 << 20);
                (row, held) = (0, 0);
            }
            "table:table-cell" | "table:covered-table-cell" => {
                row = row.saturating_add(repeated("table:number-columns-repeated", MOST_COLUMNS)).min(MOST_COLUMNS);
                if element.attributes().flatten().any(|a| a.key.as_ref() == "office:value-type") {
                    held = row;
                }
            }
            _ => {}
        }
    }
}

fn put(cells: &mut SheetCells, row: u32, column: u32, text: String) -> Result<(), String> {
    if !text.is_empty() {
        let row = cells.entry(row).or_default();
        row.insert(column, text);
    }
    // Rows are many and short, or few and long: their number times the longest is what is written.
    match cells.len() > MOST_CELLS {
        true => Err(format!("it has more than {MOST_CELLS} cells")),
        false => Ok(()),
    }
}

/// What is wrong with a cell, and which.
fn at(row: u32, column: u32, problem: &str) -> String {
    let mut letters = String::new();
    let mut rest = column + 1;
    while rest > 0 {
        rest -= 1;
        letters.insert(0, char::from(b'A' + (rest % 26) as u8));
        rest /= 26;
    }
    format!("cell {letters}{} {problem}", row + 1)
}

fn text_of(value: &DataRef) -> Result<String, String> {
    Ok(match value {
        DataRef::Int(number) => number.to_string(),
        DataRef::Float(number) => number_text(*number),
        DataRef::String(text) | DataRef::DateTimeIso(text) | DataRef::DurationIso(text) => text.trim().to_string(),
        DataRef::SharedString(text) => text.trim().to_string(),
        DataRef::Bool(flag) => flag_text(*flag),
        DataRef::DateTime(time) => time_text(time),
        DataRef::Error(error) => return Err(error_text(error)),
        DataRef::Empty => String::new(),
    })
}

fn text(value: &Data) -> Result<String, String> {
    Ok(match value {
        Data::Int(number) => number.to_string(),
        Data::Float(number) => number_text(*number),
        Data::String(text) | Data::DateTimeIso(text) | Data::DurationIso(text) => text.trim().to_string(),
        Data::Bool(flag) => flag_text(*flag),
        Data::DateTime(time) => time_text(time),
        Data::Error(error) => return Err(error_text(error)),
        Data::Empty => String::new(),
    })
}

/// Every number of a workbook is one with a point: whole ones are written without.
fn number_text(number: f64) -> String {
    number.to_string()
}

fn flag_text(flag: bool) -> String {
    if flag { "yes" } else { "no" }.to_string()
}

/// A day, and the time where it has one.
fn time_text(time: &ExcelDateTime) -> String {
    let (year, month, day, hour, minute, second, milli) = time.to_ymd_hms_milli();
    let day = format!("{year:04}-{month:02}-{day:02}");
    match (hour, minute, second, milli) {
        (0, 0, 0, 0) => day,
        (hour, minute, second, _) => format!("{day}T{hour:02}:{minute:02}:{second:02}"),
    }
}

fn error_text(error: &CellErrorType) -> String {
    format!("holds an error ({error}): mend it where the workbook is kept")
}

/// Columns in which something stands, and a line for each row: what is in row 7 stands in line 7.
fn written(cells: &SheetCells) -> String {
    let columns: BTreeSet<u32> = cells.values().flat_map(|row| row.keys().copied()).collect();
    let (mut out, mut line) = (String::new(), 0);
    for (row, of) in cells {
        // What stands in several lines of a cell makes several lines of its row.
        while line < *row {
            out.push('\n');
            line += 1;
        }
        let texts: Vec<String> =
            columns.iter().map(|column| of.get(column).map_or(String::new(), |text| quoted(text))).collect();
        let text = texts.join(",");
        line += 1 + text.matches('\n').count() as u32;
        out.push_str(&text);
        out.push('\n');
    }
    out
}

fn quoted(text: &str) -> String {
    let text = text.replace("\r\n", "\n").replace('\r', "\n");
    if text.contains([',', '"', '\n']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rust_xlsxwriter::{Format, Workbook, Worksheet};
    use std::io::Write;

    fn book(fill: impl FnOnce(&mut Worksheet)) -> Vec<u8> {
        let mut book = Workbook::new();
        book.add_worksheet().set_name("First").unwrap().write(0, 0, "other").unwrap();
        fill(book.add_worksheet().set_name("Staff").unwrap());
        book.save_to_buffer().unwrap()
    }

    #[test]
    fn a_sheet_is_a_table() {
        let bytes = book(|sheet| {
            let day = Format::new().set_num_format("yyyy-mm-dd");
            sheet.write_row(2, 1, ["id", "since", "level", "active"]).unwrap();
            sheet.write(3, 1, "ann, \"A\"").unwrap();
            sheet.write_with_format(3, 2, 46_000.0, &day).unwrap();
            sheet.write(3, 3, 3.0).unwrap();
            sheet.write(3, 4, true).unwrap();
            sheet.write(6, 1, " bob ").unwrap();
            sheet.write(6, 3, 2.5).unwrap();
        });
        let text = table("x.xlsx", &bytes, Some("Staff")).unwrap();
        assert_eq!(text, "\n\nid,since,level,active\n\"ann, \"\"A\"\"\",2025-12-09,3,yes\n\n\nbob,,2.5,\n");
        assert_eq!(table("x.xlsx", &bytes, None).unwrap(), "other\n");
        let told = table("x.xlsx", &bytes, Some("Staf")).unwrap_err();
        assert_eq!(told, "it has no sheet `Staf`: did you mean `Staff`?");
        assert!(table("x.xlsx", b"id,name\n", None).unwrap_err().starts_with("it is no workbook"));
        for cut in [10, 200, bytes.len() / 2, bytes.len() - 30] {
            let _ = table("x.xlsx", &bytes[..cut], None);
        }
    }

    #[test]
    fn what_has_no_end_is_refused() {
        let ods = |content: &str| {
            let mut zip = zip::ZipWriter::new(Cursor::new(Vec::new()));
            let options = zip::write::SimpleFileOptions::default().compression_method(zip::CompressionMethod::Deflated);
            for (name, text) in [
                ("mimetype", "application/vnd.oasis.opendocument.spreadsheet"),
                (
                    "META-INF/manifest.xml",
                    "<manifest:manifest xmlns:manifest=\"urn:oasis:names:tc:opendocument:xmlns:manifest:1.0\"/>",
                ),
                ("content.xml", content),
            ] {
                zip.start_file(name, options).unwrap();
                zip.write_all(text.as_bytes()).unwrap();
            }
            zip.finish().unwrap().into_inner()
        };
        let sheet = |rows: &str| {
            format!(
                "<office:document-content xmlns:office=\"o\" xmlns:table=\"t\" xmlns:text=\"x\"><office:body><office:spreadsheet>\
                 <table:table table:name=\"S\">{rows}</table:table></office:spreadsheet></office:body></office:document-content>"
            )
        };
        let cell = "<table:table-cell office:value-type=\"string\"><text:p>id</text:p></table:table-cell>";
        let many = cell.replace("<table:table-cell ", "<table:table-cell table:number-columns-repeated=\"16000\" ");
        let good = ods(&sheet(&format!(
            "<table:table-row>{cell}<table:table-cell table:number-columns-repeated=\"16383\"/></table:table-row>\
             <table:table-row table:number-rows-repeated=\"1048575\"><table:table-cell table:number-columns-repeated=\"16384\"/></table:table-row>"
        )));
        assert_eq!(table("x.ods", &good, None).unwrap(), "id\n");
        let wide = ods(&sheet(&format!("<table:table-row>{many}</table:table-row>").repeat(2_000)));
        assert!(table("x.ods", &wide, None).unwrap_err().contains("more than"));
        let long =
            ods(&sheet(&format!("<table:table-row table:number-rows-repeated=\"900000\">{many}</table:table-row>")));
        assert!(table("x.ods", &long, None).unwrap_err().contains("more than"));
    }
}
