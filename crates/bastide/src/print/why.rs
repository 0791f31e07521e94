//! One decision, explained.

use super::text::{article, bad, bold, dim, doubt, good, hang, name, visible};
use crate::history::Touched;
use bastide_engine::Reason;
use bastide_engine::explain::{Applying, Explanation, Fate, NeedNode, Passing, StatementRef, Way};

/// A modality, coloured by what it does.
pub fn modality(words: &str) -> String {
    if matches!(words, "may" | "may always") { good(words) } else { bad(words) }
}

/// How a statement means a user, in words.
pub fn way(way: &Way) -> String {
    let open = if way.certain { "" } else { " (perhaps: a value is missing)" };
    let text = match way.by.as_str() {
        "member" => {
            let (last, before) = way.chain.split_last().map_or(("", &[][..]), |(l, b)| (l.as_str(), b));
            let through = if before.is_empty() { String::new() } else { format!(" through {}", before.join(" > ")) };
            format!("member of {last}{through}")
        }
        "named" => "named singly".to_string(),
        other => other.to_string(),
    };
    visible(&format!("{text}{open}")).into_owned()
}

/// The explanation as text. `all`: statements that pass the user by, too, beyond the first few.
pub fn explanation(e: &Explanation, touched: &[Touched], all: bool, columns: usize) -> String {
    let verdict = if e.allowed { good("allowed") } else { bad("refused") };
    let mut out = hang(&format!("{verdict} ({})  ", e.reason.word()), &visible(&e.sentence), columns);
    if e.reasons.len() > 1 {
        let others: Vec<&str> = e.reasons.iter().filter(|r| **r != e.reason).map(|r| r.word()).collect();
        out.push_str(&format!("  there is another reason, too: {}\n", others.join(", ")));
    }
    if e.undecided {
        out.push_str(&format!(
            "  {}\n",
            doubt("undecided: with the missing values named below the answer could be another")
        ));
    }
    let state = e.resource.state.as_ref().map_or(String::new(), |s| format!(", {s}"));
    let about = format!(
        "asked for {}; `{}` is {}{state}, id {}",
        e.date,
        e.resource.path,
        article(&e.resource.kind),
        e.resource.id
    );
    out.push_str(&dim(&hang("  ", &visible(&about), columns)));
    if let Some(layer) = &e.layer {
        out.push_str(&format!("  layer `{}` controls this resource\n", visible(layer)));
    }
    let decides: Vec<&Applying> = e.applying.iter().filter(|a| a.fate == Fate::Decides).collect();
    let agrees: Vec<&Applying> = e.applying.iter().filter(|a| a.fate == Fate::Agrees).collect();
    let lost: Vec<&Applying> = e.applying.iter().filter(|a| matches!(a.fate, Fate::Lost { .. })).collect();
    // What permits does not decide where a need is not met.
    let first = if e.reason == Reason::Blocked { "permits it by itself" } else { "decides" };
    for (head, list) in [(first, decides), ("says the same", agrees), ("lost", lost)] {
        if !list.is_empty() {
            out.push_str(&format!("\n{}\n", bold(head)));
            list.iter().for_each(|a| out.push_str(&applying(a, e, touched, columns)));
        }
    }
    if !e.needs.is_empty() {
        out.push_str(&format!("\n{}\n", bold("needs")));
        e.needs.iter().for_each(|n| need(n, 1, columns, &mut out));
    }
    if let Some(barrier) = &e.barrier {
        out.push_str(&format!("\n{}\n", bold("cut off")));
        let text = format!("`{}` does not inherit what is given or denied above it:", visible(barrier));
        out.push_str(&hang("  ", &text, columns));
        e.cut_off.iter().for_each(|s| {
            out.push_str(&format!("{}{}{}", head(s), because(s, columns), last_change(&s.place, touched, columns)))
        });
    }
    out.push_str(&passing(e, all, columns));
    out
}

fn head(s: &StatementRef) -> String {
    let place = if s.sort == "rule" { format!("  {}", dim(&visible(&s.place))) } else { String::new() };
    format!("  {}  {} {}{place}\n", modality(&s.modality), s.sort, name(&visible(&s.name)))
}

fn because(s: &StatementRef, columns: usize) -> String {
    s.because.as_ref().map_or(String::new(), |b| hang("      ", &format!("\"{}\"", visible(b)), columns))
}

/// Who changed a line last, where that is known.
fn last_change(place: &str, touched: &[Touched], columns: usize) -> String {
    let Some(found) = touched.iter().find(|t| t.place == place) else { return String::new() };
    let text = format!("{}, {}: \"{}\" ({})", found.author, found.date, found.message, found.commit);
    hang("      changed  ", &visible(&text), columns)
}

fn applying(a: &Applying, e: &Explanation, touched: &[Touched], columns: usize) -> String {
    let mut out = head(&a.statement);
    out.push_str(&because(&a.statement, columns));
    out.push_str(&last_change(&a.statement.place, touched, columns));
    if let Fate::Lost { to } = &a.fate {
        out.push_str(&hang("      lost to  ", &visible(to), columns));
    }
    for (i, one) in a.ways.iter().enumerate() {
        let label = if i == 0 { "      user     " } else { "               " };
        let chain = match one.by.as_str() {
            "member" => {
                let open = if one.certain { "" } else { " (perhaps: a value is missing)" };
                let places =
                    if one.places.is_empty() { String::new() } else { format!("  [{}]", one.places.join(", ")) };
                format!("{} > {}{open}{places}", e.user.id, one.chain.join(" > "))
            }
            "named" => format!("{}, named singly", e.user.id),
            "owner" => format!("{} owns the resource", e.user.id),
            _ => "anyone".to_string(),
        };
        out.push_str(&hang(label, &visible(&chain), columns));
    }
    if !a.place.is_empty() {
        out.push_str(&hang("      place    ", &visible(&a.place.join(" > ")), columns));
    }
    for holds in &a.holds {
        let values = holds.values.iter().map(|met| {
            let value = met.value.as_ref().map_or("has no value".to_string(), |value| format!("is {value}"));
            let from = if met.from.is_empty() { String::new() } else { format!(" ({})", met.from) };
            format!("`{}` {value}{from}", met.name)
        });
        let values: Vec<String> = values.collect();
        let text = if values.is_empty() {
            format!("`{}`", holds.condition)
        } else {
            format!("`{}`: {}", holds.condition, values.join(", "))
        };
        out.push_str(&hang("      holds    ", &visible(&text), columns));
    }
    for missing in &a.missing {
        out.push_str(&doubt(&hang("      open     ", &visible(missing), columns)));
    }
    out
}

fn need(node: &NeedNode, level: usize, columns: usize, out: &mut String) {
    let mark = if node.met { good("met") } else { bad("not met") };
    let place = match &node.path {
        Some(path) => format!("`{}`", visible(path)),
        None => format!("{}, and there is none", node.target),
    };
    let by = match (&node.by, node.reason) {
        (Some(by), Some(reason)) => format!(": {} by {} `{}`", reason.word(), by.sort, visible(&by.name)),
        (None, Some(reason)) => format!(": {}", reason.word()),
        _ => String::new(),
    };
    let head = format!("{}{mark}  ", "  ".repeat(level));
    out.push_str(&hang(&head, &format!("{} on {place}{by}", node.action), columns));
    // Above a need that is met for a parent, the same holds all the way up; what fails is shown whole.
    if !node.met || level == 1 {
        node.needs.iter().for_each(|n| need(n, level + 1, columns, out));
    } else if !node.needs.is_empty() {
        out.push_str(&format!("{}{}\n", "  ".repeat(level + 1), dim("and so on up the tree, all met")));
    }
}

/// Statements that reach the resource and speak of the action, but not of this user.
fn passing(e: &Explanation, all: bool, columns: usize) -> String {
    const MOST: usize = 4;
    let would_help = |p: &&Passing| matches!(p.statement.modality.as_str(), "may" | "may always") != e.allowed;
    let open = |p: &&Passing| p.undecided;
    let idle = |p: &&Passing| p.because.iter().any(|b| b.starts_with("every role it lists is off"));
    let mut list: Vec<&Passing> = e.passing.iter().filter(|p| all || would_help(p) || open(p) || idle(p)).collect();
    list.sort_by_key(|p| (!p.undecided, !idle(p), p.because.len()));
    if list.is_empty() {
        return String::new();
    }
    let shown = if all { list.len() } else { list.len().min(MOST) };
    let mut out = format!("\n{}\n", bold("reaches the resource, but not this user"));
    for p in &list[..shown] {
        out.push_str(&head(&p.statement));
        for reason in &p.because {
            let line = hang("      ", &visible(reason), columns);
            out.push_str(&if p.undecided { doubt(&line) } else { line });
        }
    }
    if shown < list.len() {
        out.push_str(&format!("  {}\n", dim(&format!("left out: {} more (--all)", list.len() - shown))));
    }
    out
}
