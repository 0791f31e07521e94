//! One writer at a time: an advisory lock on the folder of the estate, which the system lets go of when its holder ends.

use std::fs::{File, TryLockError};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// How long to wait for another writer.
const PATIENCE: Duration = Duration::from_secs(30);
/// How long between two tries.
const PAUSE: Duration = Duration::from_millis(10);

/// The estates that this process has a lock on.
static HELD: Mutex<Vec<PathBuf>> = Mutex::new(Vec::new());

/// The right to write to an estate, as long as it is kept.
#[derive(Debug)]
#[must_use = "the lock is let go of when this goes"]
pub struct Lock {
    root: PathBuf,
    _file: File,
}

impl Lock {
    /// Waits for the right to write to the estate in a folder.
    ///
    /// # Errors
    /// Another command keeps it for longer than half a minute, or the system has no such locks there.
    pub fn take(root: &Path) -> io::Result<Lock> {
        let since = Instant::now();
        loop {
            if let Some(lock) = Lock::try_take(root)? {
                return Ok(lock);
            }
            if since.elapsed() > PATIENCE {
                let message = "another command is writing to this estate, and has not ended in half a minute";
                return Err(io::Error::new(io::ErrorKind::WouldBlock, message));
            }
            std::thread::sleep(PAUSE);
        }
    }

    /// The right to write, where nobody else has it.
    ///
    /// # Errors
    /// The system has no such locks there.
    pub fn try_take(root: &Path) -> io::Result<Option<Lock>> {
        let root = std::fs::canonicalize(root)?;
        let file = open(&root)?;
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => return Ok(None),
            Err(TryLockError::Error(error)) => return Err(error),
        }
        HELD.lock().unwrap_or_else(PoisonError::into_inner).push(root.clone());
        Ok(Some(Lock { root, _file: file }))
    }

    /// Whether this process has the lock of an estate.
    pub fn is_held(root: &Path) -> bool {
        let Ok(root) = std::fs::canonicalize(root) else { return false };
        HELD.lock().unwrap_or_else(PoisonError::into_inner).contains(&root)
    }
}

impl Drop for Lock {
    fn drop(&mut self) {
        let mut held = HELD.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(at) = held.iter().position(|root| *root == self.root) {
            held.swap_remove(at);
        }
    }
}

/// What is locked. On a folder, no file is left behind.
fn open(root: &Path) -> io::Result<File> {
    if cfg!(unix) {
        return File::open(root);
    }
    File::options().create(true).truncate(false).write(true).open(root.join(".bastide-lock"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn there_is_one_writer() {
        let dir = tempfile::tempdir().unwrap();
        let lock = Lock::take(dir.path()).unwrap();
        assert!(Lock::is_held(dir.path()));
        assert!(Lock::try_take(dir.path()).unwrap().is_none());
        drop(lock);
        assert!(!Lock::is_held(dir.path()));
        assert!(Lock::try_take(dir.path()).unwrap().is_some());
    }
}
