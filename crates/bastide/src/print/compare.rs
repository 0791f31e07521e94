//! Two users side by side.

use super::changes::places;
use super::text::{bold, count, dim, good, grouped, hang, name, pad, visible, width};
use super::why::{modality, way};
use bastide_engine::Reason;
use bastide_engine::access::{Apart, Comparison, Party};
use bastide_engine::explain::StatementRef;

/// Differences that are shown on each side.
const MOST: usize = 8;

/// The comparison as text.
pub fn comparison(c: &Comparison, all: bool, columns: usize) -> String {
    let mut out = format!("{}  and  {}\n\n", party(&c.left), party(&c.right));
    out.push_str(&counts(c));
    for party in [&c.left, &c.right].into_iter().filter(|party| !party.rows.is_empty()) {
        let head = bold(&format!("rows that {} gets", visible(&party.id)));
        out.push_str(&format!("\n{head}\n{}", super::filter::seen(&party.rows, columns)));
    }
    out.push_str(&format!("\n{} both can do\n", count(c.same as usize, "pair of action and resource")));
    let (left, right) = (visible(&c.left.id).into_owned(), visible(&c.right.id).into_owned());
    let group = c.right.sort == "group";
    let heads = if group {
        [format!("only {left}, and no member of {right}"), format!("every member of {right}, and not {left}")]
    } else {
        [format!("only {left}"), format!("only {right}")]
    };
    let lacks = if group { [format!("members of {right}"), left] } else { [right, left] };
    for ((head, list), other) in heads.iter().zip([&c.only_left, &c.only_right]).zip(&lacks) {
        let pairs: u64 = list.iter().map(|a| a.pairs).sum();
        out.push_str(&format!("\n{}  {}\n", bold(head), grouped(pairs)));
        let shown = if all { list.len() } else { list.len().min(MOST) };
        list[..shown].iter().for_each(|a| out.push_str(&apart(a, other, columns)));
        if shown < list.len() {
            out.push_str(&format!("  {}\n", dim(&format!("left out: {} more (--all)", list.len() - shown))));
        }
    }
    out
}

fn party(p: &Party) -> String {
    match p.sort.as_str() {
        "group" => format!("{} ({})", bold(&format!("members of {}", visible(&p.id))), count(p.users, "user")),
        _ => format!("{} ({})", bold(&visible(&p.name)), visible(&p.id)),
    }
}

/// By kind on how many resources each can do anything, and how often which action.
fn counts(c: &Comparison) -> String {
    let mut rows: Vec<[String; 3]> = Vec::new();
    for (i, (l, r)) in c.left.counts.iter().zip(&c.right.counts).enumerate() {
        let of = |touched: usize| format!("{} of {}", grouped(touched as u64), grouped(l.resources as u64));
        rows.push([visible(&l.kind).into_owned(), of(c.left.touched[i]), of(c.right.touched[i])]);
        for ((action, a), (_, b)) in l.allowed.iter().zip(&r.allowed) {
            if a != b {
                rows.push([format!("  {}", visible(action)), grouped(*a as u64), grouped(*b as u64)]);
            }
        }
    }
    let heads = ["".to_string(), visible(&c.left.id).into_owned(), visible(&c.right.id).into_owned()];
    let widths: Vec<usize> =
        (0..3).map(|i| rows.iter().map(|r| width(&r[i])).chain([width(&heads[i])]).max().unwrap_or(0)).collect();
    let line = |cells: &[String; 3]| {
        format!("  {}  {:>3$}  {:>4$}\n", pad(&cells[0], widths[0]), cells[1], cells[2], widths[1], widths[2])
    };
    let mut out = dim(&line(&heads));
    for row in &rows {
        let action = row[0].starts_with(' ');
        out.push_str(&if action { dim(&line(row)) } else { line(row) });
    }
    out
}

fn apart(a: &Apart, lacks: &str, columns: usize) -> String {
    let text = format!("{}: {}", good(&visible(&a.actions.join(", "))), places(&a.places));
    let mut out = hang("  ", &text, columns);
    if let Some(by) = &a.by {
        let ways: Vec<String> = a.ways.iter().map(way).collect();
        out.push_str(&hang("      by       ", &format!("{}, as {}", statement(by), ways.join("; ")), columns));
    }
    let against = match (&a.against, a.reason) {
        (Some(by), Reason::Blocked) => {
            let need = a.need.as_ref().map_or("something that is refused".into(), |n| visible(n));
            format!("{lacks}: permitted by {}, but needs {need}", statement(by))
        }
        (Some(by), reason) => {
            let ways: Vec<String> = a.against_ways.iter().map(way).collect();
            format!("{lacks}: {} by {}, as {}", reason.word(), statement(by), ways.join("; "))
        }
        (None, Reason::Inactive) => format!("{lacks}: not active"),
        (None, _) => format!("{lacks}: nothing permits it"),
    };
    out.push_str(&hang("      against  ", &against, columns));
    out
}

fn statement(s: &StatementRef) -> String {
    let place = if s.sort == "rule" { format!(" ({})", visible(&s.place)) } else { String::new() };
    format!("{} {} {}{place}", modality(&s.modality), s.sort, name(&visible(&s.name)))
}

/// One row a difference.
pub fn csv(comparison: &Comparison) -> String {
    let sides = [(&comparison.left.id, &comparison.only_left), (&comparison.right.id, &comparison.only_right)];
    let rows = sides.into_iter().flat_map(|(who, list)| {
        list.iter().map(move |apart| {
            let name = |s: &Option<bastide_engine::explain::StatementRef>| {
                s.as_ref().map_or(String::new(), |s| s.name.clone())
            };
            let places: Vec<String> = apart.places.iter().map(|p| p.path.clone()).collect();
            vec![
                who.clone(),
                apart.actions.join(";"),
                apart.resources.to_string(),
                apart.pairs.to_string(),
                places.join("; "),
                name(&apart.by),
                apart.reason.word().to_string(),
                name(&apart.against),
            ]
        })
    });
    super::text::table(&["only", "actions", "resources", "pairs", "places", "by", "reason", "against"], rows)
}
