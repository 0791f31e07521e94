//! Who changed a line last, from a git checkout around the estate. Outside a checkout, and for lines
//! that were never committed, there is nothing to say.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// The last change of a line.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Touched {
    /// File and line, as the estate names them.
    pub place: String,
    /// Who.
    pub author: String,
    /// The day, in the author's time zone.
    pub date: String,
    /// The first line of the commit's message.
    pub message: String,
    /// The commit, shortened.
    pub commit: String,
}

/// The history of the estate's files.
pub struct History {
    repository: Option<git2::Repository>,
    root: PathBuf,
    /// Blame by file, as far as it was asked.
    blamed: BTreeMap<String, Option<Vec<Option<git2::Oid>>>>,
}

/// Files longer than this are not looked up: blame reads every version of them.
const LONGEST: u64 = 4 << 20;

impl History {
    /// The history around an estate's folder.
    pub fn of(root: &Path) -> History {
        let root = std::fs::canonicalize(root).unwrap_or_else(|_| root.to_path_buf());
        History { repository: git2::Repository::discover(&root).ok(), root, blamed: BTreeMap::new() }
    }

    /// Who changed a line last; `place` is `file:line` as the estate names it.
    pub fn touched(&mut self, place: &str) -> Option<Touched> {
        let (file, line) = place.rsplit_once(':')?;
        let line: usize = line.parse().ok()?;
        let commits = self.blame(file)?;
        let id = (*commits.get(line.checked_sub(1)?)?)?;
        let commit = self.repository.as_ref()?.find_commit(id).ok()?;
        let author = commit.author();
        let message = commit.message().unwrap_or_default().lines().next().unwrap_or_default().to_string();
        Some(Touched {
            place: place.to_string(),
            author: author.name().unwrap_or("somebody").to_string(),
            date: day(author.when()),
            message,
            commit: id.to_string().chars().take(8).collect(),
        })
    }

    /// By line the commit that changed it last; none for lines that are not committed.
    fn blame(&mut self, file: &str) -> Option<&Vec<Option<git2::Oid>>> {
        if !self.blamed.contains_key(file) {
            let found = self.read_blame(file);
            self.blamed.insert(file.to_string(), found);
        }
        self.blamed[file].as_ref()
    }

    fn read_blame(&self, file: &str) -> Option<Vec<Option<git2::Oid>>> {
        let repository = self.repository.as_ref()?;
        let whole = self.root.join(file);
        if std::fs::metadata(&whole).ok()?.len() > LONGEST {
            return None;
        }
        let workdir = std::fs::canonicalize(repository.workdir()?).ok()?;
        let relative = whole.strip_prefix(workdir).ok()?;
        let committed = repository.blame_file(relative, None).ok()?;
        // The file as it lies there, which may differ from what is committed.
        let text = std::fs::read(&whole).ok()?;
        let blame = committed.blame_buffer(&text).ok()?;
        let lines = text.iter().filter(|b| **b == b'\n').count() + 1;
        let commit = |line: usize| {
            let hunk = blame.get_line(line)?;
            Some(hunk.final_commit_id()).filter(|id| !id.is_zero())
        };
        Some((1..=lines).map(commit).collect())
    }
}

fn day(time: git2::Time) -> String {
    let zone = jiff::tz::Offset::from_seconds(time.offset_minutes() * 60).unwrap_or(jiff::tz::Offset::UTC);
    let when = jiff::Timestamp::from_second(time.seconds()).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    zone.to_datetime(when).date().to_string()
}
