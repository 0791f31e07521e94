//! Where the files of an estate are: a folder on a disk, a revision, an archive.
//!
//! Paths are relative to the estate, with `/` between their segments. Nothing is passed over: what is there and cannot be
//! read is an error that names it.

mod bucket;
mod find;
mod folder;
mod laid;
mod memory;
mod room;
mod settled;
mod unpack;

pub use find::find;
pub use folder::Folder;
pub use laid::Laid;
pub use memory::Memory;
pub use unpack::{Limited, MOST as MOST_UNPACKED, most};

use bastide_net::Failed;
use bastide_net::objects::Settings;
use std::io;

/// Names that begin so are our own, made while something is written.
pub const OWN: &str = ".bastide-";

/// Whether a name is one of our own forms: of the journal, a new text, a draft or a lock. They are no part of the estate.
pub fn is_own(name: &str) -> bool {
    let rest = name.strip_prefix(OWN);
    let of_length =
        |rest: &str| (rest.len() == 16 || rest.len() == 24) && rest.bytes().all(|b| b.is_ascii_alphanumeric());
    rest.is_some_and(|rest| matches!(rest, "journal" | "lock") || of_length(rest))
}

/// What a path leads to.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Kind {
    /// A file.
    File,
    /// A folder.
    Folder,
    /// Something else, by what it is.
    Other(&'static str),
}

/// A name in a folder.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Name {
    /// The name; what is no UTF-8 in it is replaced.
    pub text: String,
    /// Whether it is valid UTF-8.
    pub is_text: bool,
}

/// What holds the files of an estate.
pub trait Store: Sync {
    /// What a path leads to, links followed; none where nothing is there.
    ///
    /// # Errors
    /// Something is there, and what it is cannot be told: a link that leads nowhere or round in a circle, a folder that may
    /// not be entered.
    fn kind(&self, path: &str) -> io::Result<Option<Kind>>;

    /// The names in a folder, in any order.
    ///
    /// # Errors
    /// It cannot be read.
    fn list(&self, folder: &str) -> io::Result<Vec<Name>>;

    /// The bytes of a file.
    ///
    /// # Errors
    /// It cannot be read, or there is no room for it.
    fn read(&self, path: &str) -> io::Result<Vec<u8>>;

    /// What tells a folder from every other one, whatever the path to it.
    ///
    /// # Errors
    /// It cannot be told.
    fn identity(&self, folder: &str) -> io::Result<(u64, u64)>;

    /// Whether what a path leads to lies outside of the estate.
    ///
    /// # Errors
    /// It cannot be told.
    fn is_outside(&self, path: &str) -> io::Result<bool>;

    /// Makes ready to read objects of a storage. Nothing is asked yet.
    ///
    /// # Errors
    /// What holds the files holds them as they were at one moment, and knows nothing of a storage; or the storage cannot be
    /// asked.
    fn reach(&self, _storage: &Settings) -> Result<(), Failed> {
        Err(Failed::new(
            "parts of this catalog lie in object storage, which keeps no state of the past: a revision, an archive or a text that \
             is being written cannot be completed from it",
        ))
    }

    /// The addresses of the objects that an address with a pattern in its key names, in byte order.
    ///
    /// # Errors
    /// Nothing was made ready, or the storage does not list them.
    fn objects(&self, _pattern: &str) -> Result<Vec<String>, Failed> {
        Err(Failed::new("no storage was made ready"))
    }

    /// Told of each file that a pattern named, so that it can be seen later whether the same ones would be found again.
    fn found(&self, _pattern: &str, _outside: bool, _files: &[String]) {}
}

/// A path in a folder; the estate's own is the empty one.
pub(crate) fn inside(folder: &str, name: &str) -> String {
    if folder.is_empty() { name.to_string() } else { format!("{folder}/{name}") }
}
