//! Rules written in a real editor. Ignored by default, because the editor may be missing: `tests/editor.sh` sees to that and
//! runs it.

mod common;

use assert_cmd::cargo::cargo_bin;
use common::{demo, run_in};
use serde_json::Value;
use std::path::Path;
use std::process::Command;

fn access(root: &Path) -> String {
    let out = run_in(root, &["matrix", "--all", "--format", "csv", "--on", "2026-11-24"]);
    assert_eq!(out.status, 0, "{}", out.err);
    out.out
}

#[test]
#[ignore = "needs an editor; run by tests/editor.sh"]
fn a_rule_is_written_in_neovim() {
    let here = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..").canonicalize().unwrap();
    let dir = demo();
    let before = access(dir.path());
    let seen = dir.path().join("seen.json");
    let output = Command::new(std::env::var("NVIM").unwrap_or_else(|_| "nvim".to_string()))
        .args(["--headless", "-i", "NONE", "-n", "-u"])
        .arg(here.join("tests/editor/neovim.lua"))
        .current_dir(dir.path())
        .env("BASTIDE", cargo_bin("bastide"))
        .env("BASTIDE_SEEN", &seen)
        .env("BASTIDE_EDITORS", here.join("editors"))
        .env("XDG_STATE_HOME", dir.path().join(".state"))
        .output()
        .expect("the editor starts");
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{told}");
    let seen: Value = serde_json::from_slice(&std::fs::read(&seen).unwrap()).unwrap();
    let text = |name: &str| seen[name].as_str().unwrap_or_else(|| panic!("{name}: {seen:#}")).to_string();
    assert!(text("first").contains("users on"), "{seen:#}");
    let typed = seen["typed"].as_array().unwrap();
    assert!(typed.len() == 6 && typed.iter().all(|said| !said.as_array().unwrap().is_empty()), "{seen:#}");
    assert_eq!(text("misspelt"), "reaches nobody");
    assert_eq!(text("fix"), "Write `lenders`");
    assert!(text("mended").contains("guest") && text("wider") != text("mended"), "{seen:#}");
    assert_eq!(seen["attribute"], serde_json::json!(["user.clearance"]));
    assert_eq!(seen["place"], serde_json::json!(["Conservation/Lab"]));
    // What was saved is in order, laid out, and says what the line said.
    assert_eq!(run_in(dir.path(), &["fmt", "--check"]).status, 0);
    let rules = run_in(dir.path(), &["rules", "--on", "2026-11-24", "--format", "json"]).ok();
    let rules: Value = serde_json::from_str(&rules).unwrap();
    let rule = rules["statements"].as_array().unwrap().iter().find(|s| s["name"] == "lenders-see-loans").unwrap();
    assert!(
        text("wider").starts_with(&format!("{} users on {} resources", rule["users"], rule["resources"])),
        "{seen:#}"
    );
    let groups = std::fs::read_to_string(dir.path().join("data/groups.csv")).unwrap();
    assert!(groups.contains("helpers") && !groups.contains("volunteers"), "{groups}");
    // Without the new rule everybody's access is what it was: the rename changed nothing.
    let staff = dir.path().join("policy/staff.bastide");
    let text = std::fs::read_to_string(&staff).unwrap();
    std::fs::write(&staff, &text[..text.find("rule lenders-see-loans").unwrap()]).unwrap();
    assert_eq!(access(dir.path()), before);
}
