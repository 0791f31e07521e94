//! Changes from text, as they are given on a command line.

use super::{Change, ResourceCell, UserCell};
use crate::find::{self, FindError};
use bastide_model::condition::{Term, Who};
use bastide_model::groups::Member;
use bastide_model::schema::{Scalar, read_date, read_flag, split_set};
use bastide_model::statement::{Place, Sort, What};
use bastide_model::*;
use bastide_syntax::nearest::{nearest, ranked};
use bastide_syntax::{FileId, Span};
use fixedbitset::FixedBitSet;
use std::sync::Arc;

/// Why a text is no change.
#[derive(Clone, PartialEq, Eq, Debug, thiserror::Error)]
pub enum ReadError {
    /// It does not have the form that is wanted.
    #[error("`{text}` is not of the form {form}")]
    Form {
        /// As given.
        text: String,
        /// The form.
        form: &'static str,
    },
    /// A name in it leads to nothing, or to several things.
    #[error(transparent)]
    Find(#[from] FindError),
    /// An attribute that is not declared.
    #[error("{what} has no attribute `{name}`")]
    Attribute {
        /// `a user` or `a resource`.
        what: &'static str,
        /// As given.
        name: String,
        /// The nearest one.
        near: Option<String>,
    },
    /// A value of another type.
    #[error("{0}")]
    Value(String),
}

const WINDOW: &str = "STATEMENT=FROM..UNTIL, either day left out for no limit";
const ACTIONS: &str = "STATEMENT=ACTION;ACTION...";
const EXCEPTION: &str = "RULE:USER";
const MEMBERSHIP: &str = "USER:GROUP (or group:GROUP:GROUP)";
const SETTING: &str = "user:ID.ATTRIBUTE=VALUE or resource:PATH.ATTRIBUTE=VALUE";
const ENTRY: &str = "SUBJECT,MODALITY,ACTIONS,PLACE[,REACH], as in an entries file";

/// A statement by its rule's name, or by the file and line of its entry, or the unique beginning (a
/// rule) or end (an entry) of that.
///
/// # Errors
/// No statement or several.
pub fn statement(estate: &Estate, name: &str) -> Result<StatementId, FindError> {
    let all = || StatementId::all(estate.statements.len());
    if let Some(exact) = all().find(|id| estate.statement(*id).name == name) {
        return Ok(exact);
    }
    let entry = |s: &Statement| {
        s.sort == Sort::Entry
            && s.name.ends_with(name)
            && s.name[..s.name.len() - name.len()].chars().last().is_none_or(|c| c == '/')
    };
    let fits = |s: &Statement| (s.sort == Sort::Rule && s.name.starts_with(name)) || entry(s);
    let found: Vec<StatementId> = all().filter(|id| !name.is_empty() && fits(estate.statement(*id))).collect();
    let shown = |id: &StatementId| estate.statement(*id).name.clone();
    match found.as_slice() {
        [only] => Ok(*only),
        [] => {
            let known = all().map(|id| estate.statement(id).name.as_str());
            let candidates = ranked(name, known, 8).iter().map(|n| n.to_string()).collect();
            Err(FindError::Unknown { what: "rule or entry", name: name.to_string(), candidates })
        }
        several => Err(FindError::Ambiguous {
            what: "statement",
            name: name.to_string(),
            count: several.len(),
            candidates: several.iter().take(8).map(shown).collect(),
        }),
    }
}

fn membership(estate: &Estate, text: &str) -> Result<(Member, GroupId), ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: MEMBERSHIP };
    let (member, group) = text.rsplit_once(':').ok_or_else(form)?;
    let group = find::group(estate, group)?;
    let member = match member.split_once(':') {
        Some(("group", inner)) => Member::Group(find::group(estate, inner)?),
        Some(("user", id)) => Member::User(find::user(estate, id)?),
        _ => Member::User(find::user(estate, member)?),
    };
    Ok((member, group))
}

/// `STATEMENT=FROM..UNTIL`: other days on which a statement applies.
///
/// # Errors
/// Another form, a name that leads nowhere, no date.
pub fn window(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: WINDOW };
    let (name, days) = text.rsplit_once('=').ok_or_else(form)?;
    let (from, until) = days.split_once("..").ok_or_else(form)?;
    let day = |text: &str| match text.trim() {
        "" => Ok(None),
        text => read_date(text).map(Some).ok_or_else(form),
    };
    Ok(Change::Window(statement(estate, name)?, day(from)?, day(until)?))
}

/// `STATEMENT=ACTION;ACTION`: the actions of which a statement speaks.
///
/// # Errors
/// Another form, no action, or a name that leads nowhere.
pub fn actions(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: ACTIONS };
    let (name, list) = text.rsplit_once('=').ok_or_else(form)?;
    let mut actions = Vec::new();
    for action in list.split([';', ',']).map(str::trim).filter(|a| !a.is_empty()) {
        actions.push(find::action(estate, action)?);
    }
    actions.sort();
    actions.dedup();
    if actions.is_empty() {
        return Err(form());
    }
    Ok(Change::Actions(statement(estate, name)?, actions))
}

/// `RULE:USER`: a rule makes an exception of a user.
///
/// # Errors
/// Another form, or a name that leads nowhere.
pub fn except(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: EXCEPTION };
    let (rule, user) = text.rsplit_once(':').ok_or_else(form)?;
    Ok(Change::Except(statement(estate, rule)?, find::user(estate, user)?))
}

/// `USER:GROUP`: a membership that is added.
///
/// # Errors
/// Another form, or a name that leads nowhere.
pub fn join(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    membership(estate, text).map(|(member, group)| Change::Join(member, group))
}

/// `USER:GROUP`: a membership that is taken away.
///
/// # Errors
/// Another form, or a name that leads nowhere.
pub fn leave(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    membership(estate, text).map(|(member, group)| Change::Leave(member, group))
}

/// `user:ID.ATTRIBUTE=VALUE` or `resource:PATH.ATTRIBUTE=VALUE`; an empty value takes one away, `;`
/// parts the elements of a set.
///
/// # Errors
/// Another form, a name that leads nowhere, a value of another type.
pub fn set(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: SETTING };
    let (domain, rest) = text.split_once(':').ok_or_else(form)?;
    // A path may hold dots and equals signs: the first `=` after which the name before it ends in a
    // known attribute is the one that is meant.
    let cuts = rest.match_indices('=').map(|(at, _)| (&rest[..at], &rest[at + 1..]));
    let mut cuts = cuts.filter_map(|(left, value)| left.rsplit_once('.').map(|(id, name)| (id, name, value)));
    let schema = &estate.schema;
    match domain {
        "user" => {
            let (id, name, value) = cuts.next().ok_or_else(form)?;
            let (cell, value) = user_value(schema, name, value)?;
            Ok(Change::User(find::user(estate, id)?, cell, value))
        }
        "resource" => {
            let all: Vec<_> = cuts.collect();
            let known =
                |name: &str| resource_value(schema, name, "").is_ok() || schema.resource_attribute(name).is_some();
            let best = all.iter().find(|(_, name, _)| known(name) || *name == "inherits").or(all.first());
            let (id, name, value) = *best.ok_or_else(form)?;
            let (cell, value) = resource_value(schema, name, value)?;
            Ok(Change::Resource(find::resource(estate, id)?, cell, value))
        }
        _ => Err(form()),
    }
}

fn user_value(schema: &Schema, name: &str, text: &str) -> Result<(UserCell, Option<Value>), ReadError> {
    let read = |scalar| schema.read(scalar, text).map(Some).map_err(ReadError::Value);
    let optional = |value: Result<Option<Value>, ReadError>| if text.is_empty() { Ok(None) } else { value };
    Ok(match name {
        "active" => (UserCell::Active, read(Scalar::Flag)?),
        "kind" => (UserCell::Kind, read(Scalar::UserKind)?),
        "realm" => (UserCell::Realm, optional(read(Scalar::Text))?),
        _ => {
            let Some(id) = schema.user_attribute(name) else {
                let known = schema.user_attributes.iter().map(|a| a.name.as_str());
                let near = nearest(name, known.chain(["active", "kind", "realm"])).map(str::to_string);
                return Err(ReadError::Attribute { what: "a user", name: name.to_string(), near });
            };
            let attribute = &schema.user_attributes[id.index()];
            let value = if text.is_empty() { Ok(None) } else { schema.read_cell(attribute, text).map(Some) };
            (UserCell::Attribute(id), value.map_err(ReadError::Value)?)
        }
    })
}

fn resource_value(schema: &Schema, name: &str, text: &str) -> Result<(ResourceCell, Option<Value>), ReadError> {
    let read = |scalar| match text {
        "" => Ok(None),
        text => schema.read(scalar, text).map(Some).map_err(ReadError::Value),
    };
    Ok(match name {
        "owner" => (ResourceCell::Owner, read(Scalar::Text)?),
        "state" => (ResourceCell::State, read(schema.state_type())?.map(word(schema))),
        "inherits" => match read_flag(text) {
            Some(flag) => (ResourceCell::Inherits, Some(Value::Flag(flag))),
            None => return Err(ReadError::Value(format!("expected `yes` or `no`, found `{text}`"))),
        },
        _ => {
            let Some(id) = schema.resource_attribute(name) else {
                let known = schema.resource_attributes.iter().map(|a| a.name.as_str());
                let near = nearest(name, known.chain(["owner", "state", "inherits"])).map(str::to_string);
                return Err(ReadError::Attribute { what: "a resource", name: name.to_string(), near });
            };
            let attribute = &schema.resource_attributes[id.index()];
            let value = if text.is_empty() { Ok(None) } else { schema.read_cell(attribute, text).map(Some) };
            (ResourceCell::Attribute(id), value.map_err(ReadError::Value)?)
        }
    })
}

/// States are kept as words, whatever type checks them.
fn word(schema: &Schema) -> impl Fn(Value) -> Value + '_ {
    |value| match &value {
        Value::Step(..) => Value::Text(schema.show(&value).into()),
        _ => value,
    }
}

/// `SUBJECT,MODALITY,ACTIONS,PLACE[,REACH]`: an entry that is added. The place is an id or a path.
///
/// # Errors
/// Another form, or a name that leads nowhere.
pub fn give(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: ENTRY };
    let cells: Vec<&str> = text.split(',').map(str::trim).collect();
    let [subject, modality, actions, place, rest @ ..] = cells.as_slice() else { return Err(form()) };
    let reach = match rest {
        [] | [""] | ["under"] => Reach::Under,
        ["below"] => Reach::Below,
        ["at"] => Reach::At,
        _ => return Err(form()),
    };
    let term = match subject.split_once(':') {
        None if *subject == "anyone" => Term::Anyone,
        None if *subject == "owner" => Term::Owner,
        Some(("user", id)) => Term::User(find::user(estate, id)?),
        Some(("group", id)) => Term::Members(find::group(estate, id)?),
        _ => return Err(form()),
    };
    let modality = Modality::ALL.into_iter().find(|m| m.words() == *modality).ok_or_else(form)?;
    let mut set = FixedBitSet::with_capacity(estate.schema.actions.len());
    for name in split_set(actions) {
        match estate.schema.role(&name) {
            Some(role) => set.union_with(&estate.schema.roles[role.index()].actions),
            None => set.insert(find::action(estate, &name)?.index()),
        }
    }
    if set.is_clear() {
        return Err(form());
    }
    let place = if place.is_empty() { None } else { Some(find::resource(estate, place)?) };
    Ok(Change::Give(Arc::new(entry(term, modality, set, place, reach))))
}

/// An entry that no file holds yet.
pub fn entry(
    subject: Term,
    modality: Modality,
    actions: FixedBitSet,
    place: Option<ResourceId>,
    reach: Reach,
) -> Statement {
    let nowhere = Span { file: FileId(0), start: 0, end: 0 };
    Statement {
        name: "the new entry".to_string(),
        sort: Sort::Entry,
        origin: Origin { file: FileId(0), line: 0 },
        because: None,
        layer: None,
        modality,
        actions,
        everything: false,
        who: Who { terms: vec![subject], condition: None },
        what: What {
            kinds: None,
            places: place.map(|resource| vec![Place { resource, reach, span: nowhere }]),
            condition: None,
        },
        condition: None,
        from: None,
        until: None,
        off: false,
    }
}
