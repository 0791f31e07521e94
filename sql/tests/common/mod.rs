//! What tests share: the demo, and the built program asked about it.
#![allow(dead_code, reason = "not every test uses all of it")]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use tempfile::TempDir;

/// The day that is asked about.
pub const DAY: &str = "2026-11-24";

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).expect("a folder");
    for entry in fs::read_dir(from).expect("the demo is there") {
        let entry = entry.expect("an entry");
        let target = to.join(entry.file_name());
        match entry.file_type().expect("a type").is_dir() {
            true => copy(&entry.path(), &target),
            false => drop(fs::copy(entry.path(), target).expect("a file")),
        }
    }
}

/// The demo, laid out.
pub fn demo() -> TempDir {
    let dir = tempfile::tempdir().expect("a temporary folder");
    copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../crates/bastide/demo"), dir.path());
    dir
}

/// Files written into a folder.
pub fn lay_out(files: &[(&str, String)]) -> TempDir {
    let dir = tempfile::tempdir().expect("a temporary folder");
    for (name, text) in files {
        let path = dir.path().join(name);
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        fs::write(path, text).expect("a file");
    }
    dir
}

/// The built program.
pub fn program() -> PathBuf {
    PathBuf::from(env!("CARGO_BIN_EXE_bastide-sql"))
}

/// The main program, where somebody has built it: what it works out is asked of it.
pub fn main_program() -> Option<PathBuf> {
    let target = Path::new(env!("CARGO_MANIFEST_DIR")).join("../target");
    ["debug", "release"].map(|profile| target.join(profile).join("bastide")).into_iter().find(|path| path.is_file())
}

/// Asks about an estate.
pub fn run(dir: &Path, args: &[&str]) -> Output {
    let mut command = Command::new(program());
    command.arg("--estate").arg(dir).args(["--on", DAY]).args(args);
    command.env_remove("BASTIDE_ESTATE").output().expect("it starts")
}

/// The answer to a question.
pub fn ask(dir: &Path, args: &[&str]) -> String {
    let output = run(dir, args);
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    assert!(output.status.success(), "{args:?}: {}", text(&output.stderr));
    text(&output.stdout)
}
