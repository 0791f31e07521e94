//! People and content from the systems where they are at home: a directory, a database, a tree of files.
//!
//! Each system is read through its public protocol, and becomes files of an estate in a canonical order, so that the
//! difference between two imports is what has changed. Nothing is written here: [`fetch`] gives the texts, and what could
//! not be taken along. What comes from outside is believed in nothing: sizes have limits, other servers that are named are
//! not asked, and what fails half-way gives no text at all.
//!
//! ```no_run
//! use bastide_formats::described;
//! use bastide_import::{Asking, fetch};
//!
//! let root = std::path::Path::new("four-tides");
//! let described = described(root)?;
//! let manifest = described.manifest.ok_or("a mistake is among the diagnostics")?;
//! for import in &manifest.imports {
//!     let asking = Asking { root, manifest: &manifest, ask: &|_| None };
//!     let fetched = fetch(import, &asking)?;
//!     println!("{}: {} files", import.name.text, fetched.files.len());
//! }
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod database;
mod directory;
mod ids;
mod scim;
mod table;
mod tree;

pub use bastide_net::Failed;
pub use database::Privilege;

use bastide_formats::manifest::{Import, Manifest, System};
use bastide_net::secret::Hidden;
use std::collections::BTreeMap;
use std::path::Path;

/// Where an import is made, and whom it may ask.
pub struct Asking<'a> {
    /// The folder of the estate: paths of the manifest are relative to it.
    pub root: &'a Path,
    /// The manifest.
    pub manifest: &'a Manifest,
    /// Asks somebody at the terminal for a secret; none where nobody is there.
    pub ask: &'a dyn Fn(&str) -> Option<String>,
}

/// What came of a system.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Fetched {
    /// The new text of each file, by its path in the estate.
    pub files: BTreeMap<String, String>,
    /// What could not be taken along, and how much of it there is.
    pub left: Vec<Left>,
    /// What the system decides itself, where it was asked.
    pub decisions: Vec<Privilege>,
}

/// Something that could not be taken along.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Left {
    /// What it is, as in "row policies of tables".
    pub what: String,
    /// How many of them.
    pub count: usize,
    /// Some of them by name.
    pub some: Vec<String>,
}

/// Of what is left out, so many are named.
const MOST_NAMED: usize = 3;

/// Counts what is left out, by what it is.
#[derive(Default)]
struct LeftOut(BTreeMap<&'static str, (usize, Vec<String>)>);

impl LeftOut {
    fn note(&mut self, what: &'static str, name: impl Into<String>) {
        let (count, some) = self.0.entry(what).or_default();
        *count += 1;
        if some.len() < MOST_NAMED {
            some.push(name.into());
        }
    }

    fn finish(self) -> Vec<Left> {
        self.0.into_iter().map(|(what, (count, some))| Left { what: what.to_string(), count, some }).collect()
    }
}

/// More rows than this are an error, where the manifest does not say otherwise.
const MOST_ROWS: u64 = 10_000_000;

/// Reads a system. What it gives is whole, or it is an error.
///
/// # Errors
/// It cannot be reached, refuses, breaks off, or gives more than there may be.
pub fn fetch(import: &Import, asking: &Asking) -> Result<Fetched, Failed> {
    read(import, asking, false)
}

/// Reads a system, and what it decides itself for everybody it knows, where it can be asked.
///
/// # Errors
/// As for [`fetch`]; and it is of a sort that decides nothing itself.
pub fn fetch_with_decisions(import: &Import, asking: &Asking) -> Result<Fetched, Failed> {
    read(import, asking, true)
}

fn read(import: &Import, asking: &Asking, decisions: bool) -> Result<Fetched, Failed> {
    match import.system {
        System::Directory | System::Scim if decisions => {
            Err(Failed::new("a directory says who is there, and decides nothing that could be compared"))
        }
        System::Directory => directory::fetch(import, asking),
        System::Scim => scim::fetch(import, asking),
        System::Database => database::fetch(import, asking, decisions),
        System::Tree => tree::fetch(import, asking, decisions),
    }
}

/// The secret of an import; none where it names none.
fn secret_of(import: &Import, asking: &Asking) -> Result<Option<Hidden>, Failed> {
    let ask = || (asking.ask)(&format!("secret for import `{}`", import.name.text));
    import.secret.as_ref().map(|secret| secret.get(asking.root, &ask)).transpose()
}

/// The file of the authorities that an import believes, where it names one.
fn authority(import: &Import) -> Option<&str> {
    import.authority.as_ref().map(|file| file.text.as_str())
}
