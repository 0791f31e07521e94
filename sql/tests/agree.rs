//! What comes back is what the specification evaluator says, on random estates of every form of the language: row by row, in
//! counts of every sort, with conditions that the engine takes and with such that it does not.

mod common;

use bastide_engine::ReferenceEvaluator;
use bastide_model::{ActionId, Moment};
use bastide_testkit::random::{Shape, plan};
use common::{DAY, ask};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

type Row = BTreeMap<&'static str, String>;

/// Every decision, in words.
fn truth(estate: &bastide_model::Estate) -> Option<Vec<Row>> {
    let moment = Moment::on(DAY.parse().expect("a day"), estate.schema());
    let reference = ReferenceEvaluator::new(estate, &moment).ok()?;
    let mut rows = Vec::new();
    for resource in estate.catalog().all() {
        for user in estate.people().all() {
            for action in ActionId::all(estate.schema().actions.len()) {
                let decision = reference.decide(user, action, resource);
                let kind = estate.catalog().kind(resource);
                rows.push(Row::from([
                    ("user", estate.people().id(user).to_string()),
                    ("resource", estate.catalog().id(resource).to_string()),
                    ("kind", estate.schema().kinds[kind.index()].name.clone()),
                    ("action", estate.schema().actions[action.index()].name.clone()),
                    ("decision", if decision.is_allowed() { "allowed" } else { "refused" }.to_string()),
                    ("reason", decision.reason.word().to_string()),
                    ("statement", decision.by.map_or(String::new(), |by| estate.statement(by).name.clone())),
                    (
                        "site",
                        estate.people().attributes()[0]
                            .get(user.index())
                            .map_or(String::new(), |v| estate.schema().show(v)),
                    ),
                ]));
            }
        }
    }
    Some(rows)
}

fn answer(dir: &Path, question: &str) -> Vec<Vec<String>> {
    let text = ask(dir, &["--format", "csv", "--", question]);
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let mut rows: Vec<Vec<String>> =
        reader.records().map(|row| row.expect("a row").iter().map(str::to_string).collect()).collect();
    rows.sort();
    rows
}

/// Rows that fit, by columns, with their number.
fn counted(rows: &[Row], columns: &[&'static str], fits: impl Fn(&Row) -> bool) -> Vec<Vec<String>> {
    let mut counts: BTreeMap<Vec<String>, u64> = BTreeMap::new();
    for row in rows.iter().filter(|row| fits(row)) {
        *counts.entry(columns.iter().map(|column| row[column].clone()).collect()).or_default() += 1;
    }
    let row = |(mut columns, count): (Vec<String>, u64)| {
        columns.push(count.to_string());
        columns
    };
    let mut rows: Vec<Vec<String>> = counts.into_iter().map(row).collect();
    rows.sort();
    rows
}

#[test]
fn answers_agree_with_the_evaluator() {
    let mut compared = 0;
    for seed in 0..14 {
        let plan = plan(seed, Shape::ALL);
        let estate = plan.case().estate();
        let Some(rows) = truth(&estate) else { continue };
        let dir = plan.case().lay_out();
        let dir = dir.path();
        // Every row.
        let columns = ["user", "resource", "kind", "action", "decision", "reason", "statement"];
        let mut all: Vec<Vec<String>> =
            rows.iter().map(|row| columns.iter().map(|column| row[column].clone()).collect()).collect();
        all.sort();
        assert_eq!(answer(dir, &format!("select {} from access", columns.join(", "))), all, "seed {seed}");
        // Counts in every two of the columns, but user and resource together, with conditions that the engine takes.
        type Fits = fn(&Row) -> bool;
        let conditions: [(&str, Fits); 5] = [
            ("true", |_| true),
            ("decision = 'allowed'", |row| row["decision"] == "allowed"),
            ("user in ('u1', 'u3') and reason <> 'silent'", |row| {
                ["u1", "u3"].contains(&row["user"].as_str()) && row["reason"] != "silent"
            }),
            ("action like '%e%' and resource > 'r4'", |row| {
                row["action"].contains('e') && row["resource"].as_str() > "r4"
            }),
            // One that it does not take: two columns at once.
            ("substr(user, 2, 1) = substr(resource, 2, 1)", |row| row["user"][1..2] == row["resource"][1..2]),
        ];
        for (at, column) in columns.iter().enumerate() {
            let other = columns[(at + 1 + seed as usize % 5) % columns.len()];
            let (condition, fits) = conditions[(at + seed as usize) % conditions.len()];
            let question =
                format!("select {column}, {other}, count(*) from access where {condition} group by {column}, {other}");
            assert_eq!(answer(dir, &question), counted(&rows, &[column, other], fits), "seed {seed}: {question}");
            compared += 1;
        }
        // Through joins, and where only whether there is any matters.
        let question = "select u.site, a.reason, count(*) from access a join users u on a.user = u.id \
                        where a.action = 'read' group by u.site, a.reason";
        let fits = |row: &Row| row["action"] == "read";
        assert_eq!(answer(dir, question), counted(&rows, &["site", "reason"], fits), "seed {seed}");
        let question =
            "select count(distinct user), min(resource), max(kind), count(*) from access where decision = 'allowed'";
        let allowed: Vec<&Row> = rows.iter().filter(|row| row["decision"] == "allowed").collect();
        let users: BTreeSet<&String> = allowed.iter().map(|row| &row["user"]).collect();
        let least = allowed.iter().map(|row| row["resource"].clone()).min().unwrap_or_default();
        let most = allowed.iter().map(|row| row["kind"].clone()).max().unwrap_or_default();
        let wanted = vec![vec![users.len().to_string(), least, most, allowed.len().to_string()]];
        assert_eq!(answer(dir, question), wanted, "seed {seed}");
        let question = "select id from users u where exists (select 1 from access a where a.user = u.id and a.decision = \
                        'allowed' and a.action = 'write')";
        let writers: BTreeSet<&String> =
            allowed.iter().filter(|row| row["action"] == "write").map(|row| &row["user"]).collect();
        let writers: Vec<Vec<String>> = writers.into_iter().map(|user| vec![user.clone()]).collect();
        assert_eq!(answer(dir, question), writers, "seed {seed}");
        let question = "select distinct r.kind from resources r where r.id not in (select resource from access where decision \
                        = 'allowed')";
        let open: BTreeSet<&String> = allowed.iter().map(|row| &row["resource"]).collect();
        let shut: BTreeSet<&String> =
            rows.iter().filter(|row| !open.contains(&row["resource"])).map(|row| &row["kind"]).collect();
        let shut: Vec<Vec<String>> = shut.into_iter().map(|kind| vec![kind.clone()]).collect();
        assert_eq!(answer(dir, question), shut, "seed {seed}");
        // A column of theirs that is called as the number of rows is ours is theirs; what is drawn is drawn for each row.
        let question =
            "select x.\"rows alike\", count(*) from (select a.action, 7 as \"rows alike\" from access a) x group by 1";
        assert_eq!(answer(dir, question), vec![vec!["7".to_string(), rows.len().to_string()]], "seed {seed}");
        let question = "select count(distinct n) > 1 from (select action, random() as n from access) x";
        assert_eq!(answer(dir, question), vec![vec!["yes".to_string()]], "seed {seed}");
        let question = "select count(*) > 10 from (select action from access where random() < 2.0) x";
        assert_eq!(answer(dir, question), vec![vec!["yes".to_string()]], "seed {seed}");
        compared += 8;
    }
    assert!(compared > 100, "{compared}");
}
