//! Rules and entries with what they reach.

use super::text::{bold, count, cut, dim, doubt, grouped, hang, pad, table, visible, width};
use bastide_engine::access::{Listed, Statements};

/// One line each. `all`: entries, too.
pub fn listed(found: &Statements, all: bool, columns: usize) -> String {
    let list: Vec<&Listed> = found.statements.iter().filter(|s| all || s.statement.sort == "rule").collect();
    let numbers = |s: &Listed| [s.users as u64, s.resources as u64, s.triples].map(grouped);
    let heads = ["users", "resources", "triples"];
    let widths: Vec<usize> =
        (0..3).map(|i| list.iter().map(|s| width(&numbers(s)[i])).chain([heads[i].len()]).max().unwrap_or(0)).collect();
    let widest = list.iter().map(|s| width(&visible(&s.name))).max().unwrap_or(4).clamp(4, columns * 2 / 5);
    let what = columns.saturating_sub(widest + widths.iter().sum::<usize>() + 10).max(12);
    let line = |name: &str, cells: [&str; 3], rest: &str| {
        let cells: String = (0..3).map(|i| format!("  {:>1$}", cells[i], widths[i])).collect();
        format!("{}{cells}  {rest}", pad(name, widest)).trim_end().to_string()
    };
    let mut out = format!("{}\n", bold(&line("name", heads, "does")));
    for s in &list {
        let [users, resources, triples] = numbers(s);
        let said = format!("{} {}", s.statement.modality, s.actions.join(", "));
        let rest = match &s.asleep {
            Some(why) => format!("{why}: {said}"),
            None if s.undecided > 0 => format!("{} left open: {said}", grouped(s.undecided)),
            None => said,
        };
        let row = line(&cut(&visible(&s.name), widest), [&users, &resources, &triples], &cut(&visible(&rest), what));
        out.push_str(&if s.triples == 0 { doubt(&row) } else { row });
        out.push('\n');
    }
    if list.iter().any(|s| s.asleep.is_none() && s.undecided > 0) {
        let text = "in so many triples a missing value leaves open whether it applies; `bastide reach NAME` says more";
        out.push_str(&format!("\n{}", dim(&hang("left open  ", text, columns))));
    }
    let entries = found.statements.iter().filter(|s| s.statement.sort != "rule").count();
    if !all && entries > 0 {
        let text = format!("{} (--all); for one of them, `bastide reach NAME`", count(entries, "entry"));
        out.push_str(&format!("\n{}", dim(&hang("left out: ", &text, columns))));
    }
    out
}

/// One row each.
pub fn csv(found: &Statements) -> String {
    let head = [
        "name",
        "sort",
        "modality",
        "actions",
        "users",
        "resources",
        "triples",
        "undecided",
        "asleep",
        "place",
        "because",
    ];
    let rows = found.statements.iter().map(|s| {
        vec![
            s.name.clone(),
            s.statement.sort.clone(),
            s.statement.modality.clone(),
            s.actions.join(";"),
            s.users.to_string(),
            s.resources.to_string(),
            s.triples.to_string(),
            s.undecided.to_string(),
            s.asleep.clone().unwrap_or_default(),
            s.statement.place.clone(),
            s.statement.because.clone().unwrap_or_default(),
        ]
    });
    table(&head, rows)
}
