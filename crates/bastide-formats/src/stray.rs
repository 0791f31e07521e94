//! Temporary files that are there right now, so that whoever is told to stop can take them away first.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

static THERE: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());

/// Stands for a temporary file as long as it is one.
#[must_use = "the file is forgotten when this goes"]
pub struct Stray(PathBuf);

impl Stray {
    /// Remembers a temporary file.
    pub fn of(path: &Path) -> Stray {
        THERE.lock().unwrap_or_else(PoisonError::into_inner).insert(path.to_path_buf());
        Stray(path.to_path_buf())
    }
}

impl Drop for Stray {
    fn drop(&mut self) {
        THERE.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.0);
    }
}

/// Takes all of them away: files, and folders with what is in them.
pub fn remove_all() {
    for path in THERE.lock().unwrap_or_else(PoisonError::into_inner).iter() {
        let _ = if path.is_dir() { std::fs::remove_dir_all(path) } else { std::fs::remove_file(path) };
    }
}
