//! What may be asked besides one user, one action and one resource: lists, stand-ins, several actions, other tables; and
//! what every answer says of itself.

mod common;

use common::{case, demo, run_in, run_with};
use serde_json::Value;
use std::collections::BTreeSet;
use std::path::Path;

const DAY: &str = "2026-11-24";

fn ask(dir: &Path, args: &[&str]) -> String {
    run_in(dir, &[args, &["--on", DAY]].concat()).ok()
}

fn json(dir: &Path, args: &[&str]) -> Value {
    serde_json::from_str(&ask(dir, &[args, &["--format", "json"]].concat())).expect("JSON")
}

fn rows(text: &str) -> Vec<Vec<String>> {
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    reader.records().map(|row| row.unwrap().iter().map(str::to_string).collect()).collect()
}

fn list(value: &Value) -> impl Iterator<Item = &Value> {
    value.as_array().into_iter().flatten()
}

#[test]
fn rules_and_entries_with_their_reach() {
    let demo = demo();
    insta::assert_snapshot!("rules", ask(demo.path(), &["rules", "--only", "*guest*", "--only", "sealed*"]));
    let all = json(demo.path(), &["rules"]);
    for name in ["lenders-follow-their-loans", "sealed-never-leaves", "data/entries.csv:43"] {
        let row = list(&all["statements"]).find(|r| r["name"] == name).unwrap();
        let reach = json(demo.path(), &["reach", name]);
        assert_eq!(
            (&row["triples"], row["users"].as_u64(), &row["resources"]),
            (&reach["triples"], Some(list(&reach["users"]).count() as u64), &reach["resources"]),
            "{name}"
        );
    }
    let by_reach = rows(&ask(demo.path(), &["rules", "--by", "reach", "--format", "csv"]));
    assert_eq!(by_reach.len(), list(&all["statements"]).count());
    let header = ask(demo.path(), &["rules", "--format", "csv"]).lines().next().unwrap().to_string();
    let at = header.split(',').position(|h| h == "triples").unwrap();
    let numbers: Vec<u64> = by_reach.iter().map(|r| r[at].parse().unwrap()).collect();
    assert!(numbers.is_sorted_by(|a, b| a >= b), "{numbers:?}");
}

#[test]
fn everything_known_of_a_name() {
    let demo = demo();
    insta::assert_snapshot!("about_user", ask(demo.path(), &["about", "bruno.tavares"]));
    insta::assert_snapshot!("about_group", ask(demo.path(), &["about", "group:conservators"]));
    insta::assert_snapshot!("about_place", ask(demo.path(), &["about", "Exhibitions/Tidal Light/Valuations"]));
    let here = json(demo.path(), &["about", "Press"]);
    for pair in list(&here["allowed"]) {
        let holders = json(demo.path(), &["who", pair[0].as_str().unwrap(), "Press"]);
        assert_eq!(holders["allowed"], pair[1], "{pair}");
    }
    for (name, says) in [
        ("sealed-never-leaves", "`bastide reach sealed-never-leaves`"),
        ("bruno.tavarez", "did you mean:\n    bruno.tavares"),
        ("group:conservatory", "did you mean:\n    conservators"),
    ] {
        let run = run_in(demo.path(), &["about", name]);
        assert!(run.status == 2 && run.err.contains(says), "{name}: {}", run.err);
    }
}

/// A persona, or a member of a group and nothing more, stands where a user may.
#[test]
fn somebody_who_is_not_there_yet() {
    let demo = demo();
    let persona = "persona:stand-in-registrar";
    let own = json(demo.path(), &["why", persona, "read", "Exhibitions/Tidal Light/Transport/TL-013"]);
    assert_eq!((&own["allowed"], &own["user"]["id"]), (&true.into(), &"stand-in-registrar".into()));
    let values: Vec<String> = list(&json(demo.path(), &["what", persona])["attributes"])
        .map(|a| format!("{}={} {}", a["name"], a["value"], a["from"]))
        .collect();
    assert!(values.iter().any(|v| v.contains("island") && v.contains("policy/proofs.bastide")), "{values:?}");
    // Whatever a group gives, its stand-in has; a person of the group has it, too, but for what is taken from the person.
    let pairs = |who: &str| -> BTreeSet<(String, String)> {
        let all = rows(&ask(demo.path(), &["matrix", "--users", who, "--format", "csv"]));
        all.into_iter()
            .flat_map(|r| r[2].split(';').map(|a| (r[1].clone(), a.to_string())).collect::<Vec<_>>())
            .collect()
    };
    let stand_in = json(demo.path(), &["what", "group:couriers"]);
    let counted: u64 = list(&stand_in["counts"])
        .flat_map(|c| list(&c["allowed"]).map(|p| p[1].as_u64().unwrap()).collect::<Vec<_>>())
        .sum();
    let member = pairs("tomas.lindqvist");
    assert!(counted > 0 && counted <= member.len() as u64, "{counted} of {}", member.len());
    let members = rows(&ask(demo.path(), &["matrix", "--users", "group:couriers", "--format", "csv"]));
    let users: BTreeSet<&String> = members.iter().map(|r| &r[0]).collect();
    assert_eq!(users.len(), 9);
    // Nothing of it is left in the answer on everybody.
    let everybody = ask(demo.path(), &["matrix", "--summary"]);
    assert!(everybody.contains("120"), "{everybody}");
    let run = run_in(demo.path(), &["why", "persona:nobody", "read", "Press"]);
    assert!(run.status == 2 && run.err.contains("persona"), "{}", run.err);
}

#[test]
fn several_actions_or_a_role_at_once() {
    let demo = demo();
    let who = |action: &str| -> BTreeSet<String> {
        let answer = json(demo.path(), &["who", action, "Exhibitions/Tidal Light/Texts"]);
        list(&answer["by"]).flat_map(|b| list(&b["users"]).map(|u| u["user"].to_string()).collect::<Vec<_>>()).collect()
    };
    let (read, update, both) = (who("read"), who("update"), who("read,update"));
    assert_eq!(both, read.intersection(&update).cloned().collect());
    assert!(!both.is_empty() && both.len() < read.len());
    let author = who("author");
    let each = ["read", "comment", "update", "create"].map(who);
    // Of a role those of its actions count that have a meaning there.
    let expected = each.iter().filter(|s| !s.is_empty()).fold(read, |all, s| all.intersection(s).cloned().collect());
    assert_eq!(author, expected);
    let run = run_in(demo.path(), &["who", "read,fly", "Press"]);
    assert!(run.status == 2 && run.err.contains("`fly`"), "{}", run.err);
}

#[test]
fn other_tables() {
    let demo = demo();
    insta::assert_snapshot!(
        "matrix_users_down",
        ask(
            demo.path(),
            &["matrix", "--rows", "users", "--users", "group:couriers", "--under", "Press", "--also", "Governance"]
        )
    );
    let several = json(demo.path(), &["matrix", "--under", "Press", "--under", "Facilities", "--depth", "1", "--all"]);
    let paths: Vec<&str> = list(&several["rows"]).map(|r| r["path"].as_str().unwrap()).collect();
    assert!(paths.iter().all(|p| p.starts_with("Press") || p.starts_with("Facilities")), "{paths:?}");
    for top in ["Press", "Facilities"] {
        assert!(paths.contains(&top), "{paths:?}");
    }
    let also = json(demo.path(), &["matrix", "--under", "Press", "--also", "Governance/Board", "--all"]);
    assert!(list(&also["rows"]).any(|r| r["path"] == "Governance/Board"));
    // A list has a row a user and resource, whichever way a table would lie.
    let list = run_in(demo.path(), &["matrix", "--rows", "users", "--format", "csv"]);
    assert!(list.status == 2 && list.err.contains("--rows users"), "{}", list.err);
}

#[test]
fn answers_as_rows() {
    let demo = demo();
    let who = rows(&ask(demo.path(), &["who", "read", "Press", "--format", "csv"]));
    let told = json(demo.path(), &["who", "read", "Press"]);
    assert_eq!(who.len() as u64, told["allowed"].as_u64().unwrap());
    let what = rows(&ask(demo.path(), &["what", "bruno.tavares", "--format", "csv"]));
    assert!(!what.is_empty() && what.iter().any(|r| r[3].contains("read")), "{what:?}");
    let compare = rows(&ask(demo.path(), &["compare", "bruno.tavares", "ines.varga", "--format", "csv"]));
    let told = json(demo.path(), &["compare", "bruno.tavares", "ines.varga"]);
    let pairs = |side: &str| -> u64 { list(&told[side]).map(|a| a["pairs"].as_u64().unwrap()).sum() };
    let of_rows: u64 = compare.iter().map(|r| r[3].parse::<u64>().unwrap()).sum();
    assert_eq!(of_rows, pairs("only_left") + pairs("only_right"));
}

/// Estate, checksum, day, zone, session, question and version stand in every answer for programs.
#[test]
fn an_answer_says_what_it_is_about() {
    let demo = demo();
    let dir = demo.path();
    let answers: [&[&str]; 9] = [
        &["matrix"],
        &["what", "ines.varga"],
        &["who", "read", "Press"],
        &["why", "ines.varga", "read", "Press"],
        &["compare", "ines.varga", "bruno.tavares"],
        &["reach", "sealed-never-leaves"],
        &["rules"],
        &["audit", "--fail-on", "never"],
        &["try", "--join", "bruno.tavares:couriers"],
    ];
    let of = |value: &Value| value["about"].clone();
    let mut sums = BTreeSet::new();
    for args in answers {
        let about = of(&json(dir, &[args, &["--zone", "Atlantic/Azores"]].concat()));
        assert_eq!((&about["estate"], &about["day"]), (&"Four Tides Museums".into(), &DAY.into()), "{args:?}");
        assert_eq!((&about["zone"], &about["asked"][0]), (&"Atlantic/Azores".into(), &args[0].into()), "{args:?}");
        assert_eq!(about["version"], env!("CARGO_PKG_VERSION"));
        sums.insert(about["checksum"].to_string());
    }
    assert_eq!(sums.len(), 1, "one estate, one checksum");
    let whole = |text: &str| -> Vec<String> {
        let about = of(&serde_json::from_str::<Value>(text).unwrap());
        ["estate", "checksum", "day", "zone", "version"].map(|k| about[k].as_str().unwrap().to_string()).to_vec()
    };
    let told = whole(&ask(dir, &["rules", "--format", "json"]));
    // Forms that hold keys and values, and the page.
    let sarif = run_in(dir, &["audit", "--format", "sarif", "--fail-on", "never", "--on", DAY]).ok();
    let junit = run_in(dir, &["test", "--format", "junit", "--on", DAY]).out;
    let report = ask(dir, &["report"]).replace("&#x2f;", "/");
    for (form, text) in [("SARIF", &sarif), ("JUnit", &junit), ("report", &report)] {
        for value in &told {
            assert!(text.contains(value.as_str()), "{form} does not say `{value}`");
        }
    }
    // Rows say it in a file beside them, which names them by their checksum.
    ask(dir, &["matrix", "--format", "csv", "-o", "m.csv"]);
    ask(dir, &["matrix", "--format", "jsonl", "-o", "m.jsonl"]);
    ask(dir, &["who", "read", "Press", "--format", "csv", "-o", "w.csv"]);
    for file in ["m.csv", "m.jsonl", "w.csv"] {
        let beside = std::fs::read_to_string(dir.join(format!("{file}.about.json"))).unwrap();
        assert_eq!(whole(&beside), told, "{file}");
        let value: Value = serde_json::from_str(&beside).unwrap();
        assert_eq!((&value["schema"], &value["file"]), (&"bastide.beside/1".into(), &file.into()));
        let sum = std::process::Command::new("sha256sum").arg(dir.join(file)).output().unwrap().stdout;
        let sum = String::from_utf8(sum).unwrap();
        assert_eq!(value["checksum"], format!("sha256:{}", sum.split(' ').next().unwrap()), "{file}");
    }
    // Another day, another session, another text: another answer.
    let text = std::fs::read_to_string(dir.join("data/staff.csv")).unwrap();
    std::fs::write(dir.join("data/staff.csv"), format!("{text}\n")).unwrap();
    assert_ne!(whole(&ask(dir, &["rules", "--format", "json"]))[1], told[1]);
    let session = json(dir, &["rules", "--session", "ticket=TL-020"]);
    assert_eq!(session["about"]["session"][0], "ticket=TL-020");
}

/// A repository around the estate is named, and whether files in it differ.
#[test]
fn an_answer_names_the_commit() {
    let demo = demo();
    let repository = git2::Repository::init(demo.path()).unwrap();
    let mut index = repository.index().unwrap();
    index.add_all(["*"], git2::IndexAddOption::DEFAULT, None).unwrap();
    index.write().unwrap();
    let tree = repository.find_tree(index.write_tree().unwrap()).unwrap();
    let nadia = git2::Signature::now("Nadia Quayle", "nadia@fourtides.example").unwrap();
    let commit = repository.commit(Some("HEAD"), &nadia, &nadia, "The estate", &tree, &[]).unwrap();
    let about = &json(demo.path(), &["rules"])["about"];
    assert_eq!((&about["revision"], &about["modified"]), (&commit.to_string().into(), &false.into()));
    std::fs::write(demo.path().join("policy/draft.bastide"), "").unwrap();
    assert_eq!(json(demo.path(), &["rules"])["about"]["modified"], true);
}

/// Devices and pipes are written through, `-` is the output, and a run that is ended leaves nothing behind.
#[cfg(unix)]
#[test]
fn output_goes_where_it_is_sent() {
    let demo = demo();
    let dir = demo.path();
    let rules = ask(dir, &["rules"]);
    assert_eq!(ask(dir, &["rules", "-o", "-"]), rules);
    assert_eq!(ask(dir, &["rules", "-o", "/dev/stdout"]), rules);
    assert_eq!(ask(dir, &["rules", "-o", "/dev/null"]), "");
    assert!(!std::fs::metadata("/dev/null").unwrap().is_file());
    let pipe = dir.join("pipe");
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    let from = pipe.clone();
    let reader = std::thread::spawn(move || std::fs::read_to_string(from).unwrap());
    ask(dir, &["rules", "-o", "pipe"]);
    assert_eq!(reader.join().unwrap(), rules);
    assert!(!std::fs::metadata(&pipe).unwrap().is_file());
    // A file behind a link is written, the link stays.
    std::os::unix::fs::symlink("real.txt", dir.join("link.txt")).unwrap();
    ask(dir, &["rules", "-o", "link.txt"]);
    assert!(std::fs::symlink_metadata(dir.join("link.txt")).unwrap().is_symlink());
    assert_eq!(std::fs::read_to_string(dir.join("real.txt")).unwrap(), rules);
}

#[cfg(unix)]
#[test]
fn a_run_that_is_ended_leaves_nothing_behind() {
    use std::os::unix::process::ExitStatusExt;
    let demo = demo();
    let names = || -> BTreeSet<std::ffi::OsString> {
        std::fs::read_dir(demo.path()).unwrap().map(|e| e.unwrap().file_name()).collect()
    };
    let before = names();
    let mut ended = 0;
    for (signal, wait) in [("-TERM", 400), ("-INT", 600), ("-TERM", 900), ("-INT", 1300)] {
        let mut child = std::process::Command::new(assert_cmd::cargo::cargo_bin("bastide"))
            .args(["matrix", "--all", "--reasons", "--format", "csv", "-o", "all.csv"])
            .current_dir(demo.path())
            .spawn()
            .unwrap();
        // It is ended while the file that will be `all.csv` is being written, or a fixed time later.
        for _ in 0..wait {
            if names() != before {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(1));
        }
        std::process::Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap();
        let status = child.wait().unwrap();
        if status.success() {
            std::fs::remove_file(demo.path().join("all.csv")).unwrap();
            let _ = std::fs::remove_file(demo.path().join("all.csv.about.json"));
        } else {
            ended += 1;
            assert!(status.code().is_some_and(|c| c > 128) || status.signal().is_some(), "{status:?}");
        }
        assert_eq!(names(), before, "{signal} after {wait}");
    }
    assert!(ended > 0, "no run was ended in time");
}

/// What whoever started the run asked it to ignore, it ignores.
#[cfg(target_os = "linux")]
#[test]
fn a_run_that_is_to_outlive_its_terminal_does() {
    let demo = demo();
    let program = assert_cmd::cargo::cargo_bin("bastide");
    for (ignored, ends) in [("HUP", false), ("USR1", true)] {
        // The pipe holds the run until the signal has come.
        let line = format!("trap '' {ignored}; exec '{}' -q matrix --all --reasons --format csv", program.display());
        let mut shell = std::process::Command::new("sh");
        let mut child =
            shell.args(["-c", &line]).current_dir(demo.path()).stdout(std::process::Stdio::piped()).spawn().unwrap();
        let mut out = child.stdout.take().unwrap();
        let mut first = [0; 1];
        std::io::Read::read_exact(&mut out, &mut first).unwrap();
        std::process::Command::new("kill").args(["-HUP", &child.id().to_string()]).status().unwrap();
        if ends {
            // Nobody reads on: only the signal ends it, however busy the machine is.
            let patient = std::time::Instant::now();
            while child.try_wait().unwrap().is_none() && patient.elapsed() < std::time::Duration::from_secs(60) {
                std::thread::sleep(std::time::Duration::from_millis(10));
            }
        } else {
            std::thread::sleep(std::time::Duration::from_millis(300));
        }
        std::io::copy(&mut out, &mut std::io::sink()).unwrap();
        assert_eq!(child.wait().unwrap().success(), !ends, "{ignored}");
    }
}

#[test]
fn options_stand_where_they_are_typed() {
    let demo = demo();
    let dir = demo.path();
    let after = ask(dir, &["what", "ulla.fairweather", "--session", "ticket=TL-020"]);
    let before = ["--on", DAY, "--session", "ticket=TL-020", "what", "ulla.fairweather"];
    assert_eq!(run_in(dir, &before).ok(), after);
    assert_ne!(ask(dir, &["what", "ulla.fairweather"]), after);
    // The estate by a variable, by its folder, by its manifest.
    let elsewhere = tempfile::tempdir().unwrap();
    let manifest = dir.join("bastide.toml");
    for given in [dir, manifest.as_path()] {
        let given = given.to_str().unwrap();
        let run = run_with(elsewhere.path(), &["rules", "--on", DAY], &[("BASTIDE_ESTATE", given), ("COLUMNS", "100")]);
        assert_eq!(run.ok(), ask(dir, &["rules"]));
        assert_eq!(run_in(elsewhere.path(), &["-C", given, "rules", "--on", DAY]).ok(), ask(dir, &["rules"]));
    }
    // Quiet: the answer, and not a word beside it; but what went wrong is said.
    assert!(!run_in(dir, &["rules"]).err.is_empty());
    assert_eq!(run_in(dir, &["-q", "rules"]).err, "");
    assert!(run_in(dir, &["-q", "who", "fly", "Press"]).err.contains("`fly`"));
    let zone = run_in(dir, &["--zone", "Nowhere/Land", "rules"]);
    assert!(zone.status == 2 && zone.err.contains("Nowhere/Land"), "{}", zone.err);
    // It is already tomorrow in one zone, and still today in another.
    let day = |zone: &str| -> String {
        let run = run_in(dir, &["rules", "--format", "json", "--zone", zone]).ok();
        serde_json::from_str::<Value>(&run).unwrap()["about"]["day"].as_str().unwrap().to_string()
    };
    assert_ne!(day("Etc/GMT-14"), day("Etc/GMT+12"));
}

#[test]
fn colour_by_the_usual_variables() {
    let demo = demo();
    let coloured = |args: &[&str], variables: &[(&str, &str)]| {
        run_with(demo.path(), &[args, &["why", "ines.varga", "read", "Press"]].concat(), variables)
            .ok()
            .contains('\u{1b}')
    };
    assert!(!coloured(&[], &[]));
    assert!(coloured(&[], &[("CLICOLOR_FORCE", "1")]));
    assert!(!coloured(&[], &[("CLICOLOR_FORCE", "1"), ("NO_COLOR", "1")]));
    assert!(coloured(&["--color", "always"], &[("NO_COLOR", "1")]));
    assert!(!coloured(&["--color", "never"], &[("CLICOLOR_FORCE", "1")]));
}

/// A role that nothing may change.
#[test]
fn a_locked_role_stays_as_it_is() {
    let dir = case(
        "=== bastide.toml\npolicy = [\"p.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n\
         === p.bastide\nkind stream\naction read\naction update\nrole reader = read locked\n\
         rule all { who anyone may reader what anything }\n\
         === people.csv\nid\nada\n=== catalog.csv\nid,parent,kind,name\ns,,stream,S\n",
    );
    assert_eq!(run_in(dir.path(), &["check"]).status, 0, "{}", run_in(dir.path(), &["check"]).whole());
    std::fs::write(dir.path().join("wider.txt"), "role reader = read, update\n").unwrap();
    let run = run_in(dir.path(), &["try", "--add", "wider.txt"]);
    assert!(run.status != 0 && run.err.contains("locked"), "{}", run.whole());
    let second = std::fs::read_to_string(dir.path().join("p.bastide")).unwrap() + "role reader = update\n";
    std::fs::write(dir.path().join("p.bastide"), second).unwrap();
    let run = run_in(dir.path(), &["check"]);
    assert!(run.status == 3 && run.whole().contains("reader"), "{}", run.whole());
}

/// A user or an item that is to come: tried before it is there, and the same once it is.
#[test]
fn what_is_to_come_is_tried() {
    let demo = demo();
    let dir = demo.path();
    let user = ["--add-user", "id=nina.holt,house=harbour,clearance=sealed", "--join", "nina.holt:registrars"];
    let item = [
        "--add-resource",
        "id=val-900,parent=Exhibitions/Tidal Light/Valuations,kind=valuation,\"name=TL-900, on paper\"",
    ];
    insta::assert_snapshot!("try_newcomer", ask(dir, &[&["try"][..], &user].concat()));
    let tried = |args: &[&str]| json(dir, &[&["try"][..], args].concat());
    let (with_user, with_item) = (tried(&user), tried(&item));
    assert_eq!(with_user["newcomers"], serde_json::json!(["user nina.holt"]));
    assert!(json(dir, &["rules"])["about"]["modified"].is_null(), "nothing is written");
    assert_eq!(run_in(dir, &["what", "nina.holt"]).status, 2, "nobody has come yet");
    // A rule that is tried with it meets the newcomer.
    std::fs::write(dir.join("more.txt"), "rule more { who user nina.holt may read what anything at \"Facilities\" }\n")
        .unwrap();
    let more = tried(&[&user[..], &["--add", "more.txt"]].concat());
    assert!(more["radius"]["gained"].as_u64() > with_user["radius"]["gained"].as_u64(), "{more}");
    ask(dir, &[&["try"][..], &user, &["--write"]].concat());
    ask(dir, &[&["try"][..], &item, &["--write", "--far"]].concat());
    let own = rows(&ask(dir, &["matrix", "--users", "nina.holt", "--format", "csv"]));
    let pairs: usize = own.iter().filter(|r| r[1] != "val-900").map(|r| r[2].split(';').count()).sum();
    assert_eq!(with_user["radius"]["gained"], pairs);
    let readers = json(dir, &["who", "read", "Exhibitions/Tidal Light/Valuations/TL-900, on paper"]);
    let gained = list(&with_item["blocks"]["list"]).filter(|b| list(&b["actions"]).any(|a| a == "read"));
    let readers_tried: usize = gained.map(|b| list(&b["users"]).count()).sum();
    assert_eq!(readers["allowed"], readers_tried);
    // What cannot be is said, with its place.
    for (args, status, says) in [
        (["--add-user", "name=Nobody"], 2, "gives no `id`"),
        (["--add-user", "id=ines.varga"], 3, "stands twice"),
        (["--add-user", "id=new,clearence=sealed"], 3, "unknown column `clearence`"),
        (["--add-resource", "id=new,parent=Press,kind=imago"], 3, "unknown kind `imago`"),
        (["--add-resource", "id=new,parent=Pres/s,kind=image"], 2, "Pres/s"),
        (["--add-resource", "id=new,id=old"], 2, "twice"),
    ] {
        let run = run_in(dir, &[&["try"][..], &args].concat());
        assert!(run.status == status && run.err.contains(says), "{args:?}: {}", run.whole());
    }
}

/// A user who is called like a group with its word before it is not taken for a member of the group.
#[test]
fn a_user_called_like_a_stand_in_is_not_taken_for_it() {
    let demo = demo();
    let people = demo.path().join("data/staff.csv");
    let text = std::fs::read_to_string(&people).unwrap();
    std::fs::write(&people, format!("{text}group:couriers,,,,,,,\n")).unwrap();
    let run = run_in(demo.path(), &["why", "group:couriers", "read", "Press"]);
    assert!(run.status == 2 && run.err.contains("is the id of a user, too"), "{}", run.whole());
}

#[test]
fn a_computed_group_counts_its_members() {
    let demo = demo();
    let about = ask(demo.path(), &["about", "harbour-night"]);
    assert!(about.contains("members, nested ones among them  2"), "{about}");
    let lacking = json(demo.path(), &["about", "cleared"]);
    let reached = json(demo.path(), &["what", "group:cleared"]);
    assert!(list(&lacking["facts"]).any(|fact| fact[0] == "computed") && reached["user"] == "group:cleared");
}
