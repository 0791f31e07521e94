//! Declarations of one line, lined up where several of one sort follow each other.

use super::body;
use super::names;
use crate::quote;
use crate::tree::*;

/// A head longer than this is not waited for by the others of its run.
const WIDEST_HEAD: usize = 32;

/// The lines of declarations of one sort; none for blocks. `\u{1}` marks where they may break.
pub fn lines(declarations: &[Declaration]) -> Vec<String> {
    let halves: Vec<(String, String)> = declarations.iter().filter_map(halves).collect();
    let length = |head: &str| head.chars().count();
    let lined_up = halves.iter().filter(|(head, tail)| !tail.is_empty() && length(head) <= WIDEST_HEAD);
    let widest = lined_up.map(|(head, _)| length(head)).max().unwrap_or(0);
    halves
        .iter()
        .map(|(head, tail)| match tail.is_empty() {
            true => head.clone(),
            false => format!("{head}{} {tail}", " ".repeat(widest.saturating_sub(length(head)))),
        })
        .collect()
}

fn halves(declaration: &Declaration) -> Option<(String, String)> {
    Some(match declaration {
        Declaration::Kind(k) => {
            let within = if k.containers.is_empty() { String::new() } else { format!("in {}", names(&k.containers)) };
            let base = k.base.as_ref().map_or(String::new(), |b| format!("is {}", quote::name(&b.text)));
            (format!("kind {}", quote::name(&k.name.text)), joined(&[within, base]))
        }
        Declaration::Action(a) => {
            let on = if a.on.is_empty() { String::new() } else { format!("on {}", names(&a.on)) };
            let needs: Vec<String> = a.needs.iter().map(need).collect();
            let needs = if needs.is_empty() { String::new() } else { format!("needs {}", needs.join(",\u{1}")) };
            (format!("action {}", quote::name(&a.name.text)), joined(&[on, needs]))
        }
        Declaration::Type(t) => {
            let values: Vec<String> = t.values.iter().map(|v| quote::name(&v.text)).collect();
            let (word, joint) = if t.scale { ("scale", "\u{1}< ") } else { ("choice", ",\u{1}") };
            (format!("type {}", quote::name(&t.name.text)), format!("= {word} {}", values.join(joint)))
        }
        Declaration::Attribute(a) => {
            let domains: Vec<String> = a
                .domains
                .iter()
                .map(|d| {
                    let fixed = matches!(d.text.as_str(), "user" | "resource" | "session") && !d.quoted;
                    if fixed { d.text.clone() } else { quote::name(&d.text) }
                })
                .collect();
            let mut tail = format!("of {}: ", domains.join(", "));
            tail.push_str(if a.set { "set of " } else { "" });
            tail.push_str(&quote::name(&a.value_type.text));
            if let Some(default) = &a.default {
                tail.push_str(&format!(" default {}", body::literal(default)));
            }
            for (word, there) in
                [("inherit", a.inherit), ("highest", a.highest), ("required", a.required), ("caseless", a.caseless)]
            {
                if there.is_some() {
                    tail.push_str(&format!(" {word}"));
                }
            }
            (format!("attribute {}", quote::name(&a.name.text)), tail)
        }
        Declaration::Role(r) => {
            let locked = if r.locked.is_some() { " locked" } else { "" };
            let off = if r.off.is_some() { " off" } else { "" };
            (format!("role {}", quote::name(&r.name.text)), format!("= {}{locked}{off}", body::items(&r.items)))
        }
        Declaration::Group(g) => {
            let made = match &g.body {
                GroupBody::Who(who) => body::who(who),
                GroupBody::Holders(action, place) => {
                    format!("holders of {} on {}", quote::name(&action.text), body::place(place))
                }
            };
            (format!("group {}", quote::name(&g.name.text)), format!("= {made}"))
        }
        Declaration::Apart(a) => {
            let on = if a.on.is_empty() { String::new() } else { format!(" on {}", names(&a.on)) };
            (format!("apart {}{on}", names(&a.actions)), String::new())
        }
        Declaration::Alike(a) => (format!("alike {}", names(&a.actions)), String::new()),
        Declaration::Rule(_)
        | Declaration::Expect(_)
        | Declaration::Guarantee(_)
        | Declaration::Persona(_)
        | Declaration::Waive(_) => {
            return None;
        }
    })
}

fn joined(parts: &[String]) -> String {
    parts.iter().filter(|p| !p.is_empty()).cloned().collect::<Vec<_>>().join(" ")
}

fn need(need: &Need) -> String {
    let action = quote::name(&need.action.text);
    match &need.target {
        None => action,
        Some(target) => format!("{action} on {}", body::target(target)),
    }
}
