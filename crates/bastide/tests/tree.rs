//! `bastide import` from a real tree of files: what comes of modes, owners and access control lists equals what the system
//! itself says when it is asked as each account.
#![cfg(target_os = "linux")]

mod common;
#[path = "common/servers.rs"]
#[allow(dead_code, reason = "each test program uses a part of it")]
mod servers;

use fastrand::Rng;
use serde_json::Value;
use servers::{are_there, done};
use std::fmt::Write;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::Command;

const ACCOUNTS: u32 = 20;
const GROUPS: u32 = 15;
const FILES: usize = 2_000;
/// Numbers that nobody has on the machine of the test.
const BASE: u32 = 61_000;

/// The accounts of a system that is not this one, and the superuser.
fn accounts(dir: &Path, rng: &mut Rng) -> Vec<(String, u32, Vec<u32>)> {
    let mut found = vec![("root".to_string(), 0, vec![0])];
    let (mut users, mut groups) = ("root:x:0:0:root:/root:/bin/sh\n".to_string(), "root:x:0:\n".to_string());
    let members: Vec<Vec<u32>> = (0..GROUPS).map(|_| (0..ACCOUNTS).filter(|_| rng.u8(..4) == 0).collect()).collect();
    for (g, members) in members.iter().enumerate() {
        let names: Vec<String> = members.iter().map(|u| format!("u{u}")).collect();
        writeln!(groups, "g{g}:x:{}:{}", BASE + g as u32, names.join(",")).unwrap();
    }
    for u in 0..ACCOUNTS {
        let own = rng.u32(..GROUPS);
        writeln!(users, "u{u}:x:{}:{}:Account {u},,,:/:/bin/sh", BASE + u, BASE + own).unwrap();
        let mut of: Vec<u32> =
            (0..GROUPS).filter(|g| *g == own || members[*g as usize].contains(&u)).map(|g| BASE + g).collect();
        of.sort_by_key(|g| *g != BASE + own);
        found.push((format!("u{u}"), BASE + u, of));
    }
    fs::write(dir.join("passwd"), users).unwrap();
    fs::write(dir.join("group"), groups).unwrap();
    found
}

/// Names that would break a list.
fn named(i: usize) -> String {
    match i {
        40 => "a b ".to_string(),
        41 => "%41".to_string(),
        42 => "e\u{301}".to_string(),
        43 => "\u{e9}".to_string(),
        44 => "semi;colon, \"quoted\"".to_string(),
        45 => "tab\there".to_string(),
        _ => format!("f{i}"),
    }
}

/// Two thousand folders and files with owners, modes and lists at random: masks, accounts and groups that are named, lists that
/// are passed on. Half of the folders are open to all, so that something beneath can be reached.
fn grow(root: &Path, rng: &mut Rng) -> Vec<PathBuf> {
    let mut folders = vec![root.to_path_buf()];
    let mut all = vec![root.to_path_buf()];
    let mut lists: Vec<(PathBuf, String)> = Vec::new();
    for i in 0..FILES {
        let path = folders[rng.usize(..folders.len())].join(named(i));
        let folder = i < 60 || rng.u8(..5) == 0;
        if folder && !(40..46).contains(&i) {
            fs::create_dir(&path).unwrap();
            folders.push(path.clone());
        } else {
            fs::write(&path, "").unwrap();
        }
        all.push(path);
    }
    for (i, path) in all.iter().enumerate() {
        let open = path.is_dir() && (i == 0 || rng.bool());
        let mode = if open { 0o755 } else { rng.u32(..0o1000) };
        rustix::fs::chown(
            path,
            Some(rustix::fs::Uid::from_raw(BASE + rng.u32(..ACCOUNTS + 2))),
            Some(rustix::fs::Gid::from_raw(BASE + rng.u32(..GROUPS + 2))),
        )
        .unwrap();
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        if !open && rng.u8(..3) > 0 {
            let bits = |rng: &mut Rng| ["---", "r--", "-w-", "--x", "rw-", "r-x", "-wx", "rwx"][rng.usize(..8)];
            let mut list = Vec::new();
            for _ in 0..rng.usize(..4) {
                list.push(format!("u:{}:{}", BASE + rng.u32(..ACCOUNTS + 2), bits(rng)));
            }
            for _ in 0..rng.usize(..4) {
                list.push(format!("g:{}:{}", BASE + rng.u32(..GROUPS + 2), bits(rng)));
            }
            if rng.bool() {
                list.push(format!("m::{}", bits(rng)));
            }
            if path.is_dir() && rng.bool() {
                list.push(format!("d:u:{}:{}", BASE + rng.u32(..ACCOUNTS), bits(rng)));
            }
            if !list.is_empty() {
                lists.push((path.clone(), list.join(",")));
            }
        }
    }
    for (path, list) in &lists {
        // One that names somebody twice is refused; it stays as it was.
        let _ =
            Command::new("setfacl").args(["-m", list]).arg(path).stderr(std::process::Stdio::null()).status().unwrap();
    }
    assert!(lists.len() > 500);
    all
}

/// What the system says as an account, of a list of paths: one line a path.
fn asked_as(number: u32, groups: &[u32], paths: &[PathBuf], dir: &Path) -> Vec<String> {
    let list: String = paths.iter().map(|path| format!("{}\n", path.display())).collect();
    fs::write(dir.join("paths"), list).unwrap();
    let groups = groups.iter().map(u32::to_string).collect::<Vec<_>>();
    let script =
        "while IFS= read -r f; do a=; for t in r w x; do test -$t \"$f\" && a=$a$t; done; printf '%s.\\n' \"$a\"; done";
    let mut command = Command::new("setpriv");
    command.args([
        "--reuid",
        &number.to_string(),
        "--regid",
        &groups[0],
        "--groups",
        &groups.join(","),
        "sh",
        "-c",
        script,
    ]);
    let text = done(command.stdin(fs::File::open(dir.join("paths")).unwrap()).output().unwrap());
    text.lines().map(str::to_string).collect()
}

fn estate(dir: &Path, from: &str) {
    let more = "users = \"passwd\"\ngroups = \"group\"";
    let shown = common::shown_on("import-files.md", "file:///srv/share", from, more);
    let manifest = format!("name = \"Share\"\npolicy = [\"data/share/*.bastide\"]\n{shown}");
    fs::write(dir.join("bastide.toml"), manifest).unwrap();
}

/// The id of a path, as the documentation says: `%` before what an id may not hold.
fn id(root: &Path, path: &Path) -> String {
    let rest = path.strip_prefix(root.parent().unwrap()).unwrap().display().to_string();
    rest.replace('%', "%25").replace("a b ", "a b%20").replace("e\u{301}", "e%CC%81").replace('\t', "%09")
}

#[test]
#[allow(clippy::print_stderr, clippy::print_stdout, reason = "what is left out is said, and how much was compared")]
fn a_tree_of_files_means_here_what_it_means_there() {
    if !are_there(&["setfacl", "getfacl", "setpriv"]) {
        return;
    }
    if !rustix::process::geteuid().is_root() {
        eprintln!("left out: only the superuser can ask the system as somebody else");
        return;
    }
    let mut rng = Rng::with_seed(23);
    let home = tempfile::tempdir().unwrap();
    fs::set_permissions(home.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let dir = home.path();
    let accounts = accounts(dir, &mut rng);
    let root = dir.join("share");
    fs::create_dir(&root).unwrap();
    let all = grow(&root, &mut rng);
    std::os::unix::fs::symlink("f1", root.join("link")).unwrap();
    estate(dir, &format!("file://{}", root.display()));
    let run = common::run_in(dir, &["import", "--write", "--verify", "--format", "json"]);
    assert_eq!(run.status, 0, "{}", common::run_in(dir, &["import", "--verify"]).whole());
    let answer: Value = serde_json::from_str(&run.out).unwrap();
    let left = answer["imports"][0]["left"].as_array().unwrap();
    assert!(left.iter().any(|left| left["what"] == "symbolic links" && left["count"] == 1), "{left:?}");

    // Asked by the test itself.
    let mut rows = String::from("user,resource,action,decision\n");
    let mut asked = 0;
    for (name, number, groups) in &accounts {
        let answers = asked_as(*number, groups, &all, dir);
        assert_eq!(answers.len(), all.len());
        for (path, answer) in all.iter().zip(answers) {
            for (letter, action) in [('r', "read"), ('w', "write"), ('x', "search")] {
                if action != "search" || path.is_dir() {
                    let decision = if answer.contains(letter) { "allowed" } else { "refused" };
                    writeln!(rows, "{name},\"{}\",{action},{decision}", id(&root, path).replace('"', "\"\"")).unwrap();
                    asked += 1;
                }
            }
        }
    }
    fs::write(dir.join("asked.csv"), &rows).unwrap();
    let run = common::run_in(dir, &["verify", "asked.csv", "--format", "json"]);
    assert_eq!(run.status, 0, "{}", common::run_in(dir, &["verify", "asked.csv"]).whole());
    let found: Value = serde_json::from_str(&run.out).unwrap();
    assert_eq!(found["agreement"]["asked"].as_u64(), Some(asked));
    assert_eq!(found["agreement"]["agree"].as_u64(), Some(asked));
    assert_eq!(answer["verified"]["agreement"]["asked"].as_u64(), Some(asked), "both ways ask for the same");
    println!("{asked} decisions of the system compared, 0 differ");
    let allowed = rows.lines().filter(|line| line.ends_with("allowed")).count() as u64;
    assert!(allowed > asked / 20 && allowed < asked * 3 / 4, "{allowed} of {asked}");

    // The text of an independent tool comes to the same, but for folders that nothing tells from files.
    let text = done(Command::new("getfacl").args(["-R", "-n", "-p"]).arg(&root).output().unwrap());
    fs::write(dir.join("share.txt"), text).unwrap();
    estate(dir, &format!("file://{}", dir.join("share.txt").display()));
    let before = fs::read_to_string(dir.join("data/share/catalog.csv")).unwrap();
    let run = common::run_in(dir, &["import", "--write"]);
    assert_eq!(run.status, 0, "{}", run.whole());
    let after = fs::read_to_string(dir.join("data/share/catalog.csv")).unwrap();
    let differing: Vec<&str> = after.lines().filter(|line| !before.lines().any(|old| old == *line)).collect();
    for line in &differing {
        assert!(before.contains(&line.replace(",file,", ",directory,")), "{line}");
    }
    assert!(differing.len() < 300, "{}", differing.len());
    assert_eq!(common::run_in(dir, &["fmt", "--check"]).status, 0);

    // Somebody who may not read all of it does not import a part of it.
    estate(dir, &format!("file://{}", root.display()));
    fs::set_permissions(dir.join("data"), fs::Permissions::from_mode(0o777)).unwrap();
    let program = assert_cmd::cargo::cargo_bin("bastide");
    let copy = dir.join("bastide");
    fs::copy(program, &copy).unwrap();
    let output = Command::new("setpriv")
        .args(["--reuid", "65534", "--regid", "65534", "--clear-groups"])
        .arg(&copy)
        .arg("import")
        .current_dir(dir)
        .output()
        .unwrap();
    assert_eq!(output.status.code(), Some(4), "{}", String::from_utf8_lossy(&output.stdout));
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(told.contains("import as somebody who may read all of it"), "{told}");
}
