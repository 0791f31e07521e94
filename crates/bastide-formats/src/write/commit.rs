//! Several files written at once: all or none, even where the work is cut off in the middle.
//!
//! Every new text is first written beside its file and made safe on the disk, under a name that nobody can guess. Then the
//! journal says that they count. Then each takes the place of its file, which must still be the one that was read; and last
//! the journal goes. Cut off before the journal says so, everything is as it was; cut off after, the next command finishes
//! it. Where a file turns out to be another one than was read, everything is put back.

use super::journal::{JOURNAL, Journal, Staged, State, clear, sync_folder_of};
use super::lock::Lock;
use super::names::{fresh_name, sum};
use super::place;
use super::swap::change_places;
use crate::stray::{self, Stray};
use std::collections::BTreeSet;
use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// The new text of a file, and the one that was read.
pub struct Replacement<'t> {
    /// The file, as the estate names it.
    pub file: &'t str,
    /// What was read.
    pub old: &'t [u8],
    /// What is to stand there.
    pub new: &'t [u8],
}

/// Why nothing is written.
#[derive(Debug, thiserror::Error)]
pub enum CommitError {
    /// A file is another one than was read.
    #[error("`{0}` has changed meanwhile; nothing is written")]
    Changed(String),
    /// A file is better left alone.
    #[error("`{file}` is not replaced: {why}; nothing is written")]
    LeftAlone {
        /// The file.
        file: String,
        /// Why.
        why: String,
    },
    /// What the disk refused.
    #[error("the files cannot be written: {0}")]
    Disk(#[from] io::Error),
    /// A change that counts could not be brought to its end.
    #[error("the change is made and not yet in place: {0}; the next command goes on with it")]
    Unfinished(io::Error),
}

/// Puts new texts in the place of files; whoever does so has taken the [`Lock`] before reading. `still` is asked, at the last
/// moment, for something else that was read and has changed. `step` is called before each thing that is done to the disk, with a word for it; what it refuses is not done,
/// which is how tests cut the work off.
///
/// # Errors
/// Nothing is written then, but for [`CommitError::Unfinished`].
pub fn commit(
    root: &Path,
    texts: &[Replacement],
    still: &dyn Fn() -> Option<String>,
    step: &mut dyn FnMut(&str) -> io::Result<()>,
) -> Result<(), CommitError> {
    let root = fs::canonicalize(root)?;
    assert!(Lock::is_held(&root), "whoever writes has the right to, and had it when it read");
    let mut files = Vec::new();
    for text in texts {
        let left = |why: String| CommitError::LeftAlone { file: text.file.to_string(), why };
        let target = place::target(&root, text.file).map_err(left)?;
        let target = target.to_str().ok_or_else(|| left("its name is not valid UTF-8".to_string()))?.to_string();
        let (old, new) = (sum(text.old), sum(text.new));
        files.push(Staged { file: text.file.to_string(), target, beside: fresh_name()?, old, new });
    }
    let mut journal = Journal { state: State::Begun, draft: fresh_name()?, files };
    let strays: Vec<Stray> = journal
        .files
        .iter()
        .map(|staged| staged.beside(&root))
        .chain([root.join(&journal.draft), root.join(JOURNAL)])
        .map(|path| Stray::of(&path))
        .collect();
    let begun = begin(&root, &journal, texts, still, step);
    // Whoever is told to stop from here on first ends what counts.
    let held = stray::hold();
    let made = begun.and_then(|()| {
        journal.state = State::Made;
        Ok(set(&root, &journal, step)?)
    });
    if let Err(error) = made {
        // Nothing counts yet: what lies beside the files is rubbish.
        if !is_cut(&error) {
            let _ = clear(&root, &journal);
        }
        return Err(error);
    }
    drop(strays);
    let done = finish(&root, &journal, step);
    drop(held);
    done
}

/// Whether the error is that of a test which stands for the end of the process.
fn is_cut(error: &CommitError) -> bool {
    cfg!(test) && error.to_string().contains(CUT)
}

const CUT: &str = "cut off";

/// Writes every new text beside its file, and looks once more whether all is as it was read.
fn begin(
    root: &Path,
    journal: &Journal,
    texts: &[Replacement],
    still: &dyn Fn() -> Option<String>,
    step: &mut dyn FnMut(&str) -> io::Result<()>,
) -> Result<(), CommitError> {
    step("write journal")?;
    stray::within(|| create(&root.join(JOURNAL), journal.text().as_bytes()))?.sync_all()?;
    sync_folder_of(&root.join(JOURNAL))?;
    for (staged, text) in journal.files.iter().zip(texts) {
        step("write beside")?;
        let file = stray::within(|| create(&staged.beside(root), text.new))?;
        place::keep(&file, &staged.target(root))
            .map_err(|why| CommitError::LeftAlone { file: staged.file.clone(), why: why.to_string() })?;
        step("make safe")?;
        file.sync_all()?;
    }
    let folders: BTreeSet<PathBuf> = journal.files.iter().map(|staged| staged.beside(root)).collect();
    folders.iter().try_for_each(|path| sync_folder_of(path))?;
    step("look again")?;
    for (staged, text) in journal.files.iter().zip(texts) {
        if fs::read(staged.target(root)).ok().as_deref() != Some(text.old) {
            return Err(CommitError::Changed(staged.file.clone()));
        }
    }
    match still() {
        Some(file) => Err(CommitError::Changed(file)),
        None => Ok(()),
    }
}

/// A new file, that is not there yet, with a text.
fn create(path: &Path, text: &[u8]) -> io::Result<fs::File> {
    let mut options = fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    let mut file = options.open(path)?;
    file.write_all(text)?;
    Ok(file)
}

/// The journal says that the change counts.
fn set(root: &Path, journal: &Journal, step: &mut dyn FnMut(&str) -> io::Result<()>) -> io::Result<()> {
    step("write draft")?;
    let draft = root.join(&journal.draft);
    create(&draft, journal.text().as_bytes())?.sync_all()?;
    step("set journal")?;
    fs::rename(&draft, root.join(JOURNAL))
}

/// Puts every text in its place. What turns out to be another file than was read is put back, and so is all before it.
fn finish(root: &Path, journal: &Journal, step: &mut dyn FnMut(&str) -> io::Result<()>) -> Result<(), CommitError> {
    let unfinished = CommitError::Unfinished;
    sync_folder_of(&root.join(JOURNAL)).map_err(unfinished)?;
    for (at, staged) in journal.files.iter().enumerate() {
        step("put in place").map_err(unfinished)?;
        let (target, beside) = (staged.target(root), staged.beside(root));
        if change_places(&target, &beside, &staged.old).map_err(unfinished)? {
            continue;
        }
        // Somebody wrote to it in this very moment: theirs stands, and none of ours.
        for done in journal.files[..at].iter().rev() {
            put_back(root, done).map_err(unfinished)?;
        }
        clear(root, journal).map_err(unfinished)?;
        return Err(CommitError::Changed(staged.file.clone()));
    }
    let folders: BTreeSet<PathBuf> = journal.files.iter().map(|staged| staged.target(root)).collect();
    folders.iter().try_for_each(|path| sync_folder_of(path)).map_err(unfinished)?;
    step("remove journal").map_err(unfinished)?;
    clear(root, journal).map_err(unfinished)
}

fn put_back(root: &Path, done: &Staged) -> io::Result<()> {
    let (target, beside) = (done.target(root), done.beside(root));
    // What somebody wrote over our text is theirs, and stays.
    if sum(&fs::read(&target)?) == done.new {
        fs::rename(beside, target)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::journal::settle;
    use super::*;

    const OLD: [&[u8]; 2] = [b"old a", b"old b"];
    const NEW: [&[u8]; 2] = [b"new a", b"new b"];
    const FILES: [&str; 2] = ["a.txt", "sub/b.txt"];

    fn texts() -> Vec<Replacement<'static>> {
        (0..2).map(|i| Replacement { file: FILES[i], old: OLD[i], new: NEW[i] }).collect()
    }

    fn folder() -> tempfile::TempDir {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("sub")).unwrap();
        FILES.iter().zip(OLD).for_each(|(file, text)| fs::write(dir.path().join(file), text).unwrap());
        dir
    }

    fn seen(root: &Path) -> Vec<Vec<u8>> {
        FILES.iter().map(|file| fs::read(root.join(file)).unwrap()).collect()
    }

    fn is_tidy(root: &Path) -> bool {
        fs::read_dir(root).unwrap().count() == 2 && fs::read_dir(root.join("sub")).unwrap().count() == 1
    }

    fn run(root: &Path, step: &mut dyn FnMut(&str) -> io::Result<()>) -> Result<(), CommitError> {
        let lock = Lock::take(root).unwrap();
        let done = commit(root, &texts(), &|| None, step);
        drop(lock);
        done
    }

    const PLACE: &str = "BASTIDE_TEST_OF_A_STOP";

    #[test]
    #[ignore = "the next test runs it, in a process of its own"]
    fn a_stop() {
        let (Some(place), Ok(cut)) = (std::env::var_os(PLACE), std::env::var("CUT")) else { return };
        let place = PathBuf::from(place);
        let root = place.clone();
        std::thread::spawn(move || {
            run(&root, &mut |step| {
                if step == cut {
                    stray::remove_all();
                }
                Ok(())
            })
        });
        // Whoever is still at work has time to make more.
        std::thread::sleep(std::time::Duration::from_millis(300));
        assert!(is_tidy(&place));
        assert_eq!(seen(&place), OLD);
    }

    /// Told to stop before anything counts, it makes no journal and no text any more.
    #[test]
    fn nothing_is_made_once_it_is_told_to_stop() {
        for cut in ["write journal", "write beside"] {
            let dir = folder();
            let mut command = std::process::Command::new(std::env::current_exe().unwrap());
            let test = ["--exact", "write::commit::tests::a_stop", "--ignored", "--nocapture"];
            let output = command.args(test).env(PLACE, dir.path()).env("CUT", cut).output().unwrap();
            let told = String::from_utf8_lossy(&output.stdout);
            assert!(output.status.success() && told.contains("1 passed"), "{cut}: {told}");
        }
    }

    /// Cut off at every step, and there is never one new file and one old; the next command leaves nothing behind.
    #[test]
    fn cut_off_anywhere_it_is_all_or_nothing() {
        let mut steps = 0;
        run(folder().path(), &mut |_| {
            steps += 1;
            Ok(())
        })
        .unwrap();
        assert!(steps >= 9, "{steps}");
        let (mut old, mut new) = (0, 0);
        for cut in 0..steps {
            let dir = folder();
            let mut at = 0;
            let result = run(dir.path(), &mut |_| {
                at += 1;
                if at > cut { Err(io::Error::other(CUT)) } else { Ok(()) }
            });
            assert!(result.is_err());
            let settled = settle(dir.path()).unwrap();
            assert!(is_tidy(dir.path()), "{cut}");
            match seen(dir.path()) {
                all if all == OLD => {
                    old += 1;
                    assert!(settled.finished.is_empty());
                }
                all if all == NEW => {
                    new += 1;
                    assert_eq!(settled.finished, FILES);
                }
                other => panic!("half of it: {other:?}"),
            }
        }
        assert!(old > 4 && new > 2, "{old} {new}");
    }

    /// At every step somebody edits one of the files: theirs is never lost, and ours is whole or not there.
    #[test]
    fn an_edit_in_the_middle_is_never_lost() {
        for edited in 0..2 {
            let mut refused = 0;
            for when in 0..20 {
                let dir = folder();
                let mut at = 0;
                let result = run(dir.path(), &mut |_| {
                    if at == when {
                        fs::write(dir.path().join(FILES[edited]), "theirs").unwrap();
                    }
                    at += 1;
                    Ok(())
                });
                let other = seen(dir.path())[1 - edited].clone();
                match result {
                    Err(CommitError::Changed(file)) => {
                        refused += 1;
                        assert_eq!(file, FILES[edited]);
                        assert_eq!(seen(dir.path())[edited], b"theirs");
                        assert_eq!(other, OLD[1 - edited]);
                    }
                    Ok(()) if when >= at => assert_eq!(seen(dir.path()), NEW),
                    // Over a text that was in place already.
                    Ok(()) => assert_eq!(seen(dir.path())[edited], b"theirs"),
                    Err(other) => panic!("{other}"),
                }
                assert!(is_tidy(dir.path()), "{when}");
            }
            assert!(refused >= 7, "{refused}");
        }
    }

    /// After a cut, an edit by hand is neither hidden nor written over.
    #[test]
    fn an_edit_after_a_cut_is_not_touched() {
        let dir = folder();
        let mut puts = 0;
        let cut = run(dir.path(), &mut |what| {
            puts += usize::from(what == "put in place");
            if puts == 2 { Err(io::Error::other(CUT)) } else { Ok(()) }
        });
        assert!(matches!(cut, Err(CommitError::Unfinished(_))));
        fs::write(dir.path().join(FILES[1]), "by hand").unwrap();
        let refused = settle(dir.path()).unwrap_err().to_string();
        assert!(refused.starts_with("`sub/b.txt` was edited after a change of it was cut off"), "{refused}");
        assert_eq!(seen(dir.path()), [NEW[0], b"by hand"]);
        // As the message says: the journal gone, the disk counts.
        fs::remove_file(dir.path().join(JOURNAL)).unwrap();
        assert!(settle(dir.path()).unwrap().finished.is_empty());
    }

    /// A journal that came along with the files is not believed.
    #[test]
    fn a_strangers_journal_is_refused() {
        let staged = |target: &str, beside: &str| Staged {
            file: "a.txt".to_string(),
            target: target.to_string(),
            beside: beside.to_string(),
            old: sum(OLD[0]),
            new: sum(b"evil"),
        };
        let own = format!(".bastide-{}", "0123456789abcdef01234567");
        let outside = tempfile::tempdir().unwrap();
        fs::write(outside.path().join("a.txt"), OLD[0]).unwrap();
        fs::write(outside.path().join(&own), "evil").unwrap();
        let far = outside.path().join("a.txt").display().to_string();
        for (target, beside, told) in [
            ("../a.txt", own.as_str(), "outside of the estate"),
            (far.as_str(), &own, "outside of the estate"),
            ("link/a.txt", &own, "outside of the estate"),
            (".git/config", &own, "outside of the estate"),
            ("a.txt", "../evil", "is no journal that bastide wrote"),
            ("a.txt", "sub/b.txt", "is no journal that bastide wrote"),
            ("a.txt", ".bastide-evil", "is no journal that bastide wrote"),
            ("a.txt", &own, "a new text for `a.txt` that is not there"),
        ] {
            let dir = folder();
            #[cfg(unix)]
            std::os::unix::fs::symlink(outside.path(), dir.path().join("link")).unwrap();
            fs::create_dir(dir.path().join(".git")).unwrap();
            let draft = format!(".bastide-{}", "f".repeat(24));
            let journal = Journal { state: State::Made, draft, files: vec![staged(target, beside)] };
            fs::write(dir.path().join(JOURNAL), journal.text()).unwrap();
            fs::write(dir.path().join("evil"), "evil").unwrap();
            let refused = settle(dir.path()).unwrap_err().to_string();
            assert!(refused.contains(told), "{target}: {refused}");
            assert_eq!(seen(dir.path()), OLD);
        }
        assert_eq!(fs::read(outside.path().join("a.txt")).unwrap(), OLD[0]);
        for text in ["x\ty\n", "{}", "{\"journal\": 1}", "\u{0}"] {
            let dir = folder();
            fs::write(dir.path().join(JOURNAL), text).unwrap();
            assert!(settle(dir.path()).is_err(), "{text}");
        }
    }
}
