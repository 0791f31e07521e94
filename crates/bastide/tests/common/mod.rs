//! Driving the built program on files in a temporary folder.
#![allow(dead_code, reason = "each test program uses a part of it")]

use assert_cmd::Command;
use bastide_testkit::Case;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// What the program gave back.
pub struct Run {
    pub status: i32,
    pub out: String,
    pub err: String,
}

impl Run {
    /// Output, error output and status in one text.
    pub fn whole(&self) -> String {
        let err = if self.err.is_empty() { String::new() } else { format!("--- error output\n{}", self.err) };
        format!("{}{err}--- exit status {}\n", self.out, self.status)
    }

    #[track_caller]
    pub fn ok(self) -> String {
        assert_eq!(self.status, 0, "{}", self.err);
        self.out
    }
}

/// Runs the program in a folder, at a width of 100 columns, without colour.
pub fn run_in(dir: &Path, args: &[&str]) -> Run {
    run_with(dir, args, &[("COLUMNS", "100")])
}

pub fn run_with(dir: &Path, args: &[&str], variables: &[(&str, &str)]) -> Run {
    let mut command = Command::cargo_bin("bastide").expect("the program is built");
    command.current_dir(dir).env_remove("NO_COLOR").args(args);
    for (name, value) in variables {
        command.env(name, value);
    }
    let output = command.output().expect("the program starts");
    let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).expect("output is UTF-8");
    Run { status: output.status.code().unwrap_or(-1), out: text(&output.stdout), err: text(&output.stderr) }
}

/// A folder with the demo estate.
pub fn demo() -> TempDir {
    let dir = tempfile::tempdir().expect("a temporary folder");
    let laid_out = run_in(dir.path(), &["demo", "--no-tour", "."]);
    assert_eq!(laid_out.status, 0, "{}", laid_out.err);
    dir
}

/// A folder with the files of a case text; texts it uses stand in `tests/mistakes`.
pub fn case(text: &str) -> TempDir {
    Case::parse(text, &mistakes()).lay_out()
}

pub fn mistakes() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/mistakes")
}
