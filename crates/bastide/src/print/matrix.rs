//! The table of effective access.

use super::text::{bold, count, cut, dim, good, grouped, hang, legend, letters, pad, visible, width};
use bastide_engine::access::{Matrix, MatrixRow};

/// What the table leaves out and why, for its last lines.
pub struct Aside {
    /// Inactive users that are left out.
    pub inactive: usize,
    /// The depth at which the tree is cut, where it is.
    pub depth: Option<u16>,
}

/// The table, as many profiles as fit the width.
pub fn table(matrix: &Matrix, aside: &Aside, columns: usize) -> String {
    let letters = letters(&matrix.actions);
    let cell = |actions: &[usize]| actions.iter().map(|a| letters[*a]).collect::<String>();
    let labels: Vec<String> = matrix.rows.iter().map(|row| label(row, matrix.rows.first())).collect();
    let longest = labels.iter().map(|l| width(l)).max().unwrap_or(0).max(8);
    let label_width = longest.min((columns * 2 / 5).max(16));
    let mut widths = Vec::new();
    let mut used = label_width;
    for (p, profile) in matrix.profiles.iter().enumerate() {
        let widest = matrix.rows.iter().map(|row| row.cells[p].len()).max().unwrap_or(0);
        let own = widest.max(grouped(profile.users.len() as u64).len()).max(column_name(p).len());
        if used + own + 2 > columns && p > 0 {
            break;
        }
        used += own + 2;
        widths.push(own);
    }
    let mut out = String::new();
    let mut line = |label: &str, cells: Vec<String>, style: fn(&str) -> String| {
        let label = pad(&cut(label, label_width), label_width);
        out.push_str(&label);
        for (i, (cell, own)) in cells.iter().zip(&widths).enumerate() {
            out.push_str("  ");
            let text = pad(cell, *own);
            // Blanks at the end of a line are of no use to anybody.
            let text = if i + 1 == widths.len() { cell.clone() } else { text };
            out.push_str(&if cell == "-" { dim(&text) } else { style(&text) });
        }
        out.push('\n');
    };
    line("profile", (0..widths.len()).map(column_name).collect(), bold);
    line("users", matrix.profiles.iter().map(|p| grouped(p.users.len() as u64)).collect(), dim);
    for (row, label) in matrix.rows.iter().zip(&labels) {
        let cells = row.cells.iter().map(|c| if c.is_empty() { "-".to_string() } else { cell(c) }).collect();
        line(label, cells, good);
    }
    out.push('\n');
    out.push_str(&legend(&matrix.actions, &letters, columns));
    out.push('\n');
    for (p, profile) in matrix.profiles.iter().take(widths.len()).enumerate() {
        let head = format!("{}  {} ", pad(&column_name(p), 3), pad(&grouped(profile.users.len() as u64), 4));
        out.push_str(&bold(&head));
        out.push_str(&members(&profile.users, columns.saturating_sub(head.len())));
        out.push('\n');
    }
    out.push_str(&closing(matrix, widths.len(), aside, columns));
    out
}

/// A row's label: its name, indented; the first shows its whole path.
fn label(row: &MatrixRow, first: Option<&MatrixRow>) -> String {
    let top = first.map_or(1, |f| f.depth);
    if row.depth == top && top > 1 {
        return visible(&row.path).into_owned();
    }
    format!("{}{}", "  ".repeat(row.depth.saturating_sub(top) as usize), visible(&row.name))
}

/// A, B, ... Z, AA, AB, ...
pub fn column_name(index: usize) -> String {
    let letter = (b'A' + (index % 26) as u8) as char;
    if index < 26 { letter.to_string() } else { format!("{}{letter}", column_name(index / 26 - 1)) }
}

/// As many ids as fit a line, and how many more there are.
fn members(users: &[String], columns: usize) -> String {
    let mut out = String::new();
    for (i, user) in users.iter().enumerate() {
        let user = visible(user);
        let joined = if i == 0 { 0 } else { 2 };
        let more = format!(" and {} more", users.len() - i);
        let reserve = if i + 1 == users.len() { 0 } else { more.len() };
        if i > 0 && width(&out) + joined + width(&user) + reserve > columns {
            out.push_str(&more);
            return out;
        }
        if i > 0 {
            out.push_str(", ");
        }
        out.push_str(&user);
    }
    out
}

fn closing(matrix: &Matrix, shown: usize, aside: &Aside, columns: usize) -> String {
    let mut left_out = Vec::new();
    let more = matrix.profiles.len() - shown;
    if more > 0 {
        let users: usize = matrix.profiles.iter().skip(shown).map(|p| p.users.len()).sum();
        left_out.push(format!("{more} more profiles of {users} users (a wider terminal, --users, or --format csv)"));
    }
    let hidden: usize = matrix.rows.iter().map(|r| r.hidden).max().unwrap_or(0);
    if let (Some(depth), true) = (aside.depth, hidden > 0) {
        left_out.push(format!("what lies deeper than {} (--depth, --under)", count(depth as usize, "level")));
    }
    if aside.inactive > 0 {
        left_out.push(format!("{} inactive users (--inactive)", aside.inactive));
    }
    if left_out.is_empty() {
        String::new()
    } else {
        format!("\n{}", dim(&hang("left out: ", &left_out.join("; "), columns)))
    }
}

#[cfg(test)]
mod tests {
    use super::column_name;

    #[test]
    fn columns_are_named_like_letters() {
        assert_eq!([0, 25, 26, 51, 52, 702].map(column_name), ["A", "Z", "AA", "AZ", "BA", "AAA"]);
    }
}
