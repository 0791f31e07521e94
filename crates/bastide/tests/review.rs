//! The owners' review: sheets, and what their answers come to.

mod common;

use common::{demo, run_in};
use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};

const ON: [&str; 2] = ["--on", "2026-11-24"];

fn sheets(dir: &Path, by: &str) -> PathBuf {
    run_in(dir, &[&["review", "sheets", "sheets", "--by", by][..], &ON].concat()).ok();
    dir.join("sheets")
}

/// Fills cells in, in every row of a `given_by`: column and value.
fn fill(file: &Path, delimiter: u8, answers: &[(&str, &[(&str, &str)])]) {
    let mut reader = csv::Reader::from_path(file).unwrap();
    let headers = reader.headers().unwrap().clone();
    let mut out = csv::WriterBuilder::new().delimiter(delimiter).from_writer(Vec::new());
    out.write_record(&headers).unwrap();
    let mut found = std::collections::BTreeSet::new();
    for row in reader.records() {
        let row = row.unwrap();
        let mut cells: Vec<String> = row.iter().map(str::to_string).collect();
        let at = |name: &str| headers.iter().position(|h| h == name).unwrap();
        if let Some((_, values)) = answers.iter().find(|(key, _)| *key == cells[at("given_by")]) {
            found.insert(cells[at("given_by")].clone());
            values.iter().for_each(|(column, value)| cells[at(column)] = value.to_string());
        }
        out.write_record(&cells).unwrap();
    }
    assert_eq!(found.len(), answers.len(), "{file:?}");
    fs::write(file, out.into_inner().unwrap()).unwrap();
}

fn answered(dir: &Path, by: &str, more: &[&str]) -> common::Run {
    run_in(dir, &[&["review", "answers", "sheets", "--by", by][..], &ON, more].concat())
}

#[test]
fn answers_come_to_changes_that_are_tried() {
    let demo = demo();
    let sheets = sheets(demo.path(), "workspace");
    let file = sheets.join("Exhibitions-Tidal-Light.csv");
    // As a spreadsheet of another country gives it back.
    fill(
        &file,
        b';',
        &[
            (
                "rule lenders-follow-their-loans",
                &[("answer", "narrow"), ("only_actions", "read"), ("reason", "by mail")],
            ),
            ("rule curators-write-the-texts", &[("answer", "Keep")]),
            ("entry group:finance,may,read,f-agreements,under", &[("answer", "remove")]),
            (
                "entry user:vesna.babic,may,approve;pay,f-agreements,under",
                &[("answer", "narrow"), ("only_actions", "pay")],
            ),
            (
                "rule insurers-remark-on-values",
                &[("answer", "narrow"), ("without", "ulla.szabo"), ("until", "2027-01-31")],
            ),
            ("rule staff-read-what-is-internal", &[("answer", "remove")]),
        ],
    );
    let run = answered(demo.path(), "workspace", &[]);
    insta::assert_snapshot!("review_answers", run.whole().replace(&demo.path().display().to_string(), "."));
}

/// What is written is what the owner asked for, and nothing else.
#[test]
fn what_is_written_is_what_was_answered() {
    let demo = demo();
    let sheets = sheets(demo.path(), "workspace");
    let before = fs::read_to_string(demo.path().join("data/entries.csv")).unwrap();
    fill(
        &sheets.join("Exhibitions-Tidal-Light.csv"),
        b',',
        &[
            ("entry group:tour-desk,may,read,f-transport,under", &[("answer", "narrow"), ("until", "2026-12-31")]),
            (
                "entry user:vesna.babic,may,approve;pay,f-agreements,under",
                &[("answer", "narrow"), ("only_actions", "pay")],
            ),
            ("rule owners-finish-their-work", &[("answer", "keep")]),
        ],
    );
    let run = answered(demo.path(), "workspace", &["--write", "--anyway", "--far"]);
    assert!(run.out.contains("written: `data/entries.csv`"), "{}{}", run.out, run.err);
    let after = fs::read_to_string(demo.path().join("data/entries.csv")).unwrap();
    let changed: HashMap<&str, &str> = before.lines().zip(after.lines()).filter(|(a, b)| a != b).collect();
    assert_eq!(before.lines().count(), after.lines().count());
    assert_eq!(changed.len(), 2, "{changed:?}");
    assert!(changed.values().any(|l| l.contains("tour-desk") && l.contains("2026-12-31")), "{changed:?}");
    assert!(changed.values().any(|l| l.contains("vesna.babic,may,pay,")), "{changed:?}");
    assert_eq!(run_in(demo.path(), &["check"]).status, 0);
    // The same sheets a second time: the narrowed entry says something else now.
    let again = answered(demo.path(), "workspace", &[]);
    assert_eq!(again.status, 1);
    assert!(again.out.contains("the estate has changed since"), "{}", again.out);
}

#[test]
fn what_cannot_be_read_is_not_tried() {
    let demo = demo();
    let sheets = sheets(demo.path(), "workspace");
    let file = sheets.join("Press-Images.csv");
    let key = "rule press-office-runs-press";
    let text = fs::read_to_string(&file).unwrap();
    let key = if text.contains(key) { key } else { "rule staff-read-what-is-internal" };
    for (cells, says) in [
        (&[("answer", "maybe")][..], "`maybe` is no answer; write `keep`, `narrow` or `remove`"),
        (&[("answer", "narrow")], "`narrow` wants at least one of"),
        (&[("answer", "keep"), ("until", "2027-01-01")], "to take something away, write `narrow`"),
        (&[("without", "pia.sorrel")], "`without` is filled in and `answer` is not"),
        (&[("answer", "narrow"), ("until", "next year")], "`next year` is no day"),
    ] {
        fs::write(&file, &text).unwrap();
        fill(&file, b',', &[(key, cells)]);
        let run = answered(demo.path(), "workspace", &[]);
        assert_eq!(run.status, 2, "{says}: {}", run.out);
        assert!(run.err.contains(says), "{says}: {}", run.err);
        assert_eq!(run.out, "");
    }
    // Sheets that are there are not written over: answers may stand in them.
    let run = run_in(demo.path(), &["review", "sheets", "sheets", "--by", "workspace"]);
    assert_eq!(run.status, 2);
    assert!(run.err.contains("is there already"), "{}", run.err);
}

/// Every row of every sheet is access somebody has, and every permission that gives any is in one.
#[test]
fn the_sheets_are_complete() {
    let demo = demo();
    let sheets = sheets(demo.path(), "owner");
    let mut by: HashMap<String, usize> = HashMap::new();
    for file in fs::read_dir(&sheets).unwrap() {
        let mut reader = csv::Reader::from_path(file.unwrap().path()).unwrap();
        let headers = reader.headers().unwrap().clone();
        let at = |name: &str| headers.iter().position(|h| h == name).unwrap();
        for row in reader.records() {
            let row = row.unwrap();
            assert!(!row[at("people")].is_empty() && !row[at("may")].is_empty(), "{row:?}");
            *by.entry(row[at("given_by")].to_string()).or_default() += row[at("resources")].parse::<usize>().unwrap();
        }
    }
    for (rule, resources) in [("lenders-follow-their-loans", 18), ("couriers-see-their-consignments", 15)] {
        assert_eq!(by[&format!("rule {rule}")], resources, "{rule}");
    }
    let run = answered(demo.path(), "owner", &[]);
    assert!(run.out.starts_with("0 answers"), "{}", run.out);
    assert!(run.out.contains("nothing changes"), "{}", run.out);
}

/// A review takes away what it says, or says that it cannot: never less in silence, and never more than there was.
#[test]
fn answers_that_would_not_do_what_they_say_are_told() {
    let demo = demo();
    let sheets = sheets(demo.path(), "workspace");
    let file = sheets.join("Exhibitions-Tidal-Light.csv");
    let fresh = fs::read_to_string(&file).unwrap();
    let key = |beginning: &str| {
        let mut reader = csv::Reader::from_reader(fresh.as_bytes());
        let keys = reader.records().map(|r| r.unwrap()[2].to_string());
        keys.into_iter().find(|k| k.starts_with(beginning)).unwrap_or_else(|| panic!("{beginning}"))
    };
    let nested = key("entry group:exhibition-team,may,read");
    let vesna = key("entry user:vesna.babic,may,approve;pay");
    for (key, cells, says) in [
        // Through a group in the group: the membership that leads there is ended.
        (nested.as_str(), &[("without", "bruno.tavares")][..], "take `bruno.tavares` out of group `conservators`"),
        (vesna.as_str(), &[("only_actions", "pay;pay")], "speak of pay alone"),
        (vesna.as_str(), &[("only_actions", "pay;approve")], "that narrows nothing"),
        ("rule lenders-follow-their-loans", &[("until", "2030-01-01")], "it ends on 2027-06-30 anyway"),
        ("rule lenders-follow-their-loans", &[("without", "pia.sorrel")], "`pia.sorrel` has no access by it there"),
    ] {
        fs::write(&file, &fresh).unwrap();
        fill(&file, b',', &[(key, &[&[("answer", "narrow")][..], cells].concat())]);
        let run = answered(demo.path(), "workspace", &[]);
        let text = run.out.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(text.contains(says), "{says}: {}{}", run.out, run.err);
    }
    // Sheets that were parted otherwise, and two sheets that disagree.
    let run = answered(demo.path(), "owner", &[]);
    assert!(run.out.split_whitespace().collect::<Vec<_>>().join(" ").contains("another `--by`?"), "{}", run.out);
    fs::write(&file, &fresh).unwrap();
    fill(&file, b',', &[(vesna.as_str(), &[("answer", "keep")])]);
    let copy = sheets.join("copy.csv");
    fs::write(&copy, &fresh).unwrap();
    fill(&copy, b',', &[(vesna.as_str(), &[("answer", "remove")])]);
    let run = answered(demo.path(), "workspace", &[]);
    assert!(run.out.contains("it is answered twice") && run.out.contains("nothing changes"), "{}", run.out);
}
