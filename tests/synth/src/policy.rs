//! The manifest, the vocabulary and the rules.

use crate::Size;
use crate::data::{GROUPS, HOUSES, STREAMS, TEAMS};
use crate::shape::{Extra, Shape};
use fastrand::Rng;
use std::fmt::Write;

/// The manifest of a catalog in parts has these, too.
const PARTS: &str = "\n[[catalog]]\nfile = \"parts/*.csv\"\nparts = true\n";

/// The manifest.
const MANIFEST: &str = "name = \"Synthetic\"\npolicy = [\"policy.bastide\"]\n\n[[people]]\nfile = \"people.csv\"\n\n\
[[groups]]\nfile = \"groups.csv\"\n\n[[catalog]]\nfile = \"catalog.csv\"\n\n[[entries]]\nfile = \"entries.csv\"\n";

const VOCABULARY: &str = "\
kind stream
kind workspace in stream
kind folder    in workspace, folder
kind item      in workspace, folder
kind report    is item

action read    needs read on parent
action comment on item needs read
action update  needs read
action publish on item needs update
action create  on workspace, folder needs read
action export  on item needs read

role reader = read
role editor = read, comment, update, create

type label = scale open < internal < restricted < sealed
";

/// The manifest of a shape.
pub fn manifest(size: &Size) -> String {
    let nearest = if size.shape.has(Shape::Own) { "\n[decide]\ncombining = \"nearest-overrides\"\n" } else { "" };
    let parts = if size.parts > 0 { PARTS } else { "" };
    format!("{MANIFEST}{parts}{nearest}")
}

/// The policy: a vocabulary and as many rules as asked for.
pub fn rules(size: &Size, extra: &Extra, rng: &mut Rng) -> String {
    let mut out = VOCABULARY.to_string();
    if size.shape.has(Shape::Links) {
        out = out.replace("action read    needs read on parent", "action read    needs read on parent, read on source");
    }
    let _ = writeln!(out, "type house = choice {}", HOUSES.join(", "));
    out.push_str(
        "attribute label     of resource: label default internal highest\nattribute clearance of user: label default internal\n\
         attribute house     of user, resource: house inherit\nattribute team      of user: text\nattribute team      of resource: text inherit\n\
         attribute due       of item: date\nattribute network   of session: text\n\n",
    );
    out.push_str(&extra.vocabulary);
    let fixed = [
        "who anyone where user.kind = person may read what stream, workspace, folder",
        "who anyone where user.kind = person and user.clearance >= resource.label may read what item",
        "who anyone where user.house = resource.house may comment what item",
        "who anyone where user.team = resource.team may update what item where resource.state != archived",
        "who anyone may not update, publish what item where resource.state = archived",
        "who anyone where user.kind = guest may never export, publish what anything",
        "who anyone may never export what item where resource.label = sealed",
        "who members of g0 may always read what anything",
    ];
    let owners =
        ["who owner may update what item", "who owner may publish what item", "who owner may export what item"];
    let mut bodies: Vec<String> = fixed.iter().map(|r| r.to_string()).collect();
    bodies.extend(owners.iter().take(size.owner_rules).map(|r| r.to_string()));
    while bodies.len() < size.rules {
        let group = rng.usize(..GROUPS);
        let stream = rng.usize(..STREAMS);
        let action = ["read", "comment", "update", "publish", "export", "editor"][rng.usize(..6)];
        let modality = ["may", "may", "may", "may", "may not"][rng.usize(..5)];
        let narrowing = match rng.u32(..6) {
            0 => " where resource.state = released".to_string(),
            1 => format!(" where resource.team = \"team-{}\"", rng.usize(..TEAMS)),
            2 => " where resource.label <= restricted".to_string(),
            3 => format!(" where resource.house = {}", HOUSES[rng.usize(..HOUSES.len())]),
            _ => String::new(),
        };
        let condition = match rng.u32(..6) {
            0 => " while today <= resource.due",
            1 => " while session.network = \"gallery\" or user.house = resource.house",
            _ => "",
        };
        bodies.push(format!(
            "who members of g{group} {modality} {action} what item, folder under \"stream {stream}\"{narrowing}{condition}"
        ));
    }
    bodies.truncate(size.rules);
    bodies.extend_from_slice(&extra.rules);
    for (i, body) in bodies.iter().enumerate() {
        let _ = writeln!(out, "rule r{i} {{ {body} }}");
    }
    out
}
