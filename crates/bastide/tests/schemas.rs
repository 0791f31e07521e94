//! Machine-readable output follows its schema: ours, and the standard's.

mod common;

use serde_json::Value;
use std::path::Path;

#[track_caller]
fn follows(schema: &Value, text: &str) {
    let value: Value = serde_json::from_str(text).expect("output is JSON");
    let validator = jsonschema::validator_for(schema).expect("the schema is one");
    let wrong: Vec<String> = validator.iter_errors(&value).map(|e| format!("{}: {e}", e.instance_path())).collect();
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn every_json_output_follows_the_schema_that_is_printed_for_it() {
    let demo = common::demo();
    let report = "Exhibitions/Tidal Light/Condition/Incoming/TL-006 incoming";
    let outputs: [(&str, &[&str]); 18] = [
        ("check", &["check"]),
        ("matrix", &["matrix"]),
        ("summary", &["matrix", "--summary"]),
        ("what", &["what", "ines.varga"]),
        ("who", &["who", "read", report]),
        ("why", &["why", "amara.zamora", "read", report]),
        ("why", &["why", "vesna.babic", "pay", "loan-004"]),
        ("why", &["why", "dagny.ekdal", "comment", "f-wall", "--remedies", "0"]),
        ("compare", &["compare", "bruno.tavares", "carys.penhale"]),
        ("compare", &["compare", "goran.maric", "group:conservators"]),
        ("reach", &["reach", "lenders-follow-their-loans"]),
        ("reach", &["reach", "sealed-on-the-gallery-network"]),
        ("try", &["try", "--drop", "entries.csv:43", "--join", "marisol.ferro:lab"]),
        ("diff", &["diff", "."]),
        ("audit", &["audit", "--fail-on", "never", "--by", "house"]),
        ("test", &["test", "--only", "lab-computes", "--coverage", "--through", "2027-01-01"]),
        ("turns", &["what", "amara.zamora", "--until-changes", "2027-06-01"]),
        ("who", &["who", "read", report, "--not", "--via", "--inactive"]),
    ];
    for (name, command) in outputs {
        let schema: Value = serde_json::from_str(&common::run_in(demo.path(), &["schema", name]).ok()).unwrap();
        let command: Vec<&str> = command.iter().copied().chain(["--format", "json", "--on", "2026-11-24"]).collect();
        let text = common::run_in(demo.path(), &command).ok();
        follows(&schema, &text);
        let value: Value = serde_json::from_str(&text).unwrap();
        assert_eq!(value["schema"], format!("bastide.{name}/1"));
        let mut broken = value;
        broken["schema"] = "something else".into();
        assert!(!jsonschema::is_valid(&schema, &broken), "a schema that everything follows is none");
    }
}

/// Of commands that end with bad news here, and of one that needs something to import.
#[test]
fn imports_and_what_is_verified_follow_theirs() {
    let schema = |name: &str| -> Value {
        serde_json::from_str(&common::run_in(Path::new("."), &["schema", name]).ok()).unwrap()
    };
    let demo = common::demo();
    let run = common::run_in(demo.path(), &["verify", "decisions.csv", "--format", "json", "--on", "2026-11-24"]);
    assert_eq!(run.status, 1, "{}", run.whole());
    follows(&schema("verify"), &run.out);
    let dir = tempfile::tempdir().unwrap();
    let write = |name: &str, text: &str| std::fs::write(dir.path().join(name), text).unwrap();
    let shown =
        common::shown_on("import-files.md", "file:///srv/share", "file:share.txt", "users = \"u\"\ngroups = \"g\"");
    write("bastide.toml", &format!("name = \"x\"\npolicy = [\"data/share/*.bastide\"]\n{shown}"));
    write("u", "ann:x:1:1:Ann:/:\n");
    write("g", "staff:x:1:\n");
    let list = "# file: share\n# owner: ann\n# group: staff\nuser::rwx\ngroup::r-x\nother::---\n";
    write("share.txt", list);
    for (list, write_it) in [(list.to_string(), true), (list.replace("group::r-x", "group::---"), false)] {
        write("share.txt", &list);
        let args: &[&str] =
            if write_it { &["import", "--format", "json", "--write"] } else { &["import", "--format", "json"] };
        follows(&schema("import"), &common::run_in(dir.path(), args).ok());
    }
}

#[test]
fn sarif_follows_the_standard() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/schemas/sarif-schema-2.1.0.json");
    let mut schema: Value = serde_json::from_str(&std::fs::read_to_string(path).unwrap()).unwrap();
    // As published, this pattern is no regular expression (a bracket too many); we write no language.
    for owner in ["run", "toolComponent"] {
        schema["definitions"][owner]["properties"]["language"].as_object_mut().unwrap().remove("pattern");
    }
    let mut results = 0;
    for (name, _, text) in bastide_testkit::texts(&common::mistakes(), ".txt") {
        let dir = common::case(&text);
        let sarif = common::run_in(dir.path(), &["check", "--format", "sarif", "--on", "2026-11-24"]);
        follows(&schema, &sarif.out);
        let value: Value = serde_json::from_str(&sarif.out).unwrap();
        let found = value["runs"][0]["results"].as_array().unwrap();
        assert!(!found.is_empty(), "{name}");
        results += found.len();
        for result in found {
            let rule = &value["runs"][0]["tool"]["driver"]["rules"][result["ruleIndex"].as_u64().unwrap() as usize];
            assert_eq!(rule["id"], result["ruleId"]);
        }
    }
    assert!(results > 150, "{results}");
}
