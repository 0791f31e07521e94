//! Several files that appear together or not at all.

use crate::terminal::temporary_beside;
use bastide_formats::stray::{self, Stray};
use std::collections::BTreeMap;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use tempfile::{NamedTempFile, TempDir};

/// Files by their paths.
pub type Files = Vec<(PathBuf, Vec<u8>)>;

/// Something that is written whole and waits to take its place.
struct Waiting {
    /// What it is written as; it goes with this.
    draft: Draft,
    stray: Stray,
    place: PathBuf,
}

enum Draft {
    File(NamedTempFile),
    /// A folder with all that is in it, in one of our own.
    Folder(TempDir, PathBuf),
}

/// Writes files, each in the place of what stands there. Every one of them is written and safe on the disk before the first
/// takes its place; where anything fails, nothing is left of them. A folder that is not there yet appears with all of its
/// files at once.
///
/// # Errors
/// What the disk refused.
pub fn write(files: &Files) -> io::Result<()> {
    let mut waiting = Vec::new();
    let mut folders: BTreeMap<PathBuf, Files> = BTreeMap::new();
    for (path, bytes) in files {
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        match missing(folder)? {
            Some(top) => {
                let inside = path.strip_prefix(&top).map_err(io::Error::other)?.to_path_buf();
                folders.entry(top).or_default().push((inside, bytes.clone()));
            }
            None => {
                stray::sweep(folder);
                let make = || temporary_beside(path, folder);
                let (mut file, stray) = Stray::make(make, |file| file.path().to_path_buf())?;
                file.write_all(bytes)?;
                file.as_file().sync_all()?;
                waiting.push(Waiting { draft: Draft::File(file), stray, place: path.clone() });
            }
        }
    }
    for (place, files) in folders {
        let above = place.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        stray::sweep(above);
        let make = || tempfile::Builder::new().prefix(stray::DRAFT).rand_bytes(stray::LETTERS).tempdir_in(above);
        let (own, stray) = Stray::make(make, |folder| folder.path().to_path_buf())?;
        // Our own is for us alone; what is made is for whom the system says.
        let whole = own.path().join("whole");
        fs::create_dir(&whole)?;
        for (path, bytes) in files {
            let path = whole.join(path);
            let mut file = stray::within(|| {
                fs::create_dir_all(path.parent().unwrap_or(&whole))?;
                fs::File::options().write(true).create_new(true).open(&path)
            })?;
            file.write_all(&bytes)?;
            file.sync_all()?;
        }
        waiting.push(Waiting { draft: Draft::Folder(own, whole), stray, place });
    }
    // Whoever is told to stop from here on first puts all of them in place.
    let held = stray::hold();
    for Waiting { draft, stray, place } in waiting {
        match draft {
            Draft::File(file) => drop(file.persist(&place).map_err(|error| error.error)?),
            Draft::Folder(own, whole) => {
                fs::rename(whole, &place)?;
                drop(own);
            }
        }
        drop(stray);
    }
    drop(held);
    Ok(())
}

/// The topmost folder of a path that is not there yet.
fn missing(folder: &Path) -> io::Result<Option<PathBuf>> {
    let above = folder.ancestors().take_while(|f| !f.as_os_str().is_empty());
    let missing = above.take_while(|f| !f.exists()).last().map(Path::to_path_buf);
    match folder.ancestors().find(|f| f.exists()).filter(|f| !f.is_dir()) {
        Some(file) => Err(io::Error::other(format!("`{}` is no folder", file.display()))),
        None => Ok(missing),
    }
}

/// Makes a folder with files in it, by their paths in it.
///
/// # Errors
/// What the disk refused.
pub fn folder(to: &Path, files: &Files) -> io::Result<()> {
    write(&files.iter().map(|(path, bytes)| (to.join(path), bytes.clone())).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn files(bad: bool) -> Files {
        let mut files = vec![(PathBuf::from("a.txt"), b"a".to_vec()), (PathBuf::from("sub/b.txt"), b"b".to_vec())];
        if bad {
            // A file cannot be a folder.
            files.push((PathBuf::from("a.txt/c.txt"), b"c".to_vec()));
        }
        files
    }

    const PLACE: &str = "BASTIDE_TEST_OF_A_STOP";

    #[test]
    #[ignore = "the next test runs it, in a process of its own"]
    fn a_stop() {
        let Some(place) = std::env::var_os(PLACE) else { return };
        let place = PathBuf::from(place);
        // Each file in a folder of its own, so many that none of this is ended when it is told to stop.
        let files: Files = (0..10_000).map(|number| (place.join(format!("to/{number}/file")), Vec::new())).collect();
        std::thread::spawn(move || write(&files));
        let begun = |folder: fs::ReadDir| folder.flatten().any(|draft| draft.path().join("whole/3").exists());
        while !begun(fs::read_dir(&place).unwrap()) {
            std::thread::yield_now();
        }
        stray::remove_all();
        // Whoever is still at work has time to make more.
        std::thread::sleep(std::time::Duration::from_millis(50));
        let left: Vec<_> = fs::read_dir(&place).unwrap().flatten().map(|entry| entry.path()).collect();
        assert!(left.is_empty(), "{left:?}");
    }

    #[test]
    fn what_was_taken_away_does_not_come_back() {
        for _ in 0..5 {
            let place = tempfile::tempdir().unwrap();
            let mut command = std::process::Command::new(std::env::current_exe().unwrap());
            let test = ["--exact", "whole::tests::a_stop", "--ignored", "--nocapture"];
            let output = command.args(test).env(PLACE, place.path()).output().unwrap();
            let told = String::from_utf8_lossy(&output.stdout);
            assert!(
                output.status.success() && told.contains("1 passed"),
                "{told}{}",
                String::from_utf8_lossy(&output.stderr)
            );
        }
    }

    #[test]
    fn all_or_nothing() {
        let dir = tempfile::tempdir().unwrap();
        let to = dir.path().join("deep/er");
        folder(&to, &files(false)).unwrap();
        assert_eq!(fs::read(to.join("sub/b.txt")).unwrap(), b"b");
        assert_eq!(fs::read_dir(dir.path().join("deep")).unwrap().count(), 1);
        let other = dir.path().join("other/place");
        fs::create_dir_all(dir.path().join("there/sub")).unwrap();
        fs::write(dir.path().join("there/a.txt"), "theirs").unwrap();
        assert!(folder(&dir.path().join("there"), &files(true)).is_err());
        assert_eq!(fs::read(dir.path().join("there/a.txt")).unwrap(), b"theirs");
        assert_eq!(fs::read_dir(dir.path().join("there/sub")).unwrap().count(), 0);
        let bad: Files = vec![(PathBuf::from("x/y"), vec![]), (PathBuf::from("x"), vec![])];
        assert!(folder(&other, &bad).is_err());
        assert!(!dir.path().join("other").exists());
    }
}
