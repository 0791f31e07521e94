//! Changes as the command line gives them, made on the estate at hand: for `try`.

use crate::complete;
use crate::failure::{Failure, hinted};
use crate::open::{Opened, read};
use crate::print::diagnostics;
use crate::terminal::Terminal;
use bastide_engine::change::{self, Change, ReadError, apply};
use bastide_engine::find;
use bastide_formats::Loaded;
use bastide_formats::write::{self, Newcomer, Overlay, Texts};
use bastide_model::Estate;
use bastide_resolve::{is_light, lay_over};
use bastide_syntax::{FileId, Sources, Span, tree};
use clap::Args;
use std::path::Path;
use std::sync::OnceLock;

/// What to change.
#[derive(Args, Clone, Default, Debug)]
pub struct ChangeArgs {
    /// Switch a rule off, or take an entry out
    #[arg(long, value_name = "RULE", add = complete::statements())]
    pub off: Vec<String>,
    /// Switch a rule on
    #[arg(long, value_name = "RULE", add = complete::statements())]
    pub on_rule: Vec<String>,
    /// Lay policy text over the estate: a rule of a name that is there takes its place; `-` reads standard input
    #[arg(long, value_name = "FILE")]
    pub add: Vec<String>,
    /// Add a user who is not there yet: `id=ID,kind=guest,...`, by the columns of a table of people
    #[arg(long, value_name = "COLUMNS")]
    pub add_user: Vec<String>,
    /// Add a resource that is not there yet: `id=ID,parent=PLACE,kind=KIND,name=NAME,...`, by the columns of a catalog
    #[arg(long, value_name = "COLUMNS")]
    pub add_resource: Vec<String>,
    /// Let a user (or `group:GROUP`) join a group
    #[arg(long, value_name = "USER:GROUP", add = complete::memberships())]
    pub join: Vec<String>,
    /// Take a user (or `group:GROUP`) out of a group
    #[arg(long, value_name = "USER:GROUP", add = complete::memberships())]
    pub leave: Vec<String>,
    /// Set an attribute: `user:ID.ATTRIBUTE=VALUE` or `resource:PATH.ATTRIBUTE=VALUE`; no value takes it away
    #[arg(long, value_name = "WHAT=VALUE")]
    pub set: Vec<String>,
    /// Take an entry out, by its file and line
    #[arg(long, value_name = "ENTRY", add = complete::statements())]
    pub drop: Vec<String>,
    /// Add an entry: subject, modality, actions, place and reach, as in an entries file
    #[arg(long, value_name = "ROW")]
    pub entry: Vec<String>,
    /// Let a rule or an entry apply on other days: `NAME=FROM..UNTIL`
    #[arg(long, value_name = "NAME=DAYS")]
    pub window: Vec<String>,
    /// Let a rule or an entry speak of these actions alone: `NAME=ACTION;ACTION`
    #[arg(long, value_name = "NAME=ACTIONS")]
    pub actions: Vec<String>,
    /// Let a rule make an exception of a user
    #[arg(long, value_name = "RULE:USER")]
    pub except: Vec<String>,
    /// Changes that were made out already, for the estate as it was opened.
    #[arg(skip)]
    pub given: Vec<Change>,
}

/// An estate after changes.
pub struct Changed {
    /// The estate.
    pub estate: Estate,
    /// The changes, resolved against the estate with the policy text laid over.
    pub changes: Vec<Change>,
    /// The estate they are resolved against; none where it is the one at hand.
    pub base: Option<Estate>,
    /// What was laid over, by name.
    pub added: Vec<String>,
    /// Who and what is new.
    pub newcomers: Vec<String>,
}

impl ChangeArgs {
    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        let rows = self.add_user.is_empty() && self.add_resource.is_empty();
        rows && self.texts().all(|(list, _)| list.is_empty()) && self.add.is_empty() && self.given.is_empty()
    }

    fn texts(&self) -> impl Iterator<Item = (&Vec<String>, Reader)> {
        fn off(estate: &Estate, text: &str) -> Result<Change, ReadError> {
            Ok(Change::Off(change::statement(estate, text)?))
        }
        fn on(estate: &Estate, text: &str) -> Result<Change, ReadError> {
            Ok(Change::On(change::statement(estate, text)?))
        }
        let all: [(&Vec<String>, Reader); 10] = [
            (&self.off, off),
            (&self.on_rule, on),
            (&self.drop, off),
            (&self.leave, change::leave),
            (&self.join, change::join),
            (&self.set, change::set),
            (&self.entry, change::give),
            (&self.window, change::window),
            (&self.actions, change::actions),
            (&self.except, change::except),
        ];
        all.into_iter()
    }

    /// The changes that are no policy text, resolved against an estate.
    pub fn changes(&self, estate: &Estate) -> Result<Vec<Change>, Failure> {
        let mut changes = self.given.clone();
        for (list, read) in self.texts() {
            for text in list {
                changes.push(read(estate, text).map_err(Failure::from)?);
            }
        }
        Ok(changes)
    }

    /// Who and what is to be added, by columns. The place of a resource may be named by its path.
    fn newcomers(&self, estate: &Estate) -> Result<Vec<Newcomer>, Failure> {
        let users = self.add_user.iter().map(|text| Ok(Newcomer::User(cells(text, "--add-user")?)));
        let resources = self.add_resource.iter().map(|text| {
            let mut cells = cells(text, "--add-resource")?;
            for (_, place) in cells.iter_mut().filter(|(name, place)| name == "parent" && !place.is_empty()) {
                *place = estate.catalog().id(find::resource(estate, place)?).to_string();
            }
            Ok(Newcomer::Resource(cells))
        });
        users.chain(resources).collect()
    }

    /// The policy texts to lay over.
    pub fn overlays(&self) -> Result<Vec<(String, String)>, Failure> {
        self.add.iter().map(|file| read_text(file)).collect()
    }
}

/// Changes from their options and values, as `try` takes them.
pub fn of_options(estate: &Estate, options: &[[String; 2]]) -> Result<Vec<Change>, Failure> {
    #[derive(clap::Parser)]
    struct Options {
        #[command(flatten)]
        changes: ChangeArgs,
    }
    let words = std::iter::once("try".to_string()).chain(options.iter().map(|[name, value]| format!("{name}={value}")));
    let read = <Options as clap::Parser>::try_parse_from(words).map_err(|error| hinted(error.to_string()))?;
    read.changes.changes(estate)
}

/// Columns and their values: `NAME=VALUE`, parted by commas as in a row of CSV.
fn cells(text: &str, option: &str) -> Result<Vec<(String, String)>, Failure> {
    let wrong = |what: &str| hinted(format!("`{option} {text}` {what}"));
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(text.as_bytes());
    let row = reader.records().next().and_then(Result::ok).ok_or_else(|| wrong("is empty"))?;
    let mut cells: Vec<(String, String)> = Vec::new();
    for cell in &row {
        let (name, value) = cell.split_once('=').ok_or_else(|| wrong("is no list of `NAME=VALUE`"))?;
        if cells.iter().any(|(known, _)| known == name.trim()) {
            return Err(wrong(&format!("names `{}` twice", name.trim())));
        }
        cells.push((name.trim().to_string(), value.trim().to_string()));
    }
    if cells.iter().any(|(name, value)| name == "id" && !value.is_empty()) {
        Ok(cells)
    } else {
        Err(wrong("gives no `id`"))
    }
}

type Reader = fn(&Estate, &str) -> Result<Change, ReadError>;

fn read_text(file: &str) -> Result<(String, String), Failure> {
    if file == "-" {
        // It can be read once; trying and writing both ask for it.
        static READ: OnceLock<Result<String, String>> = OnceLock::new();
        let read = READ.get_or_init(|| std::io::read_to_string(std::io::stdin()).map_err(|e| e.to_string()));
        let text = read.clone().map_err(|e| Failure::Outside(format!("standard input: {e}")))?;
        return Ok(("standard input".to_string(), text));
    }
    let text = std::fs::read_to_string(Path::new(file));
    Ok((file.to_string(), text.map_err(|e| Failure::Outside(format!("`{file}` cannot be read: {e}")))?))
}

/// Texts parsed without mistakes.
pub fn parsed(
    sources: &mut Sources,
    texts: &[(String, String)],
    terminal: &Terminal,
) -> Result<Vec<(FileId, tree::File)>, Failure> {
    let mut trees = Vec::new();
    let mut mistakes = Vec::new();
    for (name, text) in texts {
        let file = sources.add(name.clone(), text.clone());
        let found = bastide_syntax::parse(file, text);
        mistakes.extend(found.diagnostics);
        trees.push((file, found.tree));
    }
    refuse(sources, &mistakes, terminal)?;
    Ok(trees)
}

fn refuse(sources: &Sources, mistakes: &[bastide_syntax::Diagnostic], terminal: &Terminal) -> Result<(), Failure> {
    let errors: Vec<_> = mistakes.iter().filter(|d| d.is_error()).collect();
    if errors.is_empty() { Ok(()) } else { Err(Failure::Estate(diagnostics::report(sources, &errors, terminal))) }
}

/// The estate with policy texts laid over it.
pub fn laid_over(
    opened: &mut Opened,
    root: &Path,
    texts: &[(String, String)],
    terminal: &Terminal,
) -> Result<Option<Estate>, Failure> {
    if texts.is_empty() {
        return Ok(None);
    }
    let trees = parsed(&mut opened.loaded.sources, texts, terminal)?;
    refuse_locked(opened.estate(), trees.iter().map(|(_, tree)| tree))?;
    if !trees.iter().all(|(_, tree)| is_light(tree)) {
        // What names mean may change: everything is read anew.
        let planned = planned(opened, texts, &trees)?;
        let loaded = read(root, &planned)?;
        return match loaded.estate {
            Some(estate) => Ok(Some(estate)),
            None => {
                refuse(&loaded.sources, &loaded.diagnostics, terminal)?;
                Err(Failure::Outside("the estate with the text laid over cannot be read".to_string()))
            }
        };
    }
    let sources = &opened.loaded.sources;
    let files: Vec<String> = (0..sources.len()).map(|i| sources.name(FileId(i as u32)).to_string()).collect();
    let lines = |span: Span| sources.position(span).line;
    let mut estate = opened.estate().clone();
    for (_, tree) in &trees {
        estate = match lay_over(&estate, tree, &files, &lines) {
            Ok(after) => after,
            Err(mistakes) => {
                refuse(sources, &mistakes, terminal)?;
                estate
            }
        };
    }
    Ok(Some(estate))
}

/// The estate with rows added and policy texts laid over it, read anew from the texts that come of it.
fn anew(
    opened: &mut Opened,
    root: &Path,
    mut all: Texts,
    texts: &[(String, String)],
    terminal: &Terminal,
) -> Result<Estate, Failure> {
    let trees = parsed(&mut opened.loaded.sources, texts, terminal)?;
    refuse_locked(opened.estate(), trees.iter().map(|(_, tree)| tree))?;
    let mut loaded = read(root, &all)?;
    if let Some(estate) = loaded.estate.as_ref().filter(|_| !texts.is_empty()) {
        let overlays = overlays(texts, &trees);
        let planned = write::plan(&loaded, estate, &[], &overlays).map_err(|e| Failure::Outside(e.to_string()))?;
        all.extend(planned);
        loaded = read(root, &all)?;
    }
    refuse(&loaded.sources, &loaded.diagnostics, terminal)?;
    loaded.estate.ok_or_else(|| Failure::Outside("the estate with what is added cannot be read".to_string()))
}

fn overlays<'t>(texts: &'t [(String, String)], trees: &'t [(FileId, tree::File)]) -> Vec<Overlay<'t>> {
    texts.iter().zip(trees).map(|((_, text), (_, tree))| Overlay { text, tree }).collect()
}

/// A role that is locked is not changed by a text that is laid over.
fn refuse_locked<'t>(estate: &Estate, trees: impl Iterator<Item = &'t tree::File>) -> Result<(), Failure> {
    for declaration in trees.flat_map(|tree| &tree.declarations) {
        let tree::Declaration::Role(role) = declaration else { continue };
        let known = estate.schema().role(&role.name.text).map(|id| &estate.schema().roles[id.index()]);
        if known.is_some_and(|known| known.locked) {
            let hint = "to change it all the same, take `locked` out of its declaration by hand".to_string();
            return Err(Failure::Usage(
                format!("role `{}` is locked: nothing may change it", role.name.text),
                vec![hint],
            ));
        }
    }
    Ok(())
}

fn planned(opened: &Opened, texts: &[(String, String)], trees: &[(FileId, tree::File)]) -> Result<Texts, Failure> {
    write::plan(&opened.loaded, opened.estate(), &[], &overlays(texts, trees))
        .map_err(|e| Failure::Outside(e.to_string()))
}

/// Makes the changes on a copy of the estate.
pub fn changed(opened: &mut Opened, root: &Path, args: &ChangeArgs, terminal: &Terminal) -> Result<Changed, Failure> {
    let texts = args.overlays()?;
    let newcomers = args.newcomers(opened.estate())?;
    let base = if newcomers.is_empty() {
        laid_over(opened, root, &texts, terminal)?
    } else {
        let rows = write::newcomers(&opened.loaded, opened.estate(), &newcomers);
        Some(anew(opened, root, rows.map_err(|e| Failure::Outside(e.to_string()))?, &texts, terminal)?)
    };
    let from = base.as_ref().unwrap_or(opened.estate());
    let changes = args.changes(from)?;
    let estate = apply(from, &changes).map_err(|(at, error)| {
        let what = change::describe(from, &changes[at]).option.join(" ");
        hinted(format!("`{what}` cannot be done: {error}"))
    })?;
    let named = |newcomer: &Newcomer| {
        let (sort, cells) = match newcomer {
            Newcomer::User(cells) => ("user", cells),
            Newcomer::Resource(cells) => ("resource", cells),
        };
        let id = cells.iter().find(|(name, _)| name == "id").map_or("", |(_, id)| id);
        format!("{sort} {id}")
    };
    let newcomers = newcomers.iter().map(named).collect();
    Ok(Changed { estate, changes, base, added: texts.into_iter().map(|(name, _)| name).collect(), newcomers })
}

/// The new text of every file, and the estate that they give.
pub fn written(
    opened: &mut Opened,
    root: &Path,
    args: &ChangeArgs,
    terminal: &Terminal,
) -> Result<(Texts, Loaded), Failure> {
    let outside = |error: write::WriteError| Failure::Outside(format!("{error}; nothing is written"));
    let texts = args.overlays()?;
    let trees = parsed(&mut opened.loaded.sources, &texts, terminal)?;
    let newcomers = args.newcomers(opened.estate())?;
    let mut all = write::newcomers(&opened.loaded, opened.estate(), &newcomers).map_err(outside)?;
    let with = (!all.is_empty()).then(|| read(root, &all)).transpose()?;
    let with = with.as_ref().unwrap_or(&opened.loaded);
    let estate = with.estate.as_ref().ok_or_else(|| Failure::Outside("the new files cannot be read".to_string()))?;
    all.extend(write::plan(with, estate, &[], &overlays(&texts, &trees)).map_err(outside)?);
    let laid = (!all.is_empty()).then(|| read(root, &all)).transpose()?;
    let base = laid.as_ref().unwrap_or(&opened.loaded);
    let estate = base.estate.as_ref().ok_or_else(|| Failure::Outside("the new files cannot be read".to_string()))?;
    all.extend(write::plan(base, estate, &args.changes(estate)?, &[]).map_err(outside)?);
    let loaded = read(root, &all)?;
    if loaded.estate.is_none() {
        refuse(&loaded.sources, &loaded.diagnostics, terminal)?;
    }
    Ok((all, loaded))
}
