//! Changes in words, and as options of a command line.

use super::{Change, ResourceCell, UserCell};
use crate::show;
use bastide_model::condition::Term;
use bastide_model::groups::Member;
use bastide_model::statement::{Sort, Statement};
use bastide_model::*;
use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;

/// A change as people and programs read it.
#[derive(Clone, Serialize, JsonSchema, PartialEq, Eq, Debug)]
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
    let schema = &estate.schema;
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
                option: option("window", format!("{}={}..{}", s.name, day(from), day(until))),
                place: Some(estate.place(s.origin)),
            }
        }
        Change::Actions(id, actions) => {
            let s = estate.statement(*id);
            let names: Vec<&str> = actions.iter().map(|a| schema.actions[a.index()].name.as_str()).collect();
            let sort = if s.sort == Sort::Rule { "rule" } else { "entry" };
            Described {
                words: format!("let {sort} `{}` speak of {} alone", s.name, names.join(", ")),
                option: option("actions", format!("{}={}", s.name, names.join(";"))),
                place: Some(estate.place(s.origin)),
            }
        }
        Change::Join(member, group) => {
            let (who, value) = member_text(estate, *member, *group);
            let words = format!("add {who} to group `{}`", estate.groups.id(*group));
            Described { words, option: option("join", value), place: None }
        }
        Change::Leave(member, group) => {
            let (who, value) = member_text(estate, *member, *group);
            let words = format!("take {who} out of group `{}`", estate.groups.id(*group));
            let place = estate.groups.origin(*group, *member).map(|o| estate.place(o));
            Described { words, option: option("leave", value), place }
        }
        Change::User(user, cell, value) => {
            let name = user_cell(schema, *cell);
            let id = estate.people.id(*user);
            let words = setting(schema, &format!("`{name}` of user `{id}`"), value);
            let place = Some(estate.place(estate.people.origins[user.index()]));
            Described { words, option: option("set", format!("user:{id}.{name}={}", cell_text(schema, value))), place }
        }
        Change::Resource(resource, cell, value) => {
            let name = resource_cell(schema, *cell);
            let (id, path) = (estate.catalog.id(*resource), estate.catalog.path(*resource));
            let words = match (cell, value) {
                (ResourceCell::Inherits, Some(Value::Flag(true))) => {
                    format!("let `{path}` inherit again what is given above it")
                }
                _ => setting(schema, &format!("`{name}` of `{path}`"), value),
            };
            let place = Some(estate.place(estate.catalog.origins[resource.index()]));
            Described {
                words,
                option: option("set", format!("resource:{id}.{name}={}", cell_text(schema, value))),
                place,
            }
        }
        Change::Give(statement) => Described {
            words: format!("add an entry: {}", gist(estate, statement)),
            option: option("entry", entry_cells(estate, statement).join(",")),
            place: None,
        },
        Change::Except(id, user) => {
            let s = estate.statement(*id);
            let words = format!("make an exception of `{}` in rule `{}`", estate.people.id(*user), s.name);
            let value = format!("{}:{}", s.name, estate.people.id(*user));
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
    let group = estate.groups.id(group);
    match member {
        Member::User(user) => {
            let id = estate.people.id(user);
            (format!("`{id}`"), format!("{id}:{group}"))
        }
        Member::Group(inner) => {
            let inner = estate.groups.id(inner);
            (format!("group `{inner}`"), format!("group:{inner}:{group}"))
        }
    }
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
    let actions: Vec<&str> = s.actions.ones().map(|a| estate.schema.actions[a].name.as_str()).collect();
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
            format!("{} `{}`", place.reach.word(), estate.catalog.path(place.resource))
        }
    };
    format!("{} {} {actions} {place}", show::who(estate, &s.who), s.modality.words())
}

/// The cells of an entry in the order of the standard columns: subject, modality, actions, place, reach.
pub fn entry_cells(estate: &Estate, s: &Statement) -> Vec<String> {
    let subject = match s.who.terms.first() {
        Some(Term::Anyone) | None => "anyone".to_string(),
        Some(Term::Owner) => "owner".to_string(),
        Some(Term::User(user)) => format!("user:{}", estate.people.id(*user)),
        Some(Term::Members(group)) => format!("group:{}", estate.groups.id(*group)),
        Some(Term::Nobody(name)) => name.clone(),
    };
    let actions: Vec<&str> = s.actions.ones().map(|a| estate.schema.actions[a].name.as_str()).collect();
    let mut cells = vec![subject, s.modality.words().to_string(), actions.join(";")];
    match s.what.places.as_deref().and_then(|p| p.first()) {
        Some(place) => {
            cells.push(estate.catalog.id(place.resource).to_string());
            cells.push(place.reach.word().to_string());
        }
        None => cells.push(String::new()),
    }
    cells
}
