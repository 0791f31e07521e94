//! One user's access.

use super::changes::{block, sentence};
use super::text::{
    blocks, bold, count, cut, dim, doubt, good, grouped, hang, legend, letters, name, pad, table, visible, width,
};
use super::why::{modality, way};
use bastide_engine::access::{Branch, KindCount, Person, Turns};

/// Lines of the tree after which it is cut.
pub const MOST_LINES: usize = 60;
/// Groups that are listed.
const MOST_GROUPS: usize = 60;
/// Statements that are listed.
const MOST_STATEMENTS: usize = 12;

/// The access as text: as many levels of the tree as a depth says, which is the one that it was asked for with.
pub fn person((person, left_out): (&Person, usize), actions: &[String], depth: u16, columns: usize) -> String {
    let letters = letters(actions);
    let active =
        if person.active { String::new() } else { format!(", {}", doubt("not active: everything is refused")) };
    let id = if person.name == person.user { String::new() } else { format!(" ({})", visible(&person.user)) };
    let mut out = format!("{}{id}, {}{active}\n", bold(&visible(&person.name)), person.kind);
    let mut groups: Vec<String> = person
        .groups
        .iter()
        .take(MOST_GROUPS)
        .map(|g| {
            let chain = if g.chain.len() > 1 {
                format!(" (through {})", g.chain[..g.chain.len() - 1].join(" > "))
            } else {
                String::new()
            };
            let open = if g.certain { "" } else { " (perhaps: a value is missing)" };
            visible(&format!("{}{chain}{open}", g.group)).into_owned()
        })
        .collect();
    if person.groups.len() > MOST_GROUPS {
        groups.push(format!("and {} more", grouped((person.groups.len() - MOST_GROUPS) as u64)));
    }
    let groups = if groups.is_empty() { "no groups".to_string() } else { groups.join(", ") };
    out.push_str(&hang("member of  ", &groups, columns));
    let own = person.attributes.iter().filter_map(|met| {
        let from = if met.from.is_empty() { String::new() } else { format!(" ({})", met.from) };
        Some(format!("{} {}{from}", met.name, met.value.as_ref()?))
    });
    let own: Vec<String> = own.map(|text| visible(&text).into_owned()).collect();
    if !own.is_empty() {
        out.push_str(&hang("has        ", &own.join(", "), columns));
    }
    let share = if person.resources == 0 { 0.0 } else { person.touched as f64 * 100.0 / person.resources as f64 };
    out.push_str(&format!(
        "reaches    {} of {} ({share:.0} %)\n",
        grouped(person.touched as u64),
        count(person.resources, "resource"),
    ));
    out.push_str(&format!("\n{}\n{}", bold("counts"), counts(person, actions, columns)));
    if !person.rows.is_empty() {
        out.push_str(&format!("\n{}\n{}", bold("rows"), super::filter::seen(&person.rows, columns)));
    }
    out.push_str(&format!("\n{}\n", bold("through")));
    out.push_str(&through(person, columns));
    out.push_str(&format!("\n{}\n", bold("where")));
    let mut lines = Vec::new();
    for branch in &person.tree {
        lines_of(branch, actions, &letters, 0, depth, &mut lines);
    }
    let widest = lines.iter().map(|(label, ..)| width(label)).max().unwrap_or(0).min(columns / 2);
    for (label, own, rest) in &lines {
        let label = pad(&cut(label, widest), widest);
        let most = letters.len().min(8);
        // Blanks at the end of a line are of no use to anybody.
        let own = match (own.as_str(), rest.is_empty()) {
            ("", true) => dim("-"),
            ("", false) => dim(&pad("-", most)),
            (own, true) => good(own),
            (own, false) => good(&pad(own, most)),
        };
        let room = columns.saturating_sub(widest + 2 + most + 2);
        let rest = if rest.is_empty() { String::new() } else { format!("  {}", dim(&cut(rest, room))) };
        out.push_str(&format!("{label}  {own}{rest}\n"));
    }
    if lines.is_empty() {
        out.push_str("nowhere\n");
    }
    out.push_str(&format!("\n{}", legend(actions, &letters, columns)));
    if left_out > 0 {
        let left_out = grouped(left_out as u64);
        let more = format!("left out: {left_out} more lines (--under PLACE, --depth, --format json)");
        out.push_str(&hang("", &dim(&more), columns));
    }
    out
}

fn counts(person: &Person, actions: &[String], columns: usize) -> String {
    let number = |n: &usize| if *n == 0 { "-".to_string() } else { grouped(*n as u64) };
    let row = |kind: &KindCount| {
        let cells = kind.allowed.iter().map(|(_, n)| number(n));
        [visible(&kind.kind).into_owned(), grouped(kind.resources as u64)].into_iter().chain(cells).collect()
    };
    let rows: Vec<Vec<String>> = person.counts.iter().map(row).collect();
    let heads: Vec<String> = ["kind", "all"].map(String::from).into_iter().chain(actions.iter().cloned()).collect();
    blocks(&heads, &rows, columns)
}

fn through(person: &Person, columns: usize) -> String {
    let mut out = String::new();
    if person.through.is_empty() {
        return "  nothing permits anything\n".to_string();
    }
    for one in person.through.iter().take(MOST_STATEMENTS) {
        let s = &one.statement;
        let ways: Vec<String> = one.ways.iter().map(way).collect();
        let by = if ways.is_empty() { s.who.clone() } else { ways.join("; ") };
        let shown = if s.sort == "rule" { format!("{} ({})", s.name, s.place) } else { s.name.clone() };
        let head = format!("  {:>6}  {} ", grouped(one.pairs as u64), modality(&s.modality));
        let text = format!("{}, as {by}", visible(&shown));
        out.push_str(&hang(&head, &text, columns));
    }
    if person.through.len() > MOST_STATEMENTS {
        let more = format!("  left out: {} more (--format json)", person.through.len() - MOST_STATEMENTS);
        out.push_str(&format!("{}\n", dim(&more)));
    }
    out.replace(&format!("{} ", person.user), &format!("{} ", name(&person.user)))
}

type Line = (String, String, String);

fn lines_of(branch: &Branch, actions: &[String], letters: &[char], level: usize, depth: u16, lines: &mut Vec<Line>) {
    let short = |allowed: &[String]| -> String {
        actions.iter().zip(letters).filter(|(a, _)| allowed.contains(a)).map(|(_, l)| *l).collect()
    };
    let label = format!("{}{}", "  ".repeat(level), visible(&branch.name));
    let mut rest = String::new();
    let deep = level + 1 >= depth as usize;
    match &branch.alike {
        Some(by_kind) => {
            let kinds: Vec<String> = by_kind
                .iter()
                .map(|(kind, allowed)| {
                    format!("{kind} {}", if allowed.is_empty() { "-".to_string() } else { short(allowed) })
                })
                .collect();
            rest = format!("all {} beneath alike: {}", branch.beneath, kinds.join(", "));
        }
        None if deep && branch.beneath > 0 => rest = format!("{} beneath, not alike (--depth)", branch.beneath),
        None if branch.closed > 0 => rest = format!("and {} closed", branch.closed),
        None => {}
    }
    lines.push((label, short(&branch.actions), rest));
    if !deep {
        branch.children.iter().for_each(|child| lines_of(child, actions, letters, level + 1, depth, lines));
    }
}

/// The days on which a user's access changes, as text.
pub fn turns(turns: &Turns, columns: usize) -> String {
    let who = visible(&turns.user);
    if turns.days.is_empty() {
        return format!("nothing changes by itself for {who} from {} to {}\n", turns.from, turns.through);
    }
    let mut out = format!("{} changes by itself for {who} from {} to {}\n", bold("what"), turns.from, turns.through);
    for day in &turns.days {
        out.push_str(&format!("\n{}  {}\n", bold(&day.date), sentence(&day.radius)));
        day.blocks.list.iter().for_each(|b| out.push_str(&block(b, 2, columns)));
    }
    out
}

/// One row a resource of the tree, as deep as it is not alike beneath.
pub fn csv(person: &Person) -> String {
    fn rows(branches: &[Branch], into: &mut Vec<Vec<String>>) {
        for branch in branches {
            let alike = branch.alike.iter().flatten();
            let alike: Vec<String> = alike.map(|(kind, actions)| format!("{kind}: {}", actions.join(" "))).collect();
            into.push(vec![
                branch.resource.clone(),
                branch.name.clone(),
                branch.kind.clone(),
                branch.actions.join(";"),
                branch.beneath.to_string(),
                alike.join("; "),
            ]);
            rows(&branch.children, into);
        }
    }
    let mut all = Vec::new();
    rows(&person.tree, &mut all);
    table(&["resource", "name", "kind", "actions", "beneath", "all_beneath"], all.into_iter())
}
