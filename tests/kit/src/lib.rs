//! Estates in one text file, for tests. A line `=== NAME` begins a file of that name; what stands
//! before the first one is a comment. A line `=== use NAME` takes the files of another text in, which
//! later ones of the same name replace.
#![warn(clippy::print_stdout)]

pub mod client;
pub mod random;
pub mod storage;
pub mod terminal;

use bastide_formats::Loaded;
use bastide_formats::store::Memory;
use bastide_model::Estate;
use jiff::civil::date;
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// The demo estate, as it stands in the repository.
pub fn demo() -> Loaded {
    bastide_formats::load(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../crates/bastide/demo"))
}

/// The files of a case, in the order of their names' first occurrence.
#[derive(Clone, Default, Debug)]
pub struct Case {
    files: Vec<(String, String)>,
}

impl Case {
    /// Cuts a text into files.
    ///
    /// # Panics
    /// When a text it uses cannot be read: a case that is not there is a mistake of the test.
    pub fn parse(text: &str, folder: &Path) -> Case {
        let mut case = Case::default();
        let mut current: Option<String> = None;
        for line in text.split_inclusive('\n') {
            match line.trim_end().strip_prefix("=== ") {
                Some(name) => match name.strip_prefix("use ") {
                    Some(other) => {
                        let path = folder.join(other);
                        let text = fs::read_to_string(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
                        Case::parse(&text, folder).files.into_iter().for_each(|(n, t)| case.set(&n, t));
                        current = None;
                    }
                    None => {
                        case.set(name, String::new());
                        current = Some(name.to_string());
                    }
                },
                None => {
                    if let Some(name) = &current {
                        let file = case.files.iter_mut().find(|(n, _)| n == name).expect("it was begun");
                        file.1.push_str(line);
                    }
                }
            }
        }
        case
    }

    /// Sets a file.
    pub fn set(&mut self, name: &str, text: String) {
        match self.files.iter_mut().find(|(n, _)| n == name) {
            Some(file) => file.1 = text,
            None => self.files.push((name.to_string(), text)),
        }
    }

    /// Takes a file out.
    pub fn take(&mut self, name: &str) -> Option<String> {
        let at = self.files.iter().position(|(n, _)| n == name)?;
        Some(self.files.remove(at).1)
    }

    /// The files.
    pub fn files(&self) -> &[(String, String)] {
        &self.files
    }

    /// Reads the files, which lie in memory.
    pub fn load(&self) -> Loaded {
        let files: Memory = self.files.iter().map(|(name, text)| (name.as_str(), bytes(text))).collect();
        bastide_formats::load_from(&files, date(2026, 11, 24))
    }

    /// The estate that the files hold.
    ///
    /// # Panics
    /// When it has errors.
    pub fn estate(&self) -> Estate {
        let loaded = self.load();
        let errors = || -> Vec<&str> {
            loaded.diagnostics.iter().filter(|d| d.is_error()).map(|d| d.message.as_str()).collect()
        };
        loaded.estate.as_ref().cloned().unwrap_or_else(|| panic!("{:#?}\n{:#?}", errors(), self.files))
    }

    /// Writes the files into a temporary folder. `\xNN` in a text stands for that byte, so that a
    /// case can hold what no text file may.
    ///
    /// # Panics
    /// When the folder cannot be written.
    pub fn lay_out(&self) -> TempDir {
        let dir = tempfile::tempdir().expect("a temporary folder");
        for (name, text) in &self.files {
            let path = dir.path().join(name);
            fs::create_dir_all(path.parent().expect("a file lies in a folder")).expect("a folder");
            fs::write(path, bytes(text)).expect("a file");
        }
        dir
    }
}

fn bytes(text: &str) -> Vec<u8> {
    let mut out = Vec::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("\\x") {
        out.extend_from_slice(&rest.as_bytes()[..at]);
        match rest.get(at + 2..at + 4).and_then(|hex| u8::from_str_radix(hex, 16).ok()) {
            Some(byte) => {
                out.push(byte);
                rest = &rest[at + 4..];
            }
            None => {
                out.extend_from_slice(b"\\x");
                rest = &rest[at + 2..];
            }
        }
    }
    out.extend_from_slice(rest.as_bytes());
    out
}

/// The texts of a folder whose names end so, by name.
///
/// # Panics
/// When the folder cannot be read.
pub fn texts(folder: &Path, ending: &str) -> Vec<(String, PathBuf, String)> {
    let mut found: Vec<(String, PathBuf, String)> = fs::read_dir(folder)
        .unwrap_or_else(|e| panic!("{}: {e}", folder.display()))
        .map(|entry| entry.expect("a folder's entry").path())
        .filter(|path| path.to_string_lossy().ends_with(ending))
        .map(|path| {
            let name =
                path.file_name().expect("a file has a name").to_string_lossy().trim_end_matches(ending).to_string();
            let text = fs::read_to_string(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
            (name, path, text)
        })
        .collect();
    found.sort();
    found
}
