//! Usage: who did what, when, on which resource. Checked row by row; what refers to somebody or
//! something that is not there any more is history, not a mistake.

use crate::csv_table::{Cells, CsvTable};
use bastide_model::{ActionId, Schema};
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};

const COLUMNS: [&str; 4] = ["when", "user", "action", "resource"];

/// Somebody did something.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Used {
    /// When.
    pub when: jiff::Timestamp,
    /// The user's id.
    pub user: String,
    /// What.
    pub action: ActionId,
    /// The resource's id.
    pub resource: String,
}

/// Reads a CSV file of usage; gives the number of its rows, those with mistakes included.
pub fn csv(file: FileId, text: &str, schema: &Schema, used: &mut Vec<Used>, out: &mut Diagnostics) -> usize {
    let Some(mut table) = CsvTable::open(file, text, out) else { return 0 };
    let known: Vec<String> = COLUMNS.iter().map(|c| c.to_string()).collect();
    let field = |name: &str| COLUMNS.iter().position(|c| *c == name);
    let fields = table.fields(field, &known, &COLUMNS, out);
    let column = |wanted: usize| fields.iter().position(|f| *f == Some(wanted));
    let (mut row, mut count) = (table.row(), 0);
    while table.next(&mut row, out) {
        count += 1;
        let cell = |wanted: usize| column(wanted).map_or("", |c| row.text(c));
        if let (Ok(when), Some(action)) = (cell(0).parse(), schema.action(cell(2))) {
            used.push(Used { when, user: cell(1).to_string(), action, resource: cell(3).to_string() });
        }
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
