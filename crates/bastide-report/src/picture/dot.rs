//! The graph of one decision in the DOT language, for programs that lay graphs out.

use bastide_engine::explain::{Explanation, Fate};
use bastide_syntax::visible;
use std::collections::BTreeSet;
use std::fmt::Write;

/// The graph as text.
pub fn dot(explanation: &Explanation) -> String {
    let e = explanation;
    let mut nodes: BTreeSet<String> = BTreeSet::new();
    let mut edges: BTreeSet<String> = BTreeSet::new();
    let mut out = String::new();
    let user = node(&mut nodes, "user", &e.user.id, &e.user.id, "shape=ellipse");
    let resource = node(&mut nodes, "place", &e.resource.path, &e.resource.path, "shape=folder, penwidth=2");
    for applying in &e.applying {
        let style = match applying.fate {
            Fate::Decides => "penwidth=2",
            Fate::Agrees => "style=solid",
            Fate::Lost { .. } => "style=dashed",
        };
        let statement = &applying.statement;
        let label = format!("{}\n{} · {}", statement.name, statement.modality, statement.place);
        let it = node(&mut nodes, "statement", &statement.place, &label, &format!("shape=box, {style}"));
        for way in &applying.ways {
            let mut from = user.clone();
            for group in &way.chain {
                let to = node(&mut nodes, "group", group, group, "shape=ellipse");
                edges.insert(edge(&from, &to, style));
                from = to;
            }
            edges.insert(edge(&from, &it, style));
        }
        let mut from = it;
        for (path, name) in paths(&applying.place, &e.resource.path) {
            let to = node(&mut nodes, "place", &path, &name, "shape=folder");
            edges.insert(edge(&from, &to, style));
            from = to;
        }
        if from != resource {
            edges.insert(edge(&from, &resource, style));
        }
    }
    let sentence = quoted(&e.sentence);
    writeln!(out, "digraph decision {{\n    rankdir=LR;\n    label={sentence};").expect("a string takes everything");
    for line in nodes.iter().chain(&edges) {
        writeln!(out, "    {line}").expect("a string takes everything");
    }
    out.push_str("}\n");
    out
}

/// The places above the resource, each by its path and its name: names alone could be the same twice.
fn paths(chain: &[String], resource: &str) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let mut path = resource;
    for (i, name) in chain.iter().enumerate().rev() {
        if i + 1 < chain.len() {
            found.push((path.to_string(), name.clone()));
        }
        path = path.strip_suffix(name.as_str()).and_then(|p| p.strip_suffix('/')).unwrap_or(path);
    }
    found.reverse();
    found
}

/// Adds a node; its name.
fn node(nodes: &mut BTreeSet<String>, sort: &str, id: &str, label: &str, style: &str) -> String {
    let name = quoted(&format!("{sort} {id}"));
    nodes.insert(format!("{name} [label={}, {style}];", quoted(label)));
    name
}

fn edge(from: &str, to: &str, style: &str) -> String {
    format!("{from} -> {to} [{style}];")
}

/// A text as DOT writes it; a new line in it stays one.
fn quoted(text: &str) -> String {
    let lines: Vec<String> = text.split('\n').map(|l| visible(l).replace('\\', "\\\\").replace('"', "\\\"")).collect();
    format!("\"{}\"", lines.join("\\n"))
}
