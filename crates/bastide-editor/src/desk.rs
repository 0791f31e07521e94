//! One estate in the editor: what is known of it, as of which texts.

use crate::documents::{Documents, uri_of};
use crate::lines::{Encoding, Lines};
use bastide_audit::Finding;
use bastide_engine::access::{Reaches, reaches};
use bastide_engine::change::{Change, apply};
use bastide_engine::difference::{difference, radius};
use bastide_engine::{Cancel, Cancelled, ReferenceEvaluator, Snapshot, advice};
use bastide_formats::resident::Resident;
use bastide_formats::write::Texts;
use bastide_formats::{Loaded, resident};
use bastide_model::statement::Sort;
use bastide_model::{Estate, Moment, StatementId};
use bastide_resolve::Draft;
use bastide_syntax::{Diagnostic, FileId, Sources, Span};
use jiff::civil::Date;
use lsp_types::Uri;
use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What has changed since the estate was last read.
#[derive(Default)]
enum Stale {
    /// Nothing.
    #[default]
    Not,
    /// These texts, by their path in the estate.
    Texts(BTreeSet<String>),
    /// Anything.
    All,
}

/// What is found out while nobody waits.
#[derive(Default)]
pub struct Later {
    /// What is wrong with the estate at its moment, or what there is to say of it then.
    pub advice: Option<Vec<Diagnostic>>,
    /// The same of the texts before, as far as it stands in files that have not changed: it is taken for so until it is known,
    /// so that what is told does not come and go with every letter.
    before: Vec<Diagnostic>,
    /// By statement what it reaches.
    pub reaches: Option<Vec<Reaches>>,
    /// By statement how many triples are solely its doing.
    pub solely: Option<Vec<Option<u64>>>,
    /// Where that cannot be told for all at once, the rule for which it is asked next.
    singly: Option<usize>,
    /// What the audit finds.
    pub findings: Option<Vec<Finding>>,
}

/// What can be found out next.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Step {
    /// [`Later::advice`]
    Advice,
    /// [`Later::reaches`]
    Reaches,
    /// [`Later::solely`]
    Solely,
    /// The same, of one rule.
    SolelyOf(StatementId),
    /// [`Later::findings`]
    Findings,
}

/// An estate.
pub struct Desk {
    /// Its folder.
    pub root: PathBuf,
    stale: Stale,
    resident: Option<Resident>,
    /// The texts that it was read with, in the place of files.
    overlay: Texts,
    /// Why it could not be read at all.
    pub refused: Option<String>,
    snapshot: OnceCell<Option<Snapshot>>,
    /// The last one that could be made out, for whatever is offered while the present text is broken.
    last: Option<Estate>,
    /// What is found out while nobody waits.
    pub later: Later,
    /// Counts how often anything has changed.
    pub generation: u64,
    /// The files that something was published for.
    pub published: BTreeMap<String, String>,
}

/// Files whose text an editor may hold.
fn is_text(name: &str) -> bool {
    [".bastide", ".toml", ".csv", ".jsonl", ".json", ".ldif"].iter().any(|ending| name.ends_with(ending))
}

impl Desk {
    /// Of a folder, not read yet.
    pub fn new(root: &Path) -> Desk {
        Desk {
            root: root.to_path_buf(),
            stale: Stale::All,
            resident: None,
            overlay: Texts::new(),
            refused: None,
            snapshot: OnceCell::new(),
            last: None,
            later: Later::default(),
            generation: 0,
            published: BTreeMap::new(),
        }
    }

    /// A text has changed; none: anything may have.
    pub fn touch(&mut self, name: Option<String>) {
        self.stale = match (std::mem::take(&mut self.stale), name) {
            (Stale::All, _) | (_, None) => Stale::All,
            (Stale::Not, Some(name)) => Stale::Texts(BTreeSet::from([name])),
            (Stale::Texts(mut names), Some(name)) => {
                names.insert(name);
                Stale::Texts(names)
            }
        };
    }

    /// Whether it has to be read before anything is said of it.
    pub fn is_stale(&self) -> bool {
        !matches!(self.stale, Stale::Not)
    }

    /// Whether a file that was read is another one by now.
    pub fn has_changed_outside(&self) -> bool {
        self.resident.as_ref().and_then(|r| r.loaded.folder.as_ref()).is_some_and(|folder| folder.changed().is_some())
    }

    /// Reads it, with the open texts in the place of files. Cost: the policy where rules alone have changed, else everything.
    pub fn read(&mut self, documents: &Documents, today: Date) {
        let stale = std::mem::take(&mut self.stale);
        if matches!(stale, Stale::Not) {
            return;
        }
        self.generation += 1;
        self.snapshot = OnceCell::new();
        let before = std::mem::take(&mut self.later);
        let open = || documents.of(&self.root).filter_map(|d| Some((d.name()?, d.text.clone())));
        if let (Stale::Texts(names), Some(resident)) = (stale, &mut self.resident) {
            let texts: Vec<(String, String)> = open().filter(|(name, _)| names.contains(name)).collect();
            // A text that is closed by now counts as the file says.
            if texts.len() == names.len() && resident.write(&texts) {
                let changed: Vec<FileId> =
                    texts.iter().filter_map(|(name, _)| resident.loaded.sources.find(name)).collect();
                let stands = |one: &Diagnostic| one.place.is_some_and(|place| !changed.contains(&place.file));
                self.later.before = before.advice.unwrap_or(before.before).into_iter().filter(stands).collect();
                self.overlay.extend(texts);
                self.keep();
                return;
            }
        }
        let texts: Texts = open().filter(|(name, _)| is_text(name)).collect();
        self.overlay = texts.clone();
        self.resident = None;
        match resident(&self.root, &texts, today) {
            Ok(resident) => (self.resident, self.refused) = (Some(resident), None),
            Err(refused) => self.refused = Some(refused.to_string()),
        }
        self.keep();
    }

    fn keep(&mut self) {
        if let Some(draft) = self.resident.as_ref().and_then(Resident::draft).filter(|draft| draft.sound) {
            self.last = Some(draft.estate.clone());
        }
    }

    /// The texts that it was read with, in the place of files.
    pub fn overlay(&self) -> Texts {
        self.overlay.clone()
    }

    /// What was read.
    pub fn loaded(&self) -> Option<&Loaded> {
        self.resident.as_ref().map(|resident| &resident.loaded)
    }

    /// The texts.
    pub fn sources(&self) -> Option<&Sources> {
        self.loaded().map(|loaded| &loaded.sources)
    }

    /// The trees of the policy files.
    pub fn trees(&self) -> &[bastide_syntax::tree::File] {
        self.resident.as_ref().map_or(&[], Resident::trees)
    }

    /// The estate as far as it could be typed.
    pub fn draft(&self) -> Option<&Draft> {
        self.resident.as_ref().and_then(Resident::draft)
    }

    /// Names to look things up by: the present ones, or the last that made sense.
    pub fn names(&self) -> Option<&Estate> {
        self.draft().filter(|draft| draft.sound).map(|draft| &draft.estate).or(self.last.as_ref())
    }

    /// The estate at a moment, where whatever is wrong takes nothing but itself away. None too where decisions would depend on
    /// themselves.
    pub fn snapshot(&self, today: Date) -> Option<&Snapshot> {
        let make = || {
            let draft = self.draft().filter(|draft| draft.sound)?;
            Snapshot::new(&draft.estate, &Moment::on(today, draft.estate.schema())).ok()
        };
        self.snapshot.get_or_init(make).as_ref()
    }

    /// Whether nothing is wrong.
    pub fn is_whole(&self) -> bool {
        self.draft().is_some_and(|draft| draft.whole)
    }

    /// What there is to say of the estate at its moment, as far as it is known.
    pub fn advice(&self) -> &[Diagnostic] {
        match &self.later.advice {
            Some(advice) => advice,
            None if self.is_whole() => &self.later.before,
            None => &[],
        }
    }

    /// Whether what rules reach is still being found out.
    pub fn later_is_open(&self) -> bool {
        matches!(self.next(false), Some(Step::Reaches | Step::Solely | Step::SolelyOf(_) | Step::Advice))
    }

    /// What can be found out next, if anything.
    pub fn next(&self, audits: bool) -> Option<Step> {
        let draft = self.draft().filter(|draft| draft.sound && !self.is_stale())?;
        let later = &self.later;
        match () {
            () if later.advice.is_none() && draft.whole => Some(Step::Advice),
            () if later.reaches.is_none() => Some(Step::Reaches),
            () if later.solely.is_none() && draft.whole => Some(Step::Solely),
            () if later.singly.is_some() => later.singly.map(|at| Step::SolelyOf(StatementId::new(at))),
            () if later.findings.is_none() && draft.whole && audits => Some(Step::Findings),
            () => None,
        }
    }

    /// Finds it out.
    ///
    /// # Errors
    /// Somebody waits, and it is given up.
    pub fn find_out(
        &mut self,
        step: Step,
        today: Date,
        cancel: &Cancel,
        audit: &dyn Fn(&Loaded, &Moment) -> Vec<Finding>,
    ) -> Result<(), Cancelled> {
        let Some(draft) = self.draft() else { return Ok(()) };
        let moment = Moment::on(today, draft.estate.schema());
        match step {
            Step::Advice => {
                let found = cancel.ask(|_| match ReferenceEvaluator::new(&draft.estate, &moment) {
                    Ok(reference) => advice::missing_in_restrictions(&reference),
                    Err(circles) => circles,
                })?;
                self.later.advice = Some(found);
            }
            Step::Reaches => {
                let found = cancel.ask(|question| {
                    self.snapshot(today).map(|snapshot| reaches(&snapshot.clone().cancellable(question)))
                })?;
                self.later.reaches = Some(found.unwrap_or_default());
            }
            Step::Solely => {
                let found = cancel.ask(|question| {
                    let snapshot = self.snapshot(today)?.clone().cancellable(question);
                    let all = snapshot.estate().catalog().len() as u32;
                    snapshot.alone(bastide_engine::access::shares(all as usize, 1 << 12), None)
                })?;
                let count = self.draft().map_or(0, |draft| draft.estate.statements().len());
                match found {
                    Some(all) => {
                        self.later.solely =
                            Some(all.into_iter().map(|alone| Some(alone.gained + alone.lost)).collect());
                    }
                    None => {
                        self.later.solely = Some(vec![None; count]);
                        self.later.singly = self.rule_from(0);
                    }
                }
            }
            Step::SolelyOf(id) => {
                let found = cancel.ask(|question| {
                    let snapshot = self.snapshot(today)?.clone().cancellable(question);
                    let gone = apply(snapshot.estate(), &[Change::Off(id)]).ok()?;
                    let without = snapshot.beside(&gone, &moment).ok()?;
                    Some(radius(&difference(&snapshot, &without, None)).triples())
                })?;
                if let Some(solely) = &mut self.later.solely {
                    solely[id.index()] = found;
                }
                self.later.singly = self.rule_from(id.index() + 1);
            }
            Step::Findings => {
                let Some(loaded) = self.loaded() else { return Ok(()) };
                let found = cancel.ask(|_| audit(loaded, &moment))?;
                self.later.findings = Some(found);
            }
        }
        Ok(())
    }

    /// The next rule from a statement on: entries have no line above them.
    fn rule_from(&self, from: usize) -> Option<usize> {
        let statements = self.draft()?.estate.statements();
        (from..statements.len()).find(|at| statements[*at].sort == Sort::Rule)
    }

    /// The rule of a name, among the statements.
    pub fn rule(&self, name: &str) -> Option<StatementId> {
        let estate = &self.draft()?.estate;
        let is = |s: &Arc<bastide_model::Statement>| s.sort == Sort::Rule && s.name == name;
        estate.statements().iter().position(is).map(StatementId::new)
    }

    /// The file of a path within the estate.
    pub fn file(&self, name: &str) -> Option<FileId> {
        self.sources()?.find(name)
    }

    /// A client's name for a file of the estate.
    pub fn uri(&self, file: FileId) -> Option<Uri> {
        let sources = self.sources()?;
        if sources.is_hidden(file) {
            return None;
        }
        uri_of(&self.root.join(sources.name(file)))
    }

    /// Where something stands, for a client. None where no client is shown it.
    pub fn location(&self, span: Span, encoding: Encoding) -> Option<lsp_types::Location> {
        let text = self.sources()?.text(span.file);
        let range = Lines::new(text, encoding).range(text, span.range());
        Some(lsp_types::Location { uri: self.uri(span.file)?, range })
    }
}
