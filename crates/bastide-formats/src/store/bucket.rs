//! The parts of an estate that are objects in buckets, as they were when they were listed first.

use super::room;
use bastide_net::Failed;
use bastide_net::objects::{Address, Object, SCHEME, Settings, Storage};
use glob::{MatchOptions, Pattern};
use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::sync::{Mutex, PoisonError};

/// The variable that names the storages that may be asked, with spaces between them.
const ALLOWED: &str = "BASTIDE_STORAGE";

/// What each pattern named, by the addresses of the objects.
type Objects = BTreeMap<String, BTreeMap<String, Object>>;

/// Objects of a storage.
pub struct Buckets {
    storage: Storage,
    found: Mutex<Objects>,
}

impl Buckets {
    /// Of a storage; nothing is asked yet.
    ///
    /// An estate is taken for a stranger's, and asking a storage sends it the id of a key: whoever asks says in the environment
    /// which storage they mean.
    pub fn open(settings: &Settings, root: &Path) -> Result<Buckets, Failed> {
        let allowed = std::env::var(ALLOWED).unwrap_or_default();
        if !allowed.split_whitespace().any(|one| one.trim_end_matches('/') == settings.at.trim_end_matches('/')) {
            return Err(Failed::new(format!(
                "parts of this catalog lie in `{}`, and it is asked only where you allow that: if you trust it and this manifest, set \
                 `{ALLOWED}={}`",
                settings.at, settings.at
            )));
        }
        Ok(Buckets { storage: Storage::open(settings, root)?, found: Mutex::default() })
    }

    fn list(&self, pattern: &str) -> Result<BTreeMap<String, Object>, Failed> {
        let address = Address::of(pattern).filter(|address| address.problem().is_none());
        let Address { bucket, key } = address.ok_or_else(|| Failed::new("it is no address of objects"))?;
        let like = Pattern::new(key).map_err(|error| Failed::new(format!("its key is no pattern: {}", error.msg)))?;
        let options = MatchOptions { require_literal_separator: true, ..MatchOptions::new() };
        let plain = &key[..key.find(['*', '?', '[']).unwrap_or(key.len())];
        let listed = self.storage.list(bucket, plain)?;
        let fits = |object: &Object| like.matches_with(&object.key, options);
        Ok(listed.into_iter().filter(fits).map(|object| (format!("{SCHEME}{bucket}/{}", object.key), object)).collect())
    }

    /// The addresses of the objects that a pattern names. They are listed once.
    pub fn find(&self, pattern: &str) -> Result<Vec<String>, Failed> {
        let mut found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        if !found.contains_key(pattern) {
            found.insert(pattern.to_string(), self.list(pattern)?);
        }
        Ok(found[pattern].keys().cloned().collect())
    }

    /// The bytes of an object as it was listed.
    pub fn read(&self, address: &str) -> io::Result<Vec<u8>> {
        let (bucket, object) = {
            let found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
            let object = found.values().find_map(|objects| objects.get(address)).cloned();
            let bucket = Address::of(address).map(|address| address.bucket);
            bucket.zip(object).ok_or_else(|| io::Error::other("it was not listed"))?
        };
        room::fits(object.size)?;
        self.storage.read(bucket, &object).map_err(io::Error::other)
    }

    /// A pattern that names other objects by now, or that cannot be asked about any more.
    pub fn changed(&self) -> Option<String> {
        let found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        found.iter().find(|(pattern, before)| self.list(pattern).ok().as_ref() != Some(before)).map(|(p, _)| p.clone())
    }
}
