//! What lies inside a dataset: the rows and columns that `filter` gives, beside what an independent engine gives for its query
//! over the same file; and what every other command says of them.

mod common;
#[path = "common/servers.rs"]
#[allow(dead_code, reason = "each test program uses a part of it")]
mod servers;

use common::{Run, demo, run_in};
use serde_json::Value;
use std::fs;
use std::path::Path;
use std::process::Command;
use tempfile::TempDir;

const ON: [&str; 2] = ["--on", "2026-11-24"];

fn run(dir: &Path, args: &[&str]) -> Run {
    run_in(dir, &[args, &ON[..]].concat())
}

/// Runs queries over a CSV file whose cells are all texts, and gives the rows of each as CSV.
const ENGINE: &str = r#"
import csv, io, json, sqlite3, sys
path, table, queries = sys.argv[1], sys.argv[2], json.load(open(sys.argv[3]))
rows = list(csv.reader(open(path, newline="")))
base = sqlite3.connect(":memory:")
quoted = lambda name: '"' + name.replace('"', '""') + '"'
base.execute("create table %s (%s)" % (quoted(table), ", ".join(quoted(n) + " text" for n in rows[0])))
base.executemany("insert into %s values (%s)" % (quoted(table), ", ".join("?" * len(rows[0]))), rows[1:])
answers = []
for query in queries:
    found = base.execute(query)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for row in found:
        writer.writerow(["" if cell is None else cell for cell in row])
    answers.append(out.getvalue())
json.dump(answers, sys.stdout)
"#;

/// What the rows of a file are by queries, asked of an engine that is not ours.
fn asked_elsewhere(file: &Path, table: &str, queries: &[String]) -> Vec<String> {
    let dir = tempfile::tempdir().unwrap();
    let (engine, list) = (dir.path().join("engine.py"), dir.path().join("queries.json"));
    fs::write(&engine, ENGINE).unwrap();
    fs::write(&list, serde_json::to_string(queries).unwrap()).unwrap();
    let output = Command::new("python3").arg(engine).arg(file).arg(table).arg(list).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    serde_json::from_slice(&output.stdout).unwrap()
}

/// Rows of CSV, the header left out, cells as they are meant.
fn cells(text: &str, header: bool) -> Vec<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(header).flexible(true).from_reader(text.as_bytes());
    reader.records().map(|row| row.unwrap().iter().map(str::to_string).collect()).collect()
}

/// Everybody's rows of a dataset, by `filter` and by the other engine.
fn compared(dir: &Path, dataset: &str, file: &str, table: &str) -> (usize, usize) {
    let everybody = run(dir, &["filter", "--everybody", "read", dataset, "--format", "csv"]).ok();
    let users: Vec<String> = cells(&everybody, true).into_iter().map(|row| row[0].clone()).collect();
    let sql = |user: &String| run(dir, &["filter", user, "read", dataset, "--format", "sql"]).ok();
    let queries: Vec<String> = users.iter().map(sql).collect();
    let (mut rows, mut shares) = (0, 0);
    for (user, theirs) in users.iter().zip(asked_elsewhere(&dir.join(file), table, &queries)) {
        let ours = cells(&run(dir, &["filter", user, "read", dataset, "--format", "csv"]).ok(), true);
        assert_eq!(ours, cells(&theirs, false), "{user}");
        let said: Value =
            serde_json::from_str(&run(dir, &["filter", user, "read", dataset, "--format", "json"]).ok()).unwrap();
        assert_eq!(said["seen"]["rows"], ours.len(), "{user}");
        rows += ours.len();
        shares += usize::from(!ours.is_empty());
    }
    (rows, shares)
}

#[test]
fn the_query_gives_what_the_rows_are() {
    if !servers::are_there(&["python3"]) {
        return;
    }
    let dir = demo();
    let (rows, shares) = compared(dir.path(), "d-climate", "data/climate.csv", "climate");
    assert!(rows > 10_000 && shares > 40, "{rows}, {shares}");
}

/// Values that break out of what is put together by hand, and columns that do.
fn odd() -> TempDir {
    let dir = tempfile::tempdir().unwrap();
    let values = [
        "a",
        "A",
        " a",
        "a ",
        "a;b",
        "a=b",
        "",
        "O'Brien",
        "\"x\"",
        "'; drop table x; --",
        "50%",
        "é",
        "ä#",
        "NULL",
        "null",
    ];
    let mut rows = String::from("\"who;=\",\"it's\",\"sel\"\"ect\",plain\n");
    let quoted = |text: &str| format!("\"{}\"", text.replace('"', "\"\""));
    for (i, one) in values.iter().enumerate() {
        for (j, other) in values.iter().enumerate().skip(i % 3) {
            rows.push_str(&format!("{},{},{},row {i} {j}\n", quoted(one), quoted(other), quoted("cell, \"of\" it")));
        }
    }
    let people: String = (0..8).map(|i| format!("u{i},{}\n", quoted(values[i * 2 % values.len()]))).collect();
    for (name, text) in [
        (
            "bastide.toml",
            "name = \"Odd\"\npolicy = [\"*.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n\
             [[inside]]\ndataset = \"d\"\nfile = \"odd rows.csv\"\nslices = [\"who;=\", \"it's\"]\ncolumns = true\nattributes = { \"who;=\" = \"who\", \"it's\" = \"its\" }\n\
             [inside.marked.plain]\nhidden = \"yes\"\n"
                .to_string(),
        ),
        ("people.csv", format!("id,own\n{people}")),
        ("catalog.csv", "id,parent,kind,name\ns,,stream,S\nd,s,dataset,D\n".to_string()),
        ("odd rows.csv", rows),
        (
            "p.bastide",
            "kind stream\nkind dataset in stream\nkind slice in dataset\nkind column in dataset\naction read\n\
             attribute who of slice: text\nattribute its of slice: text\nattribute rows of slice: number\nattribute own of user: text\nattribute hidden of column: flag\n\
             rule own { because \"A.\" who anyone where user.own = resource.who may read what slice }\n\
             rule nobodys { because \"B.\" who user u0, u3 may read what slice where resource.who is missing or resource.its is missing }\n\
             rule most { because \"C.\" who user u7 may read what slice where resource.its != \"a\" }\n\
             rule all { because \"D.\" who anyone may read what column }\n\
             rule hidden { because \"E.\" who user u1, u2 may not read what column where resource.hidden }\n"
                .to_string(),
        ),
    ] {
        fs::write(dir.path().join(name), text).unwrap();
    }
    dir
}

#[test]
fn values_stay_values() {
    if !servers::are_there(&["python3"]) {
        return;
    }
    let dir = odd();
    let check = run_in(dir.path(), &["check"]);
    assert_eq!(check.status, 0, "{}", check.whole());
    let (rows, shares) = compared(dir.path(), "d", "odd rows.csv", "odd rows");
    assert!(rows > 100 && shares >= 6, "{rows}, {shares}");
    // A row that was not there when the estate was read fits no query, whatever is in it.
    let sql = |user: &str| run(dir.path(), &["filter", user, "read", "d", "--format", "sql"]).ok();
    let queries: Vec<String> = (0..8).map(|i| sql(&format!("u{i}"))).collect();
    let before = asked_elsewhere(&dir.path().join("odd rows.csv"), "odd rows", &queries);
    let text = fs::read_to_string(dir.path().join("odd rows.csv")).unwrap();
    let later = dir.path().join("later.csv");
    fs::write(&later, format!("{text}never,seen,x,y\nA,never,x,y\n")).unwrap();
    assert_eq!(asked_elsewhere(&later, "odd rows", &queries), before);
}

/// Rows that are not told apart hang on the dataset itself, whoever may see a column; and numbers that are equal are one value.
#[test]
fn what_hangs_on_the_dataset_and_what_is_equal() {
    let dir = odd();
    let add = |name: &str, more: &str| {
        let text = fs::read_to_string(dir.path().join(name)).unwrap();
        fs::write(dir.path().join(name), text + more).unwrap();
    };
    add("catalog.csv", "e,s,dataset,E\nf,s,dataset,F\n");
    add(
        "bastide.toml",
        "[[inside]]\ndataset = \"e\"\nfile = \"n.jsonl\"\ncolumns = true\n[[inside]]\ndataset = \"f\"\nfile = \"n.jsonl\"\nslices = [\"n\"]\n",
    );
    let rule = "attribute n of slice: text\nrule ones { because \"F.\" who user u4 may read what slice where resource.n = \"1\" }\n";
    add("p.bastide", rule);
    fs::write(dir.path().join("n.jsonl"), "{\"n\":1,\"t\":\"a\"}\n{\"n\":1.0,\"t\":\"b\"}\n{\"n\":2,\"t\":\"c\"}\n")
        .unwrap();
    let json = |user: &str, dataset: &str| -> Value {
        serde_json::from_str(&run(dir.path(), &["filter", user, "read", dataset, "--format", "json"]).ok()).unwrap()
    };
    assert_eq!(json("u4", "e")["seen"]["rows"], 0);
    assert_eq!(json("u4", "e")["sql"], "SELECT NULL\nFROM \"n\"\nWHERE FALSE\n");
    assert_eq!(json("u4", "f")["seen"]["rows"], 2);
    assert!(json("u4", "f")["sql"].as_str().unwrap().ends_with("WHERE \"n\" = 1\n"));
    let given = run(dir.path(), &["filter", "u4", "read", "f", "--format", "csv"]).ok();
    assert_eq!(given, "n,t\n1,a\n1.0,b\n");
    add("p.bastide", "rule page { because \"G.\" who user u4 may read what dataset }\n");
    assert_eq!((&json("u4", "e")["seen"]["rows"], &json("u4", "e")["slices"]), (&3.into(), &serde_json::json!([])));
    let tried = run(dir.path(), &["try", "--off", "page"]);
    assert!(tried.out.contains("u4: 0 of 3 rows, 3 before (3 fewer), by read on S/E"), "{}", tried.whole());
}

#[test]
fn every_command_counts_rows() {
    let dir = demo();
    let at = dir.path();
    let what = run(at, &["what", "idris.merrick"]).ok();
    assert!(what.contains("621 of 1,588 rows in 3 of 11 slices; 5 of 6\n  columns"), "{what}");
    let compare = run(at, &["compare", "idris.merrick", "bruno.tavares"]).ok();
    assert!(compare.contains("rows that bruno.tavares gets") && compare.contains("1,588 of 1,588 rows"), "{compare}");
    let change = ["--set", "user:idris.merrick.house=island"];
    let tried = run(at, &[&["try"][..], &change].concat()).out;
    let words = "idris.merrick: 138 of 1,588 rows, 621 before (138 more and 621 fewer)";
    assert!(tried.contains(words), "{tried}");
    // The same between two folders, where it is written into one of them.
    let other = demo();
    let run_there = run(other.path(), &[&["try"][..], &change, &["--write"]].concat());
    assert!(run_there.status <= 1, "{}", run_there.whole());
    let diff = run(other.path(), &["diff", &at.display().to_string()]);
    assert!(diff.out.contains(words), "{}", diff.whole());
    let why = run(at, &["why", "idris.merrick", "read", "d-climate#house=estuary;sort=light"]);
    assert!(why.out.contains("houses-see-what-they-measured"), "{}", why.whole());
    let tests = "expect own-rows {\n    user idris.merrick\n    reaches exactly 3 slice by read\n    cannot read id \"d-climate.logger\"\n}\n";
    fs::write(at.join("policy/rows.bastide"), tests).unwrap();
    let test = run(at, &["test", "--only", "own-rows"]);
    assert_eq!(test.status, 0, "{}", test.whole());
}

/// The same rows in other files are the same slices.
#[test]
fn whatever_file_holds_the_rows() {
    let dir = demo();
    let wanted = run(dir.path(), &["filter", "--everybody", "read", "d-climate", "--format", "csv"]).ok();
    let text = fs::read_to_string(dir.path().join("data/climate.csv")).unwrap();
    let rows = cells(&text, false);
    let lines: String = rows[1..]
        .iter()
        .map(|row| {
            let object: serde_json::Map<String, Value> =
                rows[0].iter().cloned().zip(row.iter().map(|cell| Value::String(cell.clone()))).collect();
            format!("{}\n", Value::Object(object))
        })
        .collect();
    fs::write(dir.path().join("data/climate.jsonl"), lines).unwrap();
    let manifest = dir.path().join("bastide.toml");
    let said = fs::read_to_string(&manifest).unwrap();
    fs::write(&manifest, said.replace("data/climate.csv", "data/climate.jsonl")).unwrap();
    assert_eq!(run(dir.path(), &["filter", "--everybody", "read", "d-climate", "--format", "csv"]).ok(), wanted);
    let own = run(dir.path(), &["filter", "idris.merrick", "read", "d-climate", "--format", "csv"]).ok();
    assert_eq!(cells(&own, true).len(), 621);
    // Parquet that the program itself wrote: users by resource, as rows.
    let made = run(dir.path(), &["matrix", "--all", "--format", "parquet", "-o", "data/access.parquet"]);
    assert_eq!(made.status, 0, "{}", made.whole());
    let pairs = cells(&run(dir.path(), &["matrix", "--all", "--format", "csv"]).ok(), true);
    let said = fs::read_to_string(&manifest).unwrap();
    let said = said
        .replace("data/climate.jsonl", "data/access.parquet")
        .replace("slices  = [\"house\", \"sort\"]", "slices = [\"user\"]");
    let said = said.replace("[inside.marked.logger]\nlabel = \"restricted\"", "attributes = { user = \"sort\" }");
    fs::write(&manifest, said).unwrap();
    let json = run(dir.path(), &["filter", "bruno.tavares", "read", "d-climate", "--format", "json"]);
    assert_eq!(json.status, 0, "{}", json.whole());
    let json: Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!(json["seen"]["all_rows"], pairs.len());
    let given = run(dir.path(), &["filter", "renske.visser", "read", "d-climate", "--format", "csv"]).ok();
    let of = |rows: &[Vec<String>]| rows.iter().filter(|row| row[0] == "idris.merrick").count();
    let whole = cells(&given, true);
    assert!(whole.is_empty() || of(&whole) == of(&pairs), "{}", of(&whole));
}

#[test]
fn what_cannot_be_told_apart_is_an_error() {
    let dir = demo();
    let manifest = dir.path().join("bastide.toml");
    let said = fs::read_to_string(&manifest).unwrap();
    let policy = dir.path().join("policy/vocabulary.bastide");
    let words = fs::read_to_string(&policy).unwrap();
    for (from, to, message) in [
        ("\"sort\"]", "\"sortt\"]", "unknown column `sortt`"),
        ("\"sort\"]", "\"sort\", \"house\"]", "column `house` stands twice"),
        ("\"sort\"]", "\"room\"]", "slices have no attribute `room`"),
        ("dataset = \"d-climate\"", "dataset = \"d-climat\"", "the catalog has no dataset `d-climat`"),
        ("data/climate.csv", "data/staff.ldif", "nothing"),
        ("data/climate.csv", "NOTES.md", "does not tell the format"),
        ("dataset = \"d-values\"", "dataset = \"d-climate\"", "is said twice"),
        ("label = \"restricted\"", "label = \"high\"", "high"),
        ("label = \"restricted\"", "lable = \"restricted\"", "unknown column `lable`"),
        ("marked.logger", "marked.loger", "unknown column `loger`"),
        (
            "slices  = [\"house\", \"sort\"]\n",
            "slices = [\"house\", \"sort\"]\nat_most = 10\n",
            "more than 10 combinations",
        ),
        (
            "slices  = [\"house\", \"sort\"]\n",
            "slices = [\"house\", \"sort\"]\nat_least = 2000\n",
            "holds 1588 rows, and 2000 are wanted",
        ),
    ] {
        assert!(said.contains(from), "{from}");
        fs::write(&manifest, said.replacen(from, to, 1)).unwrap();
        let check = run(dir.path(), &["check"]);
        assert_eq!(check.status, if message == "nothing" { check.status } else { 3 }, "{to}: {}", check.whole());
        assert!(check.whole().contains(message) || message == "nothing", "{to}: {}", check.whole());
    }
    fs::write(&manifest, &said).unwrap();
    for (from, message) in [
        ("kind slice ", "there is no kind `slice`"),
        ("kind column ", "there is no kind `column`"),
        ("attribute rows ", "slices have no attribute `rows`"),
    ] {
        let without: String =
            words.lines().filter(|line| !line.starts_with(from)).map(|line| format!("{line}\n")).collect();
        fs::write(&policy, without).unwrap();
        let check = run(dir.path(), &["check"]);
        assert_eq!(check.status, 3, "{from}: {}", check.whole());
        assert!(check.whole().contains(message), "{from}: {}", check.whole());
    }
    fs::write(&policy, words).unwrap();
    for (args, message) in [
        (&["filter", "read", "d-climate"][..], "whose rows is not said"),
        (&["filter", "--everybody", "idris.merrick", "read", "d-climate"], "takes an action and a dataset"),
        (&["filter", "idris.merrick", "read", "Press"], "what lies inside `Press` is not told"),
        (&["filter", "idris.merrick", "read", "d-climate", "--format", "postgres"], "a script speaks of everybody"),
        (&["filter", "--everybody", "read", "d-climate", "--format", "postgres"], "lie in a file, not in a database"),
        (&["filter", "--everybody", "read", "d-climate", "--take-back"], "speaks of a script"),
        (&["filter", "--everybody", "read", "d-climate", "--format", "sql"], "a query speaks of one user"),
    ] {
        let asked = run(dir.path(), args);
        assert_eq!(asked.status, 2, "{args:?}: {}", asked.whole());
        assert!(asked.err.contains(message), "{args:?}: {}", asked.err);
    }
}
