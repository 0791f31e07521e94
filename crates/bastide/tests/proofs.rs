//! `bastide test` and `try`: what must hold, what a change would do, and writing it into the files.

mod common;

use common::{case, demo, run_in};
use serde_json::Value;
use std::fs;

const ON: [&str; 2] = ["--on", "2026-11-24"];

#[test]
fn the_demos_tests_two_of_which_fail() {
    let demo = demo();
    let run = run_in(demo.path(), &[&["test"][..], &ON].concat());
    assert_eq!(run.status, 1);
    insta::assert_snapshot!("test_demo", run.out);
    let some = run_in(demo.path(), &[&["test", "--only", "courier*", "--only", "lab-*"][..], &ON].concat());
    assert_eq!(some.status, 1);
    assert_eq!(some.out.lines().filter(|l| l.starts_with("holds") || l.starts_with("FAILS")).count(), 5);
    let none = run_in(demo.path(), &["test", "--only", "curator-keeps-own-colection"]);
    assert_eq!(none.status, 2);
    assert!(none.err.contains("did you mean `curator-keeps-own-collection`?"), "{}", none.err);
    insta::assert_snapshot!(
        "test_coverage",
        run_in(demo.path(), &[&["test", "--coverage", "--only", "guests-take-nothing-away"][..], &ON].concat()).out
    );
}

#[test]
fn junit_says_the_same() {
    let demo = demo();
    let run = run_in(demo.path(), &[&["test", "--format", "junit"][..], &ON].concat());
    is_valid_junit(&run.out);
    let document = roxmltree::Document::parse(&run.out).expect("well-formed XML");
    let root = document.root_element();
    assert_eq!(
        (root.tag_name().name(), root.attribute("tests"), root.attribute("failures")),
        ("testsuites", Some("33"), Some("2"))
    );
    let suites: Vec<_> = root.children().filter(|n| n.is_element()).collect();
    assert!(suites.iter().all(|s| s.tag_name().name() == "testsuite" && s.attribute("name").is_some()));
    for suite in suites {
        let cases: Vec<_> = suite.children().filter(|n| n.is_element() && !n.has_tag_name("properties")).collect();
        let failed = cases.iter().filter(|c| c.children().any(|n| n.has_tag_name("failure"))).count();
        assert_eq!(suite.attribute("tests"), Some(cases.len().to_string().as_str()));
        assert_eq!(suite.attribute("failures"), Some(failed.to_string().as_str()));
        assert!(cases.iter().all(|c| c.has_tag_name("testcase")
            && c.attribute("name").is_some()
            && c.attribute("classname").is_some()));
    }
}

/// Valid by the schema; and what the schema forbids is found, or the check would say nothing.
fn is_valid_junit(text: &str) {
    let schema = uppsala::parse(include_str!("schemas/junit-10.xsd")).expect("a schema");
    let schema = uppsala::XsdValidator::from_schema(&schema).expect("a schema");
    let errors = |text: &str| -> Vec<String> {
        let document = uppsala::parse(text).expect("well-formed XML");
        schema.validate(&document).iter().map(ToString::to_string).collect()
    };
    assert_eq!(errors(text), Vec::<String>::new(), "{text}");
    for (old, new) in [(" failures=", " fallen="), (" classname=", " class="), ("<failure ", "<failure when=\"now\" ")]
    {
        assert!(!errors(&text.replacen(old, new, 2)).is_empty(), "{new} is not noticed");
    }
}

/// What is recorded of a person holds, is canonical, and fails once something is taken away.
#[test]
fn what_is_recorded_holds() {
    let demo = demo();
    for user in ["bruno.tavares", "amara.zamora", "renske.visser", "aoife.tierney"] {
        let text = run_in(demo.path(), &[&["test", "--record", user][..], &ON].concat()).ok();
        fs::write(demo.path().join("policy/recorded.bastide"), &text).unwrap();
        assert_eq!(run_in(demo.path(), &["fmt", "--check"]).status, 0, "{text}");
        let only = format!("{user}-as-of-2026-11-24");
        let run = run_in(demo.path(), &[&["test", "--only", &only][..], &ON].concat());
        assert_eq!(run.status, 0, "{}{}", run.out, run.err);
    }
    let lost = run_in(demo.path(), &[&["try", "--off", "directors-always-read"][..], &ON].concat());
    assert!(lost.out.contains("would no longer hold"), "{}", lost.out);
}

const DATED: &str = r#"
=== bastide.toml
policy = ["p.bastide"]
[[people]]
file = "people.csv"
[[catalog]]
file = "catalog.csv"
=== people.csv
id
ann
=== catalog.csv
id,parent,kind,name
r,,item,R
=== p.bastide
kind item
action read
action write
rule from-summer {
    who     user ann
    may     write
    what    anything
    from    2027-06-01
}
guarantee nobody-writes {
    none of anyone
    can     write
    what    anything
}
"#;

#[test]
fn a_guarantee_is_asked_for_later_days_too() {
    let dir = case(DATED);
    assert_eq!(run_in(dir.path(), &[&["test"][..], &ON].concat()).status, 0);
    assert_eq!(run_in(dir.path(), &[&["test", "--through", "2027-05-31"][..], &ON].concat()).status, 0);
    let run = run_in(dir.path(), &[&["test", "--through", "2027-06-01"][..], &ON].concat());
    assert_eq!(run.status, 1);
    insta::assert_snapshot!("test_later", run.out);
}

const LAYERED: &str = r#"=== bastide.toml
name = "Layered"
policy = ["p.bastide"]
[[people]]
file = "people.csv"
[[catalog]]
file = "catalog.csv"
[decide]
layers = ["item", "folder"]
=== people.csv
id
ann
ben
=== catalog.csv
id,parent,kind,name
r,,item,R
=== p.bastide
kind item
action read
rule annes-own { who user ann layer item may read what anything }
rule for-all { who anyone layer folder may read what anything }
"#;

#[test]
fn a_rule_for_one_user_may_hold_up_a_layer_for_everybody() {
    let dir = case(LAYERED);
    let run = run_in(dir.path(), &[&["try", "--off", "annes-own"][..], &ON].concat()).ok();
    assert!(run.contains("1 user on 1 resource: 1 gained") && run.contains("ben gains read"), "{run}");
}

#[test]
fn a_change_is_shown_and_nothing_is_written() {
    let demo = demo();
    let before = fs::read_to_string(demo.path().join("policy/staff.bastide")).unwrap();
    for (name, args) in [
        ("off", &["--off", "staff-read-what-is-internal"][..]),
        (
            "several",
            &[
                "--drop",
                "entries.csv:43",
                "--join",
                "marisol.ferro:lab",
                "--set",
                "resource:in-006.due_back=2027-05-12",
            ],
        ),
        ("nothing", &["--on-rule", "sealed-on-the-gallery-network", "--session", "network=gallery"]),
        ("audited", &["--leave", "group:image-desk:platform-helpers", "--drop", "entries.csv:72", "--audit"]),
        (
            "broken",
            &[
                "--except",
                "guests-never-take-away:amara.zamora",
                "--entry",
                "user:amara.zamora,may,export,f-incoming,under",
            ],
        ),
    ] {
        let run = run_in(demo.path(), &[&["try"][..], args, &ON].concat());
        assert_eq!(run.status, i32::from(name == "broken" || name == "off"), "{name}: {}", run.out);
        insta::assert_snapshot!(format!("try_{name}"), run.out);
    }
    assert_eq!(fs::read_to_string(demo.path().join("policy/staff.bastide")).unwrap(), before);
    for (args, message) in [
        (&["try"][..], "nothing to try"),
        (&["try", "--join", "bruno.tavares"], "is not of the form USER:GROUP"),
        (&["try", "--join", "bruno.tavares:conservators"], "is a member of `conservators` already"),
        (&["try", "--join", "bruno.tavares:cleared"], "the members of group `cleared` are computed"),
        (&["try", "--leave", "bruno.tavares:directors"], "is no direct member of `directors`"),
        (&["try", "--set", "user:bruno.tavares.huose=harbour"], "did you mean `house`?"),
        (&["try", "--set", "user:bruno.tavares.house=harbor"], "did you mean `harbour`?"),
        (&["try", "--off", "sealed-on-the-gallery-network"], "is off already"),
        (&["try", "--set", "resource:Press.due_back=2027-01-01"], "is no attribute of kind `stream`"),
    ] {
        let run = run_in(demo.path(), args);
        assert_eq!(run.status, 2, "{args:?}");
        assert!(run.err.contains(message), "{args:?}: {}", run.err);
    }
}

#[test]
fn policy_text_is_laid_over() {
    let demo = demo();
    let draft = demo.path().join("draft.txt");
    let put = |text: &str| fs::write(&draft, text).unwrap();
    let run = |more: &[&str]| run_in(demo.path(), &[&["try", "--add", "draft.txt"][..], more, &ON].concat());
    // A rule of a name that is there takes its place.
    put(
        "rule released-press-is-for-everybody {\n    because \"Released means released.\"\n    who anyone\n    may read\n    what anything under \"Press/Releases\" where resource.state = released\n}\n",
    );
    insta::assert_snapshot!("try_add_rule", run(&[]).ok());
    // A new action and a role change what names mean: everything is read anew.
    put(
        "action archive on item needs read\nrole archivist = read, archive\nrule archivists { who members of registrars may archive what item }\n",
    );
    insta::assert_snapshot!("try_add_action", run(&[]).ok());
    // A mistake is told at its place, and nothing is answered.
    put("rule r { who anyone may raed what anything }");
    let wrong = run(&[]);
    assert_eq!((wrong.status, wrong.out.as_str()), (3, ""));
    assert!(wrong.err.contains("draft.txt:1:25") && wrong.err.contains("did you mean `read`?"), "{}", wrong.err);
    // A guarantee that would not hold keeps it from being written.
    put("guarantee nobody-reads-essays { none of anyone can read what essay }");
    let refused = run(&["--write", "--far"]);
    assert_eq!(refused.status, 1);
    assert!(refused.err.contains("nothing is written: guarantee `nobody-reads-essays`"), "{}", refused.err);
    let policy = |name: &str| fs::read_to_string(demo.path().join("policy").join(name)).unwrap();
    assert!(!policy("vocabulary.bastide").contains("nobody-reads-essays"));
    let written = run(&["--write", "--anyway", "--far"]);
    assert!(written.out.contains("written: `policy/vocabulary.bastide`"), "{}", written.out);
    assert!(
        policy("vocabulary.bastide")
            .ends_with("guarantee nobody-reads-essays {\n    none of anyone\n    can     read\n    what    essay\n}\n")
    );
}

/// Everything in one call, written: comments, order and layout stay, and the files say what was tried.
#[test]
fn changes_are_written_where_they_stand() {
    let demo = demo();
    let root = demo.path();
    let read = |file: &str| fs::read_to_string(root.join(file)).unwrap();
    let files = [
        "data/catalog.csv",
        "data/entries.csv",
        "data/groups.csv",
        "data/staff.csv",
        "policy/exhibitions.bastide",
        "policy/staff.bastide",
    ];
    let before: Vec<String> = files.iter().map(|f| read(f)).collect();
    let args = [
        "try",
        "--write",
        "--format",
        "json",
        "--drop",
        "entries.csv:43",
        "--join",
        "marisol.ferro:lab",
        "--leave",
        "noor.haddad:registrars-deputies",
        "--set",
        "user:casper.vane.house=harbour",
        "--set",
        "resource:in-006.due_back=2027-05-12",
        "--set",
        "resource:Exhibitions/Tidal Light/Lender portal.inherits=yes",
        "--except",
        "no-changes-while-on-the-road:carys.penhale",
        "--off",
        "staff-comment-on-reviews",
        "--window",
        "entries.csv:55=..2027-03-31",
        "--entry",
        "user:amos.quist,may,read,w-board,at",
        "--far",
    ];
    let run = run_in(root, &[&args[..], &ON].concat());
    assert_eq!(run.status, 0, "{}", run.err);
    let trial: Value = serde_json::from_str(&run.out).unwrap();
    assert_eq!(trial["written"].as_array().unwrap().len(), files.len());
    let mut difference = String::new();
    for (file, old) in files.iter().zip(&before) {
        difference.push_str(&format!("{file}\n"));
        let new = read(file);
        let (a, b): (Vec<&str>, Vec<&str>) = (old.lines().collect(), new.lines().collect());
        let gone = a.iter().filter(|l| !b.contains(l)).map(|l| format!("  - {l}\n"));
        let come = b.iter().filter(|l| !a.contains(l)).map(|l| format!("  + {l}\n"));
        difference.extend(gone.chain(come));
    }
    insta::assert_snapshot!("try_written", difference);
    assert_eq!(run_in(root, &["fmt", "--check"]).status, 0);
    // Trying it again finds most of it done.
    let again = run_in(root, &[&["try", "--join", "marisol.ferro:lab"][..], &ON].concat());
    assert_eq!(again.status, 2);
    // What stands in a directory's export is left alone.
    let export = run_in(root, &[&["try", "--leave", "bjrn.thackeray:longshore", "--write"][..], &ON].concat());
    assert_eq!(export.status, 4);
    assert!(export.err.contains("is an export of a directory"), "{}", export.err);
}
