//! Access kept as a grid: users down, places across, a letter, an action or a role in each cell.

use crate::csv_table::{Cells, CsvTable};
use crate::manifest::DataSource;
use bastide_model::Reach;
use bastide_model::rows::{Cell, EntryRow};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};

/// A cell that says that there is nothing.
const NOTHING: [&str; 3] = ["", "-", "\u{2013}"];

/// Reads a grid. The first column that is not left aside says whom a row is about (a user's id, or a subject as entries have it), the
/// heads of the others say where (ids, or paths).
pub fn csv(
    file: FileId,
    text: &str,
    source: &DataSource,
    reach: Reach,
    rows: &mut Vec<EntryRow>,
    out: &mut Diagnostics,
) {
    let Some(mut table) = CsvTable::open(file, text, out) else { return };
    let header = table.header.clone();
    let mut columns = (0..header.len()).filter(|at| !source.ignores(&header[*at].text));
    let Some(who) = columns.next() else { return };
    let places: Vec<usize> = columns.collect();
    for at in &places {
        if header[*at].text.is_empty() {
            out.push(Diagnostic::at(&codes::MISSING_VALUE, header[*at].span, "a column of a grid that says no place"));
        }
    }
    for name in source.ignore.iter().filter(|name| !header.iter().any(|cell| cell.text == name.text)) {
        let message = format!("the grid has no column `{}`, which is to be left aside", name.text);
        out.push(Diagnostic::at(&codes::NO_EFFECT, name.span, message));
    }
    let mut row = table.row();
    while table.next(&mut row, out) {
        let place = row.place();
        let subject = row.text(who);
        if subject.is_empty() {
            if places.iter().any(|at| !NOTHING.contains(&row.text(*at))) {
                out.push(Diagnostic::at(&codes::MISSING_VALUE, row.span(who), "a row of a grid that says nobody"));
            }
            continue;
        }
        let is_subject =
            matches!(subject, "anyone" | "owner") || subject.starts_with("user:") || subject.starts_with("group:");
        let subject = if is_subject { subject.to_string() } else { format!("user:{subject}") };
        for at in places.iter().copied().filter(|at| !header[*at].text.is_empty()) {
            let text = row.text(at).trim();
            if NOTHING.contains(&text) {
                continue;
            }
            let span = row.span(at);
            let cell = |text: String| Cell { text, span };
            rows.push(EntryRow {
                subject: Cell { text: subject.clone(), span: row.span(who) },
                modality: cell("may".to_string()),
                actions: cell(actions(source, text)),
                place: Cell { text: header[at].text.clone(), span: header[at].span },
                reach: cell(reach.word().to_string()),
                layer: cell(String::new()),
                from: cell(String::new()),
                until: cell(String::new()),
                note: cell(String::new()),
                row: place,
                by_path: true,
            });
        }
    }
}

/// The actions of a cell, joined as entries have them: the whole of it in other words, or what its parts are, or its letters.
fn actions(source: &DataSource, text: &str) -> String {
    let words = |text: &str| source.value("actions", false, text).filter(|ours| ours != text);
    if let Some(ours) = words(text) {
        return ours;
    }
    let parts: Vec<&str> =
        text.split([';', ',', '/', ' ', '+']).map(str::trim).filter(|part| !part.is_empty()).collect();
    let each = |part: &str| {
        words(part).unwrap_or_else(|| {
            // Letters without anything between them, each of which means something.
            let letters: Option<Vec<String>> = part.chars().map(|c| words(&c.to_string())).collect();
            letters.map_or_else(|| part.to_string(), |letters| letters.join(";"))
        })
    };
    parts.into_iter().map(each).collect::<Vec<_>>().join(";")
}
