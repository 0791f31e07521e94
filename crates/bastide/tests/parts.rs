//! `bastide matrix` over a catalog in parts: what it says is what it says of the whole.

mod common;

use common::{demo, run_in};
use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

/// The demo with what lies in no container and is made of nothing cut into three parts, by the place it lies in.
fn in_parts() -> tempfile::TempDir {
    let demo = demo();
    let data = demo.path().join("data");
    let text = fs::read_to_string(data.join("catalog.csv")).expect("the demo has a catalog");
    let policy: String = fs::read_dir(demo.path().join("policy"))
        .expect("it has rules")
        .map(|entry| fs::read_to_string(entry.expect("a file").path()).expect("a text"))
        .collect();
    let manifest = fs::read_to_string(demo.path().join("bastide.toml")).expect("it has a manifest");
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let header = reader.headers().expect("a header").clone();
    let column = |name: &str| header.iter().position(|other| other == name).expect("a column");
    let (id, parent, name, sources) = (column("id"), column("parent"), column("name"), column("sources"));
    let rows: Vec<csv::StringRecord> = reader.records().map(|row| row.expect("a row")).collect();
    let mut hold: BTreeSet<&str> = rows.iter().map(|row| &row[parent]).collect();
    hold.extend(rows.iter().flat_map(|row| row[sources].split(';')));
    let mut tables: Vec<csv::Writer<Vec<u8>>> = (0..4).map(|_| csv::Writer::from_writer(Vec::new())).collect();
    tables.iter_mut().for_each(|table| table.write_record(&header).expect("in memory"));
    for row in &rows {
        // What a rule or the manifest names stays among what all parts share.
        let named =
            |text: &str| policy.contains(&format!("/{}\"", &row[name])) || text.contains(&format!("\"{}\"", &row[id]));
        let stays = hold.contains(&row[id]) || named(&policy) || named(&manifest);
        let at = if stays { 0 } else { 1 + row[parent].bytes().map(usize::from).sum::<usize>() % 3 };
        tables[at].write_record(row).expect("in memory");
    }
    for (at, table) in tables.into_iter().enumerate() {
        let name = if at == 0 { "catalog.csv".to_string() } else { format!("part-{at}.csv") };
        fs::write(data.join(name), table.into_inner().expect("in memory")).expect("a file");
    }
    fs::write(
        demo.path().join("bastide.toml"),
        format!("{manifest}\n[[catalog]]\nfile = \"data/part-*.csv\"\nparts = true\n"),
    )
    .expect("a file");
    demo
}

fn matrix(dir: &Path, args: &[&str]) -> String {
    run_in(dir, &[&["matrix"], args, &["--on", "2026-11-24"]].concat()).ok()
}

fn sorted(text: &str) -> Vec<&str> {
    let mut lines: Vec<&str> = text.lines().collect();
    lines[1..].sort_unstable();
    lines
}

#[test]
fn every_list_and_total_is_that_of_the_whole() {
    let (whole, parts) = (demo(), in_parts());
    for args in [
        &["--format", "csv", "--all"][..],
        &["--format", "csv", "--reasons", "--users", "bruno.tavares,group:directors"],
        &["--format", "csv", "--under", "Exhibitions/Tidal Light", "--action", "read", "--depth", "3"],
        &["--format", "csv", "--kind", "report", "--also", "Press"],
        &["--totals", "users"],
        &["--totals", "resources"],
    ] {
        let (wanted, found) = (matrix(whole.path(), args), matrix(parts.path(), args));
        assert_eq!(sorted(&found), sorted(&wanted), "{args:?}");
        assert!(found.lines().count() > 5, "{args:?}");
    }
    let lines = |dir: &Path| {
        let text = matrix(dir, &["--format", "jsonl", "--users", "bruno.tavares"]);
        text.lines().map(str::to_string).collect::<BTreeSet<String>>()
    };
    assert_eq!(lines(parts.path()), lines(whole.path()));
    let summary = |dir: &Path| {
        let mut value: serde_json::Value =
            serde_json::from_str(&matrix(dir, &["--summary", "--format", "json"])).unwrap();
        for changes in ["about", "seconds", "peak_bytes"] {
            value.as_object_mut().unwrap().remove(changes);
        }
        value
    };
    assert_eq!(summary(parts.path()), summary(whole.path()));
    // Whatever reads all parts together says the same of itself.
    let checksum = |args: &[&str]| {
        let value: serde_json::Value = serde_json::from_str(&matrix(parts.path(), args)).unwrap();
        value["about"]["checksum"].as_str().unwrap().to_string()
    };
    assert_eq!(checksum(&["--summary", "--format", "json"]), checksum(&["--depth", "1", "--format", "json"]));
    // To a file, with what it is about beside it.
    matrix(parts.path(), &["--format", "csv", "-o", "access.csv"]);
    assert!(parts.path().join("access.csv.about.json").is_file());
}

#[test]
fn a_mistake_in_the_last_part_is_told_before_the_first_is_answered() {
    let parts = in_parts();
    let last = parts.path().join("data/part-3.csv");
    let text = fs::read_to_string(&last).unwrap();
    let row = text.lines().nth(1).unwrap();
    fs::write(parts.path().join("data/part-4.csv"), format!("{}\n{row}\n", text.lines().next().unwrap())).unwrap();
    for args in [&["--format", "csv"][..], &["--summary"], &["--totals", "users"]] {
        let output = run_in(parts.path(), &[&["matrix"], args].concat());
        assert_eq!((output.status, output.out.as_str()), (3, ""), "{args:?}");
        assert!(output.err.contains("stands twice"), "{}", output.err);
    }
    let parts = in_parts();
    let output = run_in(parts.path(), &["matrix", "--format", "csv", "--users", "persona:stand-in-registrar"]);
    assert!(output.status == 2 && output.err.contains("is no user of the estate"), "{}", output.err);
    let output = run_in(parts.path(), &["matrix", "--format", "csv", "--under", "Nowhere"]);
    assert!(output.status == 2 && output.err.contains("Nowhere"), "{}", output.err);
}

/// Where the other program is not there, that is said, with what to do.
#[test]
fn questions_in_sql_want_a_program_of_their_own() {
    let demo = demo();
    let alone = tempfile::tempdir().unwrap();
    let program = alone.path().join("bastide");
    fs::copy(assert_cmd::cargo::cargo_bin("bastide"), &program).unwrap();
    let ask = |path: &Path| {
        let mut command = std::process::Command::new(&program);
        command.args(["sql", "--on", "2026-11-24", "--format", "csv", "select 1"]);
        command.current_dir(demo.path()).env("PATH", path).output().unwrap()
    };
    let output = ask(Path::new("/nowhere"));
    assert_eq!(output.status.code(), Some(4));
    assert!(String::from_utf8_lossy(&output.stderr).contains("`bastide-sql` is not installed"));
    // It is started with the folder, the day and the question, and ends as it does.
    let other = alone.path().join("bastide-sql");
    fs::write(&other, "#!/bin/sh\nprintf '%s\\n' \"$@\"\nexit 3\n").unwrap();
    let mut permissions = fs::metadata(&other).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut permissions, 0o755);
    fs::set_permissions(&other, permissions).unwrap();
    let output = ask(Path::new("/usr/bin:/bin"));
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert_eq!(output.status.code(), Some(3), "{told}");
    for word in
        ["--estate", "--on", "2026-11-24", "--limit-rows", "1000000", "--format", "csv", "--program", "--", "select 1"]
    {
        assert!(told.lines().any(|line| line == word), "{word}: {told}");
    }
}

/// What a cluster says is believed where it is whole: every piece, once, of the estate that was asked about.
#[cfg(unix)]
#[test]
fn of_a_cluster_only_what_is_whole_is_believed() {
    use bastide_formats::pieces::{Holds, Message};
    use std::os::unix::fs::PermissionsExt;
    let dir = in_parts();
    // A stand-in for the program that asks a cluster: it says what lies beside it.
    let folder = tempfile::tempdir().expect("a temporary folder");
    let program = folder.path().join("bastide-sql");
    fs::write(
        &program,
        "#!/bin/sh\ncat > /dev/null\ncat \"$(dirname \"$0\")/messages\"\nexit $(cat \"$(dirname \"$0\")/status\")\n",
    )
    .expect("a file");
    fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).expect("it may be run");
    let path = format!("{}:{}", folder.path().display(), std::env::var("PATH").expect("there is a path"));
    let said = |messages: &[(u32, Holds, &str)], cut: usize, status: &str, args: &[&str]| {
        let mut bytes = Vec::new();
        for (piece, holds, text) in messages {
            Message::write(*piece, *holds, text.as_bytes(), &mut bytes).expect("in memory");
        }
        bytes.truncate(bytes.len() - cut);
        fs::write(folder.path().join("messages"), bytes).expect("a file");
        fs::write(folder.path().join("status"), status).expect("a file");
        let all = [&["matrix", "--on", "2026-11-24", "--cluster", "127.0.0.1:1"], args].concat();
        let run = common::run_with(dir.path(), &all, &[("PATH", &path)]);
        assert_eq!(run.out, "", "no number is given");
        (run.status, run.err)
    };
    let users = &["--totals", "users"][..];
    let (some, end) = (Holds::Some, Holds::End);
    let whole = [(0, some, "[]"), (0, end, ""), (1, some, "[]"), (1, end, ""), (2, some, "[]"), (2, end, "")];
    for (messages, cut, args, told) in [
        (&[][..], 0, users, "it has 0 of 4 pieces"),
        (&whole, 0, users, "it has 3 of 4 pieces"),
        (&whole, 1, users, "the cluster's answer cannot be used"),
        (&[(0, some, "[]"), (0, end, ""), (0, end, "")], 0, users, "piece 0 comes twice"),
        (
            &[(0, some, "[[\"a\",[0,0,0,0,0,0,0,0,0,0,0]]]"), (0, end, ""), (1, some, "[]"), (1, end, "")],
            0,
            users,
            "it is about other users",
        ),
        (&[(0, some, "no JSON"), (0, end, "")], 0, users, "the cluster's answer cannot be used"),
        (&[(0, some, "[[\"a\",[1]]]"), (0, end, "")], 0, users, "it is about other actions"),
        (&[(0, Holds::Prints, "0123456789abcdef")], 0, users, "rows that nobody asked for"),
        (&[(0, Holds::Prints, "0123456789abcde")], 0, &["--summary"], "a fingerprint is cut"),
        (
            &[
                (0, some, "{\"allowed\":[],\"reasons\":[0,0,0,0,0,0,0],\"users\":[],\"by_kind\":[],\"entries\":0}"),
                (0, end, ""),
            ],
            0,
            &["--summary"],
            "it is about another estate",
        ),
        (&[&whole[..], &[(3, some, "[]"), (3, end, "")]].concat(), 0, &["--totals", "resources"], "it counts 0 of "),
    ] {
        let (status, err) = said(messages, cut, "0", args);
        assert!(status == 4 && err.contains(told), "{told}: {status}, {err}");
    }
    // Where the program itself has said what is wrong, its status is passed on, and nothing is added.
    let (status, err) = said(&[], 0, "3", users);
    assert!(status == 3 && !err.contains("error"), "{status}, {err}");
}
