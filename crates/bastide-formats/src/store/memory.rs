//! Files that are in memory: for programs that make an estate or hold texts that are not saved, and for tests.

use super::{Kind, Name, Store};
use std::collections::BTreeMap;
use std::io;

/// Files by their paths, relative to the estate, with `/` between the segments.
#[derive(Clone, Default, Debug)]
pub struct Memory(BTreeMap<String, Vec<u8>>);

impl Memory {
    /// Puts a file there, in the place of one of the same path.
    pub fn put(&mut self, path: impl Into<String>, text: impl Into<Vec<u8>>) {
        self.0.insert(path.into(), text.into());
    }

    /// Takes a file away.
    pub fn take(&mut self, path: &str) -> Option<Vec<u8>> {
        self.0.remove(path)
    }

    /// The paths of what lies in a folder, beneath it too, without the folder's own.
    fn within(&self, folder: &str) -> impl Iterator<Item = &str> {
        let rest = move |path: &'_ str| -> Option<usize> {
            let at = if folder.is_empty() { 0 } else { folder.len() + 1 };
            (path.len() > at && path.starts_with(folder) && (at == 0 || path.as_bytes()[at - 1] == b'/')).then_some(at)
        };
        self.0.keys().filter_map(move |path| rest(path).map(|at| &path[at..]))
    }
}

impl<P: Into<String>, T: Into<Vec<u8>>> FromIterator<(P, T)> for Memory {
    fn from_iter<I: IntoIterator<Item = (P, T)>>(files: I) -> Memory {
        Memory(files.into_iter().map(|(path, text)| (path.into(), text.into())).collect())
    }
}

impl Store for Memory {
    fn kind(&self, path: &str) -> io::Result<Option<Kind>> {
        if self.0.contains_key(path) {
            return Ok(Some(Kind::File));
        }
        let is_folder = path.is_empty() || self.within(path).next().is_some();
        Ok(is_folder.then_some(Kind::Folder))
    }

    fn list(&self, folder: &str) -> io::Result<Vec<Name>> {
        let first = |path: &str| path.split_once('/').map_or(path, |(first, _)| first).to_string();
        let mut names: Vec<String> = self.within(folder).map(first).collect();
        // Paths are in order, so that what has the same beginning stands together.
        names.dedup();
        Ok(names.into_iter().map(|text| Name { text, is_text: true }).collect())
    }

    fn read(&self, path: &str) -> io::Result<Vec<u8>> {
        self.0.get(path).cloned().ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    fn identity(&self, folder: &str) -> io::Result<(u64, u64)> {
        // There are no links: a folder has one path, and is told by the first of what lies in it and by how deep it is.
        let at = self.0.keys().position(|path| path.starts_with(folder));
        let depth = folder.split('/').filter(|segment| !segment.is_empty()).count();
        Ok((at.map_or(u64::MAX, |at| at as u64), depth as u64))
    }

    fn is_outside(&self, _path: &str) -> io::Result<bool> {
        Ok(false)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_are_what_files_lie_in() {
        let files = [("a.csv", ""), ("b/c.csv", "x"), ("b/d/e.csv", ""), ("bc.csv", "")];
        let mut memory: Memory = files.into_iter().collect();
        let names = |memory: &Memory, folder: &str| {
            memory.list(folder).unwrap().into_iter().map(|name| name.text).collect::<Vec<String>>()
        };
        assert_eq!(names(&memory, ""), ["a.csv", "b", "bc.csv"]);
        assert_eq!(names(&memory, "b"), ["c.csv", "d"]);
        assert_eq!(memory.kind("b").unwrap(), Some(Kind::Folder));
        assert_eq!(memory.kind("b/c.csv").unwrap(), Some(Kind::File));
        assert_eq!(memory.kind("c").unwrap(), None);
        assert_ne!(memory.identity("").unwrap(), memory.identity("b").unwrap());
        let alone: Memory = [("data/a.csv", "")].into_iter().collect();
        assert_ne!(alone.identity("").unwrap(), alone.identity("data").unwrap());
        assert_ne!(memory.identity("b").unwrap(), memory.identity("b/d").unwrap());
        assert_eq!(memory.read("b/c.csv").unwrap(), b"x");
        assert_eq!(memory.take("b/c.csv").as_deref(), Some(&b"x"[..]));
        assert_eq!(memory.read("b/c.csv").unwrap_err().kind(), io::ErrorKind::NotFound);
    }
}
