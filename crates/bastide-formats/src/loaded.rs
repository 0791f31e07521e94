//! What a folder, or whatever else holds the files of an estate, came to.

use crate::manifest::{AuditSettings, DataSource, Format};
use crate::store::Folder;
use crate::usage::Used;
use crate::write::journal::Settled;
use bastide_model::Estate;
use bastide_syntax::{Diagnostic, FileId, Sources};
use hashbrown::HashMap;

/// What a folder came to.
pub struct Loaded {
    /// The texts, for showing places.
    pub sources: Sources,
    /// Everything there is to say, in the order of the places.
    pub diagnostics: Vec<Diagnostic>,
    /// The estate, where nothing is wrong with it.
    pub estate: Option<Estate>,
    /// Rows of usage that were read.
    pub usage_rows: usize,
    /// Who did what, when.
    pub used: Vec<Used>,
    /// What the audit goes by.
    pub audit: AuditSettings,
    /// Where the tables stand, for writing changes back.
    pub tables: Tables,
    /// The checksums (SHA-256) of parts of the catalog that are read one by one, by their names, once they were looked at.
    pub part_sums: Vec<(String, [u8; 32])>,
    /// What exports of directories hold besides people and groups, by class, and how often.
    pub passed: Vec<(String, usize)>,
    /// The folder it was read from, where it was one.
    pub folder: Option<Folder>,
    /// What was left behind there by a change that was cut off, and what became of it.
    pub settled: Settled,
}

/// The data files by what they hold, in the order they were read.
#[derive(Clone, Default, Debug)]
pub struct Tables {
    /// People, and groups where a directory carries both.
    pub people: Vec<(FileId, Format)>,
    /// Groups.
    pub groups: Vec<(FileId, Format)>,
    /// The catalog.
    pub catalog: Vec<(FileId, Format)>,
    /// Access entries.
    pub entries: Vec<(FileId, Format)>,
    /// Policy files, in byte order of their relative paths.
    pub policy: Vec<FileId>,
    /// For sources that name their columns otherwise: their names and ours.
    pub columns: HashMap<FileId, Vec<(String, String)>>,
    /// The parts of the catalog that stand on their own.
    pub parts: Vec<FileId>,
    /// The catalogs whose rows give their parents by path.
    pub by_path: Vec<FileId>,
}

impl Tables {
    pub(crate) fn note_columns(&mut self, file: FileId, source: &DataSource) {
        let mapped = source.attributes.iter().map(|(theirs, ours)| (theirs.clone(), ours.text.clone()));
        self.columns.insert(file, mapped.collect());
        if source.by_path {
            self.by_path.push(file);
        }
    }
}
