//! Changes from text, as they are given on a command line.

use super::{Change, ResourceCell, UserCell, parts};
use crate::find::{self, FindError};
use bastide_model::condition::{Term, Who};
use bastide_model::groups::Member;
use bastide_model::schema::{Scalar, read_date, read_flag, split_set};
use bastide_model::statement::{Place, Sort, What};
use bastide_model::*;
use bastide_syntax::nearest::{nearest, ranked};
use bastide_syntax::{FileId, Span};
use fixedbitset::FixedBitSet;
use std::borrow::Cow;
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
    /// It can be read in several ways.
    #[error("`{0}` can be read in more than one way: put the parts in quotes")]
    Several(String),
}

const WINDOW: &str = "STATEMENT=FROM..UNTIL, either day left out for no limit";
const ACTIONS: &str = "STATEMENT=ACTION;ACTION...";
const EXCEPTION: &str = "RULE:USER";
const MEMBERSHIP: &str = "USER:GROUP (or group:GROUP:GROUP)";
const SETTING: &str = "user:ID.ATTRIBUTE=VALUE or resource:PATH.ATTRIBUTE=VALUE";
const ENTRY: &str = "SUBJECT,MODALITY,ACTIONS,PLACE[,REACH[,FROM[,UNTIL[,NOTE]]]], as in an entries file";

/// A statement by its rule's name, or by the file and line of its entry, or the unique beginning (a
/// rule) or end (an entry) of that.
///
/// # Errors
/// No statement or several.
pub fn statement(estate: &Estate, name: &str) -> Result<StatementId, FindError> {
    let all = || StatementId::all(estate.statements().len());
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
    let cuts = parts::cuts(text, ':');
    let exact = |at: &usize| {
        let group = estate.groups().find(&parts::said(&text[at + 1..]))?;
        let (whole, member) = (&text[..*at], parts::said(&text[..*at]));
        let user = |id: &str| estate.people().find(&parts::said(id)).map(Member::User);
        let inner = |id: &str| estate.groups().find(&parts::said(id)).map(Member::Group);
        let named = match whole.split_once(':') {
            Some(("group", rest)) => inner(rest),
            Some(("user", rest)) => user(rest),
            _ => None,
        };
        // A user's id may begin like that, too.
        let members: Vec<Member> = named.into_iter().chain(estate.people().find(&member).map(Member::User)).collect();
        Some(members.into_iter().map(move |member| (member, group)).collect::<Vec<_>>())
    };
    match parts::only(cuts.iter().filter_map(exact).flatten()) {
        Ok(Some(found)) => return Ok(found),
        Ok(None) => {}
        Err(()) => return Err(ReadError::Several(text.to_string())),
    }
    let at = *cuts.last().ok_or_else(form)?;
    let (member, group) = (&text[..at], &text[at + 1..]);
    let group = find::group(estate, &parts::said(group))?;
    let member = match member.split_once(':') {
        Some(("group", inner)) => Member::Group(find::group(estate, &parts::said(inner))?),
        Some(("user", id)) => Member::User(find::user(estate, &parts::said(id))?),
        _ => Member::User(find::user(estate, &parts::said(member))?),
    };
    Ok((member, group))
}

/// The name before a separator and the text behind it, cut where the name is that of a statement.
fn named<'t>(estate: &Estate, text: &'t str, at: char) -> Option<(Cow<'t, str>, &'t str)> {
    let cuts = parts::cuts(text, at);
    let cut = |at: &usize| (parts::said(&text[..*at]), &text[at + 1..]);
    let exact = |(name, _): &(Cow<str>, &str)| estate.statements().iter().any(|s| s.name == **name);
    cuts.iter().map(cut).rfind(exact).or_else(|| cuts.last().map(cut))
}

/// `STATEMENT=FROM..UNTIL`: other days on which a statement applies.
///
/// # Errors
/// Another form, a name that leads nowhere, no date.
pub fn window(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: WINDOW };
    let (name, days) = named(estate, text, '=').ok_or_else(form)?;
    let (from, until) = days.split_once("..").ok_or_else(form)?;
    let day = |text: &str| match text.trim() {
        "" => Ok(None),
        text => read_date(text).map(Some).ok_or_else(form),
    };
    Ok(Change::Window(statement(estate, &name)?, day(from)?, day(until)?))
}

/// `STATEMENT=ACTION;ACTION`: the actions of which a statement speaks.
///
/// # Errors
/// Another form, no action, or a name that leads nowhere.
pub fn actions(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: ACTIONS };
    let (name, list) = named(estate, text, '=').ok_or_else(form)?;
    let mut actions = Vec::new();
    for action in split_set(list) {
        match find::action(estate, &action) {
            Ok(action) => actions.push(action),
            // Commas part actions, too, where none has one in its name.
            Err(_) if action.contains(',') => {
                for part in action.split(',').map(str::trim).filter(|part| !part.is_empty()) {
                    actions.push(find::action(estate, part)?);
                }
            }
            Err(error) => return Err(error.into()),
        }
    }
    actions.sort();
    actions.dedup();
    if actions.is_empty() {
        return Err(form());
    }
    Ok(Change::Actions(statement(estate, &name)?, actions))
}

/// `RULE:USER`: a rule makes an exception of a user.
///
/// # Errors
/// Another form, or a name that leads nowhere.
pub fn except(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: EXCEPTION };
    let (rule, user) = named(estate, text, ':').ok_or_else(form)?;
    Ok(Change::Except(statement(estate, &rule)?, find::user(estate, &parts::said(user))?))
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
    let schema = estate.schema();
    // An id, a path, an attribute and a value may all hold dots and equals signs.
    let (equals, dots) = (parts::cuts(rest, '='), parts::cuts(rest, '.'));
    let cuts: Vec<(Cow<str>, Cow<str>, &str)> = equals
        .iter()
        .flat_map(|equal| dots.iter().filter(move |dot| *dot < equal).map(move |dot| (*dot, *equal)))
        .map(|(dot, equal)| (parts::said(&rest[..dot]), parts::said(&rest[dot + 1..equal]), &rest[equal + 1..]))
        .collect();
    let exact = cuts.iter().filter(|(id, name, _)| match domain {
        "user" => user_cell(schema, name).is_some() && estate.people().find(id).is_some(),
        _ => resource_cell(schema, name).is_some() && find::exact_resource(estate, id).is_some(),
    });
    let cut = match parts::only(exact) {
        Ok(Some(cut)) => cut,
        Err(()) => return Err(ReadError::Several(text.to_string())),
        Ok(None) => {
            // Nothing is there exactly: the first cut with an attribute that is known, or the first of all.
            let known = |(_, name, _): &&(Cow<str>, Cow<str>, &str)| match domain {
                "user" => user_cell(schema, name).is_some(),
                _ => resource_cell(schema, name).is_some(),
            };
            let last_dot = |(id, name, _): &&(Cow<str>, Cow<str>, &str)| !name.contains('.') || id.is_empty();
            cuts.iter().find(known).or_else(|| cuts.iter().find(last_dot)).ok_or_else(form)?
        }
    };
    let (id, name, value) = cut;
    match domain {
        "user" => {
            let (cell, value) = user_value(schema, name, value)?;
            Ok(Change::User(find::user(estate, id)?, cell, value))
        }
        "resource" => {
            let (cell, value) = resource_value(schema, name, value)?;
            Ok(Change::Resource(find::resource(estate, id)?, cell, value))
        }
        _ => Err(form()),
    }
}

fn user_cell(schema: &Schema, name: &str) -> Option<UserCell> {
    match name {
        "active" => Some(UserCell::Active),
        "kind" => Some(UserCell::Kind),
        "realm" => Some(UserCell::Realm),
        _ => schema.user_attribute(name).map(UserCell::Attribute),
    }
}

fn resource_cell(schema: &Schema, name: &str) -> Option<ResourceCell> {
    match name {
        "owner" => Some(ResourceCell::Owner),
        "state" => Some(ResourceCell::State),
        "inherits" => Some(ResourceCell::Inherits),
        _ => schema.resource_attribute(name).map(ResourceCell::Attribute),
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

/// `SUBJECT,MODALITY,ACTIONS,PLACE[,REACH[,FROM[,UNTIL[,NOTE]]]]`, quoted as CSV: an entry that is added. The place is an
/// id or a path.
///
/// # Errors
/// Another form, or a name that leads nowhere.
pub fn give(estate: &Estate, text: &str) -> Result<Change, ReadError> {
    let form = || ReadError::Form { text: text.to_string(), form: ENTRY };
    let cells = cells(text).ok_or_else(form)?;
    let cells: Vec<&str> = cells.iter().map(String::as_str).collect();
    let [subject, modality, actions, place, rest @ ..] = cells.as_slice() else { return Err(form()) };
    let (reach, rest) = rest.split_first().map_or(("", &[][..]), |(reach, rest)| (*reach, rest));
    let reach = match reach {
        "" | "under" => Reach::Under,
        "below" => Reach::Below,
        "at" => Reach::At,
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
    let mut set = FixedBitSet::with_capacity(estate.schema().actions.len());
    for name in split_set(actions) {
        match estate.schema().role(&name) {
            Some(role) => set.union_with(&estate.schema().roles[role.index()].actions),
            None => set.insert(find::action(estate, &name)?.index()),
        }
    }
    if set.is_clear() {
        return Err(form());
    }
    let place = if place.is_empty() { None } else { Some(find::resource(estate, place)?) };
    let mut given = entry(term, modality, set, place, reach);
    let day = |text: &str| match text {
        "" => Ok(None),
        text => read_date(text).map(Some).ok_or_else(form),
    };
    if rest.len() > 3 {
        return Err(form());
    }
    given.from = day(rest.first().unwrap_or(&""))?;
    given.until = day(rest.get(1).unwrap_or(&""))?;
    given.because = rest.get(2).filter(|note| !note.is_empty()).map(|note| note.to_string());
    Ok(Change::Give(Arc::new(given)))
}

/// The cells of one CSV row; blanks around a cell go where nothing is quoted.
fn cells(text: &str) -> Option<Vec<String>> {
    let trim = if text.contains('"') { csv::Trim::None } else { csv::Trim::All };
    let mut reader = csv::ReaderBuilder::new().has_headers(false).trim(trim).from_reader(text.as_bytes());
    let mut rows = reader.records();
    let row = rows.next()?.ok()?;
    rows.next().is_none().then(|| row.iter().map(str::to_string).collect())
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
