//! Usage: who did what, when, on which resource. Checked row by row; what refers to somebody or
//! something that is not there any more is history, not a mistake.

use crate::csv_table::{Cells, CsvTable};
use bastide_model::Schema;
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, FileId, codes};

const COLUMNS: [&str; 4] = ["when", "user", "action", "resource"];

/// Checks a CSV file of usage and gives the number of its rows.
pub fn csv(file: FileId, text: &str, schema: &Schema, out: &mut Vec<Diagnostic>) -> usize {
    let Some(mut table) = CsvTable::open(file, text, out) else { return 0 };
    let known: Vec<String> = COLUMNS.iter().map(|c| c.to_string()).collect();
    let field = |name: &str| COLUMNS.iter().position(|c| *c == name);
    let fields = table.fields(field, &known, &COLUMNS, out);
    let column = |wanted: usize| fields.iter().position(|f| *f == Some(wanted));
    let (mut row, mut count) = (table.row(), 0);
    while table.next(&mut row, out) {
        count += 1;
        if let Some(c) = column(0)
            && row.text(c).parse::<jiff::Timestamp>().is_err()
        {
            let message = format!("expected a time such as `2026-11-02T09:15:00Z`, found `{}`", row.text(c));
            out.push(Diagnostic::at(&codes::BAD_DATE, row.span(c), message));
        }
        if let Some(c) = column(2)
            && schema.action(row.text(c)).is_none()
        {
            let message = format!("unknown action `{}`", row.text(c));
            let near = nearest(row.text(c), schema.actions.iter().map(|a| a.name.as_str()));
            let diagnostic = Diagnostic::at(&codes::UNKNOWN_ACTION, row.span(c), message);
            out.push(match near {
                Some(near) => diagnostic.help(format!("did you mean `{near}`?")),
                None => diagnostic,
            });
        }
    }
    count
}
