//! Very many of something: mistakes, names that lead nowhere, groups in chains, circles and layers. Each ends, says what it
//! should, and does not print what nobody reads.

mod common;

use common::{case, run_in};
use tempfile::TempDir;

const MANIFEST: &str = "name = \"Crowd\"\npolicy = [\"p.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[groups]]\n\
                        file = \"groups.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n";
const VOCABULARY: &str = "kind room\nkind item in room\naction read\naction update needs read\n";

fn estate(users: usize, members: &str, rules: &str) -> TempDir {
    let people: String = (0..users).map(|i| format!("u{i}\n")).collect();
    case(&format!(
        "=== bastide.toml\n{MANIFEST}=== p.bastide\n{VOCABULARY}{rules}=== people.csv\nid\n{people}=== groups.csv\n\
         group,member\n{members}=== catalog.csv\nid,parent,kind,name\nr,,room,R\ni,r,item,I\n"
    ))
}

fn rule(name: &str, group: &str, may: &str) -> String {
    format!("rule {name} {{ because \"x\" who members of \"{group}\" {may} what anything }}\n")
}

/// A megabyte of nothing but mistakes is told in a few, and counted, in every form.
#[test]
fn mistakes_without_end() {
    let dir = estate(1, "g,u0\n", "");
    std::fs::write(dir.path().join("p.bastide"), "[".repeat(1 << 20)).unwrap();
    let table = run_in(dir.path(), &["check"]);
    assert_eq!(table.status, 3);
    assert!(
        table
            .out
            .contains("1,048,564 more of `bad-token` are not shown: `--format json` lists the first 200 of a file")
            && table.out.len() < 20_000,
        "{}",
        table.out
    );
    let json = run_in(dir.path(), &["check", "--format", "json"]);
    let value: serde_json::Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!(value["errors"], (1 << 20) + 2);
    assert!(value["diagnostics"].as_array().unwrap().len() <= 402 && json.out.len() < 500_000);
    let sarif = run_in(dir.path(), &["check", "--format", "sarif"]);
    assert!(sarif.status == 3 && sarif.out.len() < 1_000_000, "{}", sarif.out.len());
    // Rows, too: every one of them has a cell too many.
    let rows: String = (0..200_000).map(|i| format!("u{i},x\n")).collect();
    let dir = estate(1, "g,u0\n", "");
    std::fs::write(dir.path().join("people.csv"), format!("id\n{rows}")).unwrap();
    let run = run_in(dir.path(), &["check"]);
    assert!(
        run.out.contains("199,988 more of `bad-row` are not shown: `--format json` lists the first 200 of a file"),
        "{}",
        run.out
    );
}

/// The nearest name is looked for a few times, however many lead nowhere.
#[test]
fn members_that_lead_nowhere() {
    let members: String = (0..3000).map(|i| format!("g,u{i}x\n")).collect();
    let dir = estate(20_000, &members, &rule("a", "g", "may read"));
    let check = run_in(dir.path(), &["check"]).ok();
    assert!(check.contains("2,988 more of `unknown-reference` are not shown"), "{check}");
    let json = run_in(dir.path(), &["check", "--format", "json"]).ok();
    let value: serde_json::Value = serde_json::from_str(&json).unwrap();
    let all: Vec<&serde_json::Value> =
        value["diagnostics"].as_array().unwrap().iter().filter(|d| d["code"] == "unknown-reference").collect();
    let suggested = all.iter().filter(|d| d["helps"].to_string().contains("did you mean")).count();
    assert_eq!((suggested, all.len(), &value["warnings"]), (20, 200, &serde_json::json!(3001)));
    let audit = run_in(dir.path(), &["audit", "--only", "unknown-name", "--format", "json"]);
    assert!(audit.out.contains("and 2800 more like it in its file"), "{}", audit.out);
}

#[test]
fn groups_in_a_long_chain() {
    let mut members: String = (0..25_000).map(|i| format!("g{i},group:g{}\n", i + 1)).collect();
    members.push_str("g25000,u1\n");
    let rules = rule("a", "g0", "may read") + &rule("b", "g100", "may not update") + &rule("c", "g12000", "may update");
    let dir = estate(10, &members, &rules);
    let why = run_in(dir.path(), &["why", "u1", "read", "r"]).ok();
    assert!(why.contains("24985 groups ...") && why.len() < 10_000, "{why}");
    let why = run_in(dir.path(), &["why", "u1", "update", "r"]).ok();
    assert!(why.contains("refused"), "{why}");
    let what = run_in(dir.path(), &["what", "u1"]).ok();
    assert!(what.contains("24,941 more") && what.len() < 20_000, "{what}");
    assert!(run_in(dir.path(), &["who", "read", "r", "--format", "csv"]).ok().contains("u1,"));
    let audit = run_in(dir.path(), &["audit"]);
    assert!(audit.out.contains("error[contradiction]"), "{}{}", audit.out, audit.err);
}

#[test]
fn groups_in_circles_and_layers() {
    let clique: String =
        (0..300).flat_map(|i| (0..300).filter(move |j| i != *j).map(move |j| format!("g{i},group:g{j}\n"))).collect();
    let dir = estate(10, &format!("{clique}g5,u1\n"), &(rule("a", "g0", "may read") + &rule("b", "g7", "may update")));
    assert!(run_in(dir.path(), &["why", "u1", "update", "i"]).ok().contains("allowed"));
    let audit = run_in(dir.path(), &["audit", "--only", "group-cycle"]);
    assert!(audit.out.contains("and 280 more contain each other"), "{}", audit.out);
    let layers: String = (0..49)
        .flat_map(|l| (0..50).flat_map(move |i| (0..50).map(move |j| format!("g{l}-{i},group:g{}-{j}\n", l + 1))))
        .collect();
    let bottom: String = (0..50).map(|i| format!("g49-{i},u{}\n", i % 10)).collect();
    let dir = estate(10, &(layers + &bottom), &rule("a", "g0-0", "may read"));
    let matrix = run_in(dir.path(), &["matrix", "--format", "csv", "--depth", "1"]).ok();
    assert_eq!(matrix.lines().count(), 11);
    assert!(run_in(dir.path(), &["why", "u1", "read", "r"]).ok().contains("allowed"));
}

#[test]
fn a_hundred_thousand_groups() {
    let members: String = (0..100_000)
        .map(|i| if i % 50 == 49 { format!("g{i},u{}\n", i % 1000) } else { format!("g{i},group:g{}\n", i + 1) })
        .collect();
    let dir = estate(1000, &members, &(rule("a", "g0", "may read") + &rule("b", "g99950", "may update")));
    assert!(run_in(dir.path(), &["why", "u49", "read", "r"]).ok().contains("allowed"));
    assert!(run_in(dir.path(), &["matrix", "--summary"]).ok().contains("1,000 users"));
}
