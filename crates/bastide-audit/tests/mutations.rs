//! On a clean estate nothing at warning or above is reported; add one mistake of each sort, at random,
//! and the audit finds that one; and it finds each of them in a large estate, too.

mod common;

use bastide_audit::{ALL, Finding, Level};
use bastide_testkit::Case;
use common::mistakes::{MISTAKES, NOTES};
use common::{clean, enlarge, findings_of, serious, used_findings_of};
use fastrand::Rng;
use std::collections::BTreeSet;
use std::path::Path;

#[test]
fn a_clean_estate_is_left_in_peace() {
    let found = findings_of(&clean());
    let worse: Vec<&Finding> = found.iter().filter(|f| f.level <= Level::Warning).collect();
    assert!(worse.is_empty(), "{worse:#?}");
    // So is the estate that every new one begins with.
    let starter = Path::new(env!("CARGO_MANIFEST_DIR")).join("../bastide/starter");
    let mut case = Case::default();
    for file in [
        "bastide.toml",
        "policy/library.bastide",
        "data/people.csv",
        "data/groups.csv",
        "data/catalog.csv",
        "data/entries.csv",
    ] {
        if let Ok(text) = std::fs::read_to_string(starter.join(file)) {
            case.set(file, text);
        }
    }
    let found = findings_of(&case);
    assert_eq!(serious(&found), BTreeSet::new(), "{found:#?}");
}

#[test]
fn one_mistake_is_found_and_no_other() {
    let mut rng = Rng::with_seed(20261124);
    let mut seen: BTreeSet<&str> = BTreeSet::new();
    for round in 0..200 {
        let (name, with, make) = MISTAKES[round % MISTAKES.len()];
        let mut case = clean();
        make(&mut case, &mut rng);
        let found = findings_of(&case);
        let names = serious(&found);
        let told: Vec<String> =
            found.iter().filter(|f| f.level <= Level::Warning).map(|f| format!("{}: {}", f.name, f.message)).collect();
        assert!(names.contains(name), "round {round}, {name}: {told:#?}\n{:#?}", case.files());
        let others: Vec<&&str> = names.iter().filter(|n| **n != name && !with.contains(n)).collect();
        assert!(others.is_empty(), "round {round}, {name}: {others:?} {told:#?}");
        seen.insert(name);
    }
    assert!(seen.len() >= 18, "{seen:?}");
}

/// Findings that hang on what people did: they are looked for with usage data.
const OF_USAGE: [&str; 2] = ["too-wide-a-place", "unused-access"];

/// Among two hundred people and a thousand papers more, each mistake is found, with an example that the evaluator
/// confirms, and nothing else at warning or above.
#[test]
fn each_mistake_is_found_in_a_large_estate() {
    let mut rng = Rng::with_seed(7);
    let mut large = clean();
    enlarge(&mut large, 200, 1000);
    assert_eq!(serious(&findings_of(&large)), BTreeSet::new());
    let mut seen: BTreeSet<&str> = BTreeSet::new();
    for (name, with, make) in MISTAKES {
        // Those that hang on a share of everybody or of everything are no longer a large share.
        if *name == "wide-reach" || !seen.insert(name) {
            continue;
        }
        let mut case = large.clone();
        make(&mut case, &mut rng);
        let found = findings_of(&case);
        let names = serious(&found);
        assert!(names.contains(name), "{name}: {names:?}");
        let others: Vec<&&str> =
            names.iter().filter(|n| *n != name && !with.contains(n) && **n != "pointless-narrowing").collect();
        assert!(others.is_empty(), "{name}: {others:?}");
    }
    for (name, make) in NOTES {
        let mut case = large.clone();
        make(&mut case);
        let found = if OF_USAGE.contains(name) { used_findings_of(&case) } else { findings_of(&case) };
        assert!(found.iter().any(|f| f.name == *name), "{name} is not found");
        seen.insert(name);
    }
    seen.insert("wide-reach");
    let missing: Vec<&str> = ALL.iter().map(|d| d.name).filter(|n| !seen.contains(n)).collect();
    assert!(missing.is_empty(), "no positive case of {missing:?}");
}

/// The notes are found in a small estate, and are not there before.
#[test]
fn each_note_is_found() {
    let before = findings_of(&clean());
    for (name, make) in NOTES {
        let mut case = clean();
        make(&mut case);
        let found = if OF_USAGE.contains(name) { used_findings_of(&case) } else { findings_of(&case) };
        let new = found.iter().filter(|f| f.name == *name && before.iter().all(|b| b.fingerprint != f.fingerprint));
        assert!(new.count() > 0, "{name} is not found");
    }
}

/// What a suggestion in words would change is worked out, not guessed.
#[test]
fn rewordings_are_evaluated() {
    let suggestion = |name: &str| {
        let (_, make) = NOTES.iter().find(|(n, _)| *n == name).unwrap();
        let mut case = clean();
        make(&mut case);
        let found = findings_of(&case);
        found.into_iter().find(|f| f.name == name).unwrap().suggestion.expect("it has advice")
    };
    // Two papers more are covered, for two editors.
    let listed = suggestion("listed-by-name");
    assert!(listed.words.contains("`Papers/North/*`"), "{}", listed.words);
    let radius = listed.radius.unwrap();
    assert_eq!((radius.resources, radius.lost), (1, 0), "{radius:?}");
    // Three copies, one for each house, are one rule.
    let copies = suggestion("copies");
    assert_eq!(copies.radius.unwrap().triples(), 0);
}
