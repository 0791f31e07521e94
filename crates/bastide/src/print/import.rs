//! What came of an import.

use super::changes::sentence;
use super::text::{bad, bold, count, dim, doubt, good, grouped, hang, visible};
use super::trial::{broken, sides, written};
use super::verify;
use crate::found::import::{Imported, Source};
use bastide_engine::difference::{Moved, Movement};

/// An import as text; `write`: whether it was to be saved.
pub fn imported(i: &Imported, write: bool, columns: usize) -> String {
    let mut out: String = i.imports.iter().map(|source| one(source, columns)).collect();
    let differs = i.imports.iter().flat_map(|source| &source.files).any(|file| file.differs);
    if i.first {
        let text = "there is no estate yet that could be compared with: everything is new";
        out.push_str(&format!("\n{}", hang("", text, columns)));
    }
    let moved: Vec<&Movement> = i.movements.iter().filter(|movement| !movement.is_still()).collect();
    if !moved.is_empty() {
        out.push_str(&format!("\n{}\n", bold("what came and went")));
        moved.iter().for_each(|movement| out.push_str(&movement_lines(movement, columns)));
    }
    if !differs && !i.first {
        out.push_str(&format!("\n{}\n", bold("nothing has changed since the last import")));
    }
    if let Some(radius) = &i.radius {
        let text = match radius.triples() {
            0 => "nobody gains or loses anything".to_string(),
            _ => sentence(radius),
        };
        out.push_str(&format!("\n{}\n", bold(&text)));
    }
    if let Some(blocks) = &i.blocks {
        out.push_str(&sides(blocks, columns));
    }
    if !i.broken.is_empty() {
        let verb = match (write, i.broken.len()) {
            (true, 1) => "no longer holds",
            (true, _) => "no longer hold",
            (false, _) => "would no longer hold",
        };
        out.push_str(&format!("\n{}\n", bad(&format!("{} {verb}", count(i.broken.len(), "test")))));
        i.broken.iter().for_each(|proof| out.push_str(&broken(proof, columns)));
    }
    if let Some(verified) = &i.verified {
        out.push_str(&format!("\n{}\n", bold("beside what the systems decide themselves")));
        out.push_str(&verify::verified(verified, columns));
    }
    if !i.written.is_empty() {
        out.push_str(&written(&i.written));
    } else if differs {
        out.push_str(&format!("\n{}\n", dim("nothing is written; to save it, add `--write`")));
    }
    out
}

fn one(source: &Source, columns: usize) -> String {
    let mut out = format!("{}  {}\n", bold(&visible(&source.name)), dim(&visible(&source.from)));
    for file in &source.files {
        let state = match (file.differs, file.new) {
            (true, true) => good("new"),
            (true, false) => doubt("differs"),
            (false, _) => dim("as it was"),
        };
        let unread = if file.read {
            String::new()
        } else {
            format!("  {}", bad("the manifest names it nowhere: nobody reads it"))
        };
        out.push_str(&format!("  {}  {state}{unread}\n", visible(&file.file)));
    }
    for left in &source.left {
        let some: Vec<String> = left.some.iter().map(|name| visible(name).into_owned()).collect();
        let more = if left.count > some.len() { ", ..." } else { "" };
        let text = format!(
            "not taken along: {}: {} ({}{more})",
            visible(&left.what),
            grouped(left.count as u64),
            some.join(", ")
        );
        out.push_str(&hang("  ", &text, columns));
    }
    out
}

/// Colours a text.
type Paint = fn(&str) -> String;

fn movement_lines(movement: &Movement, columns: usize) -> String {
    let mut out = String::new();
    let noun = match movement.of.as_str() {
        "entries" => "entry",
        of => of.strip_suffix('s').unwrap_or(of),
    };
    let sides: [(&Moved, &str, Paint); 3] =
        [(&movement.come, "new", good), (&movement.gone, "gone", bad), (&movement.changed, "changed", doubt)];
    for (moved, what, color) in sides {
        if moved.count == 0 {
            continue;
        }
        let names: Vec<String> = moved.some.iter().map(|name| visible(name).into_owned()).collect();
        let more = moved.count - moved.some.len();
        let more = if more > 0 { format!(" and {} more", grouped(more as u64)) } else { String::new() };
        let head = match what {
            "new" => color(&count(moved.count, &format!("new {noun}"))),
            what => color(&format!("{} {what}", count(moved.count, noun))),
        };
        out.push_str(&hang("  ", &format!("{head}: {}{more}", names.join(", ")), columns));
    }
    out
}
