//! An estate whose catalog comes in parts, which are read and decided on one by one: memory does not grow with their number.
//!
//! People, groups, rules, entries and what all parts share are read once ([`Parted`]). Before anything is answered every part
//! is looked at ([`Parted::survey`]), so that a mistake in the last one is told before the first one is answered.

use crate::catalog::{CatalogSink, Gathered};
use crate::distinct::Distinct;
use crate::json;
use crate::manifest::{DataSource, Format};
use crate::reading::{is_packed, table_of};
use crate::shape::Paths;
use crate::store::{Folder, Store};
use crate::text;
use bastide_model::{Estate, ResourceId, Schema, Statement};
use bastide_resolve::{Frame, Met};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Sources, Span, codes, diagnostic};
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;
use sha2::{Digest, Sha256};
use std::hash::{DefaultHasher, Hash, Hasher};
use std::sync::Mutex;

/// A file of a catalog that is a part of its own.
pub(crate) struct PartFile {
    pub path: String,
    pub format: Format,
    pub source: DataSource,
}

/// What parts are put into, as it was read.
pub(crate) struct Base {
    pub schema: Schema,
    pub gathered: Gathered,
    pub paths: Paths,
    pub files: Vec<PartFile>,
    pub outside: bool,
}

/// An estate whose catalog comes in parts.
pub struct Parted {
    sources: Sources,
    folder: Folder,
    frame: Frame,
    met: Met,
    base: Base,
}

/// An estate with one part of its catalog.
pub struct Part {
    /// What all parts share, and the part.
    pub estate: Estate,
    /// The resources of the part.
    pub own: FixedBitSet,
    met: Met,
    /// The checksum (SHA-256) of its text.
    pub sum: [u8; 32],
}

/// What all parts come to.
pub struct Surveyed {
    /// Resources in all parts, and in what they share.
    pub resources: usize,
    /// The checksum (SHA-256) of the text of each part, by its name.
    pub sums: Vec<(String, [u8; 32])>,
    /// What restrictions have lost, where that is no error, besides what was told of what parts share.
    pub lost: Vec<Diagnostic>,
    /// Entries that speak of resources that are nowhere.
    pub nowhere: Vec<Statement>,
}

/// Why there is no answer.
pub enum Unfit {
    /// Something is wrong with the estate.
    Estate(Box<Sources>, Vec<Diagnostic>),
    /// Something else is wrong: files that change, a file that cannot be written.
    Outside(String),
}

/// Two numbers of an id, as one; the same for the same id alone, but by a chance that is looked after.
fn print(id: &str) -> u128 {
    let half = |salt: u8| {
        let mut hasher = DefaultHasher::new();
        (salt, id).hash(&mut hasher);
        u128::from(hasher.finish())
    };
    half(0) << 64 | half(1)
}

impl Parted {
    pub(crate) fn of(sources: Sources, folder: Folder, frame: Frame, met: Met, base: Base) -> Parted {
        Parted { sources, folder, frame, met, base }
    }

    /// How many parts there are.
    pub fn len(&self) -> usize {
        self.base.files.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.base.files.is_empty()
    }

    /// The file of a part.
    pub fn name(&self, part: usize) -> &str {
        &self.base.files[part].path
    }

    /// What all parts share.
    pub fn shared(&self) -> &Estate {
        self.frame.base()
    }

    /// Reads a part.
    ///
    /// # Errors
    /// Something is wrong with it.
    pub fn part(&self, part: usize) -> Result<Part, Unfit> {
        self.read(part, |_, _| ())
    }

    /// Reads a part; `count` is told how many rows of which source came.
    fn read(&self, part: usize, count: impl FnOnce(Span, usize)) -> Result<Part, Unfit> {
        let store = &self.folder;
        let PartFile { path, format, source } = &self.base.files[part];
        let mut sources = self.sources.clone();
        let mut out = Diagnostics::new();
        let file = match is_packed(*format) {
            true => table_of(store, path, *format, source, &mut sources, &mut out),
            false => text::read(store, path, &mut sources, &mut out),
        };
        let found = file.and_then(|file| {
            if self.base.outside && store.is_outside(path).unwrap_or(true) {
                sources.hide(file);
            }
            let mut sink = CatalogSink::with(&self.base.schema, self.base.gathered.clone());
            let before = sink.count();
            let text = sources.text(file);
            match format {
                Format::JsonLines => json::catalog(file, text, source, &mut sink, &mut out),
                _ if source.by_path => {
                    let mut paths = self.base.paths.clone();
                    sink.paths(file, text, source, &mut paths);
                    sink.csv(file, text, source, &paths, &mut out);
                }
                _ => sink.csv(file, text, source, &Paths::new(), &mut out),
            }
            count(source.file.span, sink.count() - before);
            let names = (0..sources.len()).map(|at| sources.name(FileId(at as u32)).to_string()).collect();
            let lines = |span: Span| text::line_of(&sources, span);
            let (estate, met) = self.frame.part(sink.finish(), file, names, &lines, &mut out)?;
            Some((file, estate, met))
        });
        match found.filter(|_| !out.iter().any(Diagnostic::is_error)) {
            Some((file, estate, met)) => {
                let catalog = estate.catalog();
                let is_own = |resource: &ResourceId| catalog.origins[resource.index()].file == file;
                let mut own = FixedBitSet::with_capacity(catalog.len());
                catalog.all().filter(is_own).for_each(|resource| own.insert(resource.index()));
                let sum = Sha256::digest(sources.text(file)).into();
                Ok(Part { estate, own, met, sum })
            }
            None => {
                let mut told: Vec<Diagnostic> = out.finish().into_iter().filter(Diagnostic::is_error).collect();
                diagnostic::sort(&mut told);
                Err(Unfit::Estate(Box::new(sources), told))
            }
        }
    }

    /// Looks at every part, several at a time, and tells what is wrong with any of them or with all together. Memory: one part
    /// a core. Cost: every part is read once.
    ///
    /// # Errors
    /// Something is wrong: then nothing may be answered of any part.
    pub fn survey(&self) -> Result<Surveyed, Unfit> {
        let met = Mutex::new(self.met.clone());
        let ids = Mutex::new((Distinct::default(), 0));
        let came: Mutex<HashMap<Span, usize>> = Mutex::default();
        let lock = "nothing panics while it takes";
        let looked: Vec<Result<(String, [u8; 32]), Unfit>> = (0..self.len())
            .into_par_iter()
            .with_max_len(1)
            .map(|at| {
                let part =
                    self.read(at, |source, rows| *came.lock().expect(lock).entry(source).or_default() += rows)?;
                // Rows of a part stand behind those that all parts share.
                let own = part.estate.catalog().labels.ids_as_read(self.shared().catalog().len());
                let prints: Vec<u128> = own.map(print).collect();
                let mut ids = ids.lock().expect(lock);
                ids.1 += prints.len();
                ids.0.add(prints).map_err(|error| Unfit::Outside(format!("no room to compare ids: {error}")))?;
                drop(ids);
                met.lock().expect(lock).join(part.met);
                Ok((self.name(at).to_string(), part.sum))
            })
            .collect();
        let sums = looked.into_iter().collect::<Result<Vec<_>, Unfit>>()?;
        let (ids, rows) = ids.into_inner().expect(lock);
        let (_, twice) = ids.finish().map_err(|error| Unfit::Outside(format!("ids cannot be compared: {error}")))?;
        self.doubles(&twice)?;
        let mut out = Diagnostics::new();
        let came = came.into_inner().expect(lock);
        let mut seen = HashSet::new();
        for source in self.base.files.iter().map(|file| &file.source).filter(|s| seen.insert(s.file.span)) {
            let rows = came.get(&source.file.span).copied().unwrap_or(0);
            out.extend(crate::reading::too_few(source, rows));
        }
        let nowhere = self.frame.finish(met.into_inner().expect(lock), &mut out);
        if out.iter().any(Diagnostic::is_error) {
            let mut told: Vec<Diagnostic> = out.finish().into_iter().filter(Diagnostic::is_error).collect();
            diagnostic::sort(&mut told);
            return Err(Unfit::Estate(Box::new(self.sources.clone()), told));
        }
        self.unchanged()?;
        let mut lost: Vec<Diagnostic> =
            out.finish().into_iter().filter(|one| *one.code == codes::LOST_RESTRICTION).collect();
        diagnostic::sort(&mut lost);
        Ok(Surveyed { lost, resources: rows + self.shared().catalog().len(), sums, nowhere })
    }

    /// Names ids that stand in several parts.
    fn doubles(&self, prints: &[u128]) -> Result<(), Unfit> {
        if prints.is_empty() {
            return Ok(());
        }
        let prints: HashSet<u128> = prints.iter().copied().collect();
        let mut first: HashMap<String, String> = HashMap::new();
        let mut out = Diagnostics::new();
        for at in 0..self.len() {
            let part = self.part(at)?;
            let catalog = part.estate.catalog();
            for own in part.own.ones().map(ResourceId::new) {
                let id = catalog.id(own);
                if !prints.contains(&print(id)) {
                    continue;
                }
                let place = format!("{}:{}", self.name(at), catalog.origins[own.index()].line);
                if let Some(before) = first.get(id) {
                    let message = format!("resource `{id}` stands twice: in {before} and in {place}");
                    out.push(Diagnostic::file(&codes::DUPLICATE_ID, self.name(at), message));
                } else {
                    first.insert(id.to_string(), place);
                }
            }
        }
        match out.is_empty() {
            // They only look alike.
            true => Ok(()),
            false => Err(Unfit::Estate(Box::new(self.sources.clone()), out.finish())),
        }
    }

    /// That no file is another by now than the one that was read first.
    ///
    /// # Errors
    /// One is.
    pub fn unchanged(&self) -> Result<(), Unfit> {
        match self.folder.changed() {
            None => Ok(()),
            Some(file) => Err(Unfit::Outside(format!(
                "the files of the estate change while they are read (`{file}`, among others): an answer from two states of \
                 them would be true of neither. Ask again once whatever writes them has ended"
            ))),
        }
    }
}
