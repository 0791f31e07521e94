//! People, groups, the catalog and entries.

use crate::Size;
use fastrand::Rng;
use std::io;

/// How many of each container there are, at most.
pub const STREAMS: usize = 20;
const WORKSPACES: usize = 400;
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

pub fn people(size: &Size, rng: &mut Rng) -> io::Result<()> {
    let mut out = writer(size, "people.csv")?;
    out.write_record(["id", "kind", "active", "house", "clearance", "team"])?;
    for user in 0..size.users {
        let kind = if rng.u32(..10) == 0 { "guest" } else { "person" };
        let active = if rng.u32(..50) == 0 { "no" } else { "yes" };
        let house = if rng.u32(..100) == 0 { "" } else { pick(rng, &HOUSES) };
        let clearance = LABELS[(rng.u32(..10) as usize / 4).min(3)];
        let team = format!("team-{}", rng.usize(..TEAMS));
        out.write_record([&format!("u{user:06}"), kind, active, house, clearance, &team])?;
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
    out.flush()
}

pub fn catalog(size: &Size, rng: &mut Rng) -> io::Result<Tree> {
    let mut out = writer(size, "catalog.csv")?;
    out.write_record(["id", "parent", "kind", "name", "owner", "state", "inherits", "label", "house", "team", "due"])?;
    let folders = (size.resources / 50).max(1);
    let containers = (STREAMS + WORKSPACES + folders).min(size.resources);
    for i in 0..size.resources {
        let (kind, parent) = match i {
            i if i < STREAMS => ("stream", String::new()),
            i if i < STREAMS + WORKSPACES => ("workspace", format!("r{:07}", rng.usize(..STREAMS))),
            i if i < containers => {
                // A third of the folders lie in folders.
                let from = if rng.u32(..3) == 0 && i > STREAMS + WORKSPACES { STREAMS + WORKSPACES } else { STREAMS };
                let upto = if from == STREAMS { STREAMS + WORKSPACES } else { i };
                ("folder", format!("r{:07}", rng.usize(from..upto)))
            }
            _ => (
                if rng.bool() { "item" } else { "report" },
                format!("r{:07}", rng.usize(STREAMS + WORKSPACES..containers)),
            ),
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
        out.write_record([&id, &parent, kind, &name, &owner, state, inherits, label, house, &team, due])?;
    }
    out.flush()?;
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
    for _ in 0..size.singles {
        let subject = format!("user:u{:06}", rng.usize(..size.users));
        let place = format!("r{:07}", rng.usize(tree.containers..size.resources));
        out.write_record([&subject, "may", "reader", &place, "at"])?;
    }
    out.flush()
}
