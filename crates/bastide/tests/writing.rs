//! Writing into an estate: one at a time, over nobody's edit, all or nothing, and nothing left behind, however it is cut off.
#![cfg(unix)]

mod common;

use common::{demo, run_in};
use sha2::Digest;
use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// So many kills, or as `BASTIDE_KILLS` says.
fn kills() -> usize {
    std::env::var("BASTIDE_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(40)
}

/// Every file of a folder with its text.
fn files(dir: &Path) -> Vec<(String, Vec<u8>)> {
    let mut found = Vec::new();
    let mut open = vec![dir.to_path_buf()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
            } else {
                let name = path.strip_prefix(dir).unwrap().to_string_lossy().into_owned();
                found.push((name, fs::read(&path).unwrap_or_default()));
            }
        }
    }
    found.sort();
    found
}

fn names(dir: &Path) -> BTreeSet<String> {
    files(dir).into_iter().map(|(name, _)| name).collect()
}

fn start(dir: &Path, args: &[&str]) -> Child {
    Command::new(assert_cmd::cargo::cargo_bin("bastide"))
        .args(args)
        .current_dir(dir)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the program starts")
}

const ON: [&str; 2] = ["--on", "2026-11-24"];
/// A change of two files.
const CHANGE: [&str; 4] = ["--leave", "marta.hollis:registrars", "--drop", "data/entries.csv:43"];

fn write(dir: &Path) -> common::Run {
    run_in(dir, &[&["-q", "try", "--write", "--anyway", "--far"][..], &CHANGE, &ON].concat())
}

#[test]
fn mode_and_links_are_kept() {
    let demo = demo();
    let root = demo.path();
    let (groups, entries) = (root.join("data/groups.csv"), root.join("data/entries.csv"));
    fs::set_permissions(&groups, fs::Permissions::from_mode(0o640)).unwrap();
    // Somebody else's, where this may be tried; and something noted beside it, where the disk can.
    let own = fs::metadata(&groups).unwrap();
    let given = std::os::unix::fs::chown(&groups, Some(12_345), Some(23_456)).is_ok();
    let noted = rustix::fs::setxattr(&groups, c"user.note", b"kept", rustix::fs::XattrFlags::empty()).is_ok();
    fs::create_dir(root.join("kept")).unwrap();
    fs::rename(&entries, root.join("kept/e.csv")).unwrap();
    symlink("../kept/e.csv", &entries).unwrap();
    let before = names(root);
    write(root).ok();
    let now = fs::metadata(&groups).unwrap();
    assert_eq!(now.mode() & 0o777, 0o640);
    let owner = if given { (12_345, 23_456) } else { (own.uid(), own.gid()) };
    assert_eq!((now.uid(), now.gid()), owner);
    let mut note = [0; 4];
    let size = rustix::fs::getxattr(&groups, c"user.note", &mut note[..]).unwrap_or(0);
    assert_eq!((size, &note[..size]), if noted { (4, &b"kept"[..]) } else { (0, &b""[..]) });
    assert!(!fs::read_to_string(&groups).unwrap().contains("registrars,marta.hollis"));
    assert!(fs::symlink_metadata(&entries).unwrap().is_symlink(), "a link stays a link");
    assert!(!fs::read_to_string(root.join("kept/e.csv")).unwrap().contains("bruno.tavares"));
    assert_eq!(names(root), before, "nothing is left behind");
}

#[test]
fn what_is_better_left_alone_is() {
    for (what, why) in [
        ("chmod 444 data/entries.csv", "it is read-only"),
        ("ln data/entries.csv data/second.csv", "it has a second name"),
        ("mv data/entries.csv .hidden.csv; ln -s ../.hidden.csv data/entries.csv", "it leads to a hidden place"),
    ] {
        let demo = demo();
        assert!(Command::new("sh").args(["-c", what]).current_dir(demo.path()).status().unwrap().success());
        let before = files(demo.path());
        let run = write(demo.path());
        assert_eq!(run.status, 4, "{what}: {}", run.err);
        assert!(run.err.contains(why) && run.err.contains("nothing is written"), "{}", run.err);
        assert_eq!(files(demo.path()), before, "{what}");
    }
    let demo = demo();
    let rules = demo.path().join("policy/staff.bastide");
    let text = fs::read_to_string(&rules).unwrap();
    fs::write(&rules, text.replace("    who", "  who")).unwrap();
    fs::set_permissions(&rules, fs::Permissions::from_mode(0o444)).unwrap();
    assert_eq!(run_in(demo.path(), &["fmt"]).status, 4);
    // What is written for somebody to read goes by the same.
    let out = demo.path().join("out.csv");
    fs::write(&out, "mine").unwrap();
    fs::hard_link(&out, demo.path().join("second.csv")).unwrap();
    let run = run_in(demo.path(), &["-q", "matrix", "--format", "csv", "-o", "out.csv"]);
    assert!(run.status == 4 && run.err.contains("it has a second name"), "{}", run.err);
    assert_eq!(fs::read_to_string(&out).unwrap(), "mine");
}

/// Several write at once, while somebody edits by hand: whatever was said to be written is there at the end, and so is every
/// edit.
#[test]
#[allow(clippy::print_stdout, reason = "how much was written")]
fn no_change_is_lost_in_a_crowd() {
    let seconds = std::env::var("BASTIDE_SECONDS").ok().and_then(|n| n.parse().ok()).unwrap_or(6);
    let demo = demo();
    let root = demo.path();
    let groups = root.join("data/groups.csv");
    let users: Vec<String> = {
        let text = run_in(root, &["-q", "who", "read", "Press", "--format", "csv"]).ok();
        text.lines().skip(1).map(|line| line.split(',').next().unwrap().to_string()).collect()
    };
    let new = ["crowd-a", "crowd-b", "crowd-c", "crowd-d", "crowd-e", "crowd-f", "crowd-g", "crowd-h"];
    let rows: String = new.iter().map(|group| format!("{group},\n")).collect();
    let width = fs::read_to_string(&groups).unwrap().lines().next().unwrap().matches(',').count();
    let rows = rows.replace(",\n", &format!("{}\n", ",".repeat(width)));
    fs::write(&groups, fs::read_to_string(&groups).unwrap() + &rows).unwrap();
    let end = Instant::now() + Duration::from_secs(seconds);
    let (mut kept, mut edits) = (BTreeSet::new(), Vec::new());
    let (written, refused) = (AtomicUsize::new(0), AtomicUsize::new(0));
    std::thread::scope(|scope| {
        let writers: Vec<_> = new
            .iter()
            .map(|group| {
                let (users, written, refused) = (&users, &written, &refused);
                scope.spawn(move || {
                    let mut kept = Vec::new();
                    for user in users.iter().cycle().take(10_000) {
                        if Instant::now() > end {
                            break;
                        }
                        let option = if kept.contains(&format!("{group},{user}")) { "--leave" } else { "--join" };
                        let what = format!("{user}:{group}");
                        let run = run_in(root, &["-q", "try", option, &what, "--write", "--anyway", "--far"]);
                        let row = format!("{group},{user}");
                        match run.status {
                            0 | 1 if run.out.contains("written") => {
                                written.fetch_add(1, Ordering::Relaxed);
                                match option {
                                    "--join" => kept.push(row),
                                    _ => kept.retain(|known| *known != row),
                                }
                            }
                            // Status 3: the editor has emptied a file, and not filled it yet.
                            3 | 4 => {
                                refused.fetch_add(1, Ordering::Relaxed);
                                assert!(run.status == 3 || run.err.contains("change"), "{}", run.err);
                            }
                            _ => panic!("{} {}{}", run.status, run.out, run.err),
                        }
                    }
                    kept
                })
            })
            .collect();
        // An editor's way: read, and write over it or put another file in its place.
        for number in 0.. {
            if Instant::now() > end {
                break;
            }
            let note = format!("# by hand {number}\n");
            let policy = root.join("policy/staff.bastide");
            let text = fs::read_to_string(&policy).unwrap() + &note;
            if number % 2 == 0 {
                fs::write(&policy, text).unwrap();
            } else {
                fs::write(root.join("policy/edited"), text).unwrap();
                fs::rename(root.join("policy/edited"), &policy).unwrap();
            }
            edits.push(note);
            std::thread::sleep(Duration::from_millis(400));
        }
        for writer in writers {
            kept.extend(writer.join().unwrap());
        }
    });
    let (written, refused) = (written.into_inner(), refused.into_inner());
    println!("{written} changes, {refused} refused, {} edits by hand", edits.len());
    let text = fs::read_to_string(&groups).unwrap();
    let there: BTreeSet<String> = text
        .lines()
        .filter(|line| line.starts_with("crowd-"))
        .map(|line| line.split(',').take(2).collect::<Vec<_>>().join(","))
        .filter(|row| !row.ends_with(','))
        .collect();
    assert_eq!(there, kept);
    // How many it takes depends on the machine; that some were written while others wrote, and somebody edited, does not.
    assert!(written > 1 && edits.len() > 1, "{written} written, {} edits", edits.len());
    let policy = fs::read_to_string(root.join("policy/staff.bastide")).unwrap();
    assert!(edits.iter().all(|note| policy.contains(note)));
    assert!(names(root).iter().all(|name| !name.contains(".bastide-")), "{:?}", names(root));
}

/// A file that is edited between reading and writing stops the change, `fmt` included.
#[test]
fn an_edit_while_it_works_stops_the_change() {
    let demo = demo();
    let root = demo.path();
    let policy = root.join("policy/staff.bastide");
    let (mut refused, mut written) = (0, 0);
    for round in 0..60 {
        let text = fs::read_to_string(&policy).unwrap().replace("    who", "  who");
        fs::write(&policy, &text).unwrap();
        let mut child = start(root, &["-q", "fmt"]);
        std::thread::sleep(Duration::from_micros(round * 700));
        let edited = format!("{text}# round {round}\n");
        fs::write(&policy, &edited).unwrap();
        let status = child.wait().unwrap().code();
        let now = fs::read_to_string(&policy).unwrap();
        assert!(now.contains(&format!("# round {round}\n")), "the edit of round {round} is lost: {status:?}");
        match status {
            Some(4) => refused += 1,
            // Read in the instant in which it is written, a text may be torn: then it has mistakes, and nothing is written.
            Some(3) => refused += 1,
            Some(0) => written += 1,
            other => panic!("{other:?}"),
        }
        assert!(names(root).iter().all(|name| !name.contains(".bastide-")), "{:?}", names(root));
    }
    assert!(written > 0, "{refused} refused, {written} written");
}

/// Killed at any moment, every writing command leaves the old files or the new ones, and the next command nothing besides.
#[test]
fn killed_at_any_moment() {
    let all: [&[&str]; 6] = [
        &[&["-q", "try", "--write", "--anyway", "--far"][..], &CHANGE].concat(),
        &["-q", "fmt"],
        &["-q", "review", "sheets", "sheets"],
        &["-q", "new", "fresh/estate"],
        &["-q", "demo", "second", "--no-tour"],
        &["-q", "setup", "files"],
    ];
    let mut rng = fastrand::Rng::with_seed(20261128);
    let base = demo();
    let rules = base.path().join("policy/staff.bastide");
    fs::write(&rules, fs::read_to_string(&rules).unwrap().replace("    who", "  who")).unwrap();
    let rules = base.path().join("policy/houses.bastide");
    fs::write(&rules, fs::read_to_string(&rules).unwrap().replace("    who", "  who")).unwrap();
    let copy = || {
        let dir = TempDir::new().unwrap();
        let status = Command::new("cp").arg("-r").arg(base.path().join(".")).arg(dir.path()).status();
        assert!(status.unwrap().success());
        dir
    };
    let mut seen = [[0; 2]; 6];
    for (which, args) in all.iter().enumerate() {
        let whole = copy();
        let started = Instant::now();
        assert!(start(whole.path(), args).wait().unwrap().success());
        let long = started.elapsed().as_micros() as u64;
        let (old, new) = (files(base.path()), files(whole.path()));
        for round in 0..kills() {
            let dir = copy();
            let mut child = start(dir.path(), args);
            std::thread::sleep(Duration::from_micros(rng.u64(0..long * 11 / 10)));
            let signal = ["-KILL", "-KILL", "-TERM", "-INT"][round % 4];
            let _ = Command::new("kill").args([signal, &child.id().to_string()]).stderr(Stdio::null()).status();
            child.wait().unwrap();
            if signal != "-KILL" {
                let left: Vec<String> = names(dir.path()).into_iter().filter(|n| n.contains(".bastide-")).collect();
                assert!(left.is_empty(), "{args:?} {signal}: {left:?}");
            }
            // Whatever is asked next.
            let next = run_in(dir.path(), &["-q", "check"]);
            assert_eq!(next.status, 0, "{args:?}: {}", next.err);
            match files(dir.path()) {
                now if now == old => seen[which][0] += 1,
                now if now == new => seen[which][1] += 1,
                now => {
                    let part = now.iter().filter(|file| !old.contains(file)).map(|(name, _)| name).collect::<Vec<_>>();
                    panic!("{args:?} {signal}: half of it: {part:?}");
                }
            }
        }
    }
    assert!(seen.iter().map(|s| s[0]).sum::<usize>() > 0 && seen.iter().map(|s| s[1]).sum::<usize>() > 0, "{seen:?}");
}

/// A disk that is full leaves everything as it was.
#[test]
fn a_full_disk() {
    let demo = demo();
    let before = files(demo.path());
    // No file may grow beyond a few blocks of 512 bytes: a stand-in for a disk without room.
    let program = assert_cmd::cargo::cargo_bin("bastide");
    for args in [
        "-q try --write --anyway --far --leave marta.hollis:registrars --drop data/entries.csv:43",
        "-q matrix --format csv -o out.csv",
        "-q report -o report.html",
        "-q review sheets sheets",
        "-q new fresh/estate",
        "-q demo second --no-tour",
        "-q setup files",
    ] {
        let line = format!("trap '' XFSZ; ulimit -f 1; exec {} {args}", program.display());
        let run = Command::new("sh").args(["-c", &line]).current_dir(demo.path()).output().unwrap();
        assert_eq!(run.status.code(), Some(4), "{args}: {}", String::from_utf8_lossy(&run.stderr));
        assert!(String::from_utf8_lossy(&run.stderr).contains("cannot be written"), "{args}");
        assert_eq!(files(demo.path()), before, "{args}");
    }
    let full = run_in(demo.path(), &["-q", "matrix", "--format", "csv", "-o", "/dev/full"]);
    assert_eq!(full.status, 4, "{}", full.err);
}

/// The demo keeps its hands off a folder that holds anything else.
#[test]
fn the_demo_touches_nothing_of_others() {
    let demo = demo();
    assert_eq!(run_in(demo.path(), &["demo", ".", "--no-tour"]).status, 0);
    for (name, text) in
        [("policy/draft.bastide", "mine"), ("notes.txt", "mine"), ("report.html", "mine"), ("data/sub/x", "mine")]
    {
        let file = demo.path().join(name);
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(&file, text).unwrap();
        let before = files(demo.path());
        let run = run_in(demo.path(), &["demo", "."]);
        assert_eq!(run.status, 2, "{name}: {}", run.err);
        assert!(run.err.contains("which the demo did not write"), "{}", run.err);
        assert_eq!(files(demo.path()), before);
        fs::remove_file(&file).unwrap();
    }
}

/// Leaves a change of the entries as if its writer had been killed once it counted.
fn cut_off(root: &Path, target: &str, new: &str) -> String {
    let beside = format!(".bastide-{}", "0123456789ab".repeat(2));
    let sum = |text: &[u8]| sha2::Sha256::digest(text).iter().map(|byte| format!("{byte:02x}")).collect::<String>();
    let old = fs::read(root.join(target)).unwrap_or_default();
    fs::write(root.join(target).with_file_name(&beside), new).unwrap();
    let journal = serde_json::json!({
        "journal": 2, "state": "made", "draft": format!(".bastide-{}", "f".repeat(24)),
        "files": [{"file": "data/entries.csv", "target": target, "beside": beside, "old": sum(&old), "new": sum(new.as_bytes())}],
    });
    fs::write(root.join(".bastide-journal"), journal.to_string()).unwrap();
    beside
}

/// A change that was cut off after it counted is finished by whoever reads next, who says so; unless somebody edited the file
/// since, whose text is not touched.
#[test]
fn a_change_that_was_cut_off_is_finished() {
    let asked = ["-q", "why", "bruno.tavares", "read", "in-007", "--remedies", "0", "--on", "2026-11-24"];
    let without = |text: &str| {
        text.lines().filter(|l| !l.contains("bruno.tavares")).map(|l| format!("{l}\n")).collect::<String>()
    };
    let (first, second) = (demo(), demo());
    let entries = first.path().join("data/entries.csv");
    let new = without(&fs::read_to_string(&entries).unwrap());
    let before = names(first.path());
    cut_off(first.path(), "data/entries.csv", &new);
    let run = run_in(first.path(), &asked);
    assert!(run.status == 0 && run.out.starts_with("allowed"), "{}{}", run.out, run.err);
    let told = "a change that was cut off while it was written is finished now: `data/entries.csv`";
    assert!(run.err.contains(told), "{}", run.err);
    assert_eq!(fs::read_to_string(&entries).unwrap(), new);
    assert_eq!(names(first.path()), before, "nothing is left behind");
    assert!(!run_in(first.path(), &asked).err.contains("cut off"), "it is said once");

    let entries = second.path().join("data/entries.csv");
    let beside = cut_off(second.path(), "data/entries.csv", &new);
    fs::write(&entries, "subject,modality,actions,place,reach\n").unwrap();
    let before = files(second.path());
    for command in [&asked[..], &["check"], &["fmt"], &["try", "--join", "marisol.ferro:lab", "--write"]] {
        let run = run_in(second.path(), command);
        assert_eq!((run.status, run.out.as_str()), (4, ""), "{command:?}: {}", run.err);
        assert!(
            run.err.contains("was edited after a change of it was cut off") && run.err.contains(&beside),
            "{}",
            run.err
        );
        assert_eq!(files(second.path()), before, "{command:?}");
    }
}

/// A journal that comes along with the files makes no command read or write anything else.
#[test]
fn a_strangers_journal_is_refused_by_every_command() {
    for target in ["../entries.csv", "/etc/hostname", ".git/config", "policy/../data/entries.csv"] {
        let outer = TempDir::new().unwrap();
        let dir = outer.path().join("estate");
        run_in(outer.path(), &["-q", "demo", "estate", "--no-tour"]).ok();
        fs::create_dir(dir.join(".git")).unwrap();
        fs::write(dir.join(".git/config"), "mine").unwrap();
        fs::write(outer.path().join("entries.csv"), "mine").unwrap();
        if target != "/etc/hostname" {
            cut_off(&dir, target, "subject\n");
        } else {
            fs::write(dir.join(".bastide-journal"), "../../../etc/hostname\tdata/entries.csv\n").unwrap();
        }
        let before = files(outer.path());
        for command in [&["check"][..], &["matrix"], &["try", "--join", "marisol.ferro:lab", "--write"], &["fmt"]] {
            let run = run_in(&dir, command);
            assert_eq!((run.status, run.out.as_str()), (4, ""), "{target} {command:?}: {}", run.err);
            assert!(run.err.contains("may have come along with the files"), "{}", run.err);
        }
        assert_eq!(files(outer.path()), before, "{target}");
    }
}
