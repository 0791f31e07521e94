//! Revisions and archives are strangers' data: nothing of them is written anywhere, and what would lead elsewhere is refused.

mod common;

use common::{Run, demo, run_in, run_with};
use git2::{Oid, Repository, Signature};
use std::fs;
use std::io::Write;
use std::path::Path;
use tempfile::TempDir;

/// A repository with the demo committed, and a second commit whose tree holds something more in a folder.
fn repository(dir: &Path, folder: &str, name: &[u8], mode: u32) {
    let repository = Repository::init(dir).unwrap();
    let mut index = repository.index().unwrap();
    index.add_all(["*"], git2::IndexAddOption::DEFAULT, None).unwrap();
    let root = index.write_tree().unwrap();
    index.write().unwrap();
    commit(&repository, root);
    let inner = if mode == 0o160000 { head(&repository) } else { repository.blob(b"evil").unwrap() };
    let tree = with_entry(&repository, root, folder, (name, mode, inner));
    commit(&repository, tree);
}

fn head(repository: &Repository) -> Oid {
    repository.head().unwrap().peel_to_commit().unwrap().id()
}

fn commit(repository: &Repository, tree: Oid) {
    let who = Signature::now("Nadia Quayle", "nadia@fourtides.example").unwrap();
    let tree = repository.find_tree(tree).unwrap();
    let parents: Vec<_> = repository.head().ok().map(|head| head.peel_to_commit().unwrap()).into_iter().collect();
    let parents: Vec<_> = parents.iter().collect();
    repository.commit(Some("HEAD"), &who, &who, "A state", &tree, &parents).unwrap();
}

/// The tree with one entry more, written byte by byte: no tool would write such names.
fn with_entry(repository: &Repository, tree: Oid, folder: &str, (name, mode, id): (&[u8], u32, Oid)) -> Oid {
    if let Some((first, rest)) = folder.split_once('/').or((!folder.is_empty()).then_some((folder, ""))) {
        let inner = repository.find_tree(tree).unwrap().get_name(first).unwrap().id();
        let inner = with_entry(repository, inner, rest, (name, mode, id));
        return with_entry(repository, tree, "", (first.as_bytes(), 0o040000, inner));
    }
    let mut bytes = Vec::new();
    let tree = repository.find_tree(tree).unwrap();
    let mut entries: Vec<(Vec<u8>, i32, Oid)> =
        tree.iter().map(|e| (e.name_bytes().to_vec(), e.filemode(), e.id())).filter(|e| e.0 != name).collect();
    entries.push((name.to_vec(), mode as i32, id));
    let key =
        |(name, mode, _): &(Vec<u8>, i32, Oid)| [name.as_slice(), if *mode == 0o040000 { b"/" } else { b"" }].concat();
    entries.sort_by_key(key);
    for (name, mode, id) in entries {
        bytes.extend(format!("{mode:o} ").as_bytes());
        bytes.extend(name);
        bytes.push(0);
        bytes.extend(id.as_bytes());
    }
    repository.odb().unwrap().write(git2::ObjectType::Tree, &bytes).unwrap()
}

/// Runs with a temporary folder of its own, which must be empty afterwards.
fn run_watched(dir: &Path, args: &[&str]) -> Run {
    let temporary = tempfile::tempdir().unwrap();
    let run = run_with(dir, args, &[("TMPDIR", temporary.path().to_str().unwrap())]);
    assert_eq!(fs::read_dir(temporary.path()).unwrap().count(), 0, "something is left behind");
    run
}

#[test]
fn a_revision_that_leads_elsewhere_is_refused() {
    for (folder, name, mode, told) in [
        ("", &b".."[..], 0o100644, "the name `..` in it leads out of its folder"),
        ("policy", b"..", 0o040000, "leads out of its folder"),
        ("policy", b"../../evil.bastide", 0o100644, "has a slash"),
        ("policy", b"/etc", 0o100644, "has a slash"),
        ("", b".git", 0o100644, "would be taken for a repository"),
        ("policy", b".GIT", 0o100644, "would be taken for a repository"),
        ("policy", b"a\\b.bastide", 0o100644, "has a backslash"),
        ("policy", b"staff.bastide", 0o120000, "it is a link, which is not followed"),
        ("data", b"entries.csv", 0o160000, "it is a submodule, which is not followed"),
        ("", b"data", 0o160000, "it is a submodule, which is not followed"),
        ("", b"bastide.toml", 0o120000, "it is a link"),
    ] {
        let shown = String::from_utf8_lossy(name).into_owned();
        let dir = demo();
        let parent = dir.path().join("estate");
        fs::create_dir(&parent).unwrap();
        repository(dir.path(), folder, name, if mode == 0o040000 { 0o100644 } else { mode });
        let before = fs::read_dir(dir.path()).unwrap().count();
        for args in [&["diff", "HEAD"][..], &["diff", "HEAD~1", "HEAD"], &["report", "--since", "HEAD", "-o", "r.html"]]
        {
            let run = run_watched(dir.path(), args);
            assert_eq!((run.status, run.out.as_str()), (4, ""), "{shown} {args:?}: {}", run.err);
            assert!(run.err.contains(told), "{shown}: no `{told}` in: {}", run.err);
        }
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), before, "{shown}");
        assert!(!dir.path().parent().unwrap().join("evil.bastide").exists());
        // What stood there before is read.
        assert_eq!(run_watched(dir.path(), &["diff", "HEAD~1"]).status, 0, "{shown}");
    }
}

/// A tree of trees that are all the same holds more names than there are atoms; it is not walked to its end.
#[test]
fn a_revision_may_be_endless() {
    let dir = demo();
    repository(dir.path(), "", b"harmless.txt", 0o100644);
    let repository = Repository::open(dir.path()).unwrap();
    let mut inner = repository.blob(b"x").unwrap();
    for level in 0..12 {
        let mut bytes = Vec::new();
        for n in 0..32 {
            bytes.extend(format!("{} {n:02}\0", if level == 0 { "100644" } else { "40000" }).as_bytes());
            bytes.extend(inner.as_bytes());
        }
        inner = repository.odb().unwrap().write(git2::ObjectType::Tree, &bytes).unwrap();
    }
    let root = repository.head().unwrap().peel_to_tree().unwrap().id();
    let tree = with_entry(&repository, root, "", (b"endless", 0o040000, inner));
    commit(&repository, tree);
    let run = run_watched(dir.path(), &["diff", "HEAD"]);
    assert_eq!(run.status, 4, "{}", run.err);
    assert!(run.err.contains("it holds more than 1000000 files"), "{}", run.err);
}

fn tar_of(to: &Path, entries: &[(&str, tar::EntryType, &str)]) {
    let mut out = tar::Builder::new(fs::File::create(to).unwrap());
    for (name, kind, text) in entries {
        let mut header = tar::Header::new_gnu();
        // Straight into the field: the library refuses such names.
        header.as_old_mut().name[..name.len()].copy_from_slice(name.as_bytes());
        header.set_entry_type(*kind);
        header.set_mode(0o644);
        let is_link = matches!(kind, tar::EntryType::Symlink | tar::EntryType::Link);
        header.set_size(if is_link { 0 } else { text.len() as u64 });
        if is_link {
            header.as_old_mut().linkname[..text.len()].copy_from_slice(text.as_bytes());
        }
        header.set_cksum();
        out.append(&header, if is_link { &b""[..] } else { text.as_bytes() }).unwrap();
    }
    out.finish().unwrap();
}

fn zip_of(to: &Path, entries: &[(&str, &str)]) {
    let mut out = zip::ZipWriter::new(fs::File::create(to).unwrap());
    for (name, text) in entries {
        out.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
        out.write_all(text.as_bytes()).unwrap();
    }
    out.finish().unwrap();
}

const MANIFEST: &str =
    "name = \"A\"\npolicy = [\"*.bastide\"]\n[[people]]\nfile = \"p.csv\"\n[[catalog]]\nfile = \"c.csv\"\n";
const POLICY: &str = "kind room\naction read\nrule all { who anyone may read what anything }\n";
const PEOPLE: &str = "id\nann\n";
const CATALOG: &str = "id,parent,kind,name\nr,,room,R\n";

#[test]
fn an_archive_that_leads_elsewhere_is_refused() {
    use tar::EntryType::{Link, Regular, Symlink};
    let whole = |more: &[(&'static str, tar::EntryType, &'static str)]| {
        let mut all =
            vec![("e/bastide.toml", Regular, MANIFEST), ("e/p.csv", Regular, PEOPLE), ("e/c.csv", Regular, CATALOG)];
        if !more.iter().any(|(name, ..)| *name == "e/a.bastide") {
            all.push(("e/a.bastide", Regular, POLICY));
        }
        all.extend(more);
        all
    };
    let dir = TempDir::new().unwrap();
    let good = dir.path().join("good.tar");
    tar_of(&good, &whole(&[("e/readme", Symlink, "/etc/passwd")]));
    for (name, kind, text, told) in [
        ("e/../../evil", Regular, "evil", "leads out of its folder"),
        ("/evil", Regular, "evil", "leads out of its folder"),
        ("e/.git/config", Regular, "evil", "would be taken for a repository"),
        ("e/a\\b", Regular, "evil", "has a backslash"),
        ("e/a.bastide", Symlink, "/etc/passwd", "it is a link, which is not followed"),
        ("e/a.bastide", Link, "e/p.csv", "it is a link, which is not followed"),
        ("e/p.csv", Regular, "id\nbob\n", "stands in it twice"),
        ("e/p.csv/x", Regular, "id\nbob\n", "lies in something that is no folder"),
    ] {
        let bad = dir.path().join("bad.tar");
        tar_of(&bad, &whole(&[(name, kind, text)]));
        let run = run_watched(dir.path(), &["diff", "good.tar", "bad.tar"]);
        assert_eq!((run.status, run.out.as_str()), (4, ""), "{name}: {}", run.err);
        assert!(run.err.contains(told), "{name}: no `{told}` in: {}", run.err);
    }
    assert!(!dir.path().join("evil").exists() && !dir.path().parent().unwrap().join("evil").exists());
    let good_zip = dir.path().join("good.zip");
    let files = [("bastide.toml", MANIFEST), ("p.csv", PEOPLE), ("c.csv", CATALOG), ("a.bastide", POLICY)];
    zip_of(&good_zip, &files);
    assert_eq!(run_watched(dir.path(), &["diff", "good.tar", "good.zip", "--exit-code"]).status, 0);
    for bad in ["../evil", "/evil", "x/.git/y", "a\\b"] {
        let archive = dir.path().join("bad.zip");
        zip_of(&archive, &[&files[..], &[(bad, "evil")]].concat());
        let run = run_watched(dir.path(), &["diff", "good.zip", "bad.zip"]);
        assert_eq!(run.status, 4, "{bad}: {}{}", run.out, run.err);
        assert!(run.err.contains("not to be trusted"), "{}", run.err);
    }
    fs::write(dir.path().join("cut.zip"), &fs::read(&good_zip).unwrap()[..100]).unwrap();
    assert_eq!(run_watched(dir.path(), &["diff", "good.zip", "cut.zip"]).status, 4);
}

/// A packed archive is read from where it is, and gives no more than it may.
#[test]
fn archives_are_bounded() {
    use tar::EntryType::Regular;
    let dir = TempDir::new().unwrap();
    let pack = |name: &str, more: usize| {
        let plain = dir.path().join("plain.tar");
        let zeros = "\n".repeat(1 << 20);
        let mut all =
            vec![("bastide.toml", Regular, MANIFEST), ("p.csv", Regular, PEOPLE), ("a.bastide", Regular, POLICY)];
        all.extend((0..more).map(|_| ("big/", tar::EntryType::Directory, "")));
        let large = format!("{CATALOG}{}", zeros.repeat(more));
        all.push(("c.csv", Regular, &large));
        tar_of(&plain, &all);
        let packed = fs::File::create(dir.path().join(name)).unwrap();
        let mut out = flate2::write::GzEncoder::new(packed, flate2::Compression::best());
        std::io::copy(&mut fs::File::open(&plain).unwrap(), &mut out).unwrap();
        out.finish().unwrap();
        fs::remove_file(plain).unwrap();
    };
    pack("good.tar.gz", 1);
    pack("bomb.tgz", 300);
    let run = run_watched(dir.path(), &["diff", "good.tar.gz", "good.tar.gz", "--exit-code"]);
    assert_eq!(run.status, 0, "{}", run.err);
    let run = run_watched(dir.path(), &["diff", "good.tar.gz", "bomb.tgz"]);
    assert_eq!(run.status, 4, "{}", run.err);
    assert!(run.err.contains("it unpacks to far more than tables of text do"), "{}", run.err);
}

/// A broken estate in an archive is told like one on the disk.
#[test]
fn mistakes_in_an_archive_are_told() {
    let dir = TempDir::new().unwrap();
    let files = [("bastide.toml", MANIFEST), ("p.csv", PEOPLE), ("c.csv", CATALOG), ("a.bastide", "rule x {")];
    zip_of(&dir.path().join("bad.zip"), &files);
    let run = run_in(dir.path(), &["diff", "bad.zip", "bad.zip"]);
    assert_eq!(run.status, 3);
    assert!(run.err.contains("a.bastide:1:"), "{}", run.err);
}
