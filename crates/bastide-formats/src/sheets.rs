//! The sheets of an owner's review, as CSV files that any spreadsheet opens, or as workbooks with a list to choose answers from.
//!
//! Cells that a spreadsheet would run as a formula are written with an apostrophe before them, which is taken
//! off again when answers are read. Answers may come back parted by commas, semicolons or tabs, as
//! spreadsheets of different countries write them.

use bastide_engine::difference::How;
use bastide_engine::review::{Answer, Sheet, SheetDecision};
use bastide_model::schema::read_date;
use rust_xlsxwriter::{
    DataValidation, DataValidationErrorStyle, DocProperties, ExcelDateTime, Format, FormatAlign, ProtectionOptions,
    Workbook, XlsxError,
};
use std::collections::HashSet;

/// The columns; the last five are to be filled in.
const COLUMNS: [&str; 16] = [
    "sheet",
    "as_of",
    "given_by",
    "mark",
    "who",
    "people",
    "may",
    "on",
    "resources",
    "resources_elsewhere",
    "because_and_place",
    "answer",
    "only_actions",
    "without",
    "until",
    "reason",
];

/// The first column that is to be filled in.
const FILLED: u16 = 11;
/// A cell of a workbook holds no more letters.
const LONGEST_CELL: usize = 32_767;
/// The height of a line of text, in points, and of so many lines of a row at most: the rest is seen when the cell is chosen.
const LINE: (f64, usize) = (15.0, 12);
/// Columns that tell a row, and need not be read.
const KEYS: [&str; 3] = ["as_of", "given_by", "mark"];
/// How wide the columns of a workbook are, in letters.
const WIDTHS: [f64; 16] =
    [18.0, 11.0, 10.0, 8.0, 28.0, 40.0, 24.0, 44.0, 10.0, 10.0, 44.0, 10.0, 20.0, 24.0, 12.0, 40.0];

/// So many people are named in a cell.
const MOST_PEOPLE: usize = 500;

/// A name for the file of each sheet, each once, of letters that every system takes; `ending` is that of the file.
pub fn names(sheets: &[Sheet], ending: &str) -> Vec<String> {
    let mut known: HashSet<String> = HashSet::new();
    let mut names = Vec::new();
    for sheet in sheets {
        let plain: String =
            sheet.name.chars().map(|c| if c.is_ascii_alphanumeric() || "._-".contains(c) { c } else { '-' }).collect();
        let plain = plain.trim_matches(['.', '-']).chars().take(80).collect::<String>();
        let plain = if plain.is_empty() { "nobody".to_string() } else { plain };
        let mut name = format!("{plain}.{ending}");
        let mut number = 2;
        while !known.insert(name.to_lowercase()) {
            name = format!("{plain}-{number}.{ending}");
            number += 1;
        }
        names.push(name);
    }
    names
}

/// A cell that no spreadsheet takes for a formula.
pub fn guarded(text: &str) -> String {
    if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text.to_string() }
}

fn unguarded(text: &str) -> &str {
    text.strip_prefix('\'').filter(|t| t.starts_with(['=', '+', '-', '@', '\t', '\r'])).unwrap_or(text)
}

/// The text of a sheet.
pub fn text(sheet: &Sheet, date: &str) -> String {
    let mut out = csv::WriterBuilder::new().quote_style(csv::QuoteStyle::Always).from_writer(Vec::new());
    out.write_record(COLUMNS).expect("memory takes everything");
    for cells in rows(sheet, date) {
        let cells = cells.into_iter().chain(std::iter::repeat_n(String::new(), COLUMNS.len() - usize::from(FILLED)));
        out.write_record(cells).expect("memory takes everything");
    }
    String::from_utf8(out.into_inner().expect("memory takes everything")).expect("it was text")
}

/// A sheet as a workbook (Office Open XML): what is asked cannot be changed, and an answer is chosen from a list.
///
/// # Errors
/// An id is longer than a cell may be.
pub fn workbook(sheet: &Sheet, date: &str) -> Result<Vec<u8>, XlsxError> {
    let mut book = Workbook::new();
    // The same sheet is the same file, whenever it is written.
    let made = ExcelDateTime::parse_from_str(date)?;
    book.set_properties(&DocProperties::new().set_creation_datetime(&made));
    let head = Format::new().set_bold().set_text_wrap().set_align(FormatAlign::Top);
    let asked = Format::new().set_text_wrap().set_align(FormatAlign::Top);
    let key = Format::new().set_align(FormatAlign::Top).set_font_color("808080");
    let open = Format::new().set_text_wrap().set_align(FormatAlign::Top).set_unlocked().set_background_color("FFF8DC");
    let page = book.add_worksheet().set_name("Review")?;
    for (column, (name, width)) in COLUMNS.iter().zip(WIDTHS).enumerate() {
        page.write_with_format(0, column as u16, *name, &head)?;
        page.set_column_width(column as u16, width)?;
    }
    page.set_freeze_panes(1, 0)?;
    // Some print it.
    page.set_landscape().set_print_fit_to_pages(1, 0).set_repeat_rows(0, 0)?;
    let mut last = 0;
    for (row, cells) in (1u32..).zip(rows(sheet, date)) {
        let mut lines = 1;
        for (column, cell) in (0u16..).zip(&cells) {
            // What is only to be read may be cut; what tells the row may not.
            let long =
                cell.chars().count() > LONGEST_CELL && matches!(COLUMNS[usize::from(column)], "people" | "on" | "may");
            let cut: String =
                if long { cell.chars().take(LONGEST_CELL - 4).chain(" ...".chars()).collect() } else { cell.clone() };
            let is_key = KEYS.contains(&COLUMNS[usize::from(column)]);
            if !is_key {
                let letters = cell.chars().count() as f64;
                lines = lines.max((letters * 1.1 / WIDTHS[usize::from(column)]).ceil() as usize);
            }
            page.write_string_with_format(row, column, cut, if is_key { &key } else { &asked })?;
        }
        for column in FILLED..COLUMNS.len() as u16 {
            page.write_blank(row, column, &open)?;
        }
        page.set_row_height(row, LINE.0 * lines.min(LINE.1) as f64)?;
        last = row;
    }
    if last > 0 {
        let choices = DataValidation::new()
            .allow_list_strings(&["keep", "narrow", "remove"])?
            .set_error_title("Choose an answer")?
            .set_error_message("keep: as it is. narrow: say in the next cells what goes. remove: all of it goes.")?
            .set_error_style(DataValidationErrorStyle::Stop);
        page.add_data_validation(1, FILLED, last, FILLED, &choices)?;
    }
    let may = ProtectionOptions {
        format_columns: true,
        format_rows: true,
        use_autofilter: true,
        ..ProtectionOptions::default()
    };
    page.protect_with_options(&may);
    book.save_to_buffer()
}

/// The cells of the rows of a sheet, without those that are to be filled in.
fn rows(sheet: &Sheet, date: &str) -> Vec<Vec<String>> {
    let mut all = Vec::new();
    for row in &sheet.rows {
        let mut people = row.people.iter().take(MOST_PEOPLE).cloned().collect::<Vec<_>>().join("; ");
        if row.people.len() > MOST_PEOPLE {
            people.push_str(&format!("; and {} more", row.people.len() - MOST_PEOPLE));
        }
        let places: Vec<String> = row
            .places
            .iter()
            .map(|f| match f.how {
                How::One => f.path.clone(),
                How::Whole => format!("{} and everything beneath", f.path),
                How::Within => format!("{} within {}", f.resources, f.path),
            })
            .collect();
        let mut on = places.join("; ");
        if let Some((least, most)) = row.each {
            let each = if least == most { least.to_string() } else { format!("{least} to {most}") };
            on.push_str(&format!("; each of them on {each} of these"));
        }
        let until = row.until.map_or(String::new(), |d| format!(" (until {d})"));
        let because = row.because.as_ref().map_or(String::new(), |b| format!("{b} "));
        let cells = [
            sheet.name.clone(),
            date.to_string(),
            row.key.clone(),
            row.mark.clone(),
            row.who.clone(),
            people,
            row.actions.join("; "),
            on,
            row.resources.to_string(),
            row.elsewhere.to_string(),
            format!("{because}[{}]{until}", row.at),
        ];
        all.push(cells.iter().map(|c| guarded(c)).collect());
    }
    all
}

/// What a filled sheet says.
#[derive(Default, Debug)]
pub struct Filled {
    /// The answered rows.
    pub answers: Vec<Answer>,
    /// How many rows have no answer.
    pub open: usize,
    /// What cannot be read, each with its place.
    pub mistakes: Vec<String>,
}

/// Reads the answers of a sheet.
pub fn answers(name: &str, text: &str) -> Filled {
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let head = text.lines().next().unwrap_or_default();
    let delimiter =
        [b',', b';', b'\t'].into_iter().max_by_key(|d| head.matches(char::from(*d)).count()).unwrap_or(b',');
    let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).flexible(true).from_reader(text.as_bytes());
    let mut filled = Filled::default();
    let headers = match reader.headers() {
        Ok(headers) => headers.clone(),
        Err(error) => {
            filled.mistakes.push(format!("{name}: {error}"));
            return filled;
        }
    };
    for wanted in ["sheet", "given_by", "answer"] {
        if !headers.iter().any(|h| h.trim() == wanted) {
            filled
                .mistakes
                .push(format!("{name}: there is no column `{wanted}`; is it a sheet of `bastide review sheets`?"));
            return filled;
        }
    }
    for record in reader.records() {
        let record = match record {
            Ok(record) => record,
            Err(error) => {
                filled.mistakes.push(format!("{name}: {error}"));
                continue;
            }
        };
        let line = record.position().map_or(0, |p| p.line());
        let at = format!("{name}:{line}");
        let cell = |column: &str| {
            let at = headers.iter().position(|h| h.trim() == column);
            unguarded(at.and_then(|at| record.get(at)).unwrap_or_default().trim()).to_string()
        };
        if cell("answer").is_empty() {
            let said = ["only_actions", "without", "until"].iter().find(|c| !cell(c).is_empty());
            match said {
                Some(column) => filled.mistakes.push(format!("{at}: `{column}` is filled in and `answer` is not")),
                None => filled.open += usize::from(!cell("given_by").is_empty()),
            }
            continue;
        }
        match decision(&cell) {
            Ok(decision) => filled.answers.push(Answer {
                sheet: cell("sheet"),
                key: cell("given_by"),
                mark: cell("mark"),
                decision,
                reason: cell("reason"),
                at,
            }),
            Err(why) => filled.mistakes.push(format!("{at}: {why}")),
        }
    }
    filled
}

fn decision(cell: &dyn Fn(&str) -> String) -> Result<SheetDecision, String> {
    let list = |column: &str| -> Vec<String> {
        cell(column).split([';', ',']).map(|t| t.trim().to_string()).filter(|t| !t.is_empty()).collect()
    };
    let (actions, without, until) = (list("only_actions"), list("without"), cell("until"));
    let more = !actions.is_empty() || !without.is_empty() || !until.is_empty();
    match cell("answer").to_lowercase().as_str() {
        "keep" if more => Err("`keep` leaves everything as it is; to take something away, write `narrow`".to_string()),
        "keep" => Ok(SheetDecision::Keep),
        "remove" if more => Err("`remove` takes everything away; to take a part away, write `narrow`".to_string()),
        "remove" => Ok(SheetDecision::Remove),
        "narrow" if !more => {
            Err("`narrow` wants at least one of `only_actions`, `without` and `until` filled in".to_string())
        }
        "narrow" => {
            let until = match until.as_str() {
                "" => None,
                text => Some(read_date(text).ok_or_else(|| format!("`{text}` is no day; write it as 2026-12-31"))?),
            };
            Ok(SheetDecision::Narrow { actions, without, until })
        }
        other => Err(format!("`{other}` is no answer; write `keep`, `narrow` or `remove`")),
    }
}
