//! `bastide import`

use crate::about::About;
use crate::commands::verify::verified;
use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::found::import::{Imported, Left, Source, Text};
use crate::found::verify::Verified;
use crate::open::{self, EstateArgs, MomentArgs, Opened, cycle};
use crate::print::text::visible;
use crate::print::{diagnostics, import, json, trial};
use crate::progress::Telling;
use crate::terminal::Terminal;
use bastide_engine::Snapshot;
use bastide_engine::difference::{blocks, difference, movements, radius};
use bastide_engine::prove::{broken_by, prove};
use bastide_formats::manifest::{self, Import, Manifest};
use bastide_formats::write::{self, Replacement, Texts};
use bastide_formats::{Described, decisions::Decided};
use bastide_import::{Asking, Fetched};
use bastide_syntax::Diagnostic;
use bastide_syntax::nearest::nearest;
use clap::Args;
use std::fs;
use std::io::{self, IsTerminal};
use std::mem::ManuallyDrop;
use std::path::{Path, PathBuf};

/// What stands in a file that is made, until its first text takes its place. No reader takes it for anything.
const PLACEHOLDER: &str = "this file waits for its first import\n";
/// Of what came and went, so many are named.
const MOST_NAMED: usize = 5;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum ImportFormat {
    /// In words
    Table,
    /// For programs
    Json,
}

#[derive(Args, Debug)]
pub struct ImportArgs {
    /// Which imports of the manifest; all of them otherwise
    names: Vec<String>,
    /// End with status 1 where anything differs from what is saved
    #[arg(long)]
    check: bool,
    /// Save what came, after showing what it does
    #[arg(long)]
    write: bool,
    /// Ask each system for its own decisions, too, and compare them with ours
    #[arg(long)]
    verify: bool,
    /// Every name, gain and loss of long lists
    #[arg(long)]
    all: bool,
    #[command(flatten)]
    moment: MomentArgs,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: ImportFormat,
    /// Write the answer to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: ImportArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let root = estate.root()?;
    let manifest = manifest_of(&root, terminal)?;
    let wanted = wanted(&manifest, &args.names)?;
    let mut fetched = fetch(&wanted, &manifest, &root, args.verify)?;
    // From here on to the end nobody else writes.
    let _lock = if args.write { estate.lock()? } else { None };
    let before = open::read(&root, &Texts::new())?;
    open::say_settled(&before, terminal);
    let (names, texts) = differing(&root, &mut fetched)?;
    // What is the same need not be read, and compared, again.
    let same = texts.is_empty() && before.estate.is_some();
    let later = if same { None } else { Some(open::read(&root, &texts)?) };
    let opened = |loaded| Opened { loaded: ManuallyDrop::new(loaded), seconds: 0.0, root: root.clone() };
    let (before, later) = (opened(before), later.map(opened));
    let after = later.as_ref().unwrap_or(&before);
    if after.loaded.estate.is_none() {
        let errors: Vec<&Diagnostic> = after.loaded.diagnostics.iter().filter(|d| d.is_error()).collect();
        let report = diagnostics::report(&after.loaded.sources, &errors, terminal);
        return Err(Failure::Estate(format!(
            "{report}\nwith what was imported there is no estate; nothing is written\n"
        )));
    }
    let moment = args.moment.moment(after.estate())?;
    let is = after.snapshot(&moment, terminal)?;
    let mut answer = Imported {
        imports: told((&wanted, &fetched, &names), &texts, &manifest, &root),
        first: before.loaded.estate.is_none(),
        movements: Vec::new(),
        radius: None,
        blocks: None,
        broken: Vec::new(),
        verified: None,
        written: Vec::new(),
    };
    let all = args.all || args.format == ImportFormat::Json;
    let most = if all { usize::MAX } else { MOST_NAMED };
    if !same {
        answer.movements = movements(before.loaded.estate.as_ref(), after.estate(), most);
    }
    if let Some(earlier) = before.loaded.estate.as_ref().filter(|_| !same) {
        let (a, b) = (earlier, after.estate());
        let was_moment = args.moment.moment(a)?;
        let was = before.snapshot(&was_moment, terminal)?;
        let found = difference(&was, &is, None);
        answer.radius = Some(radius(&found));
        answer.blocks = Some(blocks(&found, a, b, b.groups(), &after.loaded.audit.harmless, trial::most(all)));
        let held = prove(a, &was_moment, &|_| true).map_err(|c| cycle(&before, &c, terminal))?;
        let proofs = prove(b, &moment, &|_| true).map_err(|c| cycle(after, &c, terminal))?;
        answer.broken = broken_by(&held, proofs);
    }
    if args.verify {
        answer.verified = Some(compare(&fetched, &is, args.all)?);
    }
    if args.write && !texts.is_empty() {
        put(&root, &texts, &before)?;
        answer.written = texts.keys().cloned().collect();
    }
    let text = match args.format {
        ImportFormat::Table => import::imported(&answer, args.write, terminal.width()),
        ImportFormat::Json => {
            json::document("import", &About::of(after, &moment), &crate::answers::import::Imported::from(&answer))
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    let bad = !answer.broken.is_empty()
        || (args.check && !texts.is_empty())
        || answer.verified.as_ref().is_some_and(|verified| !verified.holds());
    Ok(if bad { BAD_NEWS } else { DONE })
}

/// The manifest; with an error in it nothing is read.
fn manifest_of(root: &Path, terminal: &Terminal) -> Result<Manifest, Failure> {
    let Described { sources, diagnostics: said, manifest } =
        bastide_formats::described(root).map_err(|refused| Failure::Outside(refused.to_string()))?;
    let errors: Vec<&Diagnostic> = said.iter().filter(|d| d.is_error()).collect();
    match manifest {
        Some(manifest) if errors.is_empty() => Ok(manifest),
        _ => Err(Failure::Estate(diagnostics::report(&sources, &errors, terminal))),
    }
}

fn wanted<'m>(manifest: &'m Manifest, names: &[String]) -> Result<Vec<&'m Import>, Failure> {
    if manifest.imports.is_empty() {
        let hint = "an import is a table `[[import]]` with `name`, `from` and `into`".to_string();
        return Err(Failure::Usage(format!("`{}` names nothing to import", manifest::NAME), vec![hint]));
    }
    if names.is_empty() {
        return Ok(manifest.imports.iter().collect());
    }
    let find = |name: &String| {
        let known = manifest.imports.iter().map(|import| import.name.text.as_str());
        manifest.imports.iter().find(|import| import.name.text == *name).ok_or_else(|| {
            let near = nearest(name, known).map(|near| format!("did you mean `{near}`?"));
            Failure::Usage(format!("there is no import `{name}`"), near.into_iter().collect())
        })
    };
    let mut found: Vec<&Import> = names.iter().map(find).collect::<Result<_, _>>()?;
    found.dedup_by_key(|import| &import.name.text);
    Ok(found)
}

/// Reads every system. Where one fails, nothing comes of any.
fn fetch(wanted: &[&Import], manifest: &Manifest, root: &Path, verify: bool) -> Result<Vec<Fetched>, Failure> {
    let asking = Asking { root, manifest, ask: &ask };
    let mut fetched = Vec::new();
    for import in wanted {
        let _telling = Telling::importing(&import.name.text);
        let found = if verify {
            bastide_import::fetch_with_decisions(import, &asking)
        } else {
            bastide_import::fetch(import, &asking)
        };
        fetched.push(found.map_err(|failed| {
            Failure::Outside(format!("import `{}`: {failed}; nothing is written", visible(&import.name.text)))
        })?);
    }
    Ok(fetched)
}

/// Asks whoever is at the terminal for a secret, which does not show.
fn ask(question: &str) -> Option<String> {
    if !io::stdin().is_terminal() || !io::stderr().is_terminal() {
        return None;
    }
    rpassword::prompt_password(format!("{}: ", visible(question))).ok()
}

/// The names of the files of each import, and the texts that are others than those that are saved. What came is large: it is
/// taken out, and not copied.
fn differing(root: &Path, fetched: &mut [Fetched]) -> Result<(Vec<Vec<String>>, Texts), Failure> {
    let (mut names, mut texts) = (Vec::new(), Texts::new());
    for fetched in fetched {
        let files = std::mem::take(&mut fetched.files);
        names.push(files.keys().cloned().collect());
        for (file, text) in files {
            let same = match fs::read(root.join(&file)) {
                Ok(old) => old == text.as_bytes(),
                Err(error) if error.kind() == io::ErrorKind::NotFound => false,
                Err(error) => return Err(Failure::Outside(format!("`{file}` cannot be read: {error}"))),
            };
            if !same {
                texts.insert(file, text);
            }
        }
    }
    Ok((names, texts))
}

fn told(
    (wanted, fetched, names): (&[&Import], &[Fetched], &[Vec<String>]),
    texts: &Texts,
    manifest: &Manifest,
    root: &Path,
) -> Vec<Source> {
    let sources =
        [&manifest.people, &manifest.groups, &manifest.catalog, &manifest.entries, &manifest.sessions, &manifest.usage];
    let read = |file: &str| {
        manifest.policy.iter().any(|policy| manifest::names(&policy.text, file))
            || sources.iter().any(|list| list.iter().any(|source| source.names(file)))
            || manifest.insides.iter().any(|inside| inside.data.names(file))
    };
    let one = |((import, fetched), names): ((&&Import, &Fetched), &Vec<String>)| Source {
        name: import.name.text.clone(),
        from: import.from.text.clone(),
        files: names
            .iter()
            .map(|file| Text {
                file: file.clone(),
                differs: texts.contains_key(file),
                new: !root.join(file).exists(),
                read: read(file),
            })
            .collect(),
        left: fetched
            .left
            .iter()
            .map(|left| Left { what: left.what.clone(), count: left.count, some: left.some.clone() })
            .collect(),
    };
    wanted.iter().zip(fetched).zip(names).map(one).collect()
}

/// What the systems decide themselves, beside what comes of it here.
fn compare(fetched: &[Fetched], snapshot: &Snapshot, all: bool) -> Result<Verified, Failure> {
    let decided = |p: &bastide_import::Privilege| Decided {
        user: p.user.clone(),
        resource: p.resource.clone(),
        action: p.action.clone(),
        allowed: p.allowed,
    };
    let decisions: Vec<Decided> = fetched.iter().flat_map(|fetched| &fetched.decisions).map(decided).collect();
    if decisions.is_empty() {
        return Err(Failure::Outside(
            "the systems gave no decision that could be compared; nothing is written".to_string(),
        ));
    }
    Ok(verified(snapshot, &decisions, all))
}

/// Puts the new texts in place, all or none.
fn put(root: &Path, texts: &Texts, before: &Opened) -> Result<(), Failure> {
    let outside = |error: io::Error| Failure::Outside(format!("the files cannot be written: {error}"));
    // What was compared must be what stands there.
    let changed = || before.loaded.folder.as_ref().and_then(bastide_formats::store::Folder::changed);
    if let Some(file) = changed() {
        return Err(Failure::Outside(format!("`{file}` has changed meanwhile; nothing is written")));
    }
    let mut made = Made(Vec::new());
    let mut old = Vec::new();
    for file in texts.keys() {
        let path = root.join(file);
        match fs::read(&path) {
            Ok(bytes) => old.push(bytes),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                made.file(root, &path).map_err(outside)?;
                old.push(PLACEHOLDER.as_bytes().to_vec());
            }
            Err(error) => return Err(outside(error)),
        }
    }
    let replacements: Vec<Replacement> =
        texts.iter().zip(&old).map(|((file, new), old)| Replacement { file, old, new: new.as_bytes() }).collect();
    // A file that was made here is one more than was read.
    let fresh = !made.0.is_empty();
    let still = || if fresh { None } else { changed() };
    write::commit(root, &replacements, &still, &mut |_| Ok(())).map_err(|e| Failure::Outside(e.to_string()))?;
    made.0.clear();
    Ok(())
}

/// Files and folders that were made to be written to; they go where nothing comes of it.
struct Made(Vec<PathBuf>);

impl Made {
    fn file(&mut self, root: &Path, path: &Path) -> io::Result<()> {
        let missing: Vec<&Path> = path.ancestors().skip(1).take_while(|folder| !folder.exists()).collect();
        let above = missing.last().unwrap_or(&path).parent().unwrap_or(root);
        // A link on the way must not lead out of the estate.
        if !fs::canonicalize(above)?.starts_with(fs::canonicalize(root)?) {
            return Err(io::Error::other(format!("`{}` lies outside of the estate", path.display())));
        }
        for folder in missing.into_iter().rev() {
            fs::create_dir(folder)?;
            self.0.push(folder.to_path_buf());
        }
        let mut file = fs::File::options().write(true).create_new(true).open(path)?;
        self.0.push(path.to_path_buf());
        io::Write::write_all(&mut file, PLACEHOLDER.as_bytes())
    }
}

impl Drop for Made {
    fn drop(&mut self) {
        for path in self.0.iter().rev() {
            // A folder that somebody else uses by now stays.
            let _ = if path.is_dir() { fs::remove_dir(path) } else { fs::remove_file(path) };
        }
    }
}
