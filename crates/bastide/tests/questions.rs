//! `bastide what`, `who` and `why`: their answers on the demo, and that they agree with each other.

mod common;

use common::{demo, run_in};
use serde_json::Value;

fn ask(dir: &std::path::Path, args: &[&str]) -> String {
    run_in(dir, &[args, &["--on", "2026-11-24"]].concat()).ok()
}

fn json(dir: &std::path::Path, args: &[&str]) -> Value {
    serde_json::from_str(&ask(dir, &[args, &["--format", "json"]].concat())).expect("JSON")
}

#[test]
fn what_a_user_can_do() {
    let demo = demo();
    insta::assert_snapshot!("what_courier", ask(demo.path(), &["what", "ulla.fairweather"]));
    insta::assert_snapshot!("what_registrar", ask(demo.path(), &["what", "ines.varga", "--depth", "3"]));
    insta::assert_snapshot!("what_inactive", ask(demo.path(), &["what", "aoife.tierney"]));
    insta::assert_snapshot!(
        "what_with_ticket",
        ask(
            demo.path(),
            &[
                "what",
                "ulla.fairweather",
                "--under",
                "f-transport",
                "--session",
                "ticket=TL-020",
                "--session",
                "ticket=TL-021"
            ]
        )
    );
}

#[test]
fn who_can_do_it() {
    let demo = demo();
    insta::assert_snapshot!("who_sealed_agreement", ask(demo.path(), &["who", "read", "loan-004", "--not"]));
    insta::assert_snapshot!("who_values_via", ask(demo.path(), &["who", "read", "value-020", "--via", "--all"]));
}

#[test]
fn why_it_is_so() {
    let demo = demo();
    for (name, user, action, resource) in [
        ("denied_by_entry", "bruno.tavares", "read", "in-007"),
        ("granted_through_groups", "bjrn.thackeray", "read", "value-020"),
        ("blocked", "vesna.babic", "pay", "loan-004"),
        ("capped_by_ceiling", "dagny.ekdal", "comment", "Exhibitions/Tidal Light/Texts/Wall texts/Room 2"),
        ("capped_by_prohibition", "joren.brack", "export", "loan-009"),
        ("undecided", "kwame.grunwald", "read", "in-006"),
        ("silent_behind_barrier", "lorcan.daly", "read", "Facilities/Island House/Alarm/Alarm zone 1"),
        ("assured", "renske.visser", "read", "Governance/Board/Minutes/Minutes 2026-01"),
        ("inactive", "wilma.kessel", "read", "Governance/Policies"),
        ("no_meaning", "ines.varga", "pay", "Press"),
    ] {
        insta::assert_snapshot!(format!("why_{name}"), ask(demo.path(), &["why", user, action, resource]));
    }
}

/// What `why` says of a decision is what `matrix`, `who` and `what` say of it.
#[test]
fn all_answers_agree() {
    let demo = demo();
    let triples = ask(demo.path(), &["matrix", "--all", "--reasons", "--format", "csv"]);
    let mut reader = csv::Reader::from_reader(triples.as_bytes());
    let rows: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
    // One in many, so that all users, resources and actions come up.
    for row in rows.iter().step_by(rows.len() / 60) {
        let why = json(demo.path(), &["why", &row[0], &row[2], &row[1]]);
        let decision = if why["allowed"] == true { "allowed" } else { "refused" };
        assert_eq!((decision, why["reason"].as_str().unwrap()), (&row[3], &row[4]), "{row:?}");
        let deciding = why["applying"].as_array().unwrap().iter().find(|a| a["fate"]["is"] == "decides");
        assert_eq!(deciding.map_or("", |d| d["statement"]["name"].as_str().unwrap()), &row[5], "{row:?}");
        assert!(why["reasons"].as_array().unwrap().contains(&why["reason"]), "{row:?}");
        assert_eq!(why["reasons"][0], why["reason"], "the first that fits is reported: {row:?}");
    }
    for (action, resource) in
        [("read", "in-007"), ("export", "f-transport"), ("approve", "value-003"), ("manage", "s-facilities")]
    {
        let who = json(demo.path(), &["who", action, resource, "--inactive"]);
        let listed = |list: &str| -> Vec<String> {
            let groups = who[list].as_array().unwrap().iter();
            let mut users: Vec<String> = groups
                .flat_map(|g| g["users"].as_array().unwrap())
                .map(|u| u["user"].as_str().unwrap().to_string())
                .collect();
            users.sort();
            users
        };
        let expected = |decision: &str| -> Vec<String> {
            let fits = |row: &&csv::StringRecord| &row[1] == resource && &row[2] == action && &row[3] == decision;
            rows.iter().filter(fits).map(|row| row[0].to_string()).collect()
        };
        assert_eq!(listed("by"), expected("allowed"), "{action} {resource}");
        assert_eq!(listed("not"), expected("refused"), "{action} {resource}");
    }
    for user in ["ines.varga", "reading-room", "pia.sorrel", "aoife.tierney"] {
        let what = json(demo.path(), &["what", user]);
        for action in ["read", "update", "manage"] {
            let counted: u64 = what["counts"]
                .as_array()
                .unwrap()
                .iter()
                .flat_map(|kind| kind["allowed"].as_array().unwrap())
                .filter(|pair| pair[0] == action)
                .map(|pair| pair[1].as_u64().unwrap())
                .sum();
            let expected = rows.iter().filter(|r| &r[0] == user && &r[2] == action && &r[3] == "allowed").count();
            assert_eq!(counted as usize, expected, "{user} {action}");
        }
    }
}

#[test]
fn the_exit_status_tells_when_asked_to() {
    let demo = demo();
    let why = |user: &str, flag: &[&str]| {
        run_in(demo.path(), &[&["why", user, "read", "in-007", "--on", "2026-11-24"], flag].concat()).status
    };
    assert_eq!(why("bruno.tavares", &[]), 0);
    assert_eq!(why("bruno.tavares", &["--exit-code"]), 1);
    assert_eq!(why("carys.penhale", &["--exit-code"]), 0);
}
