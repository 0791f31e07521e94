//! `bastide matrix`: the table, the long forms, and that all of them tell the same.

mod common;

use common::{demo, run_in};
use serde_json::Value;
use std::collections::BTreeMap;

const DAY: [&str; 2] = ["--on", "2026-11-24"];

fn matrix(dir: &std::path::Path, args: &[&str]) -> String {
    run_in(dir, &[&["matrix"], args, &DAY].concat()).ok()
}

fn records(text: &str) -> Vec<Vec<String>> {
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    reader.records().map(|r| r.expect("a row").iter().map(str::to_string).collect()).collect()
}

#[test]
fn the_table() {
    let demo = demo();
    insta::assert_snapshot!("matrix_depth_1", matrix(demo.path(), &["--depth", "1"]));
    insta::assert_snapshot!(
        "matrix_transport",
        matrix(
            demo.path(),
            &["--under", "Exhibitions/Tidal Light", "--depth", "2", "--action", "read", "--action", "update"]
        )
    );
    insta::assert_snapshot!(
        "matrix_two_users",
        matrix(demo.path(), &["--users", "ines.varga,bruno.tavares", "--kind", "workspace"])
    );
}

/// Every triple, its reason and its statement: as many as there are, and the same in every form.
#[test]
fn all_forms_tell_the_same() {
    let demo = demo();
    let triples = records(&matrix(demo.path(), &["--all", "--reasons", "--format", "csv"]));
    assert_eq!(triples.len(), 120 * 479 * 11);
    let mut allowed: BTreeMap<&str, u64> = BTreeMap::new();
    let mut reasons: BTreeMap<&str, u64> = BTreeMap::new();
    let mut pairs: BTreeMap<(&str, &str), Vec<&str>> = BTreeMap::new();
    for row in &triples {
        let [user, resource, action, decision, reason, statement] = &row[..] else { panic!("six cells") };
        assert_eq!(decision == "allowed", ["granted", "assured"].contains(&reason.as_str()));
        assert_eq!(statement.is_empty(), ["silent", "inactive"].contains(&reason.as_str()), "{row:?}");
        *reasons.entry(reason).or_default() += 1;
        let actions = pairs.entry((user, resource)).or_default();
        if decision == "allowed" {
            *allowed.entry(action).or_default() += 1;
            actions.push(action);
        }
    }
    // The summary counts the same triples.
    let summary: Value = serde_json::from_str(&matrix(demo.path(), &["--summary", "--format", "json"])).unwrap();
    for (action, count) in summary["allowed"].as_object().unwrap() {
        assert_eq!(count.as_u64().unwrap(), allowed.get(action.as_str()).copied().unwrap_or(0), "{action}");
    }
    for list in ["refused", "allowed_by_reason"] {
        for (reason, count) in summary[list].as_object().unwrap() {
            assert_eq!(count.as_u64().unwrap(), reasons.get(reason.as_str()).copied().unwrap_or(0), "{reason}");
        }
    }
    assert_eq!((summary["users"].as_u64(), summary["resources"].as_u64()), (Some(120), Some(479)));
    assert!(summary["seconds"]["load"].is_f64() && summary["peak_bytes"].as_u64() > Some(1 << 20));
    // The pairs hold the allowed actions, in declared order, with and without those that hold none.
    let long = records(&matrix(demo.path(), &["--all", "--format", "csv"]));
    assert_eq!(long.len(), 120 * 479);
    for row in &long {
        assert_eq!(pairs[&(row[0].as_str(), row[1].as_str())].join(";"), row[2]);
    }
    let lines = matrix(demo.path(), &["--depth", "9", "--inactive", "--format", "jsonl"]);
    let some = long.iter().filter(|row| !row[2].is_empty());
    for (line, row) in lines.lines().zip(some.clone()) {
        let value: Value = serde_json::from_str(line).unwrap();
        let actions: Vec<&str> = value["actions"].as_array().unwrap().iter().map(|a| a.as_str().unwrap()).collect();
        assert_eq!((value["user"].as_str(), actions.join(";")), (Some(row[0].as_str()), row[2].clone()));
    }
    assert_eq!(lines.lines().count(), some.count());
    // Totals by user and by resource add up to the same, ids in byte order.
    for by in ["users", "resources"] {
        let totals = records(&matrix(demo.path(), &["--totals", by]));
        assert!(totals.windows(2).all(|w| w[0][0] < w[1][0]));
        assert_eq!(totals.len(), if by == "users" { 120 } else { 479 });
        let actions: Vec<String> = summary["allowed"].as_object().unwrap().keys().cloned().collect();
        for (column, action) in actions.iter().enumerate() {
            let sum: u64 = totals.iter().map(|row| row[column + 1].parse::<u64>().unwrap()).sum();
            assert_eq!(sum, allowed.get(action.as_str()).copied().unwrap_or(0), "{by} {action}");
        }
    }
    // And the table, opened up again from its profiles.
    let table: Value = serde_json::from_str(&matrix(demo.path(), &["--all", "--format", "json"])).unwrap();
    let actions = table["actions"].as_array().unwrap();
    let mut cells = 0;
    for row in table["rows"].as_array().unwrap() {
        for (profile, cell) in table["profiles"].as_array().unwrap().iter().zip(row["cells"].as_array().unwrap()) {
            let named: Vec<&str> = cell
                .as_array()
                .unwrap()
                .iter()
                .map(|a| actions[a.as_u64().unwrap() as usize].as_str().unwrap())
                .collect();
            for user in profile["users"].as_array().unwrap() {
                assert_eq!(pairs[&(user.as_str().unwrap(), row["resource"].as_str().unwrap())], named);
                cells += 1;
            }
        }
    }
    assert_eq!(cells, 120 * 479);
}

#[test]
fn parquet_holds_the_rows_of_csv() {
    use parquet::file::reader::{FileReader, SerializedFileReader};
    let demo = demo();
    for reasons in [&[][..], &["--reasons"]] {
        let common = [&["--under", "Exhibitions/Tidal Light", "--depth", "3"], reasons].concat();
        let csv = records(&matrix(demo.path(), &[&common[..], &["--format", "csv"]].concat()));
        let run = run_in(
            demo.path(),
            &[&["matrix"], &common[..], &["--format", "parquet", "-o", "out.parquet"], &DAY].concat(),
        );
        assert_eq!((run.status, run.out.as_str()), (0, ""));
        let reader = SerializedFileReader::new(std::fs::File::open(demo.path().join("out.parquet")).unwrap()).unwrap();
        let rows: Vec<Vec<String>> = reader
            .get_row_iter(None)
            .unwrap()
            .map(|row| {
                row.unwrap()
                    .get_column_iter()
                    .map(|(_, field)| field.to_string().trim_matches(['"', '[', ']']).replace("\", \"", ";"))
                    .collect()
            })
            .collect();
        assert!(rows.len() > 2000);
        assert_eq!(rows, csv);
    }
}

#[test]
fn output_to_a_file_is_whole_or_not_at_all() {
    let demo = demo();
    let file = demo.path().join("out.csv");
    let run = run_in(demo.path(), &["matrix", "--format", "csv", "-o", "out.csv"]);
    assert_eq!((run.status, run.out.as_str()), (0, ""));
    let written = std::fs::read_to_string(&file).unwrap();
    assert!(written.starts_with("user,resource,actions\n") && written.lines().count() > 500);
    std::fs::write(demo.path().join("policy/draft.bastide"), "rule").unwrap();
    let refused = run_in(demo.path(), &["matrix", "--format", "csv", "-o", "out.csv"]);
    assert_eq!(refused.status, 3);
    assert_eq!(std::fs::read_to_string(&file).unwrap(), written, "the old file is left as it was");
    std::fs::remove_file(demo.path().join("policy/draft.bastide")).unwrap();
    let nowhere = run_in(demo.path(), &["matrix", "--format", "csv", "-o", "no/such/out.csv"]);
    assert_eq!(nowhere.status, 4);
    assert!(nowhere.err.contains("`no/such/out.csv` cannot be written"), "{}", nowhere.err);
}

#[test]
fn cells_that_a_spreadsheet_would_run() {
    let dir = common::case(
        "=== use base.estate\n=== data/people.csv\nid,name,kind,active,wing,age,topics,expert\n=1+1,Ann,person,yes,,,,\n",
    );
    let plain = matrix(dir.path(), &["--format", "csv", "--depth", "1"]);
    assert_eq!(plain, "user,resource,actions\n=1+1,r-1,read\n");
    let guarded = matrix(dir.path(), &["--format", "csv", "--depth", "1", "--for-spreadsheet"]);
    assert_eq!(guarded, "user,resource,actions\n\"'=1+1\",\"r-1\",\"read\"\n");
    // An id by which a line would be a command to what runs the program is quoted, and the same.
    let dir = common::case(
        "=== use base.estate\n=== data/people.csv\nid,name,kind,active,wing,age,topics,expert\n::error::x,Ann,person,yes,,,,\n",
    );
    let quoted = matrix(dir.path(), &["--format", "csv", "--depth", "1"]);
    assert_eq!(records(&quoted), [["::error::x", "r-1", "read"]]);
    assert!(quoted.lines().all(|line| !line.starts_with("::")), "{quoted}");
}

#[test]
fn names_that_would_act_on_a_terminal() {
    let dir = common::case(
        "=== use base.estate\n=== data/catalog.csv\nid,parent,kind,name,owner,secrecy,wing,topics,due\nr-1,,room,Ma\\x1b[2Jps,,,,,\n",
    );
    for command in [&["matrix"][..], &["what", "ann"], &["why", "ann", "read", "r-1"], &["who", "read", "r-1"]] {
        let run = run_in(dir.path(), command);
        assert_eq!((run.status, run.out.as_str()), (3, ""));
        assert!(!run.err.contains('\u{1b}') && run.err.contains("Ma\\u{1b}[2Jps"), "{}", run.err);
    }
}

#[test]
fn decisions_that_depend_on_themselves_give_no_row() {
    let dir = common::case(
        "=== use base.estate\n=== policy/case.bastide\naction sign needs stamp\naction stamp needs sign\n",
    );
    for format in ["table", "csv", "jsonl", "json"] {
        let run = run_in(dir.path(), &["matrix", "--format", format]);
        assert_eq!((run.status, run.out.as_str()), (3, ""), "{format}");
        assert!(run.err.contains("error[decision-cycle]"), "{}", run.err);
    }
}

/// Rows of any length, more actions than a word has bits, cells with commas and quotes: the pairs say what each triple
/// says, in the same order, with and without those that hold nothing.
#[test]
fn pairs_of_any_length() {
    let dir = tempfile::tempdir().unwrap();
    let write = |name: &str, text: String| std::fs::write(dir.path().join(name), text).unwrap();
    let lists = "[[people]]\nfile = \"people.csv\"\n\n[[catalog]]\nfile = \"catalog.csv\"\n";
    write("bastide.toml", format!("name = \"Long\"\npolicy = [\"policy.bastide\"]\n\n{lists}"));
    let actions: Vec<String> = (0..70).map(|i| format!("act{i}")).collect();
    let mut policy = "kind shelf\nkind book in shelf\nattribute grade of user, resource: number\n".to_string();
    actions.iter().for_each(|action| policy.push_str(&format!("action {action} on book\n")));
    for (i, some) in actions.chunks(7).enumerate() {
        let (least, most) = (i + 1, 5 * i);
        let body = format!("what book where resource.grade <= {most}");
        let who = format!("who anyone where user.grade >= {least}");
        policy.push_str(&format!("rule r{i} {{ {who} may {} {body} }}\n", some.join(", ")));
    }
    write("policy.bastide", policy);
    let id = |letter: &str, i: usize| match i % 6 {
        0 => format!("\"{}{i}, \"\"so\"\"\"", letter.repeat(3 * i)),
        _ => format!("{}{i}", letter.repeat(3 * i)),
    };
    let people: String = (0..40).map(|i| format!("{},person,{}\n", id("u", i), i % 11)).collect();
    write("people.csv", format!("id,kind,grade\n{people}"));
    let books: String = (0..40).map(|i| format!("{},top,book,book {i},{i}\n", id("b", i))).collect();
    write("catalog.csv", format!("id,parent,kind,name,grade\ntop,,shelf,top,\n{books}"));
    let mut pairs: Vec<Vec<String>> = Vec::new();
    for row in records(&matrix(dir.path(), &["--all", "--reasons", "--format", "csv"])) {
        let [user, resource, action, decision, ..] = &row[..] else { panic!("six cells") };
        if pairs.last().is_none_or(|last| last[..2] != row[..2]) {
            pairs.push(vec![user.clone(), resource.clone(), String::new()]);
        }
        if decision == "allowed" {
            let joined = &mut pairs.last_mut().unwrap()[2];
            joined.push_str(if joined.is_empty() { "" } else { ";" });
            joined.push_str(action);
        }
    }
    assert_eq!(pairs.len(), 40 * 41);
    assert_eq!(records(&matrix(dir.path(), &["--all", "--format", "csv"])), pairs);
    let longest = pairs.iter().map(|row| row[2].len()).max();
    assert!(pairs.iter().any(|row| row[2].is_empty()) && longest > Some(300), "{longest:?}");
    pairs.retain(|row| !row[2].is_empty());
    assert_eq!(records(&matrix(dir.path(), &["--format", "csv"])), pairs);
}
