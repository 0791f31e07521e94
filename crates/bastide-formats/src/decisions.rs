//! Decisions that a platform made itself: `user,resource,action,decision`, as CSV or one JSON object a line. Other columns
//! are left aside: logs say more than is asked for.

use crate::csv_table::{Cells, CsvTable};
use crate::json::{cell, objects};
use crate::manifest::Format;
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Span, codes};

const COLUMNS: [&str; 4] = ["user", "resource", "action", "decision"];

/// The words for a decision, and whether it is an allowing one.
const WORDS: [(&str, bool); 18] = [
    ("allowed", true),
    ("allow", true),
    ("permit", true),
    ("permitted", true),
    ("granted", true),
    ("yes", true),
    ("true", true),
    ("t", true),
    ("1", true),
    ("refused", false),
    ("refuse", false),
    ("deny", false),
    ("denied", false),
    ("blocked", false),
    ("no", false),
    ("false", false),
    ("f", false),
    ("0", false),
];

/// What was decided elsewhere.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Decided {
    /// The user's id.
    pub user: String,
    /// The resource's id or path.
    pub resource: String,
    /// The action.
    pub action: String,
    /// Whether it was allowed.
    pub allowed: bool,
}

/// Reads a file of decisions, of one of the two formats.
pub fn read(file: FileId, text: &str, format: Format, out: &mut Diagnostics) -> Vec<Decided> {
    match format {
        Format::JsonLines => json_lines(file, text, out),
        _ => csv(file, text, out),
    }
}

fn csv(file: FileId, text: &str, out: &mut Diagnostics) -> Vec<Decided> {
    let mut found = Vec::new();
    let Some(mut table) = CsvTable::open(file, text, out) else { return found };
    let header: Vec<String> = table.header.iter().map(|cell| cell.text.trim().to_lowercase()).collect();
    let columns = COLUMNS.map(|name| header.iter().position(|column| column == name));
    for (name, column) in COLUMNS.iter().zip(&columns) {
        if column.is_none() {
            let span = table.header.first().map_or(Span::new(file, 0, 0), |cell| cell.span);
            let told = Diagnostic::at(&codes::MISSING_COLUMN, span, format!("there is no column `{name}`"));
            let near = nearest(name, header.iter().map(String::as_str));
            out.push(match near {
                Some(near) => told.help(format!("is it `{near}`?")),
                None => told,
            });
        }
    }
    let [Some(user), Some(resource), Some(action), Some(decision)] = columns else { return found };
    let mut row = table.row();
    while table.next(&mut row, out) {
        let cell = |column: usize| row.text(column).to_string();
        let cells = [user, resource, action, decision].map(cell);
        match decided(cells) {
            Ok(decided) => found.push(decided),
            Err((at, message)) => {
                let column = [user, resource, action, decision][at];
                out.push(Diagnostic::at(&codes::BAD_VALUE, row.span(column), message));
            }
        }
    }
    found
}

fn json_lines(file: FileId, text: &str, out: &mut Diagnostics) -> Vec<Decided> {
    let mut found = Vec::new();
    objects(file, text, out, |place, object, out| {
        let cells = COLUMNS.map(|name| object.get(name).and_then(|value| cell(value).ok()).unwrap_or_default());
        match decided(cells) {
            Ok(decided) => found.push(decided),
            Err((_, message)) => out.push(Diagnostic::at(&codes::BAD_VALUE, place.span(), message)),
        }
    });
    found
}

/// The decision of four cells, or what is wrong with which of them.
fn decided([user, resource, action, decision]: [String; 4]) -> Result<Decided, (usize, String)> {
    for (at, text) in [&user, &resource, &action, &decision].into_iter().enumerate() {
        if text.is_empty() {
            return Err((at, format!("a decision without its {}", COLUMNS[at])));
        }
    }
    let word = decision.to_lowercase();
    match WORDS.iter().find(|(known, _)| *known == word) {
        Some((_, allowed)) => Ok(Decided { user, resource, action, allowed: *allowed }),
        None => Err((3, format!("`{decision}` is no decision: `allowed` or `refused`"))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_say_the_same() {
        let mut out = Diagnostics::new();
        let rows = "when,User,resource,action,decision\n1,ann,r1,read,Allowed\n2,bob,r1,read,deny\n";
        let lines = "{\"user\":\"ann\",\"resource\":\"r1\",\"action\":\"read\",\"decision\":true}\n\
                     {\"user\":\"bob\",\"resource\":\"r1\",\"action\":\"read\",\"decision\":\"refused\",\"why\":{}}\n";
        let first = read(FileId(0), rows, Format::Csv, &mut out);
        let second = read(FileId(0), lines, Format::JsonLines, &mut out);
        assert!(out.is_empty(), "{out:?}");
        assert_eq!(first, second);
        assert_eq!(first.iter().map(|d| d.allowed).collect::<Vec<_>>(), [true, false]);
    }

    #[test]
    fn nothing_is_passed_over() {
        for (text, format, message) in [
            ("user,resource,action\n", Format::Csv, "there is no column `decision`"),
            (
                "user,resource,action,decision\nann,r1,read,perhaps\n",
                Format::Csv,
                "`perhaps` is no decision: `allowed` or `refused`",
            ),
            ("user,resource,action,decision\nann,,read,yes\n", Format::Csv, "a decision without its resource"),
            ("{\"user\":\"ann\"}", Format::JsonLines, "a decision without its resource"),
        ] {
            let mut out = Diagnostics::new();
            assert!(read(FileId(0), text, format, &mut out).is_empty());
            assert_eq!(out.iter().map(|d| d.message.as_str()).collect::<Vec<_>>(), [message], "{text}");
        }
    }
}
