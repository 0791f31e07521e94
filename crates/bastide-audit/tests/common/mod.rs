//! A clean estate, and the audit of what tests make of it.
#![allow(dead_code, reason = "each test program uses a part of it")]

pub mod mistakes;

use bastide_audit::{Case as AuditCase, Finding, Level, Limits, audit};
use bastide_model::{Estate, Moment, Origin};
use bastide_testkit::Case;
use std::collections::BTreeSet;
use std::path::Path;

pub fn clean() -> Case {
    Case::parse(include_str!("../clean.txt"), Path::new("."))
}

pub fn findings_of(case: &Case) -> Vec<Finding> {
    audited(case, &[])
}

/// With what people did: gus changed one paper, and nobody did anything else.
pub fn used_findings_of(case: &Case) -> Vec<Finding> {
    audited(case, &[("gus", "update", "n4")])
}

/// What lies inside a dataset is told: rows by house, columns with these marks.
pub fn inside(case: &mut Case, dataset: &str, marks: &str) {
    if !case.files().iter().any(|(file, _)| file == "rows.csv") {
        append(case, "p.bastide", "kind slice in data\nkind column in data\nattribute rows of slice: number\n");
        case.set("rows.csv", "day,house,pay\n1,north,5\n2,south,6\n3,south,7\n".to_string());
    }
    append(
        case,
        "bastide.toml",
        &format!(
            "[[inside]]\ndataset = \"{dataset}\"\nfile = \"rows.csv\"\nslices = [\"house\"]\ncolumns = true\n{marks}"
        ),
    );
}

/// People and papers more, with nothing wrong about them.
pub fn enlarge(case: &mut Case, people: usize, papers: usize) {
    let (mut users, mut members, mut rows) = (String::new(), String::new(), String::new());
    for i in 0..people {
        users.push_str(&format!("p{i},Person {i},person,yes,{},internal\n", ["north", "south"][i % 2]));
        members.push_str(&format!("staff,p{i}\n"));
    }
    for i in 0..papers {
        let place = ["n", "s"][i % 2];
        rows.push_str(&format!("x{i},{place},item,Paper {i},p{},released,,,,,2027-01-01\n", i % people));
    }
    for (file, text) in [("people.csv", users), ("groups.csv", members), ("catalog.csv", rows)] {
        append(case, file, text.trim_end());
    }
}

fn audited(case: &Case, did: &[(&str, &str, &str)]) -> Vec<Finding> {
    let loaded = case.load();
    let errors: Vec<&str> = loaded.diagnostics.iter().filter(|d| d.is_error()).map(|d| d.message.as_str()).collect();
    let estate: &Estate = loaded.estate.as_ref().unwrap_or_else(|| panic!("{errors:#?}"));
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let lines = loaded
        .diagnostics
        .iter()
        .map(|d| d.place.map(|p| Origin { file: p.file, line: loaded.sources.position(p).line }));
    let used = did.iter().map(|(user, action, resource)| {
        let action = estate.schema().action(action).expect("it is declared");
        (estate.people().find(user).expect("a user"), action, estate.catalog().find(resource).expect("a resource"))
    });
    let used = used.collect();
    let case = AuditCase {
        estate,
        moment: &moment,
        harmless: vec!["read".to_string()],
        limits: Limits { exposure_users: 4.0, ..Limits::default() },
        levels: Vec::new(),
        diagnostics: &loaded.diagnostics,
        lines: lines.collect(),
        used: (!did.is_empty()).then_some(used),
    };
    let found = audit(&case, &|_| true, &|_| {}).expect("no circles");
    // Whatever example is given, the evaluator says the same of it.
    let reference = bastide_engine::ReferenceEvaluator::new(estate, &moment).unwrap();
    for example in found.iter().filter_map(|f| f.example.as_ref()) {
        let user = estate.people().find(&example.user).unwrap();
        let action = estate.schema().action(&example.action).unwrap();
        let resource = estate.catalog().find(&example.resource).unwrap();
        let can = if reference.decide(user, action, resource).is_allowed() { " can " } else { " cannot " };
        assert!(example.sentence.contains(can), "{}", example.sentence);
    }
    found
}

pub fn serious(findings: &[Finding]) -> BTreeSet<&str> {
    findings.iter().filter(|f| f.level <= Level::Warning).map(|f| f.name.as_str()).collect()
}

pub fn append(case: &mut Case, file: &str, text: &str) {
    let old = case.files().iter().find(|(n, _)| n == file).map(|(_, t)| t.clone()).unwrap_or_default();
    case.set(file, format!("{old}{text}\n"));
}

pub fn replace(case: &mut Case, file: &str, from: &str, to: &str) {
    let old = case.files().iter().find(|(n, _)| n == file).map(|(_, t)| t.clone()).unwrap();
    assert!(old.contains(from), "{from}");
    case.set(file, old.replacen(from, to, 1));
}
