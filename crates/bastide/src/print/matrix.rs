//! The table of effective access.

use super::text::{
    bold, count, cut, cut_before, cut_inside, dim, good, grouped, hang, legend, letters, pad, visible, width,
};
use bastide_engine::access::{Matrix, MatrixRow};
use std::collections::HashMap;

/// What the table leaves out and why, for its last lines.
pub struct Aside {
    /// Inactive users that are left out.
    pub inactive: usize,
    /// The depth at which the tree is cut, where it is.
    pub depth: Option<u16>,
}

/// The table, as many profiles as fit the width; with `all`, the others in tables of their own below.
pub fn table(matrix: &Matrix, aside: &Aside, all: bool, columns: usize) -> String {
    let letters = letters(&matrix.actions);
    let cell = |actions: &[usize]| actions.iter().map(|a| letters[*a]).collect::<String>();
    let labels = labels(&matrix.rows, columns);
    let label_width = labels.iter().map(|l| width(l)).max().unwrap_or(0).max(8);
    let mut out = String::new();
    let mut shown = 0;
    loop {
        let mut widths = Vec::new();
        let mut used = label_width;
        for (p, profile) in matrix.profiles.iter().enumerate().skip(shown) {
            let widest = (0..matrix.rows.len()).map(|row| matrix.cell(row, p).len()).max().unwrap_or(0);
            let own = widest.max(grouped(profile.users.len() as u64).len()).max(column_name(p).len());
            if used + own + 2 > columns && p > shown {
                break;
            }
            used += own + 2;
            widths.push(own);
        }
        let part = shown..shown + widths.len();
        let mut line = |label: &str, cells: Vec<String>, style: fn(&str) -> String| {
            out.push_str(&pad(label, label_width));
            for (i, (cell, own)) in cells.iter().zip(&widths).enumerate() {
                out.push_str("  ");
                let text = pad(cell, *own);
                // Blanks at the end of a line are of no use to anybody.
                let text = if i + 1 == widths.len() { cell.clone() } else { text };
                out.push_str(&if cell == "-" { dim(&text) } else { style(&text) });
            }
            out.push('\n');
        };
        line("profile", part.clone().map(column_name).collect(), bold);
        let sizes = matrix.profiles[part.clone()].iter().map(|p| grouped(p.users.len() as u64));
        line("users", sizes.collect(), dim);
        for (row, label) in labels.iter().enumerate() {
            let cells = part.clone().map(|p| matrix.cell(row, p));
            line(label, cells.map(|c| if c.is_empty() { "-".to_string() } else { cell(c) }).collect(), good);
        }
        out.push('\n');
        shown = part.end;
        if !all || shown >= matrix.profiles.len() {
            break;
        }
    }
    out.push_str(&legend(&matrix.actions, &letters, columns));
    out.push('\n');
    for (p, profile) in matrix.profiles.iter().take(shown).enumerate() {
        let head = format!("{}  {} ", pad(&column_name(p), 3), pad(&grouped(profile.users.len() as u64), 4));
        out.push_str(&bold(&head));
        out.push_str(&members(&profile.users, columns.saturating_sub(head.len())));
        out.push('\n');
    }
    out.push_str(&closing(matrix, shown, aside, columns));
    out
}

/// The same with users down and places across: as many places as fit the width, with `all` the others in tables below.
pub fn by_user(matrix: &Matrix, aside: &Aside, all: bool, columns: usize) -> String {
    let letters = letters(&matrix.actions);
    let mut users: Vec<(&str, usize)> = Vec::new();
    for (p, profile) in matrix.profiles.iter().enumerate() {
        users.extend(profile.users.iter().map(|user| (user.as_str(), p)));
    }
    users.sort_unstable();
    let cell = |row: usize, p: usize| match matrix.cell(row, p) {
        [] => "-".to_string(),
        actions => actions.iter().map(|a| letters[*a]).collect(),
    };
    let name_width = users.iter().map(|(user, _)| width(&visible(user))).max().unwrap_or(4).min(columns / 3);
    let mut out = String::new();
    let mut shown = 0;
    loop {
        let (mut widths, mut used) = (Vec::new(), name_width);
        for at in shown..matrix.rows.len() {
            let widest = (0..matrix.profiles.len()).map(|p| width(&cell(at, p))).max().unwrap_or(1);
            let own = widest.max((at + 1).to_string().len());
            if used + own + 2 > columns && at > shown {
                break;
            }
            used += own + 2;
            widths.push(own);
        }
        let part = shown..shown + widths.len();
        let line = |name: &str, cells: Vec<String>| {
            let cells: String = cells.iter().zip(&widths).map(|(cell, own)| format!("  {}", pad(cell, *own))).collect();
            format!("{}{cells}", pad(&cut(&visible(name), name_width), name_width)).trim_end().to_string()
        };
        out.push_str(&format!("{}\n", bold(&line("user", part.clone().map(|at| (at + 1).to_string()).collect()))));
        for (user, p) in &users {
            out.push_str(&format!("{}\n", line(user, part.clone().map(|row| cell(row, *p)).collect())));
        }
        out.push('\n');
        shown = part.end;
        if !all || shown >= matrix.rows.len() {
            break;
        }
    }
    out.push_str(&legend(&matrix.actions, &letters, columns));
    out.push('\n');
    for (at, row) in matrix.rows.iter().enumerate().take(shown) {
        let head = format!("{:>4}  ", at + 1);
        out.push_str(&bold(&head));
        out.push_str(&cut_before(&visible(&row.path), columns.saturating_sub(head.len())));
        out.push('\n');
    }
    let mut left_out = Vec::new();
    if shown < matrix.rows.len() {
        left_out.push(format!("{} more places (--all, --under, --depth)", matrix.rows.len() - shown));
    }
    if aside.inactive > 0 {
        left_out.push(format!("{} inactive users (--inactive)", aside.inactive));
    }
    if !left_out.is_empty() {
        out.push_str(&format!("\n{}", dim(&hang("left out: ", &left_out.join("; "), columns))));
    }
    out
}

/// The labels of all rows, each beneath the row it lies in. What is too long is shortened where that leaves all of them
/// apart: at the end, else at the beginning, else in the middle; else they are as long as they are.
fn labels(rows: &[MatrixRow], columns: usize) -> Vec<String> {
    let mut nesting: Vec<usize> = Vec::with_capacity(rows.len());
    for row in rows {
        nesting.push(row.above.map_or(0, |above| nesting[above] + 1));
    }
    let whole: Vec<String> = rows.iter().map(|row| visible(&row.label).into_owned()).collect();
    let shortened = |room: usize, short: fn(&str, usize) -> String| -> Vec<String> {
        let one = |(label, nested): (&String, &usize)| {
            format!("{}{}", "  ".repeat(*nested), short(label, room.saturating_sub(2 * nested).max(4)))
        };
        whole.iter().zip(&nesting).map(one).collect()
    };
    // Rows beneath the same one must not read alike where they are not.
    let are_apart = |labels: &[String]| {
        let mut seen: HashMap<(Option<usize>, &str), &str> = HashMap::new();
        rows.iter().zip(labels).all(|(row, label)| *seen.entry((row.above, label)).or_insert(&row.label) == row.label)
    };
    for room in [(columns * 2 / 5).max(16), (columns * 2 / 3).max(16)] {
        for short in [cut, cut_before, cut_inside] {
            let labels = shortened(room, short);
            if are_apart(&labels) {
                return labels;
            }
        }
    }
    shortened(usize::MAX / 2, cut)
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
        left_out
            .push(format!("{more} more profiles of {users} users (--all, a wider terminal, --users, or --format csv)"));
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
