//! SCIM 2.0 people and groups (RFC 7643, RFC 7644): a `ListResponse`, or one resource a line.
//!
//! `userName` is a user's id and `displayName` a group's; members are joined by the `id` that the
//! source gave them. Besides mapped names, declared attributes are looked for under their own name
//! in the core and the enterprise schema.

use crate::cells::LooseCells;
use crate::json::{cell, lines, not_json};
use crate::ldif::same_group;
use crate::manifest::DataSource;
use crate::people::{PeopleField, PeopleSink};
use crate::strict::{self, Keys, object};
use crate::text::Lines;
use crate::untidy::untidy_name;
use bastide_model::rows::{GroupRows, MemberRow, RowPlace};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Span, codes};
use hashbrown::HashMap;
use serde_json::value::RawValue;
use serde_json::{Map, Value};

const ENTERPRISE: &str = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";
const GROUP: &str = "urn:ietf:params:scim:schemas:core:2.0:Group";
const USER: &str = "urn:ietf:params:scim:schemas:core:2.0:User";

/// A list that comes in pages: the source, what it lists, and how long it is.
type Listing = (Span, &'static str, usize);

/// The positions that came, from and to, and where the list was read first.
type Pages = (Vec<(usize, usize)>, Span);

/// What SCIM files leave to be joined once all of them were read.
#[derive(Default)]
pub struct ScimLinks {
    users: HashMap<String, String>,
    groups: HashMap<String, String>,
    members: Vec<(String, String, RowPlace)>,
    /// By source and id, the id that the source gave the group.
    named: HashMap<(Span, String), String>,
    /// Ids that the source gave, and where each stands.
    read: HashMap<String, RowPlace>,
    /// Pages of longer lists: by source and what they list, how long the whole list is, and the positions that came.
    pages: HashMap<Listing, Pages>,
}

impl ScimLinks {
    /// Resolves members by the source's ids; one that is nowhere leads nowhere.
    pub fn join(self, rows: &mut GroupRows) {
        for (group, value, place) in self.members {
            let member = match (self.users.get(&value), self.groups.get(&value)) {
                (Some(user), _) => MemberRow::User(user.clone()),
                (None, Some(inner)) => MemberRow::Group(inner.clone()),
                (None, None) => MemberRow::Nobody(value),
            };
            rows.members.push((group, member, place));
        }
    }

    /// Reports lists of which not every page came.
    pub fn report(&self, out: &mut Diagnostics) {
        let mut found: Vec<Diagnostic> = Vec::new();
        for ((_, what, total), (pages, span)) in &self.pages {
            let mut pages = pages.clone();
            pages.sort_unstable();
            let came = pages
                .iter()
                .fold(0, |upto, (from, count)| if *from <= upto + 1 { upto.max(from + count - 1) } else { upto });
            if came < *total {
                let message = format!("the list has {total} {what}, and {came} came");
                let help = "export every page of it: `startIndex` and `count` say which (RFC 7644, 3.4.2.4)";
                found.push(Diagnostic::at(&codes::CUT_OFF, *span, message).help(help));
            }
        }
        found.sort_by_key(|d| d.place.map(|p| (p.file.0, p.start)));
        out.extend(found);
    }
}

/// Reads a SCIM file.
pub fn read(
    file: FileId,
    text: &str,
    source: &DataSource,
    people: &mut PeopleSink,
    groups: &mut GroupRows,
    links: &mut ScimLinks,
    out: &mut Diagnostics,
) {
    let mapping = people.mapping(source, out);
    let (resources, list) = resources(file, text, out);
    if let Some(list) = list {
        // What a list holds is told by its first resource; an empty page of a list says nothing of it.
        let what =
            resources.first().map_or("resources", |(_, first)| if is_of(first, GROUP) { "groups" } else { "users" });
        let pages = links.pages.entry((source.file.span, what, list.total)).or_insert((Vec::new(), list.span));
        pages.0.push((list.start, list.count));
    }
    for (place, resource) in resources {
        if let Some(id) = get(&resource, "id").and_then(Value::as_str)
            && let Some(first) = links.read.insert(id.to_string(), place)
        {
            let message = format!("the resource `{id}` stands twice in the export");
            out.push(
                Diagnostic::at(&codes::DUPLICATE_ID, place.span(), message).other(first.span(), "here it stands first"),
            );
            continue;
        }
        let schemas: Vec<&str> = get(&resource, "schemas")
            .and_then(Value::as_array)
            .into_iter()
            .flatten()
            .filter_map(Value::as_str)
            .collect();
        if schemas.contains(&GROUP) {
            group(&resource, place, source, groups, links, out);
        } else if schemas.contains(&USER) {
            user(&resource, place, source, &mapping, people, links, out);
        } else {
            let message = "a resource that is neither a SCIM user nor a SCIM group";
            let help = format!("`schemas` names `{USER}` or `{GROUP}`");
            out.push(Diagnostic::at(&codes::UNSUPPORTED, place.span(), message).help(help));
        }
    }
}

fn is_of(resource: &Map<String, Value>, schema: &str) -> bool {
    get(resource, "schemas").and_then(Value::as_array).is_some_and(|list| list.iter().any(|s| s == schema))
}

/// What a list response says of the whole list.
struct ListPage {
    /// How many there are in all.
    total: usize,
    /// The position of the first that came, from 1, and how many came.
    start: usize,
    count: usize,
    span: Span,
}

/// The resources of a file with their places, and what it says of the list that they are from.
type Resources = (Vec<(RowPlace, Map<String, Value>)>, Option<ListPage>);

fn resources(file: FileId, text: &str, out: &mut Diagnostics) -> Resources {
    let base = if text.starts_with('\u{feff}') { 3 } else { 0 };
    let trimmed = text[base..].trim_end();
    let mut found = Vec::new();
    // One document is a list response or a single resource; otherwise every line is a resource.
    let whole: Result<std::collections::BTreeMap<String, &RawValue>, _> = serde_json::from_str(trimmed);
    let one_a_line =
        whole.is_err() && trimmed.lines().next().is_some_and(|l| serde_json::from_str::<&RawValue>(l).is_ok());
    if one_a_line {
        for (place, line) in lines(file, text) {
            match object(line, Keys::Caseless) {
                Ok(object) => found.push((place, object)),
                Err(error) => out.push(not_json(file, text, place.start as usize, &error)),
            }
        }
        return (found, None);
    }
    let whole = match whole {
        Ok(whole) => whole,
        Err(error) => {
            out.push(not_json(file, text, base, &error));
            return (found, None);
        }
    };
    if let Err(error) = strict::check(trimmed, Keys::Caseless) {
        out.push(not_json(file, text, base, &error));
        return (found, None);
    }
    let key = |name: &str| whole.iter().find(|(key, _)| key.eq_ignore_ascii_case(name)).map(|(_, value)| *value);
    let number = |name: &str| key(name).and_then(|raw| serde_json::from_str::<usize>(raw.get()).ok());
    let page = |count: usize| {
        let raw = key("totalResults")?.get();
        let start = raw.as_ptr() as usize - text.as_ptr() as usize;
        Some(ListPage {
            // What cannot be read as a number is more than any.
            total: number("totalResults").unwrap_or(usize::MAX),
            start: number("startIndex").unwrap_or(1).max(1),
            count,
            span: Span::new(file, start, start + raw.len()),
        })
    };
    let mut listed: Option<Vec<&RawValue>> = None;
    if let Some(list) = key("Resources") {
        match serde_json::from_str(list.get()) {
            Ok(list) => listed = Some(list),
            Err(error) => {
                let from = list.get().as_ptr() as usize - text.as_ptr() as usize;
                out.push(not_json(file, text, from, &error));
                return (found, None);
            }
        }
    } else if key("schemas").is_none() || key("totalResults").is_some() {
        if key("totalResults").is_none() {
            let place = RowPlace { file, line: 1, start: base as u32, end: base as u32 + 1 };
            let message = "neither a SCIM list response nor a SCIM resource";
            out.push(Diagnostic::at(&codes::UNSUPPORTED, place.span(), message));
        }
        return (found, page(0));
    }
    let count = listed.as_ref().map(Vec::len);
    let mut line = Lines::new(text);
    for raw in listed.map_or_else(|| vec![trimmed], |list| list.iter().map(|r| r.get()).collect()) {
        let start = raw.as_ptr() as usize - text.as_ptr() as usize;
        let place = RowPlace { file, line: line.line(start), start: start as u32, end: (start + raw.len()) as u32 };
        match object(raw, Keys::Caseless) {
            Ok(object) => found.push((place, object)),
            Err(error) => out.push(not_json(file, text, start, &error)),
        }
    }
    (found, count.and_then(page))
}

/// The value of a key; keys are compared without case (RFC 7643, 2.1).
fn get<'v>(object: &'v Map<String, Value>, key: &str) -> Option<&'v Value> {
    object.get(key).or_else(|| object.iter().find(|(name, _)| name.eq_ignore_ascii_case(key)).map(|(_, value)| value))
}

/// A value by a name that may reach inside: `name.familyName`, `urn:...:User.department`, and with a filter on the values
/// of a list: `emails[type eq "work"].value` (RFC 7644, 3.5.2). Of a list without a filter its primary value is taken
/// where one is.
fn lookup<'v>(resource: &'v Map<String, Value>, path: &str) -> Option<&'v Value> {
    if let Some(value) = get(resource, path) {
        return Some(value);
    }
    if let Some((list, filter, rest)) = filtered(path) {
        let Value::Array(list) = lookup(resource, list)? else { return None };
        let fits = |value: &&Value| value.as_object().is_some_and(|value| filter.iter().all(|part| part.fits(value)));
        let found = list.iter().find(fits)?;
        return match rest {
            "" => Some(found),
            rest => lookup(found.as_object()?, rest),
        };
    }
    path.match_indices('.').find_map(|(dot, _)| match get(resource, &path[..dot])? {
        Value::Object(inner) => lookup(inner, &path[dot + 1..]),
        Value::Array(list) => match primary(list) {
            Some(primary) => lookup(primary.as_object()?, &path[dot + 1..]),
            None => list.iter().find_map(|v| lookup(v.as_object()?, &path[dot + 1..])),
        },
        _ => None,
    })
}

/// The primary value of a list, where one is.
fn primary(list: &[Value]) -> Option<&Value> {
    list.iter().find(|value| value.as_object().and_then(|v| get(v, "primary")).and_then(Value::as_bool) == Some(true))
}

/// One comparison of a filter: `type eq "work"`.
struct Filter<'p> {
    key: &'p str,
    wanted: Value,
}

impl Filter<'_> {
    fn fits(&self, value: &Map<String, Value>) -> bool {
        match (get(value, self.key), &self.wanted) {
            (Some(Value::String(a)), Value::String(b)) => a.eq_ignore_ascii_case(b),
            (Some(found), wanted) => found == wanted,
            (None, _) => false,
        }
    }
}

/// A path with a filter: the list, the comparisons that must all hold, and what is wanted of the value that fits.
fn filtered(path: &str) -> Option<(&str, Vec<Filter<'_>>, &str)> {
    let (list, rest) = path.split_once('[')?;
    let (inside, rest) = rest.split_once(']')?;
    let parts: Option<Vec<Filter>> = inside
        .split(" and ")
        .map(|part| {
            let mut words = part.trim().splitn(3, ' ');
            let (key, operator, wanted) = (words.next()?, words.next()?, words.next()?);
            let wanted = serde_json::from_str(wanted.trim()).ok()?;
            operator.eq_ignore_ascii_case("eq").then_some(Filter { key, wanted })
        })
        .collect();
    Some((list, parts?, rest.strip_prefix('.').unwrap_or(rest)))
}

fn user(
    resource: &Map<String, Value>,
    place: RowPlace,
    source: &DataSource,
    mapping: &[(String, PeopleField)],
    people: &mut PeopleSink,
    links: &mut ScimLinks,
    out: &mut Diagnostics,
) {
    // Anything else than a boolean would have to be guessed at (RFC 7643, 4.1.1).
    let active = get(resource, "active");
    if let Some(value) = active.filter(|value| !value.is_boolean()) {
        let message = format!("`active`: expected `true` or `false`, found `{value}`");
        let help = "to read it from another attribute, or another value, write `[people.active]` in the manifest";
        out.push(Diagnostic::at(&codes::BAD_VALUE, place.span(), message).help(help));
    }
    let (mut fields, mut cells) = (Vec::new(), LooseCells { texts: Vec::new(), place });
    let mut put = |field: PeopleField, name: &str, value: Option<&Value>| {
        let Some(value) = value.filter(|_| !fields.contains(&Some(field))) else { return };
        // A field that holds one value takes the primary one of several.
        let value = match value {
            Value::Array(list) if !people.is_set(field) => match (primary(list), list.as_slice()) {
                (Some(primary), _) => primary,
                (None, [only]) => only,
                (None, _) => value,
            },
            value => value,
        };
        match cell(value) {
            Ok(text) => {
                fields.push(Some(field));
                cells.texts.push(text);
            }
            Err(message) => out.push(Diagnostic::at(&codes::BAD_VALUE, place.span(), format!("`{name}`: {message}"))),
        }
    };
    for (theirs, field) in mapping {
        put(*field, theirs, lookup(resource, theirs));
    }
    put(PeopleField::Id, "userName", get(resource, "userName"));
    put(PeopleField::Name, "displayName", get(resource, "displayName").or_else(|| lookup(resource, "name.formatted")));
    put(PeopleField::Active, "active", active.filter(|value| value.is_boolean()));
    let enterprise = get(resource, ENTERPRISE).and_then(Value::as_object);
    for name in people.known() {
        if let Some(field @ PeopleField::Attribute(_)) = people.field(&name) {
            put(field, &name, get(resource, &name).or_else(|| enterprise.and_then(|e| get(e, &name))));
        }
    }
    let id = fields.iter().position(|f| *f == Some(PeopleField::Id)).map(|c| cells.texts[c].clone());
    if let (Some(theirs), Some(ours)) = (get(resource, "id").and_then(Value::as_str), id) {
        links.users.insert(theirs.to_string(), ours);
    }
    let shape = people.shape(source, &mut fields);
    if people.row(&fields, &shape.row(&cells), source.realm.as_deref(), out) {
        let values = |name: &str| match lookup(resource, name).map(cell) {
            Some(Ok(text)) if !text.is_empty() => vec![text],
            // What cannot be read is not known.
            Some(Err(_)) => vec![String::new()],
            Some(Ok(_)) | None => Vec::new(),
        };
        people.activity(&source.active, &values);
        let read = |name: &str| {
            mapping.iter().any(|(theirs, _)| theirs == name)
                || ["id", "userName", "displayName"].contains(&name)
                || people.field(name).is_some()
        };
        let all = resource.iter().chain(enterprise.into_iter().flatten());
        let others = all.filter_map(|(name, value)| Some((name, value.as_str().filter(|_| !read(name))?)));
        for (name, text) in others.collect::<Vec<_>>() {
            people.remark(name, text);
        }
    }
}

fn group(
    resource: &Map<String, Value>,
    place: RowPlace,
    source: &DataSource,
    rows: &mut GroupRows,
    links: &mut ScimLinks,
    out: &mut Diagnostics,
) {
    let named = source.group_id.as_ref().map_or("displayName", |id| &id.text);
    let Some(id) = lookup(resource, named).and_then(Value::as_str).filter(|id| !id.is_empty()) else {
        let message = format!("a group without `{named}`, which is its id");
        out.push(Diagnostic::at(&codes::MISSING_VALUE, place.span(), message));
        return;
    };
    let theirs = get(resource, "id").and_then(Value::as_str);
    if let Some(theirs) = theirs {
        links.groups.insert(theirs.to_string(), id.to_string());
    }
    let own = theirs.unwrap_or_default();
    if let Some(other) = links.named.insert((source.file.span, id.to_string()), own.to_string()) {
        out.push(same_group(id, (&other, own), "id", place.span()));
    }
    let name = get(resource, "displayName").and_then(Value::as_str).filter(|_| source.group_id.is_some());
    if let Some(told) = untidy_name("group", id, "id", id) {
        out.push(Diagnostic { place: Some(place.span()), ..told });
    }
    rows.groups.push((id.to_string(), name.map(str::to_string)));
    let members = get(resource, "members");
    if let Some(value) = members.filter(|value| !value.is_array() && !value.is_null()) {
        let what = match value {
            Value::Object(_) => "an object",
            Value::String(_) => "a text",
            _ => "a single value",
        };
        let message = format!("`members` of group `{id}`: expected a list, found {what}");
        out.push(Diagnostic::at(&codes::BAD_VALUE, place.span(), message));
    }
    for member in members.and_then(Value::as_array).into_iter().flatten() {
        match member.as_object().and_then(|m| get(m, "value")).and_then(Value::as_str) {
            Some(value) => links.members.push((id.to_string(), value.to_string(), place)),
            None => {
                let message = format!("a member of group `{id}` without `value`");
                out.push(Diagnostic::at(&codes::MISSING_VALUE, place.span(), message));
            }
        }
    }
}
