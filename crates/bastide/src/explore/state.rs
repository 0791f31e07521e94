//! What is on the screen, and what each key makes of it. Nothing is drawn here, and nothing worked out that takes time.

use super::worker::{Ask, Decider, Grid, Match, Told, groups, told};
use bastide_editor::{Offered, offered_in};
use bastide_engine::access::GridCell;
use bastide_engine::change::Change;
use bastide_model::{ActionId, Estate, ResourceId, StatementId, UserId};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use std::collections::HashSet;

/// A row of the tree.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Row {
    /// The place.
    pub resource: ResourceId,
    /// How deep it lies.
    pub depth: u16,
}

/// Something to choose from, by typing a part of it.
pub struct Chooser {
    /// What is chosen.
    pub title: String,
    /// What was typed.
    pub typed: String,
    /// What there is to choose from, in words.
    pub items: Vec<(String, Choice)>,
    /// Which one the cursor is on, of those that fit.
    pub at: usize,
    /// Whether what is typed is searched for elsewhere.
    searches: bool,
    /// Whether the first thing that is found is chosen: whoever typed ahead has chosen before it was there.
    waits: bool,
}

/// What a choice comes to.
#[derive(Clone, Debug)]
pub enum Choice {
    /// Go there.
    Go(Match),
    /// Make these changes.
    Make(Vec<Change>),
    /// Take one of the changes back.
    Back(usize),
    /// Take a rule back that was written.
    Unwrite(usize),
    /// Go to a decision.
    Decision(UserId, ActionId, ResourceId),
    /// Nothing can be done about it.
    Nothing,
}

impl Chooser {
    /// Those that fit what was typed.
    pub fn fitting(&self) -> impl Iterator<Item = &(String, Choice)> {
        let typed = if self.searches { String::new() } else { self.typed.to_lowercase() };
        self.items.iter().filter(move |(words, _)| words.to_lowercase().contains(&typed))
    }
}

/// A rule that is being written.
#[derive(Default)]
pub struct Field {
    /// How it is called where it is not given a name.
    name: String,
    /// Its clauses, or a whole rule.
    pub text: String,
    /// What it says and does, or what is wrong with it; empty while that is not known.
    pub told: String,
    /// Whether nothing is wrong with it.
    pub fine: bool,
    /// What could stand at its end.
    pub offers: Vec<Offered>,
}

impl Field {
    /// How it begins, where what is typed are its clauses alone.
    fn begins(&self) -> String {
        if self.text.trim_start().starts_with("rule ") { String::new() } else { format!("rule {} {{ ", self.name) }
    }

    /// The whole rule.
    pub fn rule(&self) -> String {
        let begins = self.begins();
        let ends = if begins.is_empty() { "" } else { " }" };
        format!("{begins}{}{ends}", self.text)
    }

    /// What could stand at the end, by the names of an estate.
    fn offer(&mut self, estate: &Estate) {
        let begun = self.begins();
        let whole = format!("{begun}{}", self.text);
        self.offers = offered_in(estate, &whole, whole.len());
        for one in &mut self.offers {
            one.range = one.range.start.saturating_sub(begun.len())..one.range.end.saturating_sub(begun.len());
        }
    }
}

/// What the keys act on.
pub enum Mode {
    /// The table.
    Table,
    /// A rule that is being written.
    Writing(Field),
    /// A list to choose from.
    Choosing(Chooser),
    /// The keys.
    Help,
}

/// What the loop outside has to do.
pub enum Wish {
    /// Leave.
    Quit,
    /// Save the changes, which options of `try` name; far-reaching ones, too, where that was said.
    Save(Vec<[String; 2]>, bool),
}

/// All that is on the screen.
pub struct State {
    /// The estate as it is in the files; names are looked up here.
    pub estate: Estate,
    /// The rows of the tree that are open.
    pub rows: Vec<Row>,
    open: HashSet<ResourceId>,
    /// The first row that is shown, and the one with the cursor.
    pub top: usize,
    /// The row with the cursor.
    pub at: usize,
    /// The first column that is shown.
    pub left: usize,
    /// The column with the cursor.
    pub column: usize,
    /// Whether users with the same access share a column.
    pub profiles: bool,
    /// The action that is explained.
    pub action: usize,
    /// The changes.
    pub changes: Vec<Change>,
    /// The rules that were written.
    pub written: Vec<String>,
    /// For each of them, how many changes there were before it.
    before: Vec<usize>,
    /// How many rows and columns there is room for.
    pub room: (usize, usize),
    /// How wide the explanation is.
    pub width: usize,
    /// What is known of the table.
    pub grid: Grid,
    /// Whether it is about what is shown.
    pub fresh: bool,
    /// The explanation.
    pub cause: Option<String>,
    /// The statement that decides.
    decides: Option<Decider>,
    /// How far the explanation is scrolled.
    pub scrolled: usize,
    /// What the changes come to, and whether a test fails.
    pub effect: Option<(String, bool)>,
    /// What there is to say.
    pub said: String,
    /// What the keys act on.
    pub mode: Mode,
    /// Counts the states of the screen: an answer about another one is of no use.
    number: u64,
    changed: u64,
    /// The search whose answer is waited for.
    searched: u64,
    /// The last one that was answered.
    found: u64,
    asks: Vec<Ask>,
}

impl State {
    /// The first screen.
    pub fn new(estate: Estate) -> State {
        let mut state = State {
            estate,
            rows: Vec::new(),
            open: HashSet::new(),
            top: 0,
            at: 0,
            left: 0,
            column: 0,
            profiles: true,
            action: 0,
            changes: Vec::new(),
            written: Vec::new(),
            before: Vec::new(),
            room: (1, 1),
            width: 80,
            grid: Grid::default(),
            fresh: false,
            cause: None,
            decides: None,
            scrolled: 0,
            effect: None,
            said: String::new(),
            mode: Mode::Table,
            number: 0,
            changed: 0,
            searched: 0,
            found: 0,
            asks: Vec::new(),
        };
        state.lay_rows();
        state
    }

    /// The questions that have come up.
    pub fn take_asks(&mut self) -> Vec<Ask> {
        std::mem::take(&mut self.asks)
    }

    /// The screen has room for so many rows and columns, and so wide an explanation.
    pub fn resized(&mut self, rows: usize, columns: usize, width: usize) {
        if (rows, columns, width) != (self.room.0, self.room.1, self.width) {
            (self.room, self.width) = ((rows, columns), width);
            self.look();
        }
    }

    /// Walks the tree as far as it is open.
    fn lay_rows(&mut self) {
        let catalog = self.estate.catalog();
        self.rows.clear();
        let mut waiting: Vec<ResourceId> = catalog.roots().collect();
        waiting.reverse();
        while let Some(resource) = waiting.pop() {
            self.rows.push(Row { resource, depth: catalog.depth(resource) });
            if self.open.contains(&resource) {
                let from = waiting.len();
                waiting.extend(catalog.children(resource));
                waiting[from..].reverse();
            }
        }
    }

    /// Whether what lies beneath a place is shown.
    pub fn is_open(&self, resource: ResourceId) -> bool {
        self.open.contains(&resource)
    }

    /// The rows that are shown.
    pub fn shown(&self) -> &[Row] {
        &self.rows[self.top.min(self.rows.len())..(self.top + self.room.0).min(self.rows.len())]
    }

    /// The users that are shown, by position among all of them; of profiles nobody knows before they are worked out.
    fn shown_users(&self) -> Option<Vec<UserId>> {
        let all = self.estate.people().len();
        (!self.profiles).then(|| (self.left..(self.left + self.room.1).min(all)).map(UserId::new).collect())
    }

    /// How many columns there are.
    fn columns(&self) -> usize {
        if self.profiles { self.grid.columns.len() } else { self.estate.people().len() }
    }

    /// What stands in a row and a column of those that are shown, where it is known.
    pub fn cell(&self, row: usize, column: usize) -> Option<&GridCell> {
        let resource = self.shown().get(row)?.resource;
        let at = self.grid.rows.iter().position(|known| *known == resource)?;
        self.grid.cells[at].get(self.grid_column(column)?)
    }

    /// Which column of what is known stands at a column of the screen.
    fn grid_column(&self, column: usize) -> Option<usize> {
        if self.profiles {
            return (self.left + column < self.grid.columns.len()).then_some(self.left + column);
        }
        let user = UserId::new(self.left + column);
        self.grid.columns.iter().position(|(known, _)| *known == user)
    }

    /// Whose column stands at a column of the screen, and how many more are in it.
    pub fn whose(&self, column: usize) -> Option<(UserId, usize)> {
        if self.profiles {
            return self.grid.columns.get(self.left + column).copied();
        }
        let user = self.left + column;
        (user < self.estate.people().len()).then(|| (UserId::new(user), 0))
    }

    /// The user under the cursor.
    pub fn user(&self) -> Option<UserId> {
        self.whose(self.column.checked_sub(self.left)?).map(|(user, _)| user)
    }

    /// The place under the cursor.
    pub fn resource(&self) -> Option<ResourceId> {
        self.rows.get(self.at).map(|row| row.resource)
    }

    fn next(&mut self) -> u64 {
        self.number += 1;
        self.number
    }

    /// The table and the explanation are asked for anew.
    fn look(&mut self) {
        let (rows, columns) = self.room;
        self.at = self.at.min(self.rows.len().saturating_sub(1));
        self.top = self.top.min(self.at).max((self.at + 1).saturating_sub(rows.max(1)));
        self.column = self.column.min(self.columns().saturating_sub(1));
        self.left = self.left.min(self.column).max((self.column + 1).saturating_sub(columns.max(1)));
        let number = self.next();
        self.fresh = false;
        let resources = self.shown().iter().map(|row| row.resource).collect();
        let users = self.shown_users();
        self.asks.push(Ask::Grid(number, resources, users));
        self.explain();
    }

    fn explain(&mut self) {
        (self.cause, self.decides, self.scrolled) = (None, None, 0);
        if let (Some(user), Some(resource)) = (self.user(), self.resource()) {
            let action = ActionId::new(self.action);
            self.asks.push(Ask::Cause(self.number, user, action, resource, self.width));
        }
    }

    /// The changes have changed.
    fn change(&mut self) {
        self.effect = None;
        self.changed = self.next();
        self.asks.push(Ask::Change(self.changed, self.changes.clone(), self.written.clone()));
        if self.pending() > 0 {
            self.asks.push(Ask::Effect(self.changed));
        }
        self.look();
    }

    /// How many changes are not saved, rules that were written among them.
    pub fn pending(&self) -> usize {
        self.changes.len() + self.written.len()
    }

    /// Takes a rule back that was written.
    fn unwritten(&mut self, at: usize) -> bool {
        self.before.remove(at);
        self.written.remove(at);
        true
    }

    /// Makes changes. One that another one undoes goes with it.
    fn make(&mut self, changes: Vec<Change>) {
        let opposite = |change: &Change| match change {
            Change::Off(id) => Some(Change::On(*id)),
            Change::On(id) => Some(Change::Off(*id)),
            Change::Join(member, group) => Some(Change::Leave(*member, *group)),
            Change::Leave(member, group) => Some(Change::Join(*member, *group)),
            _ => None,
        };
        // Changes are one and the same where they are the same option.
        let find = |all: &[Change], wanted: &Change| {
            let wanted = told(&self.estate, wanted).1;
            all.iter().position(|known| told(&self.estate, known).1 == wanted)
        };
        for change in changes {
            match opposite(&change).and_then(|other| find(&self.changes, &other)) {
                Some(at) => drop(self.changes.remove(at)),
                None if find(&self.changes, &change).is_some() => {}
                None => self.changes.push(change),
            }
        }
        self.change();
    }

    /// An answer came.
    pub fn told(&mut self, told: Told) {
        match told {
            Told::Changed(number, Err(why)) if number == self.changed => {
                if self.changes.pop().is_none() && !self.written.is_empty() {
                    self.unwritten(self.written.len() - 1);
                }
                self.said = format!("that cannot be done: {why}");
                self.change();
            }
            Told::Grid(number, grid) if number == self.number => {
                let of_profiles = self.profiles && self.column >= grid.columns.len();
                (self.grid, self.fresh) = (grid, true);
                if of_profiles {
                    self.column = self.columns().saturating_sub(1);
                    self.left = self.left.min(self.column);
                }
                if self.cause.is_none() {
                    self.explain();
                }
            }
            Told::Cause(number, cause, decides) if number == self.number => {
                (self.cause, self.decides) = (Some(cause), decides);
            }
            Told::Found(number, found) => {
                if let (true, Mode::Choosing(chooser)) = (number == self.searched, &mut self.mode) {
                    chooser.items = found.into_iter().map(|one| (one.words().to_string(), Choice::Go(one))).collect();
                    chooser.at = 0;
                    let first = chooser.items.first().map(|(_, choice)| choice.clone());
                    if let (true, Some(choice)) = (std::mem::take(&mut chooser.waits), first) {
                        self.mode = Mode::Table;
                        self.chosen(choice);
                    }
                }
                self.found = self.found.max(number);
            }
            Told::Remedies(number, found) if number == self.number => {
                let items: Vec<(String, Choice)> =
                    found.into_iter().map(|(words, changes)| (words, Choice::Make(changes))).collect();
                self.choose("what would turn it", items);
            }
            Told::Draft(number, said) if number == self.number => {
                if let Mode::Writing(field) = &mut self.mode {
                    field.fine = said.is_ok();
                    field.told = said.unwrap_or_else(|wrong| wrong);
                }
            }
            Told::Reach(number, text) if number == self.number => self.cause = Some(text),
            Told::Effect(number, text, broken) if number == self.changed => self.effect = Some((text, broken)),
            // What is wrong takes long to find, and is about no place: whoever went on meanwhile is shown it, too.
            Told::Findings(found) if matches!(self.mode, Mode::Table) => {
                let choice = |example: Option<(UserId, ActionId, ResourceId)>| match example {
                    Some((user, action, resource)) => Choice::Decision(user, action, resource),
                    None => Choice::Nothing,
                };
                let items = found.into_iter().map(|(words, example)| (words, choice(example))).collect();
                self.choose("what is wrong", items);
            }
            // It is about another state of the screen.
            _ => {}
        }
    }

    fn choose(&mut self, title: &str, items: Vec<(String, Choice)>) {
        if items.is_empty() {
            self.said = format!("{title}: nothing");
            self.mode = Mode::Table;
            return;
        }
        let (title, typed) = (title.to_string(), String::new());
        self.mode = Mode::Choosing(Chooser { title, typed, items, at: 0, searches: false, waits: false });
    }

    /// A key was pressed.
    pub fn key(&mut self, key: KeyEvent) -> Option<Wish> {
        self.said.clear();
        if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
            return Some(Wish::Quit);
        }
        // So that tests see what becomes of the terminal; programs that are released have no such key.
        #[cfg(debug_assertions)]
        assert!(key.code != KeyCode::F(12), "a fault that was asked for");
        match &mut self.mode {
            Mode::Help => self.mode = Mode::Table,
            Mode::Choosing(_) => self.choosing(key),
            Mode::Writing(_) => self.writing(key),
            Mode::Table => return self.table(key),
        }
        None
    }

    fn writing(&mut self, key: KeyEvent) {
        let Mode::Writing(field) = &mut self.mode else { return };
        match key.code {
            KeyCode::Esc => {
                self.mode = Mode::Table;
                self.draft(None);
                return;
            }
            KeyCode::Enter if field.fine && !field.text.is_empty() => {
                let rule = field.rule();
                self.mode = Mode::Table;
                self.written.push(rule);
                self.before.push(self.changes.len());
                self.change();
                return;
            }
            KeyCode::Enter => {
                self.said = "it is not a whole rule yet".to_string();
                return;
            }
            KeyCode::Tab => {
                let Some(first) = field.offers.first().cloned() else { return };
                let end = first.range.end.min(field.text.len());
                field.text.replace_range(first.range.start.min(end)..end, &first.text);
            }
            KeyCode::Char(c) => field.text.push(c),
            KeyCode::Backspace => drop(field.text.pop()),
            _ => return,
        }
        (field.fine, field.told) = (false, String::new());
        field.offer(&self.estate);
        let rule = field.rule();
        self.draft(Some(rule));
    }

    /// What is being written has changed: the table shows what it would open or shut.
    fn draft(&mut self, rule: Option<String>) {
        self.look();
        // The draft comes first: the table is worked out with it.
        self.asks.insert(0, Ask::Draft(self.number, rule, self.width));
    }

    fn choosing(&mut self, key: KeyEvent) {
        let Mode::Choosing(chooser) = &mut self.mode else { return };
        let last = chooser.fitting().count().saturating_sub(1);
        match key.code {
            KeyCode::Esc => self.mode = Mode::Table,
            KeyCode::Up => chooser.at = chooser.at.saturating_sub(1),
            KeyCode::Down => chooser.at = (chooser.at + 1).min(last),
            KeyCode::Enter if chooser.searches && self.found < self.searched => chooser.waits = true,
            KeyCode::Enter => {
                let chosen = chooser.fitting().nth(chooser.at).map(|(_, choice)| choice.clone());
                self.mode = Mode::Table;
                if let Some(choice) = chosen {
                    self.chosen(choice);
                }
            }
            KeyCode::Char(_) | KeyCode::Backspace => {
                match key.code {
                    KeyCode::Char(c) => chooser.typed.push(c),
                    _ => drop(chooser.typed.pop()),
                }
                (chooser.at, chooser.waits) = (0, false);
                if chooser.searches {
                    self.searched += 1;
                    self.asks.push(Ask::Search(self.searched, chooser.typed.clone()));
                }
            }
            _ => {}
        }
    }

    fn chosen(&mut self, choice: Choice) {
        match choice {
            Choice::Go(Match::User(user, _)) => {
                (self.profiles, self.column, self.left) = (false, user.index(), user.index());
                self.look();
            }
            Choice::Go(Match::Place(resource, _)) => self.show(resource),
            Choice::Go(Match::Rule(id, _)) => {
                self.cause = None;
                self.asks.push(Ask::Reach(self.number, id, self.width));
            }
            Choice::Make(changes) => self.make(changes),
            Choice::Back(at) => {
                self.changes.remove(at);
                self.change();
            }
            Choice::Unwrite(at) => {
                self.unwritten(at);
                self.change();
            }
            Choice::Decision(user, action, resource) => {
                (self.profiles, self.column, self.left) = (false, user.index(), user.index());
                self.action = action.index();
                self.show(resource);
            }
            Choice::Nothing => self.said = "it has no example to go to".to_string(),
        }
    }

    /// Goes to a place, with everything above it open.
    fn show(&mut self, resource: ResourceId) {
        self.open.extend(self.estate.catalog().upward(resource).skip(1));
        self.lay_rows();
        self.at = self.rows.iter().position(|row| row.resource == resource).unwrap_or(0);
        self.look();
    }

    fn table(&mut self, key: KeyEvent) -> Option<Wish> {
        let page = self.room.0.max(2) - 1;
        let last = self.rows.len().saturating_sub(1);
        match key.code {
            KeyCode::Up | KeyCode::Char('k') => self.go(self.at.saturating_sub(1), self.column),
            KeyCode::Down | KeyCode::Char('j') => self.go((self.at + 1).min(last), self.column),
            KeyCode::PageUp => self.go(self.at.saturating_sub(page), self.column),
            KeyCode::PageDown => self.go((self.at + page).min(last), self.column),
            KeyCode::Home => self.go(0, self.column),
            KeyCode::End => self.go(last, self.column),
            KeyCode::Left => self.go(self.at, self.column.saturating_sub(1)),
            KeyCode::Right => self.go(self.at, (self.column + 1).min(self.columns().saturating_sub(1))),
            KeyCode::Enter | KeyCode::Char(' ') => self.fold(),
            KeyCode::Tab => self.turn(1),
            KeyCode::BackTab => self.turn(self.estate.schema().actions.len().saturating_sub(1)),
            KeyCode::Char('[') => self.scrolled = self.scrolled.saturating_sub(1),
            KeyCode::Char(']') => self.scrolled += 1,
            KeyCode::Char('p') => {
                let user = self.user();
                self.profiles = !self.profiles;
                (self.column, self.left) = match user.filter(|_| !self.profiles) {
                    Some(user) => (user.index(), user.index()),
                    None => (0, 0),
                };
                self.look();
            }
            KeyCode::Char('?') => self.mode = Mode::Help,
            KeyCode::Char('/') => {
                let (title, typed) = ("go to a user, a place or a rule".to_string(), String::new());
                let items = Vec::new();
                self.mode = Mode::Choosing(Chooser { title, typed, items, at: 0, searches: true, waits: false });
            }
            KeyCode::Char('x') => self.take_out(),
            KeyCode::Char('e') => {
                let taken = |name: &str| {
                    let is_it = |rule: &String| rule.starts_with(&format!("rule {name} "));
                    self.written.iter().any(is_it) || self.estate.statements().iter().any(|s| s.name == name)
                };
                let names = (1..).map(|number| format!("written-here-{number}"));
                let name = names.into_iter().find(|name| !taken(name)).unwrap_or_default();
                let mut field = Field { name, ..Field::default() };
                field.offer(&self.estate);
                self.mode = Mode::Writing(field);
            }
            KeyCode::Char('g') => self.memberships(false),
            KeyCode::Char('l') => self.memberships(true),
            KeyCode::Char('s') => self.rules(),
            KeyCode::Char('r') => {
                if let (Some(user), Some(resource)) = (self.user(), self.resource()) {
                    self.said = "looking for what would turn it".to_string();
                    self.asks.push(Ask::Remedies(self.number, user, ActionId::new(self.action), resource));
                }
            }
            KeyCode::Char('f') => {
                self.said = "looking for what is wrong".to_string();
                self.asks.push(Ask::Findings);
            }
            KeyCode::Char('u') => {
                // A rule is the last change where none came after it.
                let is_rule = self.before.last().is_some_and(|before| *before >= self.changes.len());
                let undone =
                    if is_rule { self.unwritten(self.written.len() - 1) } else { self.changes.pop().is_some() };
                if undone {
                    self.change();
                } else {
                    self.said = "nothing is changed".to_string();
                }
            }
            KeyCode::Char('c') => {
                let words = |change: &Change| told(&self.estate, change).0;
                let items = self.changes.iter().enumerate();
                let items = items.map(|(at, change)| (words(change), Choice::Back(at)));
                let rules = self.written.iter().enumerate().map(|(at, rule)| (rule.clone(), Choice::Unwrite(at)));
                let items = items.chain(rules).collect();
                self.choose("take one back", items);
            }
            KeyCode::Char(key @ ('w' | 'W')) => {
                if self.pending() == 0 {
                    self.said = "nothing is changed".to_string();
                } else {
                    return Some(Wish::Save(self.options(), key == 'W'));
                }
            }
            KeyCode::Char('q') => return Some(Wish::Quit),
            _ => {}
        }
        None
    }

    /// The changes as options of `try`.
    pub fn options(&self) -> Vec<[String; 2]> {
        self.changes.iter().map(|change| told(&self.estate, change).1).collect()
    }

    /// Looks at what another screen looked at, as far as it is still there.
    pub fn take_over(&mut self, other: &State) {
        let catalog = self.estate.catalog();
        let here = |place: ResourceId| catalog.find(other.estate.catalog().id(place));
        let open: HashSet<ResourceId> = other.open.iter().filter_map(|place| here(*place)).collect();
        let place = other.resource().and_then(here);
        let user = other.user().and_then(|user| self.estate.people().find(other.estate.people().id(user)));
        (self.open, self.profiles, self.action) = (open, other.profiles, other.action);
        self.lay_rows();
        self.at = self.rows.iter().position(|row| Some(row.resource) == place).unwrap_or(0);
        if let Some(user) = user.filter(|_| !self.profiles) {
            (self.column, self.left) = (user.index(), user.index());
        }
        self.room = (0, 0);
    }

    /// Goes to a row and a column.
    pub fn go(&mut self, at: usize, column: usize) {
        if (at, column) != (self.at, self.column) {
            (self.at, self.column) = (at, column);
            self.look();
        }
    }

    fn turn(&mut self, by: usize) {
        self.action = (self.action + by) % self.estate.schema().actions.len().max(1);
        self.explain();
    }

    /// Opens or closes the place under the cursor.
    pub fn fold(&mut self) {
        let Some(resource) = self.resource() else { return };
        if self.estate.catalog().is_leaf(resource) {
            return;
        }
        if !self.open.remove(&resource) {
            self.open.insert(resource);
        }
        self.lay_rows();
        self.look();
    }

    /// Takes the statement that decides out; what a change has given is taken back.
    fn take_out(&mut self) {
        match self.decides {
            Some(Decider::Given(which)) => {
                let given = self.changes.iter().enumerate().filter(|(_, change)| matches!(change, Change::Give(_)));
                if let Some(at) = given.map(|(at, _)| at).nth(which) {
                    self.changes.remove(at);
                    self.change();
                }
            }
            Some(Decider::Written) => self.said = "it was written here: `u` takes it back".to_string(),
            Some(Decider::Known(id)) => self.make(vec![Change::Off(id)]),
            None if self.cause.is_none() => self.said = "the cause is still being looked for".to_string(),
            None => self.said = "no statement decides here: there is nothing to take out".to_string(),
        }
    }

    fn memberships(&mut self, joined: bool) {
        let Some(user) = self.user() else { return };
        let items = groups(&self.estate, user, joined).into_iter();
        let items = items.map(|(group, change)| (group, Choice::Make(vec![change]))).collect();
        let id = self.estate.people().id(user).to_string();
        self.choose(&if joined { format!("{id} leaves") } else { format!("{id} joins") }, items);
    }

    fn rules(&mut self) {
        let rule = |id: StatementId| {
            let statement = self.estate.statement(id);
            let is_off =
                statement.off != self.changes.iter().any(|c| matches!(c, Change::On(o) | Change::Off(o) if *o == id));
            let change = if is_off { Change::On(id) } else { Change::Off(id) };
            let words = format!("{} {}", if is_off { "off" } else { "on " }, statement.name);
            (words, Choice::Make(vec![change]))
        };
        let is_rule = |id: &StatementId| self.estate.statement(*id).sort == bastide_model::statement::Sort::Rule;
        let items = StatementId::all(self.estate.statements().len()).filter(is_rule).map(rule).collect();
        self.choose("switch a rule", items);
    }
}
