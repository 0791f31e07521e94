//! Who changed a line last, from a git checkout around the estate.

mod common;

use common::{demo, run_in};
use git2::{IndexAddOption, Repository, Signature, Time};
use std::fs;
use std::path::Path;

fn commit(repository: &Repository, who: &str, day: &str, message: &str) {
    let mut index = repository.index().unwrap();
    index.add_all(["*"], IndexAddOption::DEFAULT, None).unwrap();
    index.write().unwrap();
    let tree = repository.find_tree(index.write_tree().unwrap()).unwrap();
    let noon: jiff::Timestamp = format!("{day}T12:00:00Z").parse().unwrap();
    let author = Signature::new(who, "nobody@fourtides.example", &Time::new(noon.as_second(), 60)).unwrap();
    let parents: Vec<git2::Commit> =
        repository.head().ok().map(|head| head.peel_to_commit().unwrap()).into_iter().collect();
    let parents: Vec<&git2::Commit> = parents.iter().collect();
    repository.commit(Some("HEAD"), &author, &author, message, &tree, &parents).unwrap();
}

fn why(dir: &Path) -> String {
    run_in(dir, &["why", "bruno.tavares", "read", "in-007", "--on", "2026-11-24", "--remedies", "0"]).ok()
}

#[test]
fn the_last_change_of_the_deciding_line_is_told() {
    let demo = demo();
    // No checkout: nothing to say, and no complaint.
    assert!(!why(demo.path()).contains("changed"));
    let repository = Repository::init(demo.path()).unwrap();
    assert!(!why(demo.path()).contains("changed"), "nothing is committed yet");
    commit(&repository, "Nadia Quayle", "2026-03-02", "The estate as it is\n\nWith a body.");
    let entries = demo.path().join("data/entries.csv");
    let text = fs::read_to_string(&entries).unwrap();
    let note = "Meant the former colleague of the same surname";
    fs::write(&entries, text.replace(note, "Blocked for good")).unwrap();
    // A line that is not committed yet has no author.
    let told = why(demo.path());
    assert_eq!(told.matches("changed  ").count(), 2, "{told}");
    commit(&repository, "Emre Aksoy", "2026-05-11", "Block a former colleague");
    insta::assert_snapshot!("why_with_history", scrubbed(&why(demo.path())));
    let json = run_in(demo.path(), &["why", "bruno.tavares", "read", "in-007", "--format", "json"]).ok();
    let answer: serde_json::Value = serde_json::from_str(&json).unwrap();
    let touched = answer["touched"].as_array().unwrap();
    let of = |place: &str| touched.iter().find(|t| t["place"] == place).map(|t| t["author"].as_str().unwrap());
    assert_eq!(of("data/entries.csv:43"), Some("Emre Aksoy"));
    assert_eq!(of("data/groups.csv:9"), Some("Nadia Quayle"), "the membership by which a statement reaches the user");
}

/// Commits have other names each time.
fn scrubbed(text: &str) -> String {
    let mut out = String::new();
    for line in text.lines() {
        let line = match (line.contains("changed  "), line.rfind('(')) {
            (true, Some(at)) => format!("{}(COMMIT)", &line[..at]),
            _ => line.to_string(),
        };
        out.push_str(&format!("{line}\n"));
    }
    out
}
