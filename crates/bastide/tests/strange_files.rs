//! Whatever lies where a file should: it is read, or it is an error that names it. Nothing is passed over.
#![cfg(unix)]

mod common;

use common::{Run, case, run_in};
use std::ffi::OsStr;
use std::fs;
use std::io::Write;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;
use tempfile::TempDir;

const RULE: &str = "rule extra { who anyone may update what anything }\n";

fn estate() -> TempDir {
    case(
        "=== use base.estate\n=== policy/sub/more.bastide\nrule more { who anyone may update what room }\n=== bastide.toml\n\
          name = \"Archive\"\npolicy = [\"policy/**/*.bastide\"]\n[[people]]\nfile = \"data/people.csv\"\n[[groups]]\n\
          file = \"data/groups.csv\"\n[[catalog]]\nfile = \"data/catalog.csv\"\n[[entries]]\nfile = \"data/entries.csv\"\n",
    )
}

#[track_caller]
fn refused(dir: &TempDir, told: &str) -> Run {
    let asked = run_in(dir.path(), &["matrix"]);
    assert_eq!((asked.status, asked.out.as_str()), (3, ""), "{}", asked.err);
    assert!(asked.err.contains(told), "no `{told}` in: {}", asked.err);
    asked
}

fn make(dir: &TempDir, what: &str) {
    let status = std::process::Command::new("sh").args(["-c", what]).current_dir(dir.path()).status();
    assert!(status.expect("a shell").success(), "{what}");
}

#[test]
fn a_policy_file_never_disappears_in_silence() {
    for (name, what, told) in [
        ("policy/new.bastide", "ln -s nowhere policy/new.bastide", "it is a link that leads nowhere"),
        ("policy/new.bastide", "ln -s new.bastide policy/new.bastide", "it is a link that leads round in a circle"),
        ("policy/new.bastide", "mkdir policy/new.bastide", "is a folder and no file"),
        ("policy/new.bastide", "mkfifo policy/new.bastide", "is a pipe and no file"),
        ("policy/loop", "ln -s .. policy/loop", "is a link that leads back to a folder above it"),
        ("policy/sub/loop", "ln -s ../../policy policy/sub/loop", "is a link that leads back to a folder above it"),
        ("policy/out", "ln -s / policy/out", "lies outside of the estate"),
        ("policy/new.bastide", "ln -s /etc/passwd policy/new.bastide", "lies outside of the estate"),
    ] {
        let dir = estate();
        make(&dir, what);
        refused(&dir, &format!("`{name}`, which `policy/**/*.bastide` names, "));
        refused(&dir, told);
    }
    let dir = estate();
    fs::write(dir.path().join("policy").join(OsStr::from_bytes(b"\xff.bastide")), RULE).unwrap();
    refused(&dir, "`policy/\u{fffd}.bastide`, which `policy/**/*.bastide` names, has a name that is not valid UTF-8");
    // What is no policy file, and an editor's mark that one is being edited, are nobody's trouble.
    let dir = estate();
    make(&dir, "ln -s nowhere policy/notes.txt; ln -s 'ann@host.1:2' 'policy/.#base.bastide'; mkfifo policy/pipe");
    assert_eq!(run_in(dir.path(), &["matrix"]).status, 0);
    // A hidden one is read like any other, whatever it is called.
    let dir = estate();
    fs::write(dir.path().join("policy/.bastide-hidden.bastide"), RULE).unwrap();
    assert!(run_in(dir.path(), &["rules"]).ok().contains("extra"));
    // A link to another folder of the estate is followed.
    let dir = estate();
    make(
        &dir,
        "mkdir kept && echo 'rule kept { who anyone may update what box }' > kept/k.bastide && ln -s ../kept policy/kept",
    );
    assert!(run_in(dir.path(), &["rules"]).ok().contains("kept"));
}

/// Links that double the ways at every level end the search, and are told.
#[test]
fn links_without_end() {
    let dir = estate();
    make(
        &dir,
        "mkdir policy/d; cd policy/d; for i in $(seq 1 40); do mkdir $i; n=$((i + 1)); ln -s ../$n $i/a; ln -s ../$n $i/b; done",
    );
    make(&dir, "mkdir policy/d/41");
    refused(&dir, "links lead to the same ones over and over");
}

#[test]
fn a_folder_that_cannot_be_read_is_told() {
    let dir = estate();
    let sub = dir.path().join("policy/sub");
    fs::set_permissions(&sub, fs::Permissions::from_mode(0o000)).unwrap();
    // Whoever may do everything may read it all the same.
    if fs::read_dir(&sub).is_err() {
        refused(&dir, "`policy/sub`, which `policy/**/*.bastide` names, is a folder that cannot be read");
    }
    fs::set_permissions(&sub, fs::Permissions::from_mode(0o755)).unwrap();
    let file = dir.path().join("data/entries.csv");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o000)).unwrap();
    if fs::read(&file).is_err() {
        refused(&dir, "the file cannot be read");
    }
}

/// A manifest that cannot be read is not passed over for another one further up.
#[test]
fn a_manifest_is_not_passed_over() {
    for what in ["ln -s nowhere", "mkfifo", "mkdir", "ln -s bastide.toml"] {
        let dir = estate();
        make(&dir, &format!("mkdir inner && cd inner && {what} bastide.toml"));
        let asked = run_in(&dir.path().join("inner"), &["matrix"]);
        assert_eq!((asked.status, asked.out.as_str()), (3, ""), "{what}: {}", asked.err);
        assert!(asked.err.contains("bastide.toml"), "{}", asked.err);
    }
}

#[test]
fn data_files_are_files() {
    for (what, told) in [
        ("rm data/people.csv; mkfifo data/people.csv", "`data/people.csv`, which `data/people.csv` names, is a pipe"),
        ("rm data/people.csv; mkdir data/people.csv", "is a folder and no file"),
        ("rm data/people.csv; ln -s /dev/zero data/people.csv", "is a device and no file"),
        ("rm data/people.csv; ln -s gone data/people.csv", "it is a link that leads nowhere"),
        ("rm data/people.csv", "there is no file `data/people.csv`"),
        ("mv data/people.csv ..moved; ln -s \"$PWD/..moved\" data/people.csv", ""),
    ] {
        let dir = estate();
        make(&dir, what);
        if told.is_empty() {
            assert_eq!(run_in(dir.path(), &["matrix"]).status, 0, "{what}");
        } else {
            refused(&dir, told);
        }
    }
}

/// What lies outside is read where the manifest says so, and then none of its lines is shown.
#[test]
fn outside_is_another_matter() {
    let outside = tempfile::tempdir().unwrap();
    let people = outside.path().join("secret.csv");
    fs::write(&people, "id,name\nann,Ann\nbob,Bob\nhush,hush:x:0:0,too many\n").unwrap();
    let dir = estate();
    fs::remove_file(dir.path().join("data/people.csv")).unwrap();
    symlink(&people, dir.path().join("data/people.csv")).unwrap();
    let asked = refused(&dir, "lies outside of the estate");
    assert!(!asked.err.contains("hush"), "{}", asked.err);
    let manifest = dir.path().join("bastide.toml");
    let text = fs::read_to_string(&manifest).unwrap();
    fs::write(&manifest, format!("{text}\n[allow]\noutside = true\n")).unwrap();
    let asked = refused(&dir, "expected 2 cells, found 3");
    assert!(asked.err.contains("data/people.csv:4:1") && !asked.err.contains("hush"), "{}", asked.err);
    fs::write(&people, "id,name\nann,Ann\nbob,Bob\n").unwrap();
    assert_eq!(run_in(dir.path(), &["matrix"]).status, 0);
    let relative = format!("../{}/secret.csv", outside.path().file_name().unwrap().to_string_lossy());
    fs::write(&manifest, text.replace("data/people.csv", &relative)).unwrap();
    refused(&dir, "leads out of the estate");
    // The manifest itself is not read from elsewhere.
    fs::write(outside.path().join("m.toml"), "hush = 1\n").unwrap();
    fs::remove_file(&manifest).unwrap();
    symlink(outside.path().join("m.toml"), &manifest).unwrap();
    let asked = refused(&dir, "the manifest is a link to a file outside of the estate");
    assert!(!asked.err.contains("hush"), "{}", asked.err);
}

fn packed(path: &Path, blocks: usize) {
    let mut out = flate2::write::GzEncoder::new(fs::File::create(path).unwrap(), flate2::Compression::best());
    out.write_all(b"id,parent,kind,name\n").unwrap();
    let zeros = vec![b'\n'; 1 << 20];
    (0..blocks).for_each(|_| out.write_all(&zeros).unwrap());
    out.finish().unwrap();
}

#[test]
fn a_packed_file_gives_so_much_and_no_more() {
    let dir = estate();
    let manifest = dir.path().join("bastide.toml");
    let text = fs::read_to_string(&manifest).unwrap();
    fs::write(&manifest, text.replace("data/catalog.csv", "data/catalog.csv.gz")).unwrap();
    packed(&dir.path().join("data/catalog.csv.gz"), 300);
    refused(&dir, "it unpacks to far more than tables of text do");
    fs::write(dir.path().join("data/catalog.csv.gz"), b"no gzip").unwrap();
    refused(&dir, "the file cannot be read");
}

/// What is larger than can be held is refused before it is read.
#[test]
fn a_file_may_be_too_large() {
    let dir = estate();
    let file = fs::OpenOptions::new().write(true).open(dir.path().join("data/catalog.csv")).unwrap();
    // It takes no room on the disk.
    file.set_len(1 << 40).unwrap();
    refused(&dir, "it is larger than 4 GiB");
}
