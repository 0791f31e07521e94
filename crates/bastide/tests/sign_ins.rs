//! How users sign in: everybody is evaluated as they do, from whatever file it is told.

mod common;

use common::{Run, demo, run_in};
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use tempfile::TempDir;

const ON: [&str; 2] = ["--on", "2026-11-24"];

const LOG: &str = "user,when,network,ticket,device\n\
    lorcan.daly,2026-11-20T19:00:00Z,guest,,phone\n\
    lorcan.daly,2026-11-23T19:00:00Z,gallery,,desk\n\
    minna.saar,2026-11-23T20:00:00+01:00,office,,desk\n\
    bjrn.rasmussen,2026-11-22T06:30:00Z,,TL-014;TL-015,phone\n";

const RULES: &str = "\nrule office-notes {\n    because \"From the office the watch keeps the plans up to date.\"\n    who     members of night-watch\n    may     update\n    what    plan under \"Facilities/Harbour House\"\n    while   session.network = \"office\"\n}\n\n\
    rule called-out {\n    because \"Whoever has an open ticket sees who else was called.\"\n    who     anyone where user.kind = guest\n    may     comment\n    what    sheet under \"Exhibitions/Tidal Light/Transport\"\n    while   \"TL-015\" in session.ticket\n}\n\n\
    expect watch-as-signed-in {\n    user    minna.saar\n    can     update \"Facilities/Harbour House/Floors/Floor 0\"\n}\n\n\
    expect watch-elsewhere {\n    user    minna.saar\n    session network = \"guest\"\n    cannot  update \"Facilities/Harbour House/Floors/Floor 0\"\n}\n\n\
    expect another-as-signed-in {\n    user    lorcan.daly\n    cannot  update \"Facilities/Harbour House/Floors/Floor 1\"\n}\n";

/// The demo with rules that ask for the session.
fn estate() -> TempDir {
    let dir = demo();
    fs::write(dir.path().join("policy/sessions.bastide"), RULES).unwrap();
    dir
}

/// The same with a source of sign-ins.
fn signed_in(name: &str, text: &str, more: &str) -> TempDir {
    let dir = estate();
    fs::write(dir.path().join("data").join(name), text).unwrap();
    let manifest = dir.path().join("bastide.toml");
    let source = format!("\n[[sessions]]\nfile = \"data/{name}\"\n{more}");
    fs::write(&manifest, fs::read_to_string(&manifest).unwrap() + &source).unwrap();
    dir
}

fn run(dir: &Path, args: &[&str]) -> Run {
    run_in(dir, &[args, &ON[..]].concat())
}

/// The rows of `matrix`, by user.
fn matrix(dir: &Path, args: &[&str]) -> BTreeMap<String, Vec<String>> {
    let rows = run(dir, &[&["matrix", "--format", "csv"], args].concat()).ok();
    let mut by_user: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for row in rows.lines().skip(1) {
        by_user.entry(row.split(',').next().unwrap().to_string()).or_default().push(row.to_string());
    }
    by_user
}

#[test]
fn everybody_is_evaluated_as_they_sign_in() {
    let plain = estate();
    let dir = signed_in("sign-ins.csv", LOG, "ignore = [\"device\"]\n");
    let (nobody, everybody) = (matrix(plain.path(), &[]), matrix(dir.path(), &[]));
    let options: [(&str, &[&str]); 3] = [
        ("lorcan.daly", &["--session", "network=gallery"]),
        ("minna.saar", &["--session", "network=office"]),
        ("bjrn.rasmussen", &["--session", "ticket=TL-014", "--session", "ticket=TL-015"]),
    ];
    for (user, rows) in &everybody {
        let given = options.iter().find(|(of, _)| of == user);
        let wanted = given.map_or_else(|| nobody[user].clone(), |(_, given)| matrix(plain.path(), given)[user].clone());
        assert_eq!(*rows, wanted, "{user}");
    }
    let changed: Vec<&str> =
        everybody.iter().filter(|(user, rows)| nobody[*user] != **rows).map(|(user, _)| user.as_str()).collect();
    assert_eq!(changed, ["bjrn.rasmussen", "minna.saar"], "the watch in the office, and the courier with a ticket");
    // What is given is above it, for everybody; the other attributes stay as they are.
    let given = ["--session", "network=gallery"];
    let over = matrix(dir.path(), &given);
    for (user, rows) in matrix(plain.path(), &given) {
        assert_eq!(over[&user], if user == "bjrn.rasmussen" { everybody[&user].clone() } else { rows }, "{user}");
    }
}

/// The same sign-ins from a log of JSON objects, and from a directory.
#[test]
fn whatever_file_tells_it() {
    let csv = signed_in("sign-ins.csv", LOG, "ignore = [\"device\"]\n");
    let wanted = matrix(csv.path(), &[]);
    let json = "{\"who\":\"lorcan.daly\",\"at\":\"2026-11-23T19:00:00Z\",\"net\":\"Galerie\"}\n\
        {\"who\":\"lorcan.daly\",\"at\":\"2026-11-20T19:00:00Z\",\"net\":\"guest\"}\n\
        {\"who\":\"minna.saar\",\"at\":\"2026-11-23T19:00:00Z\",\"net\":\"office\"}\n\
        {\"who\":\"bjrn.rasmussen\",\"at\":\"2026-11-23T19:00:00Z\",\"ticket\":[\"TL-014\",\"TL-015\"]}\n";
    let more = "[sessions.attributes]\nwho = \"user\"\nat = \"when\"\nnet = \"network\"\n[sessions.values.network]\nGalerie = \"gallery\"\n";
    assert_eq!(matrix(signed_in("log.jsonl", json, more).path(), &[]), wanted);
    let ldif = "dn: uid=lorcan.daly,dc=four-tides\nuid: lorcan.daly\nlastNetwork: gallery\n\n\
        dn: uid=minna.saar,dc=four-tides\nuid: minna.saar\nlastNetwork: office\n\n\
        dn: ou=people,dc=four-tides\nou: people\n\n\
        dn: uid=bjrn.rasmussen,dc=four-tides\nuid: bjrn.rasmussen\nticket: TL-014\nticket: TL-015\n";
    let more = "[sessions.attributes]\nlastNetwork = \"network\"\n";
    assert_eq!(matrix(signed_in("signed.ldif", ldif, more).path(), &[]), wanted);
}

#[test]
fn answers_say_where_it_comes_from() {
    let dir = signed_in("sign-ins.csv", LOG, "ignore = [\"device\"]\n");
    let about = run(dir.path(), &["about", "lorcan.daly"]).ok();
    assert!(about.contains("session.network  gallery  (the sign-in, data/sign-ins.csv:3)"), "{about}");
    let what = run(dir.path(), &["what", "lorcan.daly"]).ok();
    assert!(what.contains("session.network gallery (the sign-in,"), "{what}");
    let floor = "Facilities/Harbour House/Floors/Floor 0";
    let why = run(dir.path(), &["why", "lorcan.daly", "read", floor]);
    assert!(why.out.contains("night-watch-at-harbour"), "{}", why.whole());
    let reach = run(dir.path(), &["reach", "night-watch-at-harbour"]).ok();
    assert!(reach.contains("reaches  1 user on 4 resources, 4 triples"), "{reach}");
    assert!(reach.contains("network and ticket as each user signs in"), "{reach}");
    let given = run(dir.path(), &["reach", "night-watch-at-harbour", "--session", "network=gallery"]).ok();
    assert!(given.contains("reaches  2 users") && given.contains("network=gallery, ticket as each user"), "{given}");
    let json: Value =
        serde_json::from_str(&run(dir.path(), &["matrix", "--summary", "--format", "json"]).ok()).unwrap();
    assert_eq!(json["about"]["signed_in"], serde_json::json!(["network", "ticket"]));
}

/// Expectations, tries and differences stand on it, too.
#[test]
fn tests_and_changes_go_by_it() {
    let dir = signed_in("sign-ins.csv", LOG, "ignore = [\"device\"]\n");
    for name in ["*-as-signed-in", "watch-elsewhere"] {
        let test = run(dir.path(), &["test", "--only", name]);
        assert_eq!(test.status, 0, "{}", test.whole());
    }
    let tried = run(dir.path(), &["try", "--off", "office-notes"]);
    assert!(tried.out.contains("minna.saar") && !tried.out.contains("lorcan.daly"), "{}", tried.whole());
    assert!(run(dir.path(), &["try", "--off", "office-notes", "--session", "network=guest"]).out.contains("nobody"));
    // Another sign-in is another access.
    let other = dir.path().join("other");
    fs::create_dir(&other).unwrap();
    for folder in ["policy", "data"] {
        fs::create_dir(other.join(folder)).unwrap();
        for file in fs::read_dir(dir.path().join(folder)).unwrap().map(Result::unwrap) {
            fs::copy(file.path(), other.join(folder).join(file.file_name())).unwrap();
        }
    }
    fs::copy(dir.path().join("bastide.toml"), other.join("bastide.toml")).unwrap();
    fs::write(other.join("data/sign-ins.csv"), LOG.replace("office", "guest")).unwrap();
    let diff = run(dir.path(), &["diff", ".", "other"]);
    assert!(diff.out.contains("minna.saar") && !diff.out.contains("lorcan.daly"), "{}", diff.whole());
    let audit = run(dir.path(), &["audit"]);
    assert!(audit.status <= 1, "{}", audit.whole());
}
