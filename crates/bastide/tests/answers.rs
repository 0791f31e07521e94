//! `bastide reach`, `compare`, `what --until-changes`, and what a shell offers.

mod common;

use assert_cmd::Command;
use common::{demo, run_in};
use std::path::Path;

fn ask(dir: &Path, args: &[&str]) -> String {
    run_in(dir, &[args, &["--on", "2026-11-24"]].concat()).ok()
}

#[test]
fn whom_and_what_a_rule_reaches() {
    let demo = demo();
    for (name, args) in [
        ("lenders", &["reach", "lenders-follow"][..]),
        ("off", &["reach", "sealed-on-the-gallery-network"]),
        ("nobody", &["reach", "night-watch-at-harbour"]),
        ("entry", &["reach", "entries.csv:43"]),
        ("ceiling", &["reach", "volunteers-only-read"]),
        ("shadow", &["reach", "feeds-export-values", "--all"]),
        (
            "text",
            &["reach", "--text", "who members of couriers may comment what sheet where resource.state = released"],
        ),
    ] {
        insta::assert_snapshot!(format!("reach_{name}"), ask(demo.path(), args));
    }
    let wrong = run_in(demo.path(), &["reach", "--text", "who members of couriers may raed what sheet"]);
    assert_eq!((wrong.status, wrong.out.as_str()), (3, ""));
    insta::assert_snapshot!("reach_wrong_text", wrong.err);
    let unknown = run_in(demo.path(), &["reach", "lenders"]);
    assert_eq!(unknown.status, 2);
    insta::assert_snapshot!("reach_ambiguous", unknown.err);
}

/// What `reach` counts is what the specification evaluator decides: without the rule, and with it.
#[test]
fn sole_reach_is_what_goes_with_the_rule() {
    let demo = demo();
    let json = ask(demo.path(), &["reach", "lenders-follow-their-loans", "--format", "json"]);
    let reached: serde_json::Value = serde_json::from_str(&json).unwrap();
    // It breaks tests, which is bad news and no matter here.
    let tried = ["try", "--off", "lenders-follow-their-loans", "--format", "json", "--on", "2026-11-24"];
    let tried = run_in(demo.path(), &tried).out;
    let tried: serde_json::Value = serde_json::from_str(&tried).unwrap();
    assert_eq!(reached["sole"], tried["radius"]);
    assert!(reached["triples"].as_u64() > reached["sole"]["lost"].as_u64());
}

#[test]
fn two_users_side_by_side() {
    let demo = demo();
    insta::assert_snapshot!("compare_users", ask(demo.path(), &["compare", "bruno.tavares", "carys.penhale"]));
    insta::assert_snapshot!("compare_group", ask(demo.path(), &["compare", "goran.maric", "group:conservators"]));
    insta::assert_snapshot!("compare_same", ask(demo.path(), &["compare", "renske.visser", "renske.visser"]));
    let json = ask(demo.path(), &["compare", "bruno.tavares", "carys.penhale", "--format", "json"]);
    let back = ask(demo.path(), &["compare", "carys.penhale", "bruno.tavares", "--format", "json"]);
    let pairs = |text: &str, side: &str| -> u64 {
        let value: serde_json::Value = serde_json::from_str(text).unwrap();
        value[side].as_array().unwrap().iter().map(|a| a["pairs"].as_u64().unwrap()).sum()
    };
    assert_eq!(pairs(&json, "only_left"), pairs(&back, "only_right"));
    assert_eq!(pairs(&json, "only_right"), pairs(&back, "only_left"));
}

#[test]
fn the_days_on_which_access_changes_by_itself() {
    let demo = demo();
    let turns = |user: &str| ask(demo.path(), &["what", user, "--until-changes", "2027-12-31"]);
    insta::assert_snapshot!("turns_lender", turns("amara.zamora"));
    insta::assert_snapshot!("turns_finance", turns("xenia.lazar"));
    assert!(turns("renske.visser").starts_with("nothing changes by itself for renske.visser"));
}

fn offered(dir: &Path, words: &[&str]) -> Vec<String> {
    let mut command = Command::cargo_bin("bastide").expect("the program is built");
    command.current_dir(dir).arg("--").args(words).env("COMPLETE", "fish");
    let output = command.output().expect("the program starts");
    let text = String::from_utf8(output.stdout).unwrap();
    text.lines().filter_map(|line| line.split('\t').next()).map(str::to_string).collect()
}

#[test]
fn a_shell_is_offered_what_the_estate_holds() {
    let demo = demo();
    let offer = |words: &[&str]| offered(demo.path(), words);
    assert_eq!(offer(&["bastide", "what", "bruno"]), ["bruno.tavares"]);
    assert_eq!(offer(&["bastide", "who", "qu"]), ["query"]);
    assert_eq!(
        offer(&["bastide", "who", "read", "Exhibitions/Tidal Light/Tr"]),
        ["Exhibitions/Tidal Light/Transport/"]
    );
    assert_eq!(offer(&["bastide", "try", "--off", "lenders-f"]), ["lenders-follow-their-loans"]);
    assert!(offer(&["bastide", "compare", "bruno.tavares", "group:con"]).contains(&"group:conservators".to_string()));
    // An estate elsewhere, by name; one with errors offers nothing and says nothing.
    let elsewhere = tempfile::tempdir().unwrap();
    let named = demo.path().to_str().unwrap();
    assert_eq!(offered(elsewhere.path(), &["bastide", "-C", named, "what", "bruno"]), ["bruno.tavares"]);
    std::fs::write(demo.path().join("policy/bad.bastide"), "rule {").unwrap();
    assert_eq!(offer(&["bastide", "what", "bruno"]), [""; 0]);
}
