//! SCIM 2.0 people and groups (RFC 7643, RFC 7644): a `ListResponse`, or one resource a line.
//!
//! `userName` is a user's id and `displayName` a group's; members are joined by the `id` that the
//! source gave them. Besides mapped names, declared attributes are looked for under their own name
//! in the core and the enterprise schema.

use crate::json::{LooseCells, cell, lines, not_json};
use crate::manifest::DataSource;
use crate::people::{PeopleField, PeopleSink};
use crate::text::Lines;
use bastide_model::rows::{GroupRows, MemberRow, RowPlace};
use bastide_syntax::{Diagnostic, FileId, codes};
use hashbrown::HashMap;
use serde_json::value::RawValue;
use serde_json::{Map, Value};

const ENTERPRISE: &str = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User";
const GROUP: &str = "urn:ietf:params:scim:schemas:core:2.0:Group";
const USER: &str = "urn:ietf:params:scim:schemas:core:2.0:User";

/// What SCIM files leave to be joined once all of them were read.
#[derive(Default)]
pub struct ScimLinks {
    users: HashMap<String, String>,
    groups: HashMap<String, String>,
    members: Vec<(String, String, RowPlace)>,
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
}

/// Reads a SCIM file.
pub fn read(
    file: FileId,
    text: &str,
    source: &DataSource,
    people: &mut PeopleSink,
    groups: &mut GroupRows,
    links: &mut ScimLinks,
    out: &mut Vec<Diagnostic>,
) {
    let mapping = people.mapping(source, out);
    for (place, resource) in resources(file, text, out) {
        let schemas: Vec<&str> =
            resource.get("schemas").and_then(Value::as_array).into_iter().flatten().filter_map(Value::as_str).collect();
        if schemas.contains(&GROUP) {
            group(&resource, place, groups, links, out);
        } else if schemas.contains(&USER) {
            user(&resource, place, source, &mapping, people, links, out);
        } else {
            let message = "a resource that is neither a SCIM user nor a SCIM group";
            let help = format!("`schemas` names `{USER}` or `{GROUP}`");
            out.push(Diagnostic::at(&codes::UNSUPPORTED, place.span(), message).help(help));
        }
    }
}

/// The resources of a file with their places.
fn resources(file: FileId, text: &str, out: &mut Vec<Diagnostic>) -> Vec<(RowPlace, Map<String, Value>)> {
    let base = if text.starts_with('\u{feff}') { 3 } else { 0 };
    let trimmed = text[base..].trim_end();
    let mut found = Vec::new();
    // One document is a list response or a single resource; otherwise every line is a resource.
    let whole: Result<std::collections::BTreeMap<String, &RawValue>, _> = serde_json::from_str(trimmed);
    let one_a_line =
        whole.is_err() && trimmed.lines().next().is_some_and(|l| serde_json::from_str::<&RawValue>(l).is_ok());
    if one_a_line {
        for (place, line) in lines(file, text) {
            match serde_json::from_str::<Map<String, Value>>(line) {
                Ok(object) => found.push((place, object)),
                Err(error) => out.push(not_json(file, text, place.start as usize, &error)),
            }
        }
        return found;
    }
    let whole = match whole {
        Ok(whole) => whole,
        Err(error) => {
            out.push(not_json(file, text, base, &error));
            return found;
        }
    };
    let mut listed: Option<Vec<&RawValue>> = None;
    if let Some(list) = whole.get("Resources") {
        match serde_json::from_str(list.get()) {
            Ok(list) => listed = Some(list),
            Err(error) => {
                let from = list.get().as_ptr() as usize - text.as_ptr() as usize;
                out.push(not_json(file, text, from, &error));
                return found;
            }
        }
    } else if !whole.contains_key("schemas") || whole.contains_key("totalResults") {
        if !whole.contains_key("totalResults") {
            let place = RowPlace { file, line: 1, start: base as u32, end: base as u32 + 1 };
            let message = "neither a SCIM list response nor a SCIM resource";
            out.push(Diagnostic::at(&codes::UNSUPPORTED, place.span(), message));
        }
        return found;
    }
    let mut line = Lines::new(text);
    for raw in listed.map_or_else(|| vec![trimmed], |list| list.iter().map(|r| r.get()).collect()) {
        let start = raw.as_ptr() as usize - text.as_ptr() as usize;
        let place = RowPlace { file, line: line.line(start), start: start as u32, end: (start + raw.len()) as u32 };
        match serde_json::from_str::<Map<String, Value>>(raw) {
            Ok(object) => found.push((place, object)),
            Err(error) => out.push(not_json(file, text, start, &error)),
        }
    }
    found
}

/// A value by a name that may reach inside: `name.familyName`, `urn:...:User.department`.
fn lookup<'v>(resource: &'v Map<String, Value>, path: &str) -> Option<&'v Value> {
    if let Some(value) = resource.get(path) {
        return Some(value);
    }
    path.match_indices('.').find_map(|(dot, _)| match resource.get(&path[..dot])? {
        Value::Object(inner) => lookup(inner, &path[dot + 1..]),
        Value::Array(list) => list.iter().find_map(|v| lookup(v.as_object()?, &path[dot + 1..])),
        _ => None,
    })
}

fn user(
    resource: &Map<String, Value>,
    place: RowPlace,
    source: &DataSource,
    mapping: &[(String, PeopleField)],
    people: &mut PeopleSink,
    links: &mut ScimLinks,
    out: &mut Vec<Diagnostic>,
) {
    let (mut fields, mut cells) = (Vec::new(), LooseCells { texts: Vec::new(), place });
    let mut put = |field: PeopleField, name: &str, value: Option<&Value>| {
        let Some(value) = value.filter(|_| !fields.contains(&Some(field))) else { return };
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
    put(PeopleField::Id, "userName", resource.get("userName"));
    put(PeopleField::Name, "displayName", resource.get("displayName").or_else(|| lookup(resource, "name.formatted")));
    put(PeopleField::Active, "active", resource.get("active"));
    let enterprise = resource.get(ENTERPRISE).and_then(Value::as_object);
    for name in people.known() {
        if let Some(field @ PeopleField::Attribute(_)) = people.field(&name) {
            put(field, &name, resource.get(&name).or_else(|| enterprise.and_then(|e| e.get(&name))));
        }
    }
    let id = fields.iter().position(|f| *f == Some(PeopleField::Id)).map(|c| cells.texts[c].clone());
    if let (Some(theirs), Some(ours)) = (resource.get("id").and_then(Value::as_str), id) {
        links.users.insert(theirs.to_string(), ours);
    }
    if people.row(&fields, &cells, source.realm.as_deref(), out) {
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
    rows: &mut GroupRows,
    links: &mut ScimLinks,
    out: &mut Vec<Diagnostic>,
) {
    let Some(id) = resource.get("displayName").and_then(Value::as_str).filter(|id| !id.is_empty()) else {
        out.push(Diagnostic::at(&codes::MISSING_VALUE, place.span(), "a group without `displayName`, which is its id"));
        return;
    };
    if let Some(theirs) = resource.get("id").and_then(Value::as_str) {
        links.groups.insert(theirs.to_string(), id.to_string());
    }
    rows.groups.push((id.to_string(), None));
    for member in resource.get("members").and_then(Value::as_array).into_iter().flatten() {
        match member.get("value").and_then(Value::as_str) {
            Some(value) => links.members.push((id.to_string(), value.to_string(), place)),
            None => {
                let message = format!("a member of group `{id}` without `value`");
                out.push(Diagnostic::at(&codes::MISSING_VALUE, place.span(), message));
            }
        }
    }
}
