//! Changes written back into the files of an estate: rows and clauses are edited where they stand,
//! comments, order and everything else stay.
//!
//! [`plan`] gives the new text of every file a change touches, without touching any;
//! [`commit`] puts them in place, all or none.

mod commit;
pub(crate) mod journal;
mod lock;
mod names;
mod place;
mod policy;
mod swap;
mod table;

pub use commit::{CommitError, Replacement, commit};
pub use journal::{JOURNAL, Refused, Settled};
pub(crate) use journal::{counts, settle};
pub use lock::Lock;
pub use place::{keep, may_be_replaced};

use crate::loaded::Loaded;
use crate::manifest::Format;
use crate::shape;
use bastide_engine::change::{Change, ResourceCell, UserCell, cell_text, entry_cells};
use bastide_model::groups::Member;
use bastide_model::statement::Sort;
use bastide_model::{ActionId, Estate, Origin, Statement, StatementId};
use bastide_net::objects::SCHEME;
use bastide_syntax::{FileId, tree};
use hashbrown::HashMap;
use std::collections::BTreeMap;

/// Why a change cannot be written back.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum WriteError {
    /// The line stands in a file that is made elsewhere.
    #[error(
        "`{file}` is an export of a directory, a workbook, a packed file or an object in storage: make the change where it comes from"
    )]
    Export {
        /// The file.
        file: String,
    },
    /// The manifest names no file that could hold it.
    #[error("the manifest names no CSV file of {what}, so there is no place for it")]
    NoTable {
        /// Which sort.
        what: &'static str,
    },
    /// A text that was to be edited does not hold what it should.
    #[error("`{file}` does not hold {what} as expected")]
    Lost {
        /// The file.
        file: String,
        /// What was looked for.
        what: String,
    },
}

/// The new text of each file, by the name it is shown by.
pub type Texts = BTreeMap<String, String>;

/// Policy text that is laid over an estate: its declarations replace those of the same name.
pub struct Overlay<'t> {
    /// The text.
    pub text: &'t str,
    /// The text, parsed without mistakes.
    pub tree: &'t tree::File,
}

/// The files after changes and overlays. Only files that differ are listed.
///
/// # Errors
/// A change that has no place in the files; nothing is planned then.
pub fn plan(loaded: &Loaded, estate: &Estate, changes: &[Change], overlays: &[Overlay]) -> Result<Texts, WriteError> {
    let mut plan = Plan { loaded, estate, texts: Texts::new() };
    // Entries are found by their lines, so they are edited from the last line to the first.
    let mut entries: Vec<(Origin, &Change)> = changes
        .iter()
        .filter_map(|change| match change {
            Change::Off(id) | Change::On(id) | Change::Window(id, ..) | Change::Actions(id, _) => {
                let statement = statement(estate, *id);
                (statement.sort == Sort::Entry).then_some((statement.origin, change))
            }
            _ => None,
        })
        .collect();
    entries.sort_by_key(|(origin, _)| std::cmp::Reverse(*origin));
    for (origin, change) in entries {
        plan.entry(origin, change)?;
    }
    for change in changes {
        plan.change(change)?;
    }
    for overlay in overlays {
        plan.overlay(overlay)?;
    }
    Ok(plan.texts)
}

/// A user or a resource that is not there yet, by the columns of its table, as we name them.
#[derive(Clone, Debug)]
pub enum Newcomer {
    /// A user.
    User(Vec<(String, String)>),
    /// A resource.
    Resource(Vec<(String, String)>),
}

/// The files with rows for newcomers: each in the first table that has all of its columns, else in the last one, with
/// the columns that are missing. Only files that differ are listed.
///
/// # Errors
/// There is no table in CSV that could take it.
pub fn newcomers(loaded: &Loaded, estate: &Estate, list: &[Newcomer]) -> Result<Texts, WriteError> {
    let mut plan = Plan { loaded, estate, texts: Texts::new() };
    for newcomer in list {
        let (tables, cells, what) = match newcomer {
            Newcomer::User(cells) => (&loaded.tables.people, cells, "people"),
            Newcomer::Resource(cells) => (&loaded.tables.catalog, cells, "catalog"),
        };
        let files = plan.csv(tables);
        let row = |file: FileId| -> Vec<(String, String)> {
            let by_path = plan.loaded.tables.by_path.contains(&file);
            let value =
                |name: &str, value: &String| match estate.catalog().find(value).filter(|_| by_path && name == "parent")
                {
                    Some(parent) => estate.catalog().path(parent),
                    None => value.clone(),
                };
            cells.iter().map(|(name, given)| (plan.column(file, name), value(name, given))).collect()
        };
        let fits =
            |file: &&FileId| table::append(&plan.text(&plan.name(**file), **file), &borrowed(&row(**file))).is_some();
        let file = *files.iter().find(fits).or(files.last()).ok_or(WriteError::NoTable { what })?;
        let row = row(file);
        plan.edit(file, what, |text| {
            let text = row.iter().try_fold(text.to_string(), |text, (name, _)| table::with_column(&text, name))?;
            table::append(&text, &borrowed(&row))
        })?;
    }
    Ok(plan.texts)
}

fn borrowed(cells: &[(String, String)]) -> Vec<(&str, String)> {
    cells.iter().map(|(name, value)| (name.as_str(), value.clone())).collect()
}

fn statement(estate: &Estate, id: StatementId) -> &Statement {
    estate.statement(id)
}

/// Whether a table is a file that may be written, as it stands there.
fn is_plain(name: &str) -> bool {
    !name.ends_with(".gz") && !name.starts_with(SCHEME)
}

struct Plan<'a> {
    loaded: &'a Loaded,
    estate: &'a Estate,
    texts: Texts,
}

impl Plan<'_> {
    fn name(&self, file: FileId) -> String {
        self.loaded.sources.name(file).to_string()
    }

    fn text(&self, name: &str, file: FileId) -> String {
        self.texts.get(name).cloned().unwrap_or_else(|| self.loaded.sources.text(file).to_string())
    }

    /// Edits a CSV file; one of another form is somebody else's.
    fn edit(&mut self, file: FileId, what: &str, edit: impl FnOnce(&str) -> Option<String>) -> Result<(), WriteError> {
        let name = self.name(file);
        let tables = &self.loaded.tables;
        let mut all = [&tables.people, &tables.groups, &tables.catalog, &tables.entries].into_iter().flatten();
        let is_workbook = all.any(|(of, format)| *of == file && *format == Format::Workbook);
        let is_csv = Format::of_name(&name) == Some(Format::Csv) && is_plain(&name) && !is_workbook;
        let is_policy = name.ends_with(".bastide");
        if !is_csv && !is_policy {
            return Err(WriteError::Export { file: name });
        }
        match edit(&self.text(&name, file)) {
            Some(text) => {
                self.texts.insert(name, text);
                Ok(())
            }
            None => Err(WriteError::Lost { file: name, what: what.to_string() }),
        }
    }

    fn entry(&mut self, origin: Origin, change: &Change) -> Result<(), WriteError> {
        let names = match change {
            Change::Actions(_, actions) => self.action_names(actions),
            _ => Vec::new(),
        };
        let column = |name: &str| self.column(origin.file, name);
        let (from_column, until_column, actions_column) = (column("from"), column("until"), column("actions"));
        self.edit(origin.file, "the entry", |text| match change {
            Change::Window(_, from, until) => {
                let day = |day: &Option<jiff::civil::Date>| day.map_or(String::new(), |d| d.to_string());
                let is = |row: &table::Row| row.line == origin.line;
                let text = table::set_cell(text, &is, &from_column, &day(from))?;
                table::set_cell(&text, &is, &until_column, &day(until))
            }
            Change::Actions(_, actions) => {
                let escaped = names.iter().map(|name| name.replace('\\', "\\\\").replace(';', "\\;"));
                let cell = escaped.collect::<Vec<_>>().join(";");
                table::set_cell(text, &|row| row.line == origin.line, &actions_column, &cell)
                    .filter(|_| !actions.is_empty())
            }
            _ => table::remove_rows(text, &|row| row.line == origin.line),
        })
    }

    fn action_names(&self, actions: &[ActionId]) -> Vec<String> {
        actions.iter().map(|a| self.estate.schema().actions[a.index()].name.clone()).collect()
    }

    fn change(&mut self, change: &Change) -> Result<(), WriteError> {
        let estate = self.estate;
        match change {
            Change::Off(id) | Change::On(id) => {
                let statement = statement(estate, *id);
                let off = matches!(change, Change::Off(_));
                if statement.sort == Sort::Entry {
                    return Ok(());
                }
                self.edit(statement.origin.file, "the rule", |text| policy::switch(text, &statement.name, off))
            }
            Change::Window(id, from, until) => {
                let statement = statement(estate, *id);
                if statement.sort == Sort::Entry {
                    return Ok(());
                }
                self.edit(statement.origin.file, "the rule", |text| {
                    policy::window(text, &statement.name, *from, *until)
                })
            }
            Change::Actions(id, actions) => {
                let statement = statement(estate, *id);
                if statement.sort == Sort::Entry {
                    return Ok(());
                }
                let names = self.action_names(actions);
                self.edit(statement.origin.file, "the rule", |text| policy::actions(text, &statement.name, &names))
            }
            Change::Except(id, user) => {
                let statement = statement(estate, *id);
                let user = estate.people().id(*user);
                self.edit(statement.origin.file, "the rule", |text| policy::except(text, &statement.name, user))
            }
            Change::Join(member, group) => {
                let (group, member) = (estate.groups().id(*group), self.member(*member));
                let files = self.csv(&self.loaded.tables.groups);
                let of = |file: FileId| self.column(file, "group");
                let named = |file: &&FileId| {
                    let column = of(**file);
                    table::has_row(self.loaded.sources.text(**file), &|row| row.get(&column) == group)
                };
                let file = files.iter().find(named).or(files.first()).copied();
                let file = file.ok_or(WriteError::NoTable { what: "groups" })?;
                let columns = (self.column(file, "group"), self.column(file, "member"));
                self.edit(file, "the group", |text| {
                    table::append(text, &[(&columns.0, group.to_string()), (&columns.1, member)])
                })
            }
            Change::Leave(member, group) => {
                let origin = estate.groups().origin(*group, *member);
                let (group, name) = (estate.groups().id(*group).to_string(), self.member(*member));
                let columns: HashMap<FileId, (String, String)> = self
                    .csv(&self.loaded.tables.groups)
                    .into_iter()
                    .map(|file| (file, (self.column(file, "group"), self.column(file, "member"))))
                    .collect();
                let is = |file: FileId| {
                    let (of, who) = &columns[&file];
                    let (group, name) = (&group, &name);
                    move |row: &table::Row| row.get(of) == group && row.get(who) == name
                };
                let files = self.csv(&self.loaded.tables.groups);
                // Where the membership stands in an export too, taking out the row would not end it.
                if let Some(origin) = origin
                    && !files.contains(&origin.file)
                {
                    return Err(WriteError::Export { file: self.name(origin.file) });
                }
                let mut last = None;
                for file in files.iter().copied() {
                    if table::has_row(&self.text(&self.name(file), file), &is(file)) {
                        self.edit(file, "the membership", |text| table::remove_rows(text, &is(file)))?;
                        last = Some(file);
                    }
                }
                // A group that nobody is in any more is still a group: rules and entries name it.
                let named = |file: &FileId| {
                    let column = &columns[file].0;
                    table::has_row(&self.text(&self.name(*file), *file), &|row| row.get(column) == group)
                };
                if let Some(file) = last.filter(|_| !files.iter().any(named)) {
                    self.edit(file, "the group", |text| table::append(text, &[(&columns[&file].0, group.clone())]))?;
                }
                Ok(())
            }
            Change::User(user, cell, value) => {
                let id = estate.people().id(*user).to_string();
                let file = estate.people().origin(*user).file;
                let name = match cell {
                    UserCell::Active => "active".to_string(),
                    UserCell::Kind => "kind".to_string(),
                    UserCell::Realm => "realm".to_string(),
                    UserCell::Attribute(at) => estate.schema().user_attributes[at.index()].name.clone(),
                };
                let mapped = self.column(file, &name);
                let id_column = self.column(file, "id");
                let text = cell_text(estate.schema(), value);
                self.edit(file, "the user", |old| {
                    table::set_cell(old, &|row| row.get(&id_column) == id, &mapped, &text)
                })
            }
            Change::Resource(resource, cell, value) => {
                let id = estate.catalog().id(*resource).to_string();
                let file = estate.catalog().origins[resource.index()].file;
                let name = match cell {
                    ResourceCell::Owner => "owner".to_string(),
                    ResourceCell::State => "state".to_string(),
                    ResourceCell::Inherits => "inherits".to_string(),
                    ResourceCell::Attribute(at) => estate.schema().resource_attributes[at.index()].name.clone(),
                };
                let text = cell_text(estate.schema(), value);
                let (mapped, id_column) = (self.column(file, &name), self.column(file, "id"));
                let (parent, called) = (self.column(file, "parent"), self.column(file, "name"));
                let by_path = self.loaded.tables.by_path.contains(&file);
                self.edit(file, "the resource", |old| {
                    // Without an id of its own, a row is told by its path.
                    let is = |row: &table::Row| match row.get(&id_column) {
                        "" if by_path => shape::inside(row.get(&parent), row.get(&called)) == id,
                        own => own == id,
                    };
                    table::set_cell(old, &is, &mapped, &text)
                })
            }
            Change::Give(entry) => {
                let file = self.csv(&self.loaded.tables.entries).last().copied();
                let file = file.ok_or(WriteError::NoTable { what: "entries" })?;
                let names = ["subject", "modality", "actions", "place", "reach"];
                let optional = ["note", "from", "until"].map(|name| self.column(file, name));
                let mut cells: Vec<(String, String)> =
                    names.map(|name| self.column(file, name)).into_iter().zip(entry_cells(estate, entry)).collect();
                cells.extend(entry.because.clone().map(|note| (optional[0].clone(), note)));
                cells.extend(entry.from.map(|day| (optional[1].clone(), day.to_string())));
                cells.extend(entry.until.map(|day| (optional[2].clone(), day.to_string())));
                self.edit(file, "the columns of entries", |text| {
                    // What an entry need not have may have no column yet.
                    let mut missing = cells.iter().filter(|(name, _)| optional.contains(name));
                    let text = missing.try_fold(text.to_string(), |text, (name, _)| table::with_column(&text, name))?;
                    table::append(&text, &borrowed(&cells))
                })
            }
        }
    }

    fn member(&self, member: Member) -> String {
        match member {
            Member::User(user) => self.estate.people().id(user).to_string(),
            Member::Group(group) => format!("group:{}", self.estate.groups().id(group)),
        }
    }

    fn csv(&self, tables: &[(FileId, Format)]) -> Vec<FileId> {
        let plain = |file: &FileId| is_plain(self.loaded.sources.name(*file));
        tables.iter().filter(|(_, format)| *format == Format::Csv).map(|(file, _)| *file).filter(plain).collect()
    }

    /// The name a source uses for one of ours.
    fn column(&self, file: FileId, ours: &str) -> String {
        let names = self.loaded.tables.columns.get(&file);
        let theirs = names.and_then(|names| names.iter().find(|(_, our)| our == ours));
        theirs.map_or_else(|| ours.to_string(), |(theirs, _)| theirs.clone())
    }

    fn overlay(&mut self, overlay: &Overlay) -> Result<(), WriteError> {
        for declaration in &overlay.tree.declarations {
            let text = &overlay.text[declaration.span().range()];
            let holder = self
                .loaded
                .tables
                .policy
                .iter()
                .copied()
                .find(|file| policy::holds(&self.text(&self.name(*file), *file), declaration));
            match holder {
                Some(file) => self.edit(file, "the declaration", |old| policy::replace(old, declaration, text))?,
                None => {
                    let last = self.loaded.tables.policy.last().copied();
                    let last = last.ok_or(WriteError::NoTable { what: "policy" })?;
                    self.edit(last, "the end", |old| Some(policy::append(old, text)))?;
                }
            }
        }
        Ok(())
    }
}
