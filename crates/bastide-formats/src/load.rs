//! An estate from its folder: manifest, policy, data, linked. Every mistake of every file is found
//! in one run, and no estate comes back where there is one.

use crate::catalog::CatalogSink;
use crate::data::DataFormat;
use crate::inside::Data;
use crate::ldif::{self, LdifLinks};
use crate::loaded::{Loaded, Tables};
use crate::manifest::{self, AuditSettings, DataSource, Format, Manifest};
use crate::parted::{Base, PartFile, Parted};
use crate::people::PeopleSink;
use crate::reading::{is_packed, table_of, too_few};
use crate::resident::Resident;
use crate::scim::{self, ScimLinks};
use crate::shape::Paths;
use crate::sign_ins::SignInSink;
use crate::store::{Folder, Laid, Store, find};
use crate::stray;
use crate::text;
use crate::usage::Used;
use crate::write::{self, Refused, Settled, Texts};
use crate::{entries, grid, groups, inside, json, usage};
use bastide_model::inside::Inside;
use bastide_model::rows::{EntryRow, GroupRows, RowPlace, SignInRows};
use bastide_model::{Estate, Schema};
use bastide_net::objects::SCHEME;
use bastide_resolve::{Frame, Kept, Met, Parts};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Sources, Span, codes, diagnostic, visible};
use hashbrown::HashMap;
use jiff::civil::Date;
use std::path::Path;
use std::time::Duration;

/// How often files that change while they are read are read again.
const TRIES: u32 = 6;

/// Reads the estate in a folder. What cannot be read at all is told as an error of the estate.
pub fn load(root: &Path) -> Loaded {
    load_as_of(root, &Texts::new(), jiff::ZonedDateTime::now().date()).unwrap_or_else(|refused| {
        let said = Diagnostic::file(&codes::UNREADABLE, manifest::NAME, refused.to_string());
        let mut loader = Loader::new(&Nothing);
        loader.out.push(said);
        loader.loaded(None, 0)
    })
}

/// Reads the estate in a folder as it is at one moment, with other texts in some of its files; accounts that end on a day are
/// active before it, and not from it on. What a cut off change left behind is settled first.
///
/// # Errors
/// The files change again and again while they are read, or what was left behind cannot be settled.
pub fn load_as_of(root: &Path, texts: &Texts, day: Date) -> Result<Loaded, Refused> {
    load_through(root, texts, day, |folder| folder)
}

/// As [`load_as_of`], but no other machine is asked: where parts of the catalog lie in object storage, that is an error.
///
/// # Errors
/// As for [`load_as_of`].
pub fn load_near(root: &Path, texts: &Texts, day: Date) -> Result<Loaded, Refused> {
    load_through(root, texts, day, Folder::near)
}

fn load_through(root: &Path, texts: &Texts, day: Date, how: fn(Folder) -> Folder) -> Result<Loaded, Refused> {
    at_one_moment(root, how, |folder| {
        let laid = Laid::over(folder, texts);
        let mut loader = Loader::new(if texts.is_empty() { folder } else { &laid });
        loader.today = day;
        loader.texts = Some(texts);
        let (estate, usage_rows) = loader.run();
        loader.loaded(estate, usage_rows)
    })
    .map(|(mut loaded, folder, settled)| {
        loaded.folder = Some(folder);
        loaded.settled = settled;
        loaded
    })
}

/// Reads the estate that a store holds, for a day.
pub fn load_from(store: &dyn Store, day: Date) -> Loaded {
    let mut loader = Loader::new(store);
    loader.today = day;
    let (estate, usage_rows) = loader.run();
    loader.loaded(estate, usage_rows)
}

/// Reads the estate in a folder as [`load_near`] does, to be kept while its policy is written.
///
/// # Errors
/// As for [`load_as_of`].
pub fn resident(root: &Path, texts: &Texts, day: Date) -> Result<Resident, Refused> {
    at_one_moment(root, Folder::near, |folder| {
        let laid = Laid::over(folder, texts);
        let mut loader = Loader::new(if texts.is_empty() { folder } else { &laid });
        loader.today = day;
        loader.texts = Some(texts);
        loader.resident()
    })
    .map(|(mut resident, folder, settled)| {
        resident.loaded.folder = Some(folder);
        resident.loaded.settled = settled;
        resident
    })
}

/// Reads the estate in a folder as [`load_as_of`] does, but for the parts of its catalog. Where it has none, or something is
/// wrong with what all parts share, there is only what was read.
///
/// # Errors
/// As for [`load_as_of`].
pub fn parted(root: &Path, day: Date) -> Result<(Loaded, Option<Parted>), Refused> {
    at_one_moment(
        root,
        |folder| folder,
        |folder| {
            let mut loader = Loader::new(folder);
            loader.today = day;
            loader.parted = true;
            loader.parted()
        },
    )
    .map(|((mut loaded, parted), folder, settled)| {
        loaded.settled = settled;
        let parted = parted.map(|(frame, met, base)| Parted::of(loaded.sources.clone(), folder, frame, met, base));
        (loaded, parted)
    })
}

/// Reads a folder until nothing of it has changed from the first file to the last.
fn at_one_moment<T>(
    root: &Path,
    how: fn(Folder) -> Folder,
    read: impl Fn(&Folder) -> T,
) -> Result<(T, Folder, Settled), Refused> {
    stray::sweep(root);
    let mut changing = String::new();
    for wait in 0..TRIES {
        let settled = write::settle(root)?;
        let folder = how(Folder::through(root, settled.instead.clone()));
        let found = read(&folder);
        let counts = !settled.stands && write::counts(root)?;
        match folder.changed() {
            None if !counts => return Ok((found, folder, settled)),
            file => changing = file.unwrap_or(changing),
        }
        std::thread::sleep(Duration::from_millis(20 << wait));
    }
    let what = if changing.is_empty() { String::new() } else { format!(" (`{changing}`, among others)") };
    Err(Refused(format!(
        "the files of the estate change while they are read{what}: an answer from two states of them would be true of neither. \
         Ask again once whatever writes them has ended"
    )))
}

/// Holds no files.
struct Nothing;

impl Store for Nothing {
    fn kind(&self, _: &str) -> std::io::Result<Option<crate::store::Kind>> {
        Ok(None)
    }

    fn list(&self, _: &str) -> std::io::Result<Vec<crate::store::Name>> {
        Ok(Vec::new())
    }

    fn read(&self, _: &str) -> std::io::Result<Vec<u8>> {
        Err(std::io::ErrorKind::NotFound.into())
    }

    fn identity(&self, _: &str) -> std::io::Result<(u64, u64)> {
        Ok((0, 0))
    }

    fn is_outside(&self, _: &str) -> std::io::Result<bool> {
        Ok(false)
    }
}

/// The policy files that the manifest in a folder names, in byte order of their relative paths.
pub struct PolicyFiles {
    /// The texts, for showing places.
    pub sources: Sources,
    /// What is wrong with the manifest, or with a file that cannot be read.
    pub diagnostics: Vec<Diagnostic>,
    /// Each file with its text.
    pub files: Vec<(String, FileId)>,
    /// The folder.
    pub folder: Folder,
}

/// Reads the policy files of the estate in a folder, and nothing else of it.
///
/// # Errors
/// As for [`load_as_of`].
pub fn policy_files(root: &Path) -> Result<PolicyFiles, Refused> {
    let read = |folder: &Folder| {
        let mut loader = Loader::new(folder);
        let files = loader.manifest().map_or(Vec::new(), |manifest| loader.policy_texts(&manifest));
        (loader.sources, loader.out.finish(), files)
    };
    let ((sources, diagnostics, files), folder, _) = at_one_moment(root, |folder| folder, read)?;
    Ok(PolicyFiles { sources, diagnostics, files, folder })
}

/// The manifest in a folder, and nothing else of the estate.
pub struct Described {
    /// The texts, for showing places.
    pub sources: Sources,
    /// What is wrong with it.
    pub diagnostics: Vec<Diagnostic>,
    /// The manifest, where it can be read at all.
    pub manifest: Option<Manifest>,
}

/// Reads the manifest in a folder.
///
/// # Errors
/// As for [`load_as_of`].
pub fn described(root: &Path) -> Result<Described, Refused> {
    let read = |folder: &Folder| {
        let mut loader = Loader::new(folder);
        let manifest = loader.manifest();
        Described { sources: loader.sources, diagnostics: loader.out.finish(), manifest }
    };
    at_one_moment(root, |folder| folder, read).map(|(described, ..)| described)
}

/// How many rows came of each source of one sort.
struct Came<'m>(Vec<(&'m DataSource, usize)>);

impl<'m> Came<'m> {
    fn of(sources: &'m [DataSource]) -> Came<'m> {
        Came(sources.iter().map(|source| (source, 0)).collect())
    }

    fn note(&mut self, source: &DataSource, rows: usize) {
        if let Some((_, came)) = self.0.iter_mut().find(|(known, _)| std::ptr::eq(*known, source)) {
            *came += rows;
        }
    }

    /// Reports sources of which fewer rows came than the manifest says there are at least.
    fn report(&self, out: &mut Diagnostics) {
        for (source, came) in &self.0 {
            out.extend(too_few(source, *came));
        }
    }
}

/// How a catalog may be written.
const CATALOGS: &[Format] = &[Format::Csv, Format::JsonLines, Format::Workbook, Format::Parquet];

struct Loader<'r> {
    store: &'r dyn Store,
    sources: Sources,
    out: Diagnostics,
    /// What is wrong with policy files by themselves.
    of_policy: Diagnostics,
    audit: AuditSettings,
    tables: Tables,
    used: Vec<Used>,
    passed: Vec<(String, usize)>,
    /// The day for which accounts end.
    today: Date,
    /// Texts that stand in for files, where there are any.
    texts: Option<&'r Texts>,
    /// Whether files may lie outside of the estate.
    outside: bool,
    /// Whether parts of the catalog are left to be read one by one, and what they are put into.
    parted: bool,
    base: Option<Base>,
    /// Files that were read ahead.
    ahead: HashMap<String, Result<String, text::Useless>>,
}

impl<'r> Loader<'r> {
    fn new(store: &'r dyn Store) -> Loader<'r> {
        Loader {
            store,
            sources: Sources::new(),
            used: Vec::new(),
            passed: Vec::new(),
            texts: None,
            outside: false,
            parted: false,
            base: None,
            ahead: HashMap::new(),
            today: jiff::ZonedDateTime::now().date(),
            out: Diagnostics::new(),
            of_policy: Diagnostics::new(),
            audit: AuditSettings::default(),
            tables: Tables::default(),
        }
    }

    fn loaded(self, estate: Option<Estate>, usage_rows: usize) -> Loaded {
        let Loader { sources, out, audit, tables, used, passed, .. } = self;
        let mut diagnostics = out.finish();
        diagnostic::sort(&mut diagnostics);
        let whole = !diagnostics.iter().any(Diagnostic::is_error);
        let estate = estate.filter(|_| whole);
        let (folder, settled) = (None, Settled::default());
        let part_sums = Vec::new();
        Loaded { sources, diagnostics, estate, usage_rows, used, audit, tables, part_sums, passed, folder, settled }
    }

    fn run(&mut self) -> (Option<Estate>, usize) {
        let Some((parts, usage_rows)) = self.parts() else { return (None, 0) };
        let of_policy = std::mem::take(&mut self.of_policy);
        self.out.extend(of_policy);
        let sources = &self.sources;
        (bastide_resolve::estate(parts, &|span| text::line_of(sources, span), &mut self.out), usage_rows)
    }

    fn parted(mut self) -> (Loaded, Option<(Frame, Met, Base)>) {
        let Some((parts, usage_rows)) = self.parts() else { return (self.loaded(None, 0), None) };
        let of_policy = std::mem::take(&mut self.of_policy);
        self.out.extend(of_policy);
        let sources = &self.sources;
        let frame = Frame::new(parts, &|span| text::line_of(sources, span), &mut self.out);
        match (frame, self.base.take()) {
            (Some((frame, met)), Some(base)) => {
                let loaded = self.loaded(Some(frame.base().clone()), usage_rows);
                (loaded, Some((frame, met, base)))
            }
            _ => (self.loaded(None, usage_rows), None),
        }
    }

    fn resident(mut self) -> Resident {
        let Some((parts, usage_rows)) = self.parts() else {
            return Resident::of(self.loaded(None, 0), None, Vec::new());
        };
        let (said, parsed) = (std::mem::take(&mut self.out), std::mem::take(&mut self.of_policy).finish());
        self.out.extend(parsed);
        let sources = &self.sources;
        let lines = |span: Span| text::line_of(sources, span);
        let (kept, trees, draft) = Kept::new(parts, said, &|file| sources.text(file), &lines, &mut self.out);
        let estate = draft.whole.then(|| draft.estate.clone());
        Resident::of(self.loaded(estate, usage_rows), Some((kept, draft)), trees)
    }

    /// Everything that is read, before it is linked, and the rows of usage. What is wrong with policy files is kept apart.
    fn parts(&mut self) -> Option<(Parts, usize)> {
        let manifest = self.manifest()?;
        self.audit = manifest.audit.clone();
        let trees = self.policy(&manifest);
        let declared = bastide_resolve::declarations(&trees);
        self.of_policy.extend(declared.diagnostics);
        let schema = declared.schema;
        let mut people = PeopleSink::new(&schema, &manifest.audit.gone, self.today);
        let mut group_rows = GroupRows::default();
        let errors = |out: &[Diagnostic]| out.iter().filter(|d| d.is_error()).count();
        let before = errors(&self.out);
        let unreached = self.reach(&manifest);
        // Catalogs are large: they are read while people and groups are made out.
        let (whole, parts): (Vec<DataSource>, Vec<DataSource>) = manifest
            .catalog
            .iter()
            .filter(|source| unreached.is_none() || !source.file.text.starts_with(SCHEME))
            .cloned()
            .partition(|source| !(self.parted && source.parts));
        let paths = self.paths(&whole);
        let store = self.store;
        let ((), ahead) = rayon::join(
            || self.people_and_groups(&manifest, &mut people, &mut group_rows),
            || {
                paths
                    .into_iter()
                    .map(|path| (text::text(store, &path), path))
                    .map(|(text, path)| (path, text))
                    .collect()
            },
        );
        self.ahead = ahead;
        self.passed = people.passed().iter().map(|(class, count)| (class.clone(), *count)).collect();
        let people_whole = errors(&self.out) == before;
        let before = errors(&self.out);
        self.out.extend(unreached);
        let mut catalog = CatalogSink::new(&schema);
        let mut came = Came::of(&whole);
        let files = self.files(&whole, CATALOGS);
        let mut paths = Paths::new();
        for (file, _, source) in
            files.iter().filter(|(_, format, source)| source.by_path && *format != Format::JsonLines)
        {
            catalog.paths(*file, self.sources.text(*file), source, &mut paths);
        }
        let mut apart = Vec::new();
        for &(file, format, source) in &files {
            apart.extend(source.parts.then_some(file));
            self.tables.parts.extend(source.parts.then_some(file));
            self.tables.catalog.push((file, format));
            self.tables.note_columns(file, source);
        }
        let part_files = self.part_files(&parts);
        let said = std::mem::take(&mut self.out);
        let entry_files = self.files(&manifest.entries, &[Format::Csv, Format::Workbook]);
        for &(file, format, source) in &entry_files {
            // What is kept as a grid has no rows that could be written.
            self.tables.entries.push((file, if source.grid.is_some() { Format::Workbook } else { format }));
            self.tables.note_columns(file, source);
        }
        let of_entry_files = std::mem::replace(&mut self.out, said);
        // Entries can be as many as resources: they are read beside them.
        let (sources, of_catalog) = (&self.sources, &mut self.out);
        let read_catalog = || {
            for (file, format, source) in files {
                let text = sources.text(file);
                let rows = catalog.count();
                match format {
                    Format::JsonLines => json::catalog(file, text, source, &mut catalog, of_catalog),
                    _ => catalog.csv(file, text, source, &paths, of_catalog),
                }
                came.note(source, catalog.count() - rows);
            }
            came.report(of_catalog);
        };
        let read_entries = || {
            let (mut rows, mut said): (Vec<EntryRow>, Diagnostics) = Default::default();
            let mut came = Came::of(&manifest.entries);
            for (file, _, source) in entry_files {
                let (text, before) = (sources.text(file), rows.len());
                match source.grid {
                    Some(reach) => grid::csv(file, text, source, reach, &mut rows, &mut said),
                    None => entries::csv(file, text, source, &mut rows, &mut said),
                }
                came.note(source, rows.len() - before);
            }
            came.report(&mut said);
            (rows, said)
        };
        let ((), (entry_rows, said)) = rayon::join(read_catalog, read_entries);
        let catalog_whole = errors(&self.out) == before;
        self.out.extend(of_entry_files.finish());
        self.out.extend(said.finish());
        let insides = self.insides(&manifest, &schema, &mut catalog);
        let usage_rows = self.usage(&manifest, &schema);
        let sign_ins = self.sign_ins(&manifest, &schema);
        if self.parted {
            let (schema, gathered) = (schema.clone(), catalog.gathered());
            self.base = Some(Base { schema, gathered, paths, files: part_files, outside: self.outside });
        }
        let (people, catalog) = (people.finish(), catalog.finish());
        let files: Vec<String> =
            (0..self.sources.len()).map(|i| self.sources.name(FileId(i as u32)).to_string()).collect();
        // What could not be read must not be told a second time, as something that does not exist.
        let mut hollow = Vec::new();
        if !(people_whole && catalog_whole) {
            hollow.push(&codes::LOST_RESTRICTION);
        }
        if !people_whole {
            hollow.extend([&codes::UNKNOWN_REFERENCE, &codes::UNKNOWN_SUBJECT]);
        }
        if !catalog_whole {
            hollow.push(&codes::STALE_PLACE);
        }
        let parts = Parts {
            name: manifest.name,
            files,
            combining: manifest.combining,
            layers: manifest.layers,
            schema,
            trees,
            people,
            sign_ins,
            groups: group_rows,
            catalog,
            apart,
            insides,
            entries: entry_rows,
            member_of: manifest.member_of.map(|name| (name.text, name.span)),
            lost: manifest.levels.iter().find(|(code, _)| **code == codes::LOST_RESTRICTION).map(|(_, level)| *level),
            today: self.today,
            hollow,
            levels: manifest.levels,
        };
        Some((parts, usage_rows))
    }

    /// Reads a file, or what stands in for it.
    fn read(&mut self, path: &str) -> Option<FileId> {
        if let Some(text) = self.texts.and_then(|texts| texts.get(path)) {
            return Some(self.sources.add(path, text.clone()));
        }
        let file = match self.ahead.remove(path) {
            Some(text) => text::take(path, text, &mut self.sources, &mut self.out),
            None => text::read(self.store, path, &mut self.sources, &mut self.out),
        }?;
        if self.outside && self.store.is_outside(path).unwrap_or(true) {
            self.sources.hide(file);
        }
        Some(file)
    }

    /// Reads a sheet of a workbook, or a file in columns, as a table.
    fn sheet(&mut self, path: &str, format: Format, source: &DataSource) -> Option<FileId> {
        let file = table_of(self.store, path, format, source, &mut self.sources, &mut self.out)?;
        if self.outside && self.store.is_outside(path).unwrap_or(true) {
            self.sources.hide(file);
        }
        Some(file)
    }

    /// Where the files are that sources name; whatever is wrong is told when they are read.
    fn paths(&self, sources: &[DataSource]) -> Vec<String> {
        let find = |source: &DataSource| {
            find(self.store, &source.file.text, self.outside, source.file.span, &mut Diagnostics::new())
        };
        let is_text = |path: &String| !Format::of_name(path).is_some_and(is_packed);
        sources
            .iter()
            .flat_map(find)
            .filter(|path| !self.texts.is_some_and(|texts| texts.contains_key(path)) && is_text(path))
            .collect()
    }

    /// Makes ready what lies in object storage. Why nothing of it can be read, where that is so.
    fn reach(&self, manifest: &Manifest) -> Option<Diagnostic> {
        let storage = manifest.storage.as_ref()?;
        if !manifest.catalog.iter().any(|source| source.file.text.starts_with(SCHEME)) {
            return None;
        }
        if self.out.iter().any(Diagnostic::is_error) {
            let message = "no storage is asked while there are other mistakes";
            return Some(Diagnostic::at(&codes::UNREADABLE, storage.span, message));
        }
        let failed = self.store.reach(&storage.settings).err()?;
        Some(Diagnostic::at(&codes::UNREADABLE, storage.span, visible(&failed.to_string()).to_string()))
    }

    fn manifest(&mut self) -> Option<Manifest> {
        if self.store.is_outside(manifest::NAME).unwrap_or(false) {
            let message = "the manifest is a link to a file outside of the estate: it is not read";
            self.out.push(Diagnostic::file(&codes::UNREADABLE, manifest::NAME, message));
            return None;
        }
        let file = self.read(manifest::NAME)?;
        let manifest = manifest::read(file, self.sources.text(file), &mut self.out);
        self.outside = manifest.outside;
        Some(manifest)
    }

    fn policy_texts(&mut self, manifest: &Manifest) -> Vec<(String, FileId)> {
        let mut paths: Vec<String> = Vec::new();
        for pattern in &manifest.policy {
            paths.extend(find(self.store, &pattern.text, self.outside, pattern.span, &mut self.out));
        }
        paths.sort();
        paths.dedup();
        let mut texts = Vec::new();
        for path in paths {
            if let Some(file) = self.read(&path) {
                self.tables.policy.push(file);
                texts.push((path, file));
            }
        }
        texts
    }

    fn policy(&mut self, manifest: &Manifest) -> Vec<bastide_syntax::tree::File> {
        let mut trees = Vec::new();
        for (_, file) in self.policy_texts(manifest) {
            let parsed = bastide_syntax::parse(file, self.sources.text(file));
            self.of_policy.extend(parsed.diagnostics);
            trees.push(parsed.tree);
        }
        trees
    }

    /// The parts of a catalog, which are not read yet.
    fn part_files(&mut self, sources: &[DataSource]) -> Vec<PartFile> {
        let mut found = Vec::new();
        for source in sources {
            for path in find(self.store, &source.file.text, self.outside, source.file.span, &mut self.out) {
                if let Some(format) = self.format(&path, source, CATALOGS) {
                    found.push(PartFile { path, format, source: source.clone() });
                }
            }
        }
        found
    }

    /// The format of a file, where it is one that is read here.
    fn format(&mut self, path: &str, source: &DataSource, allowed: &[Format]) -> Option<Format> {
        let format = source.format.or_else(|| Format::of_name(path));
        if let Some(format) = format.filter(|format| allowed.contains(format)) {
            return Some(format);
        }
        let message = match format {
            None => format!("the name `{path}` does not tell the format"),
            Some(_) => format!("`{path}` is of a format that is not read here"),
        };
        let help = "the formats are `csv`, sheets of workbooks (`.xlsx`, `.ods`), `jsonl` (catalog, sessions), Parquet (catalog), `scim` (people and groups) and `ldif` (those, and sessions); to name one, write `format = \"csv\"`";
        self.out.push(Diagnostic::at(&codes::MANIFEST, source.file.span, message).help(help));
        None
    }

    /// Reads the files that sources of one sort name, each with its format.
    fn files<'m>(&mut self, sources: &'m [DataSource], allowed: &[Format]) -> Vec<(FileId, Format, &'m DataSource)> {
        let mut found = Vec::new();
        for source in sources {
            for path in find(self.store, &source.file.text, self.outside, source.file.span, &mut self.out) {
                let Some(format) = self.format(&path, source, allowed) else { continue };
                let read = if is_packed(format) { self.sheet(&path, format, source) } else { self.read(&path) };
                if let Some(file) = read {
                    found.push((file, format, source));
                }
            }
        }
        found
    }

    fn people_and_groups(&mut self, manifest: &Manifest, people: &mut PeopleSink, rows: &mut GroupRows) {
        let (mut names, mut ids) = (LdifLinks::default(), ScimLinks::default());
        let mut came = Came::of(&manifest.people);
        for (file, format, source) in
            self.files(&manifest.people, &[Format::Csv, Format::Workbook, Format::Scim, Format::Ldif])
        {
            self.tables.people.push((file, format));
            self.tables.note_columns(file, source);
            let text = self.sources.text(file);
            let before = people.count() + rows.groups.len();
            match format {
                Format::Ldif => ldif::read(file, text, source, people, rows, &mut names, &mut self.out),
                Format::Scim => scim::read(file, text, source, people, rows, &mut ids, &mut self.out),
                _ => people.csv(file, text, source, &mut self.out),
            }
            came.note(source, people.count() + rows.groups.len() - before);
        }
        came.report(&mut self.out);
        let mut came = Came::of(&manifest.groups);
        for (file, format, source) in
            self.files(&manifest.groups, &[Format::Csv, Format::Workbook, Format::Scim, Format::Ldif])
        {
            self.tables.groups.push((file, format));
            self.tables.note_columns(file, source);
            let text = self.sources.text(file);
            let before = rows.groups.len() + people.count();
            match format {
                Format::Ldif => ldif::read(file, text, source, people, rows, &mut names, &mut self.out),
                Format::Scim => scim::read(file, text, source, people, rows, &mut ids, &mut self.out),
                _ => groups::csv(file, text, source, rows, &mut self.out),
            }
            came.note(source, rows.groups.len() + people.count() - before);
        }
        came.report(&mut self.out);
        ids.report(&mut self.out);
        names.join(rows);
        ids.join(rows);
    }

    /// What lies inside datasets goes into the catalog.
    fn insides(&mut self, manifest: &Manifest, schema: &Schema, catalog: &mut CatalogSink) -> Vec<Inside> {
        let mut found = Vec::new();
        let there = catalog.among(manifest.insides.iter().map(|source| source.dataset.text.as_str()));
        for source in &manifest.insides {
            let span = source.dataset.span;
            let line = text::line_of(&self.sources, span);
            let place = RowPlace { file: span.file, line, start: span.start, end: span.end };
            if !there.contains(&source.dataset.text) {
                let message = format!("the catalog has no dataset `{}`", source.dataset.text);
                self.out.push(Diagnostic::at(&codes::UNKNOWN_PARENT, span, message));
                continue;
            }
            let file = &source.data.file;
            let paths = find(self.store, &file.text, self.outside, file.span, &mut self.out);
            let [path] = paths.as_slice() else {
                if paths.len() > 1 {
                    let message = format!("`{}` names several files: the rows of a dataset lie in one", file.text);
                    self.out.push(Diagnostic::at(&codes::MANIFEST, file.span, message));
                }
                continue;
            };
            let format = DataFormat::of_name(path);
            let counted = match format {
                Some(DataFormat::Parquet) => match self.store.read(path) {
                    Ok(bytes) => inside::count(source, Data::Parquet(bytes.into()), place, &mut self.out),
                    Err(error) => {
                        let message = format!("`{path}`: the file cannot be read: {error}");
                        self.out.push(Diagnostic::at(&codes::UNREADABLE, file.span, message));
                        None
                    }
                },
                Some(format) => self.read(path).and_then(|file| {
                    let text = self.sources.text(file);
                    let data = match source.table {
                        Some(_) => Data::Counted(file, text),
                        None => Data::Text(file, format, text),
                    };
                    inside::count(source, data, place, &mut self.out)
                }),
                None => {
                    let message = format!("the name `{path}` does not tell the format");
                    let help = "the formats are `.csv`, `.jsonl` and `.parquet`";
                    self.out.push(Diagnostic::at(&codes::MANIFEST, file.span, message).help(help));
                    None
                }
            };
            let Some(counted) = counted else { continue };
            let mut came = Came(vec![(&source.data, 0)]);
            came.note(&source.data, counted.rows() as usize);
            came.report(&mut self.out);
            found.extend(inside::take_in(source, path, counted, schema, place, catalog, &mut self.out));
        }
        found
    }

    fn sign_ins(&mut self, manifest: &Manifest, schema: &Schema) -> SignInRows {
        let mut sink = SignInSink::new(schema);
        let mut came = Came::of(&manifest.sessions);
        let formats = [Format::Csv, Format::Workbook, Format::JsonLines, Format::Ldif];
        let files = self.files(&manifest.sessions, &formats);
        for source in &manifest.sessions {
            let before = sink.count();
            for (file, format, _) in files.iter().filter(|(.., of)| std::ptr::eq(*of, source)) {
                sink.read(*file, *format, self.sources.text(*file), source, &mut self.out);
            }
            came.note(source, sink.count() - before);
            sink.end(source, &mut self.out);
        }
        came.report(&mut self.out);
        sink.finish()
    }

    fn usage(&mut self, manifest: &Manifest, schema: &Schema) -> usize {
        let mut rows = 0;
        let mut came = Came::of(&manifest.usage);
        for (file, _, source) in self.files(&manifest.usage, &[Format::Csv]) {
            let read = usage::csv(file, self.sources.text(file), schema, &mut self.used, &mut self.out);
            came.note(source, read);
            rows += read;
        }
        came.report(&mut self.out);
        rows
    }
}
