//! Several files written at once: all or none, even where the work is cut off in the middle.
//!
//! Every new text is first written beside its file and made safe on the disk. Then a journal names
//! them all, and from that moment the change counts as made: whoever loads the estate reads the
//! new texts through the journal. Last, each takes the place of its file, and the journal goes. Cut
//! off before the journal stands, everything is as it was; cut off after, everything is new.

use std::fs;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// The name of the journal, in the folder of the estate.
pub const JOURNAL: &str = ".bastide-journal";

/// A file whose new text stands beside it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Staged {
    /// The file, as it is shown.
    pub file: String,
    /// The new text's file name, in the same folder.
    pub beside: String,
}

/// The files of a journal, where one stands.
///
/// # Errors
/// It cannot be read.
pub fn staged(root: &Path) -> io::Result<Vec<Staged>> {
    let text = match fs::read_to_string(root.join(JOURNAL)) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(error),
    };
    let pairs = text.lines().filter_map(|line| line.split_once('\t'));
    let staged = pairs.map(|(beside, file)| Staged { file: file.to_string(), beside: beside.to_string() });
    Ok(staged.collect())
}

/// Where a staged text stands.
pub fn beside(root: &Path, staged: &Staged) -> PathBuf {
    root.join(&staged.file).with_file_name(&staged.beside)
}

/// Puts new texts in the place of files. `step` is called before each thing that is done to the
/// disk, with a word for it; what it refuses is not done, which is how tests cut the work off.
///
/// # Errors
/// What the disk refused. Either no file is changed then, or a journal stands and all are.
pub fn commit(root: &Path, texts: &super::Texts, step: &mut dyn FnMut(&str) -> io::Result<()>) -> io::Result<()> {
    finish(root, step)?;
    let mut made: Vec<PathBuf> = Vec::new();
    let journal = stage(root, texts, step, &mut made);
    if let Err(error) = journal {
        // Nothing counts yet: what lies beside the files is rubbish.
        made.iter().for_each(|path| drop(fs::remove_file(path)));
        return Err(error);
    }
    finish(root, step)
}

fn stage(
    root: &Path,
    texts: &super::Texts,
    step: &mut dyn FnMut(&str) -> io::Result<()>,
    made: &mut Vec<PathBuf>,
) -> io::Result<()> {
    let mut journal = String::new();
    for (i, (file, text)) in texts.iter().enumerate() {
        step("write beside")?;
        let name = format!(".bastide-{}-{i}", std::process::id());
        // A link stays a link: the text stands beside what it leads to, and takes its place.
        let target = root.join(file);
        let path = target.with_file_name(&name);
        made.push(path.clone());
        let mut out = fs::File::create(&path)?;
        if let Ok(known) = fs::metadata(&target) {
            out.set_permissions(known.permissions())?;
        }
        out.write_all(text.as_bytes())?;
        step("make safe")?;
        out.sync_all()?;
        journal.push_str(&format!("{name}\t{file}\n"));
    }
    step("write journal")?;
    let draft = root.join(format!("{JOURNAL}-{}", std::process::id()));
    made.push(draft.clone());
    let mut out = fs::File::create(&draft)?;
    out.write_all(journal.as_bytes())?;
    out.sync_all()?;
    step("set journal")?;
    fs::rename(&draft, root.join(JOURNAL))?;
    sync(root)
}

/// Finishes a change that was cut off, where a journal stands.
///
/// # Errors
/// What the disk refused; the journal stays, so that it can be tried again.
pub fn finish(root: &Path, step: &mut dyn FnMut(&str) -> io::Result<()>) -> io::Result<()> {
    let staged = staged(root)?;
    if staged.is_empty() {
        return Ok(());
    }
    for one in &staged {
        let path = beside(root, one);
        if path.exists() {
            step("put in place")?;
            let target = root.join(&one.file);
            let target = fs::canonicalize(&target).unwrap_or(target);
            // A link may lead to another disk, where nothing can be moved to.
            match fs::rename(&path, &target) {
                Ok(()) => {}
                Err(error) if error.kind() == io::ErrorKind::CrossesDevices => {
                    fs::copy(&path, &target)?;
                    fs::remove_file(&path)?;
                }
                Err(error) => return Err(error),
            }
        }
    }
    step("remove journal")?;
    fs::remove_file(root.join(JOURNAL))?;
    sync(root)
}

/// Makes the names in a folder safe on the disk, where the system has a way to.
fn sync(folder: &Path) -> io::Result<()> {
    if cfg!(unix) { fs::File::open(folder)?.sync_all() } else { Ok(()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts() -> super::super::Texts {
        [("a.txt", "new a"), ("sub/b.txt", "new b")].map(|(f, t)| (f.to_string(), t.to_string())).into()
    }

    fn folder() -> tempfile::TempDir {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("sub")).unwrap();
        fs::write(dir.path().join("a.txt"), "old a").unwrap();
        fs::write(dir.path().join("sub/b.txt"), "old b").unwrap();
        dir
    }

    /// What a reader sees: through the journal, where one stands.
    fn seen(root: &Path) -> Vec<String> {
        let staged = staged(root).unwrap();
        let read = |file: &str| {
            let through = staged.iter().find(|s| s.file == file).map(|s| beside(root, s)).filter(|p| p.exists());
            fs::read_to_string(through.unwrap_or(root.join(file))).unwrap()
        };
        vec![read("a.txt"), read("sub/b.txt")]
    }

    /// Cut off at every step, and there is never one new file and one old.
    #[test]
    fn cut_off_anywhere_it_is_all_or_nothing() {
        let mut steps = 0;
        commit(folder().path(), &texts(), &mut |_| {
            steps += 1;
            Ok(())
        })
        .unwrap();
        assert!(steps >= 8, "{steps}");
        let (mut old, mut new) = (0, 0);
        for cut in 0..steps {
            let dir = folder();
            let mut at = 0;
            let result = commit(dir.path(), &texts(), &mut |_| {
                at += 1;
                if at > cut { Err(io::Error::other("cut off")) } else { Ok(()) }
            });
            assert!(result.is_err());
            match seen(dir.path()).iter().map(String::as_str).collect::<Vec<_>>().as_slice() {
                ["old a", "old b"] => {
                    old += 1;
                    // And nothing is left lying about.
                    assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2);
                }
                ["new a", "new b"] => {
                    new += 1;
                    finish(dir.path(), &mut |_| Ok(())).unwrap();
                    assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 2);
                    assert_eq!(seen(dir.path()), ["new a", "new b"]);
                }
                other => panic!("half of it: {other:?}"),
            }
        }
        assert!(old > 0 && new > 0, "{old} {new}");
    }
}
