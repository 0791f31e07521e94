//! `bastide demo`, `new` and `fmt`.

mod common;

use common::{demo, run_in};

#[test]
fn the_tour_tells_its_story() {
    let dir = tempfile::tempdir().unwrap();
    let tour = run_in(dir.path(), &["demo"]);
    assert_eq!((tour.status, tour.err.as_str()), (0, ""));
    // How long it took and how much memory it needed is another each time.
    let timeless: String =
        tour.out.lines().filter(|l| !l.starts_with("loaded in ")).map(|l| format!("{l}\n")).collect();
    insta::assert_snapshot!("demo_tour", timeless);
    assert!(!dir.path().join("four-tides/policy/draft.bastide").exists(), "the mistake is taken back");
    let again = run_in(dir.path(), &["demo"]);
    assert!(again.ok().starts_with("the demo estate stands in `four-tides` already"));
}

#[test]
fn nothing_is_overwritten() {
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(dir.path().join("mine.txt"), "mine").unwrap();
    for command in [&["demo", "."][..], &["new", "."]] {
        let run = run_in(dir.path(), command);
        assert_eq!(run.status, 2);
        assert!(run.err.contains("`.` is not empty"), "{}", run.err);
    }
    assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 1);
}

#[test]
fn a_new_estate_is_whole() {
    let dir = tempfile::tempdir().unwrap();
    insta::assert_snapshot!("new", run_in(dir.path(), &["new", "library"]).ok());
    let check = run_in(dir.path(), &["-C", "library", "check"]).ok();
    assert!(check.starts_with("no mistakes\n"), "{check}");
    assert_eq!(run_in(dir.path(), &["-C", "library", "fmt", "--check"]).status, 0);
    let why = run_in(dir.path(), &["-C", "library", "why", "ada", "read", "Handbook"]).ok();
    assert!(why.contains("can read `Handbook`: rule `staff-read-the-rest`"), "{why}");
    let never = run_in(dir.path(), &["-C", "library", "why", "visitor", "update", "b-3", "--exit-code"]);
    assert_eq!(never.status, 1);
}

#[test]
fn files_are_laid_out_and_only_where_they_must() {
    let demo = demo();
    assert_eq!(
        run_in(demo.path(), &["fmt", "--check"]).ok(),
        "7 files in canonical layout\n",
        "the demo shows how it is done"
    );
    let file = demo.path().join("policy/houses.bastide");
    let canonical = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, canonical.replace("    may     author\n", "  may author\n")).unwrap();
    let before = run_in(demo.path(), &["matrix", "--all", "--format", "csv", "--on", "2026-11-24"]).ok();
    let check = run_in(demo.path(), &["fmt", "--check"]);
    assert_eq!(
        (check.status, check.out.as_str()),
        (1, "policy/houses.bastide is not in its canonical layout\n6 files in canonical layout\n")
    );
    assert_ne!(std::fs::read_to_string(&file).unwrap(), canonical, "--check changes nothing");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o640)).unwrap();
    }
    assert_eq!(
        run_in(demo.path(), &["fmt"]).ok(),
        "policy/houses.bastide laid out anew\n7 files in canonical layout\n"
    );
    assert_eq!(std::fs::read_to_string(&file).unwrap(), canonical);
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o640, "permissions stay");
    }
    assert_eq!(run_in(demo.path(), &["matrix", "--all", "--format", "csv", "--on", "2026-11-24"]).ok(), before);
    std::fs::write(demo.path().join("policy/zz.bastide"), "rule {").unwrap();
    std::fs::write(&file, canonical.replace("    may     author\n", "  may author\n")).unwrap();
    let refused = run_in(demo.path(), &["fmt"]);
    assert_eq!((refused.status, refused.out.as_str()), (3, ""));
    assert_ne!(std::fs::read_to_string(&file).unwrap(), canonical, "one file with mistakes, and none is touched");
}
