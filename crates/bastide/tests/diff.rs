//! `bastide diff`: folders, archives and git revisions, without touching the working tree.

mod common;

use common::{demo, run_in};
use git2::{IndexAddOption, Repository, Signature};
use std::fs;
use std::path::Path;

const ON: [&str; 2] = ["--on", "2026-11-24"];

fn commit(repository: &Repository, message: &str) {
    let mut index = repository.index().unwrap();
    index.add_all(["*"], IndexAddOption::DEFAULT, None).unwrap();
    index.write().unwrap();
    let tree = repository.find_tree(index.write_tree().unwrap()).unwrap();
    let author = Signature::now("Nadia Quayle", "nadia@fourtides.example").unwrap();
    let parents: Vec<git2::Commit> =
        repository.head().ok().map(|head| head.peel_to_commit().unwrap()).into_iter().collect();
    let parents: Vec<&git2::Commit> = parents.iter().collect();
    repository.commit(Some("HEAD"), &author, &author, message, &tree, &parents).unwrap();
}

fn change(dir: &Path) {
    let args = [
        "try",
        "--write",
        "--far",
        "--drop",
        "entries.csv:43",
        "--join",
        "marisol.ferro:lab",
        "--off",
        "staff-comment-on-reviews",
    ];
    run_in(dir, &[&args[..], &ON].concat()).ok();
    // A user and a resource come, too.
    let staff = dir.join("data/staff.csv");
    fs::write(
        &staff,
        fs::read_to_string(&staff).unwrap() + "nils.aronsen,Nils Aronsen,person,yes,staff,harbour,internal,curator\n",
    )
    .unwrap();
    let groups = dir.join("data/groups.csv");
    fs::write(&groups, fs::read_to_string(&groups).unwrap() + "directors,nils.aronsen\n").unwrap();
}

#[test]
fn revisions_are_compared_without_touching_the_working_tree() {
    let demo = demo();
    let dir = demo.path();
    let repository = Repository::init(dir).unwrap();
    commit(&repository, "The estate as it is");
    change(dir);
    commit(&repository, "Three changes and a director");
    // An uncommitted change belongs to the estate at hand, and to no revision.
    let uncommitted = dir.join("policy/draft.bastide");
    fs::write(&uncommitted, "rule draft { who members of couriers may comment what sheet }\n").unwrap();
    let run = |args: &[&str]| run_in(dir, &[&["diff"][..], args, &ON].concat());
    insta::assert_snapshot!("diff_revisions", run(&["HEAD~1..HEAD"]).ok());
    insta::assert_snapshot!("diff_markdown", run(&["HEAD~1..HEAD", "--format", "md"]).ok());
    insta::assert_snapshot!("diff_draft", run(&["HEAD"]).ok());
    assert_eq!(run(&["HEAD", "--exit-code"]).status, 1);
    assert_eq!(run(&["HEAD", "HEAD", "--exit-code"]).status, 0);
    assert!(uncommitted.exists());
    assert!(repository.statuses(None).unwrap().iter().all(|s| s.path().ok() == Some("policy/draft.bastide")));
    let unknown = run(&["HEAD~9"]);
    assert_eq!(unknown.status, 2);
    assert!(unknown.err.contains("is no folder, no archive and no revision"), "{}", unknown.err);
    // A revision with a mistake in it gives no answer.
    fs::write(&uncommitted, "rule draft { who anyone may raed what anything }\n").unwrap();
    commit(&repository, "A mistake");
    fs::remove_file(&uncommitted).unwrap();
    let broken = run(&["HEAD"]);
    assert_eq!((broken.status, broken.out.as_str()), (3, ""));
    assert!(broken.err.contains("did you mean `read`?"));
}

#[test]
fn folders_archives_and_rows_say_the_same() {
    let (old, new) = (demo(), demo());
    change(new.path());
    let outside = tempfile::tempdir().unwrap();
    let (a, b) = (old.path().to_str().unwrap(), new.path().to_str().unwrap());
    let tar = outside.path().join("old.tar.gz");
    let mut archive =
        tar::Builder::new(flate2::write::GzEncoder::new(fs::File::create(&tar).unwrap(), flate2::Compression::fast()));
    archive.append_dir_all("inside", old.path()).unwrap();
    archive.into_inner().unwrap().finish().unwrap();
    let tar = tar.to_str().unwrap();
    let run = |args: &[&str]| run_in(outside.path(), &[&["diff"][..], args, &ON].concat());
    let json = |old: &str| -> serde_json::Value {
        let mut value: serde_json::Value = serde_json::from_str(&run(&[old, b, "--format", "json"]).ok()).unwrap();
        value["old"] = "".into();
        value["about"]["asked"] = "".into();
        value
    };
    let by_folder = json(a);
    assert_eq!(by_folder, json(tar));
    // One row a triple, and as many of each sort as announced; and as the two matrices say.
    let rows = run(&[a, b, "--format", "csv"]).ok();
    let count = |change: &str| rows.lines().filter(|l| l.ends_with(change)).count() as u64;
    assert_eq!(Some(count(",gained")), by_folder["radius"]["gained"].as_u64());
    assert_eq!(Some(count(",lost")), by_folder["radius"]["lost"].as_u64());
    let causes = by_folder["causes"].as_array().unwrap();
    let sum = |side: &str| causes.iter().map(|c| c[side].as_u64().unwrap()).sum::<u64>();
    assert_eq!((sum("gained"), sum("lost")), (count(",gained"), count(",lost")));
    let back = run(&[b, a, "--format", "csv"]).ok();
    assert_eq!(back.lines().filter(|l| l.ends_with(",lost")).count() as u64, count(",gained"));
    let missing = run(&["nothing.zip", b]);
    assert_eq!(missing.status, 2);
}
