//! What an answer for programs says of itself: from which estate it is, as of when, asked how, and by which version. So
//! two exports can be told apart, and one can be made again.

use crate::failure::Failure;
use crate::open::Opened;
use crate::print::json;
use crate::terminal::{Terminal, is_standard_output};
use bastide_engine::sessions;
use bastide_formats::checksum::{self, hex};
use bastide_formats::{Loaded, sarif};
use bastide_model::Moment;
use schemars::JsonSchema;
use serde::Serialize;
use sha2::{Digest, Sha256};
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

/// What an answer says of itself.
#[derive(Clone, Serialize, JsonSchema, Debug)]
pub struct About {
    /// The estate's name.
    pub estate: String,
    /// SHA-256 over the names and the texts of all its files, in the order of their names; of a part of the catalog that stands
    /// on its own, over the SHA-256 of its text.
    pub checksum: String,
    /// The commit that is checked out around it, where it lies in a git checkout.
    pub revision: Option<String>,
    /// Whether its files differ from that commit.
    pub modified: Option<bool>,
    /// The day asked for.
    pub day: String,
    /// The time zone in which a day that was not given was today.
    pub zone: String,
    /// What was known of the session, as `--session` takes it.
    pub session: Vec<String>,
    /// The attributes of the session that were each user's own, as signed in.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[schemars(default)]
    pub signed_in: Vec<String>,
    /// What was asked, as words of the command line; where the answer goes and where the estate lies are left out.
    pub asked: Vec<String>,
    /// The version of Bastide.
    pub version: String,
}

/// What stands beside a file of rows.
#[derive(Serialize, JsonSchema, Debug)]
pub struct Beside {
    /// The name of the file.
    pub file: String,
    /// SHA-256 of what it held when it was written.
    pub checksum: String,
}

impl About {
    /// Of an answer about an estate at a moment.
    pub fn of(opened: &Opened, moment: &Moment) -> About {
        let estate = opened.estate();
        let about = About::loaded(&opened.loaded, &opened.root);
        let session = sessions::told(estate.schema(), moment);
        let signed_in = sessions::signed_in(estate.schema(), moment);
        About { estate: estate.name().to_string(), day: moment.date.to_string(), session, signed_in, ..about }
    }

    /// Of an answer about what was read, whatever came of it.
    pub fn loaded(loaded: &Loaded, root: &Path) -> About {
        let (revision, modified) = revision(root);
        About {
            estate: loaded.estate.as_ref().map_or(String::new(), |estate| estate.name().to_string()),
            checksum: checksum(loaded),
            revision,
            modified,
            day: crate::open::now().date().to_string(),
            zone: crate::open::zone_name(),
            session: Vec::new(),
            signed_in: Vec::new(),
            asked: asked(std::env::args().skip(1)),
            version: env!("CARGO_PKG_VERSION").to_string(),
        }
    }

    /// For a run of a code review's log, whose places are relative to the checkout where there is one.
    pub fn run(&self, root: &Path) -> sarif::Run {
        let inside = || {
            let repository = git2::Repository::discover(root).ok()?;
            let workdir = std::fs::canonicalize(repository.workdir()?).ok()?;
            let root = std::fs::canonicalize(root).ok()?;
            Some(root.strip_prefix(&workdir).ok()?.to_string_lossy().replace('\\', "/"))
        };
        let inside = inside();
        let base = if inside.is_some() { "the root of the checkout" } else { "the folder of the estate" };
        let prefix = inside.filter(|p| !p.is_empty()).map_or(String::new(), |p| format!("{p}/"));
        sarif::Run { version: self.version.clone(), prefix, base: base.to_string(), about: self.pairs() }
    }

    /// For rows that stand in a file of their own: the same in a file beside it, `FILE.about.json`. Rows that go elsewhere
    /// have no place beside them.
    ///
    /// # Errors
    /// The file cannot be read again, or the one beside it not be written.
    pub fn beside(&self, terminal: &mut Terminal, rows: Option<&Path>) -> Result<(), Failure> {
        let Some(path) = rows.filter(|path| !is_standard_output(path) && path.is_file()) else { return Ok(()) };
        let outside = |error: io::Error| Failure::Outside(format!("`{}`: {error}", path.display()));
        let mut sum = Sha256::new();
        let mut written = File::open(path).map_err(outside)?;
        let mut part = vec![0; 1 << 16];
        loop {
            match written.read(&mut part).map_err(outside)? {
                0 => break,
                number => sum.update(&part[..number]),
            }
        }
        let file = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let text = json::document("beside", self, &Beside { file, checksum: digest(sum) });
        let mut name = path.as_os_str().to_os_string();
        name.push(".about.json");
        terminal.replace(Path::new(&name), &text)
    }

    /// As keys and values, for forms that hold no more.
    pub fn pairs(&self) -> Vec<(String, String)> {
        let text = |value: Option<String>| value.unwrap_or_default();
        [
            ("bastide.estate", self.estate.clone()),
            ("bastide.checksum", self.checksum.clone()),
            ("bastide.revision", text(self.revision.clone())),
            ("bastide.modified", text(self.modified.map(|m| m.to_string()))),
            ("bastide.day", self.day.clone()),
            ("bastide.zone", self.zone.clone()),
            ("bastide.session", self.session.join(" ")),
            ("bastide.asked", self.asked.join(" ")),
            ("bastide.version", self.version.clone()),
        ]
        .map(|(key, value)| (key.to_string(), value))
        .to_vec()
    }
}

/// The checksum of all texts that were read.
fn checksum(loaded: &Loaded) -> String {
    format!("sha256:{}", hex(&checksum::of(&loaded.sources, &loaded.tables.parts, &loaded.part_sums)))
}

fn digest(sum: Sha256) -> String {
    format!("sha256:{}", hex(&sum.finalize()))
}

/// The commit around a folder, and whether files in it differ from it.
fn revision(root: &Path) -> (Option<String>, Option<bool>) {
    let Ok(repository) = git2::Repository::discover(root) else { return (None, None) };
    let commit = repository.head().ok().and_then(|head| head.peel_to_commit().ok()).map(|c| c.id().to_string());
    let inside = || {
        let workdir = std::fs::canonicalize(repository.workdir()?).ok()?;
        let root = std::fs::canonicalize(root).ok()?;
        let relative = root.strip_prefix(&workdir).ok()?.to_path_buf();
        let mut options = git2::StatusOptions::new();
        options.include_untracked(true).recurse_untracked_dirs(false);
        if !relative.as_os_str().is_empty() {
            options.pathspec(relative);
        }
        Some(!repository.statuses(Some(&mut options)).ok()?.is_empty())
    };
    let modified = commit.as_ref().and_then(|_| inside());
    (commit, modified)
}

/// The words of a command line without those that say where the estate is and where the answer goes.
fn asked(words: impl Iterator<Item = String>) -> Vec<String> {
    let mut kept = Vec::new();
    let mut skip = false;
    for word in words {
        if std::mem::replace(&mut skip, false) {
            continue;
        }
        let taken = ["-C", "--estate", "-o", "--output", "--color"];
        if word == "-q" || word == "--quiet" {
            continue;
        }
        if taken.contains(&word.as_str()) {
            skip = true;
        } else if !taken.iter().any(|t| word.strip_prefix(t).is_some_and(|rest| rest.starts_with('=') || t.len() == 2))
        {
            kept.push(word);
        }
    }
    kept
}

#[cfg(test)]
mod tests {
    use super::asked;

    #[test]
    fn where_an_answer_goes_is_not_what_was_asked() {
        let words = |text: &str| asked(text.split(' ').map(str::to_string)).join(" ");
        assert_eq!(words("-C /x who read r -o out.json --format json"), "who read r --format json");
        assert_eq!(words("who -C/x --output=o --color never read r"), "who read r");
    }
}
