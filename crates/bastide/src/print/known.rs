//! Everything known of one user, group or place.

use super::text::{bold, count, dim, hang, name, pad, visible, width};
use super::why::modality;
use bastide_engine::access::Known;

/// Lines of one list, unless all of them are wanted.
const MOST: usize = 12;

/// As text.
pub fn known(k: &Known, all: bool, columns: usize) -> String {
    let called = if k.name.is_empty() || k.name == k.id { String::new() } else { format!("  {}", visible(&k.name)) };
    let place = k.place.as_ref().map_or(String::new(), |place| format!("  {}", dim(&visible(place))));
    let mut out = hang("", &format!("{} {}{called}{place}", k.sort, bold(&name(&visible(&k.id)))), columns);
    let widest = k.facts.iter().map(|(fact, _)| width(fact)).max().unwrap_or(0);
    for (fact, value) in &k.facts {
        out.push_str(&hang(&format!("  {}  ", pad(fact, widest)), &visible(value), columns));
    }
    let longest = |list: &[(String, String)]| list.iter().map(|(what, _)| width(&visible(what))).max().unwrap_or(0);
    let called = k.attributes.iter().map(|met| width(&met.name)).max().unwrap_or(0);
    let attributes: Vec<String> = k
        .attributes
        .iter()
        .map(|met| {
            let value = met.value.as_deref().unwrap_or("-");
            let from = if met.from.is_empty() {
                String::new()
            } else {
                format!("  {}", dim(&format!("({})", visible(&met.from))))
            };
            format!("{}  {}{from}", pad(&met.name, called), visible(value))
        })
        .collect();
    let placed = |list: &[(String, String)]| -> Vec<String> {
        let widest = longest(list);
        let line =
            |(what, place): &(String, String)| format!("{}  {}", pad(&visible(what), widest), dim(&visible(place)));
        list.iter().map(line).collect()
    };
    // An entry's name is its place.
    let statements = k.statements.iter().map(|s| {
        let place = if s.name == s.place { String::new() } else { format!("  {}", dim(&visible(&s.place))) };
        format!("{}  {} {}{place}", modality(&s.modality), s.sort, name(&visible(&s.name)))
    });
    let statements: Vec<String> = statements.collect();
    let widest = k.allowed.iter().map(|(action, _)| width(action)).max().unwrap_or(0);
    let allowed = k.allowed.iter().map(|(action, users)| format!("{}  {}", pad(action, widest), count(*users, "user")));
    let allowed: Vec<String> = allowed.collect();
    let named = if k.sort == "resource" { "reached by" } else { "named in" };
    for (head, list) in [
        ("attributes", attributes),
        ("members", placed(&k.members)),
        ("directly in", placed(&k.groups)),
        (named, statements),
        ("who can", allowed),
    ] {
        if list.is_empty() {
            continue;
        }
        out.push_str(&format!("\n{}\n", bold(head)));
        let shown = if all { list.len() } else { list.len().min(MOST) };
        list[..shown].iter().for_each(|line| out.push_str(&hang("  ", line, columns)));
        if shown < list.len() {
            out.push_str(&format!("  {}\n", dim(&format!("left out: {} more (--all)", list.len() - shown))));
        }
    }
    out
}
