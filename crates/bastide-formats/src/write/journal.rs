//! The journal of a change of several files, and what becomes of one that was left behind.
//!
//! A journal may come along with the files of an estate, so it is a stranger's until it is seen to be ours: it names files
//! inside the estate alone, the new texts by names of our own form in the same folder, and each by its checksum.

use super::lock::Lock;
use super::names::{is_own_name, sum};
use super::swap::change_places;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::path::{Component, Path, PathBuf};
use std::time::{Duration, Instant};

/// The name of the journal, in the folder of the estate.
pub const JOURNAL: &str = ".bastide-journal";
/// A longer one is none of ours.
const LONGEST: u64 = 4 << 20;
/// How long a writer that is at work may take to end.
const PATIENCE: Duration = Duration::from_secs(10);

/// How far a change came.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum State {
    /// New texts are being written beside their files; nothing counts yet.
    Begun,
    /// Every new text is safe on the disk, and counts.
    Made,
}

/// A file whose new text stands beside it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Staged {
    /// The file, as the estate names it.
    pub file: String,
    /// Where it is, links followed, relative to the folder of the estate.
    pub target: String,
    /// The name of the new text, in the same folder; of the old one once they have changed places.
    pub beside: String,
    /// The checksum of the text that was there when the change was made.
    pub old: String,
    /// The checksum of the new text.
    pub new: String,
}

/// A journal.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Journal {
    pub state: State,
    /// The name under which it is written before it takes its place.
    pub draft: String,
    pub files: Vec<Staged>,
}

/// Why an estate cannot be read or written as it stands.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct Refused(pub String);

/// What was left behind by a change that was cut off, and what became of it.
#[derive(Default, Debug)]
pub struct Settled {
    /// The files of a change that was finished now.
    pub finished: Vec<String>,
    /// Files whose new text is read where it stands beside them, as the change cannot be finished from here.
    pub instead: BTreeMap<String, PathBuf>,
    /// Whether a journal still stands, because it cannot be taken away from here.
    pub(crate) stands: bool,
}

impl Journal {
    pub(super) fn text(&self) -> String {
        let files: Vec<Value> = self
            .files
            .iter()
            .map(|s| json!({"file": s.file, "target": s.target, "beside": s.beside, "old": s.old, "new": s.new}))
            .collect();
        let state = if self.state == State::Made { "made" } else { "begun" };
        json!({"journal": 2, "state": state, "draft": self.draft, "files": files}).to_string() + "\n"
    }

    fn read(text: &str) -> Option<Journal> {
        let value: Value = serde_json::from_str(text).ok()?;
        let word = |value: &Value, key: &str| Some(value.get(key)?.as_str()?.to_string());
        let state = match (value.get("journal")?.as_u64()?, word(&value, "state")?.as_str()) {
            (2, "begun") => State::Begun,
            (2, "made") => State::Made,
            _ => return None,
        };
        let files: Option<Vec<Staged>> = value
            .get("files")?
            .as_array()?
            .iter()
            .map(|s| {
                Some(Staged {
                    file: word(s, "file")?,
                    target: word(s, "target")?,
                    beside: word(s, "beside")?,
                    old: word(s, "old")?,
                    new: word(s, "new")?,
                })
            })
            .collect();
        let journal = Journal { state, draft: word(&value, "draft")?, files: files? };
        let names = journal.files.iter().map(|s| &s.beside).chain([&journal.draft]);
        names.clone().all(|name| is_own_name(name)).then_some(())?;
        (names.collect::<BTreeSet<_>>().len() == journal.files.len() + 1).then_some(journal)
    }
}

impl Staged {
    pub(super) fn target(&self, root: &Path) -> PathBuf {
        root.join(&self.target)
    }

    pub(super) fn beside(&self, root: &Path) -> PathBuf {
        self.target(root).with_file_name(&self.beside)
    }

    /// Whether it lies in the estate, whatever links there are on the way, and neither it nor its folders are hidden.
    fn is_inside(&self, root: &Path) -> bool {
        let path = Path::new(&self.target);
        let plain = path.components().all(|part| match part {
            Component::Normal(name) => !name.as_encoded_bytes().starts_with(b"."),
            _ => false,
        });
        let folder = path.parent().map(|folder| fs::canonicalize(root.join(folder)));
        plain
            && folder
                .is_some_and(|folder| folder.is_ok_and(|folder| folder == root.join(path.parent().unwrap_or(path))))
    }
}

/// The text of a regular file that is no link.
fn plain_text(path: &Path) -> io::Result<Option<Vec<u8>>> {
    match fs::symlink_metadata(path) {
        Ok(about) if about.is_file() => Ok(Some(fs::read(path)?)),
        Ok(_) => Err(io::Error::other("it is no file")),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

/// The journal of an estate, where one stands.
fn find(root: &Path) -> Result<Option<Journal>, Refused> {
    let path = root.join(JOURNAL);
    let strange = || {
        Refused(format!(
            "`{JOURNAL}` is no journal that bastide wrote: it may have come along with the files. Nothing is read through it; \
             take it away to go on with what stands on the disk"
        ))
    };
    match fs::symlink_metadata(&path) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) => return Err(Refused(format!("`{JOURNAL}` cannot be read: {error}"))),
        Ok(about) if !about.is_file() || about.len() > LONGEST => return Err(strange()),
        Ok(_) => {}
    }
    let text = match fs::read_to_string(&path) {
        Ok(text) => text,
        // Its writer has ended meanwhile.
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
        Err(error) if error.kind() == io::ErrorKind::InvalidData => return Err(strange()),
        Err(error) => return Err(Refused(format!("`{JOURNAL}` cannot be read: {error}"))),
    };
    // One that is cut off in its first words never came to name anything that counts.
    let journal = if text.is_empty() { Some(empty()) } else { Journal::read(&text) };
    let journal = journal.ok_or_else(strange)?;
    if !journal.files.iter().all(|staged| staged.is_inside(root)) {
        return Err(Refused(format!(
            "`{JOURNAL}` names files outside of the estate: it may have come along with the files. Take it away to go on with \
             what stands on the disk"
        )));
    }
    Ok(Some(journal))
}

fn empty() -> Journal {
    Journal { state: State::Begun, draft: String::new(), files: Vec::new() }
}

/// Whether a change counts that is being written right now.
///
/// # Errors
/// The journal is none of ours.
pub(crate) fn counts(root: &Path) -> Result<bool, Refused> {
    let Ok(root) = fs::canonicalize(root) else { return Ok(false) };
    Ok(find(&root)?.is_some_and(|journal| journal.state == State::Made))
}

/// Ends what was cut off: a change that counts is finished, one that does not is cleared away. A writer that is still at
/// work is waited for.
///
/// # Errors
/// The journal is none of ours; a file was edited after the change was cut off; a writer does not come to its end.
pub(crate) fn settle(root: &Path) -> Result<Settled, Refused> {
    let since = Instant::now();
    let Ok(root) = fs::canonicalize(root) else { return Ok(Settled::default()) };
    let root = root.as_path();
    loop {
        let Some(journal) = find(root)? else { return Ok(Settled::default()) };
        if Lock::is_held(root) {
            return end(root, &journal);
        }
        match Lock::try_take(root) {
            Ok(Some(_lock)) => {
                return match find(root)? {
                    Some(journal) => end(root, &journal),
                    None => Ok(Settled::default()),
                };
            }
            Ok(None) if journal.state == State::Begun => return Ok(Settled::default()),
            Ok(None) if since.elapsed() > PATIENCE => {
                let message = "another command is writing to this estate, and does not come to its end";
                return Err(Refused(message.to_string()));
            }
            Ok(None) => std::thread::sleep(Duration::from_millis(10)),
            Err(_) if journal.state == State::Begun => return Ok(Settled::default()),
            Err(_) => return read_through(root, &open_files(root, &journal)?),
        }
    }
}

fn end(root: &Path, journal: &Journal) -> Result<Settled, Refused> {
    if journal.state == State::Begun {
        // Whoever may not write leaves it: it means nothing.
        let _ = clear(root, journal);
        return Ok(Settled::default());
    }
    let open = open_files(root, journal)?;
    for staged in &open {
        match change_places(&staged.target(root), &staged.beside(root), &staged.old) {
            Ok(true) => {}
            Ok(false) => return Err(edited(staged)),
            Err(_) => return read_through(root, &open_files(root, journal)?),
        }
        let _ = sync_folder_of(&staged.target(root));
    }
    if clear(root, journal).is_err() {
        return read_through(root, &[]);
    }
    Ok(Settled { finished: journal.files.iter().map(|s| s.file.clone()).collect(), ..Settled::default() })
}

/// The files that are still to be put in place.
fn open_files(root: &Path, journal: &Journal) -> Result<Vec<Staged>, Refused> {
    let unread = |file: &str, error: io::Error| Refused(format!("`{file}` cannot be read: {error}"));
    let mut open = Vec::new();
    for staged in &journal.files {
        let now = plain_text(&staged.target(root)).map_err(|e| unread(&staged.target, e))?;
        let now = now.map(|text| sum(&text));
        if now.as_deref() == Some(&staged.new) {
            continue;
        }
        if now.as_deref() != Some(&staged.old) {
            return Err(edited(staged));
        }
        let beside = plain_text(&staged.beside(root)).map_err(|e| unread(&staged.beside, e))?;
        if beside.is_none_or(|text| sum(&text) != staged.new) {
            return Err(Refused(format!(
                "`{JOURNAL}` tells of a new text for `{}` that is not there: it may have come along with the files. Take it \
                 away to go on with what stands on the disk",
                staged.file
            )));
        }
        open.push(staged.clone());
    }
    Ok(open)
}

fn edited(staged: &Staged) -> Refused {
    Refused(format!(
        "`{}` was edited after a change of it was cut off, and neither text may be lost. To go on with what stands on the disk, \
         take `{JOURNAL}` away; what the change would have written stands in `{}`",
        staged.file,
        staged.beside(Path::new("")).display()
    ))
}

fn read_through(root: &Path, open: &[Staged]) -> Result<Settled, Refused> {
    let instead = open.iter().map(|staged| (staged.file.clone(), staged.beside(root))).collect();
    Ok(Settled { instead, stands: true, ..Settled::default() })
}

/// Takes a journal away, and what stands beside the files it names.
pub(super) fn clear(root: &Path, journal: &Journal) -> io::Result<()> {
    let gone = |path: PathBuf| match fs::symlink_metadata(&path) {
        Ok(about) if about.is_file() => fs::remove_file(&path),
        _ => Ok(()),
    };
    for staged in &journal.files {
        gone(staged.beside(root))?;
    }
    if is_own_name(&journal.draft) {
        gone(root.join(&journal.draft))?;
    }
    fs::remove_file(root.join(JOURNAL))?;
    sync_folder_of(&root.join(JOURNAL))
}

/// Makes the names in a file's folder safe on the disk, where the system has a way to.
pub(super) fn sync_folder_of(path: &Path) -> io::Result<()> {
    match path.parent() {
        Some(folder) if cfg!(unix) => fs::File::open(folder)?.sync_all(),
        _ => Ok(()),
    }
}
