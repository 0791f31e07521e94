//! Temporary files that are there right now, so that whoever is told to stop can take them away first.

use std::collections::BTreeSet;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

static THERE: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());
static HELD: Mutex<()> = Mutex::new(());

/// Stands for a temporary file as long as it is one.
#[must_use = "the file is forgotten when this goes"]
#[derive(Debug)]
pub struct Stray(PathBuf);

impl Stray {
    /// Remembers a temporary file that will be there soon.
    pub fn of(path: &Path) -> Stray {
        THERE.lock().unwrap_or_else(PoisonError::into_inner).insert(path.to_path_buf());
        Stray(path.to_path_buf())
    }

    /// Makes a temporary file and remembers it, so that there is no moment between the two.
    ///
    /// # Errors
    /// It cannot be made.
    pub fn make<T>(make: impl FnOnce() -> io::Result<T>, path: impl FnOnce(&T) -> PathBuf) -> io::Result<(T, Stray)> {
        let mut there = THERE.lock().unwrap_or_else(PoisonError::into_inner);
        let made = make()?;
        let path = path(&made);
        there.insert(path.clone());
        Ok((made, Stray(path)))
    }
}

impl Drop for Stray {
    fn drop(&mut self) {
        THERE.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.0);
    }
}

/// Something that must be ended once it was begun: whoever is told to stop waits for it.
pub fn hold() -> MutexGuard<'static, ()> {
    HELD.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Takes all of them away: files, and folders with what is in them. Nothing is made from then on: the process is to end.
pub fn remove_all() {
    std::mem::forget(hold());
    let there = THERE.lock().unwrap_or_else(PoisonError::into_inner);
    for path in there.iter() {
        // Whoever is still at work may put something in while it is taken away, until the folder is gone.
        for _ in 0..200 {
            let _ = if path.is_dir() { std::fs::remove_dir_all(path) } else { std::fs::remove_file(path) };
            if std::fs::symlink_metadata(path).is_err() {
                break;
            }
            std::thread::sleep(std::time::Duration::from_millis(1));
        }
    }
    std::mem::forget(there);
}
