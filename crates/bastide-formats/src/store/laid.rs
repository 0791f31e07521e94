//! Texts laid over a store: in the place of files that are there, and beside them where they are not there yet.

use super::{Kind, Memory, Name, Store};
use bastide_net::Failed;
use bastide_net::objects::Settings;
use std::collections::BTreeMap;
use std::io;

/// A store with other texts in some of its files.
pub struct Laid<'s> {
    beneath: &'s dyn Store,
    texts: &'s BTreeMap<String, String>,
    /// Their names alone, as files of a store.
    names: Memory,
}

impl<'s> Laid<'s> {
    /// Texts by the paths of their files, over a store.
    pub fn over(beneath: &'s dyn Store, texts: &'s BTreeMap<String, String>) -> Laid<'s> {
        let names = texts.keys().map(|path| (path.clone(), "")).collect();
        Laid { beneath, texts, names }
    }

    fn is_beneath(&self, path: &str) -> bool {
        // What cannot be told is there.
        self.beneath.kind(path).map_or(true, |kind| kind.is_some())
    }
}

impl Store for Laid<'_> {
    fn kind(&self, path: &str) -> io::Result<Option<Kind>> {
        match self.beneath.kind(path) {
            Ok(None) => self.names.kind(path),
            found => found,
        }
    }

    fn list(&self, folder: &str) -> io::Result<Vec<Name>> {
        let mut names = if self.is_beneath(folder) { self.beneath.list(folder)? } else { Vec::new() };
        for name in self.names.list(folder)? {
            if !names.contains(&name) {
                names.push(name);
            }
        }
        Ok(names)
    }

    fn read(&self, path: &str) -> io::Result<Vec<u8>> {
        match self.texts.get(path) {
            Some(text) => Ok(text.clone().into_bytes()),
            None => self.beneath.read(path),
        }
    }

    fn identity(&self, folder: &str) -> io::Result<(u64, u64)> {
        if self.is_beneath(folder) { self.beneath.identity(folder) } else { self.names.identity(folder) }
    }

    fn is_outside(&self, path: &str) -> io::Result<bool> {
        if self.is_beneath(path) { self.beneath.is_outside(path) } else { Ok(false) }
    }

    fn reach(&self, storage: &Settings) -> Result<(), Failed> {
        self.beneath.reach(storage)
    }

    fn objects(&self, pattern: &str) -> Result<Vec<String>, Failed> {
        self.beneath.objects(pattern)
    }

    fn found(&self, pattern: &str, outside: bool, files: &[String]) {
        // What is looked for again later is looked for in the store alone.
        let there: Vec<String> = files.iter().filter(|file| self.is_beneath(file)).cloned().collect();
        self.beneath.found(pattern, outside, &there);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::find;
    use bastide_syntax::{Diagnostics, FileId, Span};

    #[test]
    fn new_files_stand_beside_those_that_are_there() {
        let beneath: Memory = [("data/a.csv", "old a"), ("data/b.csv", "old b")].into_iter().collect();
        let texts = [("data/b.csv", "new b"), ("data/c.csv", "new c"), ("new/d.csv", "new d")];
        let texts = texts.into_iter().map(|(path, text)| (path.to_string(), text.to_string())).collect();
        let laid = Laid::over(&beneath, &texts);
        let found = |pattern: &str| {
            let mut out = Diagnostics::new();
            let found = find(&laid, pattern, false, Span::new(FileId(0), 0, 0), &mut out);
            assert_eq!(found.is_empty(), !out.is_empty(), "{pattern}");
            found
        };
        assert_eq!(found("data/*.csv"), ["data/a.csv", "data/b.csv", "data/c.csv"]);
        assert_eq!(found("**/d.csv"), ["new/d.csv"]);
        assert_eq!(found("new/d.csv"), ["new/d.csv"]);
        assert!(found("new/e.csv").is_empty());
        assert_eq!(laid.read("data/b.csv").unwrap(), b"new b");
        assert_eq!(laid.read("data/a.csv").unwrap(), b"old a");
    }
}
