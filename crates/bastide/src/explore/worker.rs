//! What takes time is worked out here, beside the drawing: the newest question of each sort, the most urgent first.

use crate::open::Opened;
use crate::print::text::{count, hang};
use crate::print::{changes, reach, why};
use bastide_engine::access::{self, AccessGrid, GridCell};
use bastide_engine::change::{Change, apply, describe};
use bastide_engine::difference::{difference, radius};
use bastide_engine::prove::{broken_by, prove};
use bastide_engine::remedy::{Wish, remedies};
use bastide_engine::{Cancel, Question, Snapshot, find};
use bastide_model::statement::Sort;
use bastide_model::{ActionId, Estate, Member, Moment, ResourceId, StatementId, UserId};
use bastide_resolve::{is_light, lay_over};
use bastide_syntax::{FileId, Span, parse};
use std::collections::BTreeMap;
use std::sync::mpsc::{Receiver, Sender, TryRecvError};
use std::sync::{Arc, Mutex, PoisonError};

/// So many remedies, matches and findings are listed.
const MOST: usize = 60;

/// A question. The number says which state of the screen it is about.
#[derive(Clone, Debug)]
pub enum Ask {
    /// The estate with these changes, and these rules.
    Change(u64, Vec<Change>, Vec<String>),
    /// The same with a rule that is being written; none: nobody writes.
    Draft(u64, Option<String>, usize),
    /// Who can do what in some places; without users, by profile.
    Grid(u64, Vec<ResourceId>, Option<Vec<UserId>>),
    /// Why somebody can or cannot.
    Cause(u64, UserId, ActionId, ResourceId, usize),
    /// What matches a text.
    Search(u64, String),
    /// What would turn a decision.
    Remedies(u64, UserId, ActionId, ResourceId),
    /// What a rule reaches.
    Reach(u64, StatementId, usize),
    /// What the changes come to.
    Effect(u64),
    /// What is wrong.
    Findings,
    /// Whether all others are answered.
    Mark(u64),
}

impl Ask {
    /// The sorts, the most urgent first: of each the newest is answered.
    fn urgency(&self) -> u8 {
        match self {
            Ask::Change(..) => 0,
            Ask::Draft(..) => 1,
            Ask::Grid(..) => 2,
            Ask::Search(..) => 3,
            Ask::Cause(..) => 4,
            Ask::Remedies(..) => 5,
            Ask::Reach(..) => 6,
            Ask::Effect(..) => 7,
            Ask::Findings => 8,
            Ask::Mark(..) => 9,
        }
    }
}

/// An answer, with the number of its question.
#[derive(Debug)]
pub enum Told {
    /// The changes can be made; or why not.
    Changed(u64, Result<(), String>),
    /// Who can do what.
    Grid(u64, Grid),
    /// What the rule that is being written says and does, word by word; or what is wrong with it.
    Draft(u64, Result<String, String>),
    /// Why: the words, and the statement that decides.
    Cause(u64, String, Option<Decider>),
    /// What matches.
    Found(u64, Vec<Match>),
    /// What would turn a decision: each in words, and the changes.
    Remedies(u64, Vec<(String, Vec<Change>)>),
    /// What a rule reaches.
    Reach(u64, String),
    /// What the changes come to.
    Effect(u64, String, bool),
    /// What is wrong: each in words, and a decision that shows it.
    Findings(Vec<Wrong>),
    /// All others are answered.
    Mark(u64),
}

/// Something that is wrong, in words, and a decision that shows it.
pub type Wrong = (String, Option<(UserId, ActionId, ResourceId)>);

/// The statement that decides.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Decider {
    /// One that stands in the files.
    Known(StatementId),
    /// The entry that the n-th change gives.
    Given(usize),
    /// A rule that was written here.
    Written,
}

/// Something that a search found.
#[derive(Clone, Debug)]
pub enum Match {
    /// A user.
    User(UserId, String),
    /// A place.
    Place(ResourceId, String),
    /// A rule.
    Rule(StatementId, String),
}

impl Match {
    /// How it is shown.
    pub fn words(&self) -> &str {
        match self {
            Match::User(_, words) | Match::Place(_, words) | Match::Rule(_, words) => words,
        }
    }
}

/// A part of the table.
#[derive(Clone, Debug, Default)]
pub struct Grid {
    /// The places.
    pub rows: Vec<ResourceId>,
    /// The users, or the first of each profile, with how many more are in it.
    pub columns: Vec<(UserId, usize)>,
    /// By row and column.
    pub cells: Vec<Vec<GridCell>>,
}

/// What is asked of the estate.
pub struct World {
    /// As it is in the files.
    pub first: Snapshot,
    /// With the changes.
    now: Snapshot,
    /// With the rule that is being written, too.
    draft: Option<Snapshot>,
    moment: Moment,
    opened: Arc<Opened>,
}

impl World {
    /// Of an estate.
    pub fn new(opened: Arc<Opened>, first: Snapshot, moment: Moment) -> World {
        World { now: first.clone(), draft: None, first, moment, opened }
    }

    fn grid(&self, rows: Vec<ResourceId>, users: Option<Vec<UserId>>, question: &Question) -> Grid {
        let profiles = users.is_none();
        let users: Vec<UserId> = users.unwrap_or_else(|| self.now.estate().people().all().collect());
        let states = [&self.first, self.shown()].map(|snapshot| snapshot.clone().cancellable(question));
        let [before, now] = &states;
        let AccessGrid { columns, cells } = access::grid([before, now], &rows, &users, profiles);
        Grid { rows, columns, cells }
    }

    /// Answers a question.
    fn answer(&mut self, ask: Ask, question: &Question) -> Told {
        match ask {
            Ask::Change(number, changes, written) => Told::Changed(number, self.change(&changes, &written)),
            Ask::Draft(number, text, width) => {
                self.draft = None;
                let Some(text) = text else { return Told::Draft(number, Ok(String::new())) };
                Told::Draft(number, self.write(&text, width, question))
            }
            Ask::Grid(number, rows, users) => Told::Grid(number, self.grid(rows, users, question)),
            Ask::Cause(number, user, action, resource, width) => {
                let shown = self.shown();
                let told = shown.explain(user, action, resource);
                let decides = shown.decide(user, action, resource).by.map(|id| self.decider(shown.estate(), id));
                Told::Cause(number, plain(&why::explanation(&told, &[], false, width)), decides)
            }
            Ask::Search(number, text) => Told::Found(number, search(self.now.estate(), &text)),
            Ask::Remedies(number, user, action, resource) => {
                let wanted = !self.now.decide(user, action, resource).is_allowed();
                let wish = Wish { user, action, resource, wanted };
                let snapshot = self.now.clone().cancellable(question);
                let found = remedies(&snapshot, wish, &self.opened.loaded.audit.harmless, 6);
                let estate = self.now.estate();
                let one = |remedy: bastide_engine::remedy::Remedy| {
                    let words: Vec<String> = remedy.changes.iter().map(|change| change.words.clone()).collect();
                    let options = remedy.changes.iter().map(|change| change.option.clone()).collect::<Vec<_>>();
                    let changes = crate::changing::of_options(estate, &options).ok()?;
                    // What a change has given is taken out by taking that change back.
                    let known = self.first.estate().statements().len();
                    if changes.iter().any(|change| statement_of(change).is_some_and(|id| id.index() >= known)) {
                        return None;
                    }
                    Some((format!("{}  ({})", words.join(" and "), changes::sentence(&remedy.radius)), changes))
                };
                Told::Remedies(number, found.list.into_iter().filter_map(one).collect())
            }
            Ask::Reach(number, id, width) => {
                let snapshot = self.now.clone().cancellable(question);
                let told = access::reach(&snapshot, id, false, &self.opened.loaded.audit.harmless, 8);
                let text = told.map_or_else(
                    |_| "decisions would depend on themselves".to_string(),
                    |reached| plain(&reach::reached(&reached, false, false, width)),
                );
                Told::Reach(number, text)
            }
            Ask::Effect(number) => {
                let (first, now) = (self.first.clone().cancellable(question), self.now.clone().cancellable(question));
                let words = changes::sentence(&radius(&difference(&first, &now, None)));
                let held = prove(self.first.estate(), &self.moment, &|_| true);
                let holds = prove(self.now.estate(), &self.moment, &|_| true);
                let broken = match (held, holds) {
                    (Ok(held), Ok(holds)) => broken_by(&held, holds).len(),
                    _ => 0,
                };
                let text = match broken {
                    0 => words,
                    1 => format!("{words}; 1 test would no longer hold"),
                    more => format!("{words}; {more} tests would no longer hold"),
                };
                Told::Effect(number, text, broken > 0)
            }
            Ask::Findings => Told::Findings(self.findings()),
            Ask::Mark(number) => Told::Mark(number),
        }
    }

    /// What is on the screen.
    fn shown(&self) -> &Snapshot {
        self.draft.as_ref().unwrap_or(&self.now)
    }

    /// Which statement one of an estate with changes is.
    fn decider(&self, estate: &Estate, id: StatementId) -> Decider {
        let (statement, known) = (estate.statement(id), self.first.estate().statements());
        let same = |other: &Arc<bastide_model::Statement>| other.sort == statement.sort && other.name == statement.name;
        let rules = known.iter().filter(|other| other.sort == Sort::Rule).count();
        let come = estate.statements().iter().filter(|other| other.sort == Sort::Rule).count() - rules;
        match known.iter().position(same) {
            Some(at) if id.index() < known.len() + come => Decider::Known(StatementId::new(at)),
            None if statement.sort == Sort::Rule => Decider::Written,
            _ => Decider::Given(id.index().saturating_sub(known.len() + come)),
        }
    }

    /// An estate with a rule laid over it.
    fn laid(estate: &Estate, text: &str) -> Result<Estate, String> {
        let file = FileId(estate.files().len() as u32);
        let parsed = parse(file, text);
        let first = |list: &[bastide_syntax::Diagnostic]| list.iter().find(|d| d.is_error()).map(|d| d.message.clone());
        if let Some(wrong) = first(&parsed.diagnostics) {
            return Err(wrong);
        }
        if parsed.tree.declarations.is_empty() || !is_light(&parsed.tree) {
            return Err("a rule is wanted here".to_string());
        }
        let mut files = estate.files().to_vec();
        files.push("not saved yet".to_string());
        let line = |span: Span| text[..span.start as usize].matches('\n').count() as u32 + 1;
        lay_over(estate, &parsed.tree, &files, &line).map_err(|list| first(&list).unwrap_or_default())
    }

    /// Takes up a rule that is being written, and says how it narrows.
    fn write(&mut self, text: &str, width: usize, question: &Question) -> Result<String, String> {
        let estate = Self::laid(self.now.estate(), text)?;
        let circles = |_| "decisions would depend on themselves".to_string();
        let snapshot = self.now.beside(&estate, &self.moment).map_err(circles)?;
        let new = |statement: &Arc<bastide_model::Statement>| {
            self.now.estate().statements().iter().all(|known| !Arc::ptr_eq(known, statement))
        };
        let id = estate.statements().iter().position(new).ok_or("it says what is said already")?;
        self.draft = Some(snapshot.clone());
        let steps = access::narrowed(&snapshot.cancellable(question), StatementId::new(id));
        let one = |(_, step): &(_, access::Narrowing)| {
            format!("{}: {} on {}", step.words, count(step.users, "user"), count(step.resources, "resource"))
        };
        let steps: Vec<String> = steps.iter().skip(1).map(one).collect();
        Ok(plain(&hang("", &steps.join("; "), width)))
    }

    fn change(&mut self, changes: &[Change], written: &[String]) -> Result<(), String> {
        self.draft = None;
        if changes.is_empty() && written.is_empty() {
            self.now = self.first.clone();
            return Ok(());
        }
        let mut estate = apply(self.first.estate(), changes).map_err(|(_, error)| error.to_string())?;
        for text in written {
            estate = Self::laid(&estate, text)?;
        }
        let circles = |_| "decisions would depend on themselves".to_string();
        self.now = self.first.beside(&estate, &self.moment).map_err(circles)?;
        Ok(())
    }

    fn findings(&self) -> Vec<Wrong> {
        let Ok(case) = crate::commands::audit::case(&self.opened.loaded, &self.moment) else { return Vec::new() };
        let Ok(survey) = bastide_audit::Survey::new(&case) else { return Vec::new() };
        let found = bastide_audit::audit_by(&case, &survey, &|_| true, &|_| {});
        let estate = self.first.estate();
        let one = |finding: bastide_audit::Finding| {
            let example = finding.example.as_ref().and_then(|example| {
                let action = find::action(estate, &example.action).ok()?;
                Some((estate.people().find(&example.user)?, action, estate.catalog().find(&example.resource)?))
            });
            (format!("{} {}: {}", finding.level.word(), finding.name, finding.message), example)
        };
        found.into_iter().filter(|finding| finding.waived.is_none()).map(one).collect()
    }
}

/// The statement that a change is about.
fn statement_of(change: &Change) -> Option<StatementId> {
    match change {
        Change::Off(id) | Change::On(id) | Change::Window(id, ..) | Change::Actions(id, _) | Change::Except(id, _) => {
            Some(*id)
        }
        Change::Join(..) | Change::Leave(..) | Change::User(..) | Change::Resource(..) | Change::Give(_) => None,
    }
}

/// Users, places and rules whose id or name holds a text.
fn search(estate: &Estate, text: &str) -> Vec<Match> {
    let text = text.to_lowercase();
    if text.is_empty() {
        return Vec::new();
    }
    let holds = |name: &str| name.to_lowercase().contains(&text);
    let people = estate.people();
    let users = people.all().filter(|u| holds(people.id(*u)) || holds(people.name(*u)));
    let users = users.take(MOST).map(|u| Match::User(u, format!("user   {}  {}", people.id(u), people.name(u))));
    let catalog = estate.catalog();
    let places = catalog.all().filter(|r| holds(catalog.name(*r)) || holds(catalog.id(*r)));
    let places = places.take(MOST).map(|r| Match::Place(r, format!("place  {}", catalog.path(r))));
    let rules = StatementId::all(estate.statements().len()).filter(|id| holds(&estate.statement(*id).name));
    let rules = rules.take(MOST).map(|id| Match::Rule(id, format!("rule   {}", estate.statement(id).name)));
    users.chain(places).chain(rules).take(MOST).collect()
}

/// Without colours: the screen has its own.
fn plain(text: &str) -> String {
    bastide_rows::text::plain(text).into_owned()
}

/// A change in words, and as an option of `try`.
pub fn told(estate: &Estate, change: &Change) -> (String, [String; 2]) {
    let described = describe(estate, change);
    (described.words, described.option)
}

/// The groups that a user could join, or is directly in.
pub fn groups(estate: &Estate, user: UserId, joined: bool) -> Vec<(String, Change)> {
    let groups = estate.groups();
    let plain = groups.all().filter(|group| groups.computed(*group).is_none());
    let is_in = |group: &bastide_model::GroupId| groups.direct(user).contains(group);
    let member = Member::User(user);
    plain
        .filter(|group| is_in(group) == joined)
        .map(|group| {
            let change = if joined { Change::Leave(member, group) } else { Change::Join(member, group) };
            (groups.id(group).to_string(), change)
        })
        .collect()
}

/// What a question is stopped by; another one for each.
pub type Stop = Arc<Mutex<Cancel>>;

/// Stops the question at hand.
pub fn stop(of: &Stop) {
    of.lock().unwrap_or_else(PoisonError::into_inner).cancel();
}

/// Answers questions until nobody asks any more.
pub fn work(mut world: World, asks: &Receiver<Ask>, answers: &Sender<Told>, stops: &Stop) {
    let mut pending: BTreeMap<u8, Ask> = BTreeMap::new();
    loop {
        if pending.is_empty() {
            match asks.recv() {
                Ok(ask) => drop(pending.insert(ask.urgency(), ask)),
                Err(_) => return,
            }
        }
        loop {
            match asks.try_recv() {
                Ok(ask) => drop(pending.insert(ask.urgency(), ask)),
                Err(TryRecvError::Empty) => break,
                Err(TryRecvError::Disconnected) => return,
            }
        }
        let cancel = Cancel::default();
        *stops.lock().unwrap_or_else(PoisonError::into_inner) = cancel.clone();
        let Some((urgency, ask)) = pending.pop_first() else { continue };
        match cancel.ask(|question| world.answer(ask.clone(), question)) {
            Ok(told) => {
                if answers.send(told).is_err() {
                    return;
                }
            }
            // It was stopped by another one: it is asked again, unless that one takes its place.
            Err(_) => {
                pending.entry(urgency).or_insert(ask);
            }
        }
    }
}
