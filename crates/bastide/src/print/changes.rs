//! Changes, what they reach, and remedies.

use super::text::{bad, bold, count, cut, dim, doubt, good, grouped, hang, visible};
use bastide_engine::change::Described;
use bastide_engine::difference::{Block, Fold, How, Radius, Side};
use bastide_engine::remedy::{Power, Remedies, Remedy};

/// Users named in a block before it says how many more.
const MOST_USERS: usize = 4;
/// Places named before it says how many more.
const MOST_PLACES: usize = 6;
/// Blocks shown for one remedy.
const MOST_SIDE_EFFECTS: usize = 3;

/// The blast radius in one sentence.
pub fn sentence(radius: &Radius) -> String {
    if radius.triples() == 0 {
        return "nobody's access changes".to_string();
    }
    let mut parts = Vec::new();
    for (number, verb) in [(radius.gained, "gained"), (radius.lost, "lost")] {
        if number > 0 {
            parts.push(format!("{} {verb}", grouped(number)));
        }
    }
    format!("{} on {}: {}", count(radius.users, "user"), count(radius.resources, "resource"), parts.join(", "))
}

/// Places of a block: "`A` and everything beneath (12), `B` and `C` in `D`".
pub fn places(places: &[Fold]) -> String {
    let most = if places.len() > MOST_PLACES { MOST_PLACES - 1 } else { places.len() };
    let mut shown: Vec<String> = Vec::new();
    let mut rest = &places[..most];
    while let [first, ..] = rest {
        let path = visible(&first.path);
        let beside = rest.iter().take_while(|f| f.how == How::One && folder(&f.path) == folder(&first.path)).count();
        match (first.how, folder(&first.path)) {
            // Neighbours in one folder are named by their own names alone.
            (How::One, Some(above)) if beside > 1 => {
                let names: Vec<String> =
                    rest[..beside].iter().map(|f| format!("`{}`", visible(&f.path[above.len() + 1..]))).collect();
                shown.push(format!("{} in `{}`", names.join(", "), visible(above)));
                rest = &rest[beside..];
                continue;
            }
            (How::One, _) => shown.push(format!("`{path}`")),
            (How::Whole, _) => {
                shown.push(format!("`{path}` and everything beneath ({})", grouped(first.resources as u64)))
            }
            (How::Within, _) => shown.push(format!("{} within `{path}`", count(first.resources, "resource"))),
        }
        rest = &rest[1..];
    }
    if most < places.len() {
        let resources: usize = places[most..].iter().map(|f| f.resources).sum();
        let places = count(places.len() - most, "other place");
        shown.push(format!("and {} in {places}", count(resources, "resource")));
    }
    shown.join("; ")
}

/// The path of what holds a resource; a slash that is part of a name does not part.
fn folder(path: &str) -> Option<&str> {
    let slash = path.char_indices().rev().find(|(at, c)| *c == '/' && !path[..*at].ends_with('\\'));
    slash.map(|(at, _)| &path[..at])
}

/// Whom a block is about.
pub fn users(block: &Block) -> String {
    if let Some(group) = &block.group {
        return format!("all {} members of {}", grouped(block.users.len() as u64), visible(group));
    }
    let shown: Vec<String> = block.users.iter().take(MOST_USERS).map(|u| visible(u).into_owned()).collect();
    let more = block.users.len().saturating_sub(MOST_USERS);
    if more == 0 { shown.join(", ") } else { format!("{} and {} more", shown.join(", "), grouped(more as u64)) }
}

/// One block: who gains or loses what, where.
pub fn block(block: &Block, indent: usize, columns: usize) -> String {
    let verb = match (block.side, block.users.len() == 1 && block.group.is_none()) {
        (Side::Gained, true) => good("gains"),
        (Side::Gained, false) => good("gain"),
        (Side::Lost, true) => bad("loses"),
        (Side::Lost, false) => bad("lose"),
    };
    let mut marks = Vec::new();
    if block.guests > 0 {
        marks.push(count(block.guests, "guest"));
    }
    if block.labelled > 0 {
        marks.push(format!("{} with a label", grouped(block.labelled as u64)));
    }
    let marks =
        if marks.is_empty() { String::new() } else { format!(" {}", doubt(&format!("[{}]", marks.join("; ")))) };
    let text =
        format!("{} {verb} {}: {}{marks}", users(block), visible(&block.actions.join(", ")), places(&block.places));
    hang(&" ".repeat(indent), &text, columns)
}

/// The options that try changes, as they would be typed.
pub fn command(changes: &[Described]) -> String {
    let options: Vec<String> = changes.iter().map(|c| format!("{} {}", c.option[0], shell(&c.option[1]))).collect();
    format!("bastide try {}", options.join(" "))
}

/// A word as a shell takes it. What could act on the terminal is written by its number, as bash and zsh read it.
pub fn shell(word: &str) -> String {
    let acts = |c: char| visible(c.encode_utf8(&mut [0; 4])).len() > c.len_utf8();
    if word.contains(acts) {
        let escaped = word.chars().map(|c| match c {
            c if acts(c) => format!("\\U{:08x}", u32::from(c)),
            '\\' | '\'' => format!("\\{c}"),
            c => c.to_string(),
        });
        return format!("$'{}'", escaped.collect::<String>());
    }
    let plain = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | ':' | '/' | '=' | ',' | '@' | '+');
    if !word.is_empty() && word.chars().all(plain) {
        word.to_string()
    } else {
        format!("'{}'", word.replace('\'', "'\\''"))
    }
}

/// Remedies as text.
pub fn remedies(remedies: &Remedies, columns: usize) -> String {
    let wanted = if remedies.wanted { "allowed" } else { "refused" };
    if remedies.already {
        return format!("\n{}\n  it is {wanted} already\n", bold("remedies"));
    }
    let order = if remedies.wanted { "what hands out the least power first" } else { "the likeliest first" };
    let mut out = format!("\n{} {}\n", bold("remedies"), dim(&format!("(what would make it {wanted}, {order})")));
    if remedies.list.is_empty() {
        let text = format!(
            "no single change and no pair of changes would do it; {} were tried",
            grouped(remedies.tried as u64)
        );
        out.push_str(&hang("  ", &text, columns));
        return out;
    }
    for (i, remedy) in remedies.list.iter().enumerate() {
        out.push_str(&one(remedy, i + 1, columns));
    }
    if remedies.left_out > 0 {
        out.push_str(&format!("  {}\n", dim(&format!("left out: {} more (--remedies N)", remedies.left_out))));
    }
    out
}

fn one(remedy: &Remedy, number: usize, columns: usize) -> String {
    let words: Vec<String> = remedy.changes.iter().map(|c| visible(&c.words).into_owned()).collect();
    let mut out = hang(&format!("  {number}  "), &words.join(", and "), columns);
    if let Some(hint) = &remedy.hint {
        out.push_str(&hang("     ", &visible(hint), columns));
    }
    let alone = remedy.radius.triples() == 1;
    let radius = if alone { "changes this and nothing else".to_string() } else { sentence(&remedy.radius) };
    out.push_str(&hang("     ", &radius, columns));
    if remedy.power.triples > 0 {
        let Power { users, resources, actions, .. } = &remedy.power;
        let text = format!(
            "hands out beside that: {} on {}, to {}",
            visible(&actions.join(", ")),
            count(*resources, "resource"),
            count(*users, "user")
        );
        out.push_str(&hang("     ", &doubt(&text), columns));
    }
    if !alone {
        for b in remedy.blocks.list.iter().take(MOST_SIDE_EFFECTS) {
            out.push_str(&block(b, 7, columns));
        }
        let all = remedy.blocks.list.len() + remedy.blocks.more_gained + remedy.blocks.more_lost;
        if all > MOST_SIDE_EFFECTS {
            let more = format!("and {} more, which `try` shows", count(all - MOST_SIDE_EFFECTS, "group of changes"));
            out.push_str(&format!("       {}\n", dim(&more)));
        }
    }
    out.push_str(&format!(
        "     {}\n",
        dim(&cut(&format!("$ {}", command(&remedy.changes)), columns.saturating_sub(5).max(200)))
    ));
    out
}
