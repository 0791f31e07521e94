//! Which rows and columns of a dataset somebody gets.

use super::text::{bold, count, cut, dim, grouped, hang, name, pad, visible, width};
use crate::found::filter::{Everybody, FilterAnswer, Same};
use bastide_engine::inside::{RowsMoved, RowsSeen};

/// Slices that are shown.
const MOST: usize = 20;
/// Users that are named of those who get the same.
const MOST_USERS: usize = 12;

/// How many rows of how many, and in what.
pub fn numbers(seen: &RowsSeen) -> String {
    if seen.rows == 0 && seen.slices == 0 {
        return format!("none of {}", count(seen.all_rows as usize, "row"));
    }
    let slices = match seen.all_slices {
        0 => String::new(),
        all => format!(" in {} of {}", grouped(seen.slices as u64), count(all, "slice")),
    };
    format!(
        "{} of {}{slices}; {} of {}",
        grouped(seen.rows),
        count(seen.all_rows as usize, "row"),
        grouped(seen.columns as u64),
        count(seen.all_columns, "column")
    )
}

/// What one user gets.
pub fn answer(a: &FilterAnswer, all: bool, columns: usize) -> String {
    let seen = &a.seen;
    let head = format!("{} ({})", bold(&visible(&a.name)), visible(&a.user));
    let mut out = hang("", &format!("{head}  {} {}", seen.action, name(&seen.path)), columns);
    out.push_str(&format!("{}\n", numbers(seen)));
    if seen.rows == 0 && seen.slices == 0 {
        out.push_str(&hang(
            "",
            &dim(&format!("to see why: bastide why {} {} ID, of a slice or a column", a.user, seen.action)),
            columns,
        ));
        return out;
    }
    if !a.slices.is_empty() {
        out.push_str(&format!("\n{}\n", bold("rows")));
        let shown = if all { a.slices.len() } else { a.slices.len().min(MOST) };
        let texts: Vec<String> = a.slices[..shown].iter().map(|s| visible(&s.name).into_owned()).collect();
        let wide = texts.iter().map(|text| width(text)).max().unwrap_or(0).min(columns.saturating_sub(14));
        for (text, slice) in texts.iter().zip(&a.slices) {
            out.push_str(&format!("  {}  {:>10}\n", pad(&cut(text, wide), wide), grouped(slice.rows)));
        }
        if shown < a.slices.len() {
            out.push_str(&format!("  {}\n", dim(&format!("left out: {} more (--all)", a.slices.len() - shown))));
        }
    }
    let list = |names: &[String]| names.iter().map(|n| visible(n).into_owned()).collect::<Vec<_>>().join(", ");
    out.push_str(&format!("\n{}\n", bold("columns")));
    out.push_str(&hang("  ", &list(&a.columns), columns));
    if !a.without.is_empty() {
        out.push_str(&hang("  not  ", &list(&a.without), columns));
    }
    out
}

/// What everybody gets, those first who get most.
pub fn everybody(e: &Everybody, all: bool, columns: usize) -> String {
    let mut out = hang("", &format!("{} {}", bold(&e.action), name(&e.path)), columns);
    for Same { users, seen } in &e.shares {
        out.push_str(&format!("\n{}  {}\n", bold(&count(users.len(), "user")), numbers(seen)));
        let shown = if all { users.len() } else { users.len().min(MOST_USERS) };
        let mut text = users[..shown].iter().map(|u| visible(u).into_owned()).collect::<Vec<_>>().join(", ");
        if shown < users.len() {
            text.push_str(&format!(" and {} more (--all)", users.len() - shown));
        }
        out.push_str(&hang("  ", &text, columns));
    }
    if e.shares.is_empty() {
        out.push_str("nobody gets anything\n");
    }
    out
}

/// Every dataset that one user gets something of.
pub fn seen(rows: &[RowsSeen], columns: usize) -> String {
    // Actions that give the same stand together.
    let mut alike: Vec<(&RowsSeen, Vec<&str>)> = Vec::new();
    for seen in rows {
        let told = numbers(seen);
        match alike.iter_mut().find(|(known, _)| known.dataset == seen.dataset && numbers(known) == told) {
            Some((_, actions)) => actions.push(&seen.action),
            None => alike.push((seen, vec![&seen.action])),
        }
    }
    let line = |(seen, actions): (&RowsSeen, Vec<&str>)| {
        hang("  ", &format!("{} {}: {}", actions.join(", "), name(&seen.path), numbers(seen)), columns)
    };
    alike.into_iter().map(line).collect()
}

/// Whose rows change, those first for whom most does.
pub fn moved(moved: &[RowsMoved], all: bool, columns: usize) -> String {
    let shown = if all { moved.len() } else { moved.len().min(MOST_USERS) };
    let mut out = String::new();
    for m in &moved[..shown] {
        let turn = match (m.gained, m.lost) {
            (gained, 0) => format!("{} more", grouped(gained)),
            (0, lost) => format!("{} fewer", grouped(lost)),
            (gained, lost) => format!("{} more and {} fewer", grouped(gained), grouped(lost)),
        };
        let some = if all { m.users.len() } else { m.users.len().min(4) };
        let mut users = m.users[..some].iter().map(|u| visible(u).into_owned()).collect::<Vec<_>>().join(", ");
        if some < m.users.len() {
            users.push_str(&format!(" and {} more", m.users.len() - some));
        }
        let text = format!(
            "{users}: {} of {}, {} before ({turn}), by {} on {}",
            grouped(m.after),
            count(m.all_rows as usize, "row"),
            grouped(m.before),
            m.action,
            name(&m.path)
        );
        out.push_str(&hang("  ", &text, columns));
    }
    if shown < moved.len() {
        out.push_str(&format!("  {}\n", dim(&format!("left out: {} more (--all)", moved.len() - shown))));
    }
    out
}
