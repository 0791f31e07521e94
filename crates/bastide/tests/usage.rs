//! What the command line itself promises: names, statuses, colour, where the estate is.

mod common;

use common::{demo, run_in, run_with};

#[test]
fn names_are_forgiving_and_never_guessed() {
    let demo = demo();
    let run = |args: &[&str]| run_in(demo.path(), args);
    // A beginning helps on a terminal alone; see the tests there.
    for (name, args) in [
        ("begun_user", &["why", "ines.v", "read", "Governance/Policies"][..]),
        ("begun_path", &["why", "ines.varga", "read", "Governance/Pol"]),
        ("unknown_user", &["what", "ines.vagra"]),
        ("user_by_name", &["what", "thackeray"]),
        ("ambiguous_user", &["what", "bjrn"]),
        ("unknown_action", &["who", "raed", "Press"]),
        ("unknown_path", &["who", "read", "Exhibitions/Tidal Light/Transprot"]),
        ("unknown_place_by_name", &["who", "read", "TL-004"]),
        ("ambiguous_path", &["who", "read", "Exhibitions/Tidal Light/Transport/TL-00"]),
        ("unknown_kind", &["matrix", "--kind", "folders"]),
        ("unknown_session", &["what", "ines.varga", "--session", "netwrok=x"]),
        ("session_without_value", &["what", "ines.varga", "--session", "network"]),
        ("session_twice", &["what", "ines.varga", "--session", "network=a", "--session", "network=b"]),
        ("reasons_need_rows", &["matrix", "--reasons"]),
    ] {
        let run = run(args);
        assert_eq!((run.status, run.out.as_str()), (2, ""), "{name}");
        insta::assert_snapshot!(format!("usage_{name}"), run.err);
    }
    assert_eq!(run(&["what", "ines.varga", "--on", "2026-02-30"]).status, 2);
    assert_eq!(run(&["nothing"]).status, 2);
    assert_eq!(run(&["--help"]).status, 0);
}

#[test]
fn the_estate_is_found_upward_or_named() {
    let demo = demo();
    let inside = demo.path().join("policy");
    assert_eq!(run_in(&inside, &["check"]).status, 0);
    let empty = tempfile::tempdir().unwrap();
    let nowhere = run_in(empty.path(), &["check"]);
    assert_eq!(nowhere.status, 2);
    insta::assert_snapshot!("usage_no_estate", nowhere.err);
    let named = run_in(empty.path(), &["-C", demo.path().to_str().unwrap(), "check"]);
    assert_eq!(named.status, 0);
    let missing = run_in(empty.path(), &["-C", "nowhere", "check"]);
    assert_eq!((missing.status, missing.err.as_str()), (4, "error: there is no `bastide.toml` in `nowhere`\n"));
}

#[test]
fn colour_only_where_it_is_wanted() {
    let demo = demo();
    let args = ["why", "bruno.tavares", "read", "in-007", "--on", "2026-11-24"];
    let plain = run_in(demo.path(), &args).ok();
    assert!(!plain.contains('\u{1b}'));
    let always = [&args[..], &["--color", "always"]].concat();
    let coloured = run_in(demo.path(), &always).ok();
    assert!(coloured.contains("\u{1b}["));
    assert_eq!(bastide_rows::text::plain(&coloured), plain, "colour changes nothing else");
    let never = [&args[..], &["--color", "never"]].concat();
    assert_eq!(run_with(demo.path(), &never, &[("COLUMNS", "100")]).ok(), plain);
}

#[test]
fn the_same_input_gives_the_same_bytes_at_any_width() {
    let demo = demo();
    for columns in ["60", "100", "200"] {
        for command in [
            &["matrix"][..],
            &["what", "ines.varga"],
            &["who", "read", "in-007", "--not", "--via"],
            &["why", "bruno.tavares", "read", "in-007"],
            &["check"],
        ] {
            let command = [command, &["--on", "2026-11-24"]].concat();
            let once = run_with(demo.path(), &command, &[("COLUMNS", columns)]).ok();
            assert_eq!(once, run_with(demo.path(), &command, &[("COLUMNS", columns)]).ok());
            if matches!(command[0], "matrix" | "what") {
                let widest = once.lines().map(|l| l.chars().count()).max().unwrap();
                assert!(widest <= columns.parse().unwrap(), "{command:?} at {columns}: {widest}\n{once}");
            }
        }
    }
}

#[test]
fn a_reader_that_goes_away_is_no_fault() {
    use std::process::{Command, Stdio};
    let demo = demo();
    let mut child = Command::new(assert_cmd::cargo::cargo_bin("bastide"))
        .current_dir(demo.path())
        .args(["matrix", "--all", "--reasons", "--format", "csv"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(0), "{said}");
    assert!(!said.contains("error"), "{said}");
}
