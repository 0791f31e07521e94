//! People, groups, the catalog and entries.

use crate::Size;
use crate::shape::{Column, Extra, Shape};
use fastrand::Rng;
use std::io;

/// How many of each container there are, at most.
pub const STREAMS: usize = 20;
const WORKSPACES: usize = 400;
/// Where folders begin.
pub const FOLDERS: usize = STREAMS + WORKSPACES;
/// Groups.
pub const GROUPS: usize = 400;
/// Teams.
pub const TEAMS: usize = 40;
/// Houses, as the policy declares them.
pub const HOUSES: [&str; 8] = ["harbour", "estuary", "headland", "island", "quay", "mole", "strand", "reef"];
const STATES: [&str; 4] = ["draft", "review", "released", "archived"];
const LABELS: [&str; 4] = ["open", "internal", "restricted", "sealed"];

/// The containers of the catalog, and where items begin.
pub struct Tree {
    /// Streams, workspaces and folders.
    pub containers: usize,
}

fn writer(size: &Size, name: &str) -> io::Result<csv::Writer<std::fs::File>> {
    csv::Writer::from_path(size.dir.join(name)).map_err(io::Error::other)
}

fn pick<'a>(rng: &mut Rng, list: &[&'a str]) -> &'a str {
    list[rng.usize(..list.len())]
}

/// A row, and what columns of a shape add to it; nothing where `has` is false.
fn with(mut row: Vec<String>, extra: &[Column], has: bool, rng: &mut Rng) -> Vec<String> {
    row.extend(extra.iter().map(|(_, column)| if has { column(rng) } else { String::new() }));
    row
}

fn header(names: &[&str], extra: &[Column]) -> Vec<String> {
    names.iter().copied().chain(extra.iter().map(|(name, _)| *name)).map(str::to_string).collect()
}

pub fn people(size: &Size, extra: &Extra, rng: &mut Rng) -> io::Result<()> {
    let mut out = writer(size, "people.csv")?;
    out.write_record(header(&["id", "kind", "active", "house", "clearance", "team"], &extra.user))?;
    for user in 0..size.users {
        let kind = if rng.u32(..10) == 0 { "guest" } else { "person" };
        let active = if rng.u32(..50) == 0 { "no" } else { "yes" };
        let house = if rng.u32(..100) == 0 { "" } else { pick(rng, &HOUSES) };
        let clearance = LABELS[(rng.u32(..10) as usize / 4).min(3)];
        let team = format!("team-{}", rng.usize(..TEAMS));
        let row = [&format!("u{user:06}"), kind, active, house, clearance, &team].map(str::to_string);
        out.write_record(with(row.into(), &extra.user, true, rng))?;
    }
    out.flush()
}

pub fn groups(size: &Size, rng: &mut Rng) -> io::Result<()> {
    let mut out = writer(size, "groups.csv")?;
    out.write_record(["group", "member"])?;
    for group in 0..GROUPS {
        for _ in 0..(size.users / 200).max(1) {
            out.write_record([&format!("g{group}"), &format!("u{:06}", rng.usize(..size.users))])?;
        }
        if group > 0 && rng.u32(..4) == 0 {
            out.write_record([&format!("g{group}"), &format!("group:g{}", rng.usize(..group))])?;
        }
    }
    if size.shape.has(Shape::Groups) {
        // Chains of fifty, every tenth of which ends where it begins, and one of which reaches into the others.
        for group in 0..size.shape.share(size.resources / 10) {
            out.write_record([&format!("n{group}"), &format!("u{:06}", rng.usize(..size.users))])?;
            let next = if group % 50 < 49 { group + 1 } else { group - 49 };
            if group % 50 < 49 || group % 500 < 50 {
                out.write_record([&format!("n{group}"), &format!("group:n{next}")])?;
            }
        }
    }
    out.flush()
}

pub fn catalog(size: &Size, extra: &Extra, rng: &mut Rng) -> io::Result<Tree> {
    let mut out = writer(size, "catalog.csv")?;
    let names =
        ["id", "parent", "kind", "name", "owner", "state", "inherits", "label", "house", "team", "due", "sources"];
    out.write_record(header(&names, &extra.item))?;
    let shape = size.shape;
    let folders = (size.resources / 50).max(1);
    let containers = (FOLDERS + folders).min(size.resources);
    let mut parts = Vec::new();
    if size.parts > 0 {
        std::fs::create_dir_all(size.dir.join("parts"))?;
        for part in 0..size.parts {
            let mut out = writer(size, &format!("parts/part-{part:03}.csv"))?;
            out.write_record(header(&names, &extra.item))?;
            parts.push(out);
        }
    }
    // Of each folder, the part it is in.
    let mut part_of: Vec<u32> = Vec::new();
    for i in 0..size.resources {
        let (kind, parent) = match i {
            i if i < STREAMS => ("stream", String::new()),
            i if i < FOLDERS => ("workspace", format!("r{:07}", rng.usize(..STREAMS))),
            // In each other, as deep as they may.
            i if shape.has(Shape::Deep) && (FOLDERS..FOLDERS + shape.share(990)).contains(&i) && i < containers => {
                ("folder", format!("r{:07}", if i == FOLDERS { STREAMS } else { i - 1 }))
            }
            i if i < containers => {
                // A third of the folders lie in folders.
                let from = if rng.u32(..3) == 0 && i > FOLDERS { FOLDERS } else { STREAMS };
                let upto = if from == STREAMS { FOLDERS } else { i };
                ("folder", format!("r{:07}", rng.usize(from..upto)))
            }
            _ if shape.has(Shape::Wide) && rng.usize(..10) < shape.share(4) => ("item", format!("r{FOLDERS:07}")),
            _ => (if rng.bool() { "item" } else { "report" }, format!("r{:07}", rng.usize(FOLDERS..containers))),
        };
        let container = i < containers;
        let owner = format!("u{:06}", rng.usize(..size.users));
        let state = if container { "" } else { pick(rng, &STATES) };
        let inherits = if container && i >= STREAMS && rng.u32(..200) == 0 { "no" } else { "" };
        let label = if rng.u32(..8) == 0 { pick(rng, &LABELS) } else { "" };
        let house = if kind == "workspace" { pick(rng, &HOUSES) } else { "" };
        let team = if rng.u32(..4) == 0 { format!("team-{}", rng.usize(..TEAMS)) } else { String::new() };
        let due = if kind == "report" { ["2026-10-01", "2026-12-01", "2027-03-01"][rng.usize(..3)] } else { "" };
        let id = format!("r{i:07}");
        let name = format!("{kind} {i}");
        let linked = shape.has(Shape::Links) && !container && i > containers && rng.usize(..50) < shape.share(10);
        // The one before it, so that there are chains; every tenth begins anew.
        let source = if linked && i % 10 != 0 { format!("r{:07}", i - 1) } else { String::new() };
        let row = [&id, &parent, kind, &name, &owner, state, inherits, label, house, &team, due, &source];
        let row = with(row.map(str::to_string).into(), &extra.item, !container, rng);
        if parts.is_empty() || i < FOLDERS {
            out.write_record(row)?;
            continue;
        }
        // By the workspace it lies in, so that a part holds what hangs together.
        let above: usize = parent[1..].parse().map_err(io::Error::other)?;
        let part = if above < FOLDERS { (above % size.parts) as u32 } else { part_of[above - FOLDERS] };
        if container {
            part_of.push(part);
        }
        parts[part as usize].write_record(row)?;
    }
    out.flush()?;
    parts.iter_mut().try_for_each(csv::Writer::flush)?;
    Ok(Tree { containers })
}

pub fn entries(size: &Size, tree: &Tree, rng: &mut Rng) -> io::Result<()> {
    let mut out = writer(size, "entries.csv")?;
    out.write_record(["subject", "modality", "actions", "place", "reach"])?;
    for _ in 0..size.entries {
        let subject = match rng.u32(..10) {
            0..=1 => format!("user:u{:06}", rng.usize(..size.users)),
            _ => format!("group:g{}", rng.usize(..GROUPS)),
        };
        let modality =
            ["may", "may", "may", "may", "may", "may", "may", "may not", "may always", "may never"][rng.usize(..10)];
        let actions = ["reader", "editor", "read;comment", "publish", "create"][rng.usize(..5)];
        let place = format!("r{:07}", rng.usize(..tree.containers));
        out.write_record([&subject, modality, actions, &place, "under"])?;
    }
    if size.shape.has(Shape::Groups) {
        let groups = size.shape.share(size.resources / 10);
        for _ in 0..size.entries {
            let subject = format!("group:n{}", rng.usize(..groups));
            let place = format!("r{:07}", rng.usize(..tree.containers));
            out.write_record([&subject, "may", "reader", &place, "under"])?;
        }
    }
    if size.shape.has(Shape::Own) {
        for _ in 0..size.shape.share(size.resources * 3 / 10) {
            let subject = if rng.bool() {
                format!("user:u{:06}", rng.usize(..size.users))
            } else {
                format!("group:g{}", rng.usize(..GROUPS))
            };
            let modality = if rng.u32(..5) == 0 { "may not" } else { "may" };
            let actions = ["reader", "editor", "read;comment"][rng.usize(..3)];
            let place = format!("r{:07}", rng.usize(FOLDERS..size.resources));
            out.write_record([&subject, modality, actions, &place, "under"])?;
        }
    }
    for _ in 0..size.singles {
        let subject = format!("user:u{:06}", rng.usize(..size.users));
        let place = format!("r{:07}", rng.usize(tree.containers..size.resources));
        out.write_record([&subject, "may", "reader", &place, "at"])?;
    }
    out.flush()
}
