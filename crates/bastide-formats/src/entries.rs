//! Access entries from CSV; the engine makes statements of them.

use crate::csv_table::{Cells, CsvTable};
use crate::manifest::DataSource;
use crate::shape::{Shape, look};
use bastide_model::rows::{Cell, EntryRow};
use bastide_model::tidy::untidy;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};

const COLUMNS: [&str; 9] = ["subject", "modality", "actions", "place", "reach", "layer", "from", "until", "note"];

/// Reads a CSV file of entries.
pub fn csv(file: FileId, text: &str, source: &DataSource, rows: &mut Vec<EntryRow>, out: &mut Diagnostics) {
    let Some(mut table) = CsvTable::open(file, text, out) else { return };
    let known: Vec<String> = COLUMNS.iter().map(|c| c.to_string()).collect();
    look(source, &known, out);
    let field = |name: &str| {
        let ours = source.ours(name);
        COLUMNS.iter().position(|c| *c == ours).filter(|_| !source.ignores(name))
    };
    let fields = table.fields_but(field, &known, &COLUMNS[..5], &|name| source.ignores(name), out);
    let names: Vec<Option<String>> = fields.iter().map(|f| f.map(|at| COLUMNS[at].to_string())).collect();
    let shape = Shape::new(source, &names, &|name| name == "actions");
    let columns: [Option<usize>; 9] = std::array::from_fn(|wanted| fields.iter().position(|f| *f == Some(wanted)));
    let mut raw = table.row();
    while table.next(&mut raw, out) {
        let (spans, whole) = (raw.spans(), raw.place().span());
        let row = shape.row(&raw);
        let cell = |wanted: usize| match columns[wanted] {
            Some(column) => {
                Cell { text: row.text(column).to_string(), span: spans.get(column).copied().unwrap_or(whole) }
            }
            None => Cell { text: String::new(), span: whole },
        };
        for (what, wanted) in [("subject", 0), ("place", 3)] {
            let cell = cell(wanted);
            if let Some((why, better)) = untidy(&cell.text) {
                let message = format!("the {what} of an entry {why}");
                out.push(
                    Diagnostic::at(&codes::UNTIDY_NAME, cell.span, message).help(format!("write it as `{better}`")),
                );
            }
        }
        rows.push(EntryRow {
            subject: cell(0),
            modality: cell(1),
            actions: cell(2),
            place: cell(3),
            by_path: false,
            reach: cell(4),
            layer: cell(5),
            from: cell(6),
            until: cell(7),
            note: cell(8),
            row: row.place(),
        });
    }
}
