//! Synthetic estates for the benchmarks, made by the generator itself.
#![allow(dead_code, reason = "each benchmark uses a part of it")]

use bastide_model::{Estate, Moment};
use std::process::Command;
use tempfile::TempDir;

/// A folder with an estate of so many users and resources.
pub fn folder((users, resources): (usize, usize)) -> TempDir {
    let dir = tempfile::tempdir().expect("a temporary folder");
    let made = Command::new(env!("CARGO_BIN_EXE_bastide-synth"))
        .args(["--users", &users.to_string(), "--resources", &resources.to_string()])
        .arg(dir.path())
        .output()
        .expect("the generator starts");
    assert!(made.status.success());
    dir
}

/// The estate of such a folder.
pub fn estate(size: (usize, usize)) -> Estate {
    bastide_formats::load(folder(size).path()).estate.expect("it has no mistakes")
}

/// The day they are asked about.
pub fn moment(estate: &Estate) -> Moment {
    Moment::on("2026-11-24".parse().expect("a date"), estate.schema())
}
