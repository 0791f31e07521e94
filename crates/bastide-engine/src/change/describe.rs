//! Changes in words, and as options of a command line.

use super::parts::{quoted, told};
use super::read::{except, join, set, window};
use super::{Change, ResourceCell, UserCell};
use bastide_model::condition::Term;
use bastide_model::groups::Member;
use bastide_model::show;
use bastide_model::statement::{Sort, Statement};
use bastide_model::*;
use jiff::civil::Date;

/// A change as people and programs read it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Described {
    /// What to do, as a sentence without a full stop.
    pub words: String,
    /// The same as an option of `bastide try` and its value.
    pub option: [String; 2],
    /// File and line it is about, where it is about a line.
    pub place: Option<String>,
}

/// A change in words.
pub fn describe(estate: &Estate, change: &Change) -> Described {
    let schema = estate.schema();
    let option = |name: &str, value: String| [format!("--{name}"), value];
    match change {
        Change::Off(id) | Change::On(id) => {
            let s = estate.statement(*id);
            let (words, name) = match (change, s.sort) {
                (Change::On(_), _) => (format!("switch rule `{}` on", s.name), "on-rule"),
                (_, Sort::Rule) => (format!("switch rule `{}` off", s.name), "off"),
                (_, Sort::Entry) => (format!("take out entry `{}`: {}", s.name, gist(estate, s)), "drop"),
            };
            Described { words, option: option(name, s.name.clone()), place: Some(estate.place(s.origin)) }
        }
        Change::Window(id, from, until) => {
            let s = estate.statement(*id);
            let days = match (from, until) {
                (Some(from), Some(until)) => format!("from {from} to {until}"),
                (Some(from), None) => format!("from {from} on"),
                (None, Some(until)) => format!("until {until}"),
                (None, None) => "for good".to_string(),
            };
            let sort = if s.sort == Sort::Rule { "rule" } else { "entry" };
            let day = |d: &Option<Date>| d.map_or(String::new(), |d| d.to_string());
            Described {
                words: format!("let {sort} `{}` apply {days}", s.name),
                option: option("window", {
                    let days = format!("{}..{}", day(from), day(until));
                    let is = |c: Change| matches!(c, Change::Window(i, f, u) if (i, f, u) == (*id, *from, *until));
                    let in_quotes = || format!("{}={days}", quoted(&s.name));
                    told(format!("{}={days}", s.name), in_quotes, |text| window(estate, text).is_ok_and(is))
                }),
                place: Some(estate.place(s.origin)),
            }
        }
        Change::Actions(id, actions) => {
            let s = estate.statement(*id);
            let names: Vec<&str> = actions.iter().map(|a| schema.actions[a.index()].name.as_str()).collect();
            let sort = if s.sort == Sort::Rule { "rule" } else { "entry" };
            Described {
                words: format!("let {sort} `{}` speak of {} alone", s.name, names.join(", ")),
                option: option("actions", {
                    let list = joined(names.iter().copied());
                    let is = |c: Change| matches!(c, Change::Actions(i, a) if (i, &a) == (*id, actions));
                    let in_quotes = || format!("{}={list}", quoted(&s.name));
                    told(format!("{}={list}", s.name), in_quotes, |text| super::actions(estate, text).is_ok_and(is))
                }),
                place: Some(estate.place(s.origin)),
            }
        }
        Change::Join(member, group) => {
            let (who, value) = member_text(estate, *member, *group);
            let words = format!("add {who} to group `{}`", estate.groups().id(*group));
            Described { words, option: option("join", value), place: None }
        }
        Change::Leave(member, group) => {
            let (who, value) = member_text(estate, *member, *group);
            let words = format!("take {who} out of group `{}`", estate.groups().id(*group));
            let place = estate.groups().origin(*group, *member).map(|o| estate.place(o));
            Described { words, option: option("leave", value), place }
        }
        Change::User(user, cell, value) => {
            let name = user_cell(schema, *cell);
            let id = estate.people().id(*user);
            let words = setting(schema, &format!("`{name}` of user `{id}`"), value);
            let place = Some(estate.place(estate.people().origin(*user)));
            let is = |c: Change| matches!(c, Change::User(u, x, v) if (u, x, &v) == (*user, *cell, value));
            let text = setting_text(estate, "user", (id, &name, &cell_text(schema, value)), is);
            Described { words, option: option("set", text), place }
        }
        Change::Resource(resource, cell, value) => {
            let name = resource_cell(schema, *cell);
            let (id, path) = (estate.catalog().id(*resource), estate.catalog().path(*resource));
            let words = match (cell, value) {
                (ResourceCell::Inherits, Some(Value::Flag(true))) => {
                    format!("let `{path}` inherit again what is given above it")
                }
                _ => setting(schema, &format!("`{name}` of `{path}`"), value),
            };
            let place = Some(estate.place(estate.catalog().origins[resource.index()]));
            let is = |c: Change| matches!(c, Change::Resource(r, x, v) if (r, x, &v) == (*resource, *cell, value));
            let text = setting_text(estate, "resource", (id, &name, &cell_text(schema, value)), is);
            Described { words, option: option("set", text), place }
        }
        Change::Give(statement) => Described {
            words: format!("add an entry: {}", gist(estate, statement)),
            option: option("entry", entry_text(estate, statement)),
            place: None,
        },
        Change::Except(id, user) => {
            let s = estate.statement(*id);
            let words = format!("make an exception of `{}` in rule `{}`", estate.people().id(*user), s.name);
            let id_text = estate.people().id(*user);
            let is = |text: &str| matches!(except(estate, text), Ok(Change::Except(i, u)) if (i, u) == (*id, *user));
            let in_quotes = || format!("{}:{}", quoted(&s.name), quoted(id_text));
            let value = told(format!("{}:{id_text}", s.name), in_quotes, is);
            Described { words, option: option("except", value), place: Some(estate.place(s.origin)) }
        }
    }
}

/// What takes a change back, where a change does.
pub fn undo(change: &Change) -> Option<Change> {
    match change {
        Change::Off(id) => Some(Change::On(*id)),
        Change::On(id) => Some(Change::Off(*id)),
        Change::Join(member, group) => Some(Change::Leave(*member, *group)),
        Change::Leave(member, group) => Some(Change::Join(*member, *group)),
        _ => None,
    }
}

fn setting(schema: &Schema, what: &str, value: &Option<Value>) -> String {
    match value {
        Some(value) => format!("set {what} to `{}`", schema.show(value)),
        None => format!("take the {what} away"),
    }
}

fn member_text(estate: &Estate, member: Member, group: GroupId) -> (String, String) {
    let whole = estate.groups().id(group);
    let reads_back = |text: &str| matches!(join(estate, text), Ok(Change::Join(m, g)) if (m, g) == (member, group));
    match member {
        Member::User(user) => {
            let id = estate.people().id(user);
            let in_quotes = || format!("user:{}:{}", quoted(id), quoted(whole));
            (format!("`{id}`"), told(format!("{id}:{whole}"), in_quotes, reads_back))
        }
        Member::Group(inner) => {
            let inner = estate.groups().id(inner);
            let in_quotes = || format!("group:{}:{}", quoted(inner), quoted(whole));
            (format!("group `{inner}`"), told(format!("group:{inner}:{whole}"), in_quotes, reads_back))
        }
    }
}

/// `DOMAIN:ID.ATTRIBUTE=VALUE`, in quotes where it would not read back.
fn setting_text(
    estate: &Estate,
    domain: &str,
    (id, name, value): (&str, &str, &str),
    is: impl Fn(Change) -> bool,
) -> String {
    let in_quotes = || format!("{domain}:{}.{}={value}", quoted(id), quoted(name));
    told(format!("{domain}:{id}.{name}={value}"), in_quotes, |text| set(estate, text).is_ok_and(&is))
}

/// Names in one cell, parted by `;`.
fn joined<'n>(names: impl Iterator<Item = &'n str>) -> String {
    names.map(|name| name.replace('\\', "\\\\").replace(';', "\\;")).collect::<Vec<_>>().join(";")
}

fn user_cell(schema: &Schema, cell: UserCell) -> String {
    match cell {
        UserCell::Active => "active".into(),
        UserCell::Kind => "kind".into(),
        UserCell::Realm => "realm".into(),
        UserCell::Attribute(id) => schema.user_attributes[id.index()].name.clone(),
    }
}

fn resource_cell(schema: &Schema, cell: ResourceCell) -> String {
    match cell {
        ResourceCell::Owner => "owner".into(),
        ResourceCell::State => "state".into(),
        ResourceCell::Inherits => "inherits".into(),
        ResourceCell::Attribute(id) => schema.resource_attributes[id.index()].name.clone(),
    }
}

/// A value as a cell of a data file holds it.
pub fn cell_text(schema: &Schema, value: &Option<Value>) -> String {
    match value {
        None => String::new(),
        Some(Value::Set(elements)) => {
            let quoted = elements.iter().map(|e| schema.show(e).replace('\\', "\\\\").replace(';', "\\;"));
            quoted.collect::<Vec<_>>().join(";")
        }
        Some(value) => schema.show(value),
    }
}

/// What an entry says, short.
pub(crate) fn gist(estate: &Estate, s: &Statement) -> String {
    let actions: Vec<&str> = s.actions.ones().map(|a| estate.schema().actions[a].name.as_str()).collect();
    let actions = if actions.len() > 4 {
        format!("{} and {} more", actions[..3].join(", "), actions.len() - 3)
    } else {
        actions.join(", ")
    };
    let place = match s.what.places.as_deref() {
        None => "everywhere".to_string(),
        Some([]) => "at a place that does not exist".to_string(),
        Some(places) => {
            let place = places[0];
            format!("{} `{}`", place.reach.word(), estate.catalog().path(place.resource))
        }
    };
    format!("{} {} {actions} {place}", show::who(estate, &s.who), s.modality.words())
}

/// The cells of an entry in the order of the standard columns: subject, modality, actions, place, reach.
pub fn entry_cells(estate: &Estate, s: &Statement) -> Vec<String> {
    let subject = match s.who.terms.first() {
        Some(Term::Anyone) | None => "anyone".to_string(),
        Some(Term::Owner) => "owner".to_string(),
        Some(Term::User(user)) => format!("user:{}", estate.people().id(*user)),
        Some(Term::Members(group)) => format!("group:{}", estate.groups().id(*group)),
        Some(Term::Nobody(name)) => name.clone(),
    };
    let actions: Vec<&str> = s.actions.ones().map(|a| estate.schema().actions[a].name.as_str()).collect();
    let mut cells = vec![subject, s.modality.words().to_string(), joined(actions.into_iter())];
    match s.what.places.as_deref().and_then(|p| p.first()) {
        Some(place) => {
            cells.push(estate.catalog().id(place.resource).to_string());
            cells.push(place.reach.word().to_string());
        }
        None => cells.push(String::new()),
    }
    cells
}

/// An entry as `--entry` takes it: its cells as a row of CSV, days and note where it has any.
fn entry_text(estate: &Estate, s: &Statement) -> String {
    let mut cells = entry_cells(estate, s);
    let day = |day: Option<Date>| day.map_or(String::new(), |d| d.to_string());
    let more = [day(s.from), day(s.until), s.because.clone().unwrap_or_default()];
    if let Some(last) = more.iter().rposition(|cell| !cell.is_empty()) {
        cells.resize(5, String::new());
        cells.extend_from_slice(&more[..=last]);
    }
    let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::Any(b'\n')).from_writer(Vec::new());
    out.write_record(&cells).expect("memory takes everything");
    let text = String::from_utf8(out.into_inner().expect("memory takes everything")).expect("it was text");
    text.trim_end_matches('\n').to_string()
}
