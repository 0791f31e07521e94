//! The sheets of a review, and what their answers come to.

use super::text::{bold, count, dim, doubt, hang, visible};
use bastide_engine::review::{Answer, Proposal, Sheet, SheetDecision};
use std::path::Path;

/// So many sheets are named.
const MOST: usize = 20;

/// The sheets that were written.
pub fn written(sheets: &[Sheet], names: &[String], dir: &Path, columns: usize) -> String {
    let rows: usize = sheets.iter().map(|s| s.rows.len()).sum();
    let mut out = format!("{} with {} in `{}`\n", count(sheets.len(), "sheet"), count(rows, "row"), dir.display());
    for (sheet, name) in sheets.iter().zip(names).take(MOST) {
        let whom = if sheet.name.is_empty() { "what belongs to nobody".into() } else { visible(&sheet.name) };
        out.push_str(&hang(
            "  ",
            &format!("{}  {}", bold(name), dim(&format!("{whom}, {}", count(sheet.rows.len(), "row")))),
            columns,
        ));
    }
    if sheets.len() > MOST {
        out.push_str(&format!("  {}\n", dim(&format!("and {} more", sheets.len() - MOST))));
    }
    out.push_str(&hang(
        "",
        "In each row, `answer` wants keep, narrow or remove; narrow says more in `only_actions`, `without` (people) or \
         `until` (a day). `bastide review answers` reads them back and tries what they come to.",
        columns,
    ));
    out
}

/// What the answers come to, before it is tried.
pub fn proposed(p: &Proposal, answers: &[Answer], open: usize, columns: usize) -> String {
    let of = |is: fn(&SheetDecision) -> bool| answers.iter().filter(|a| is(&a.decision)).count();
    let narrow = of(|d| matches!(d, SheetDecision::Narrow { .. }));
    let remove = of(|d| matches!(d, SheetDecision::Remove));
    let mut out = format!(
        "{}: {} keep, {narrow} narrow, {remove} remove; {} without an answer\n",
        count(answers.len(), "answer"),
        p.kept,
        count(open, "row")
    );
    if !p.by_hand.is_empty() {
        out.push_str(&format!(
            "\n{}\n",
            doubt(&format!("{} cannot be done from here", count(p.by_hand.len(), "answer")))
        ));
        for hand in &p.by_hand {
            out.push_str(&hang("  ", &format!("{}  {}", dim(&visible(&hand.at)), visible(&hand.key)), columns));
            out.push_str(&hang("      ", &visible(&hand.why), columns));
        }
    }
    if p.changes.is_empty() {
        out.push_str("\nnothing changes\n");
    } else {
        out.push('\n');
    }
    out
}
