//! Temporary files that are there right now, so that whoever is told to stop can take them away first.

use std::collections::BTreeSet;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

static THERE: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());
static HELD: Mutex<()> = Mutex::new(());

/// Names of drafts begin so, and so many letters and digits follow.
pub const DRAFT: &str = ".bastide-";
/// So many letters and digits are in the name of a draft; there are more in that of a new text of an estate, which its journal
/// looks after.
pub const LETTERS: usize = 16;

/// Stands for a temporary file as long as it is one.
#[must_use = "the file is forgotten when this goes"]
#[derive(Debug)]
pub struct Stray {
    path: PathBuf,
    /// Says to others that somebody is at work on it.
    _lock: Option<File>,
}

impl Stray {
    /// Remembers a temporary file that will be there soon.
    pub fn of(path: &Path) -> Stray {
        THERE.lock().unwrap_or_else(PoisonError::into_inner).insert(path.to_path_buf());
        Stray { path: path.to_path_buf(), _lock: None }
    }

    /// Makes a temporary file or folder and remembers it, so that there is no moment between the two. It is locked, so that
    /// [`sweep`] leaves it alone.
    ///
    /// # Errors
    /// It cannot be made.
    pub fn make<T>(make: impl Fn() -> io::Result<T>, path: impl Fn(&T) -> PathBuf) -> io::Result<(T, Stray)> {
        let mut there = THERE.lock().unwrap_or_else(PoisonError::into_inner);
        loop {
            let made = make()?;
            let path = path(&made);
            let lock = File::open(&path).ok().filter(|file| file.lock().is_ok());
            // Somebody may have swept it away before it was locked.
            if lock.is_some() && std::fs::symlink_metadata(&path).is_err() {
                continue;
            }
            there.insert(path.clone());
            return Ok((made, Stray { path, _lock: lock }));
        }
    }
}

/// Makes something in a temporary folder, or a temporary file that is remembered already. Whoever is told to stop waits for it,
/// and nothing is made from then on: what was taken away does not come back.
pub fn within<T>(make: impl FnOnce() -> T) -> T {
    let _there = THERE.lock().unwrap_or_else(PoisonError::into_inner);
    make()
}

impl Drop for Stray {
    fn drop(&mut self) {
        THERE.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.path);
    }
}

/// Takes away the drafts in a folder whose makers are gone: killed, or without power.
pub fn sweep(folder: &Path) {
    let is_draft = |name: &str| {
        let rest = name.strip_prefix(DRAFT);
        rest.is_some_and(|rest| rest.len() == LETTERS && rest.bytes().all(|b| b.is_ascii_alphanumeric()))
    };
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        if !entry.file_name().to_str().is_some_and(is_draft) {
            continue;
        }
        let path = entry.path();
        let Ok(kind) = entry.file_type() else { continue };
        if !kind.is_file() && !kind.is_dir() {
            continue;
        }
        let Ok(file) = File::open(&path) else { continue };
        if file.try_lock().is_ok() {
            let _ = if kind.is_dir() { std::fs::remove_dir_all(&path) } else { std::fs::remove_file(&path) };
        }
    }
}

/// Something that must be ended once it was begun: whoever is told to stop waits for it.
pub fn hold() -> MutexGuard<'static, ()> {
    HELD.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Takes all of them away: files, and folders with what is in them. Whoever makes another, or something [`within`] one, waits
/// for ever from then on: the process is to end.
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_nobody_works_on_is_swept_away() {
        let dir = tempfile::tempdir().unwrap();
        let draft = |letter: &str| dir.path().join(format!("{DRAFT}{}", letter.repeat(LETTERS)));
        let make = |path: PathBuf| move || std::fs::create_dir(&path).map(|()| path.clone());
        let (kept, stray) = Stray::make(make(draft("a")), PathBuf::clone).unwrap();
        std::fs::create_dir(draft("b")).unwrap();
        std::fs::write(draft("b").join("half"), "x").unwrap();
        std::fs::write(draft("c"), "half").unwrap();
        let others = [".bastide-journal", ".bastide-0123456789abcdef01234567", ".bastide-short", "mine"];
        others.iter().for_each(|name| std::fs::write(dir.path().join(name), "x").unwrap());
        sweep(dir.path());
        assert!(kept.exists() && !draft("b").exists() && !draft("c").exists());
        assert!(others.iter().all(|name| dir.path().join(name).exists()));
        drop(stray);
        sweep(dir.path());
        assert!(!kept.exists());
    }
}
