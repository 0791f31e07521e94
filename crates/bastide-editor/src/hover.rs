//! What is told of the word under the cursor.

use crate::desk::Desk;
use crate::subject::{self, Subject, attribute};
use bastide_engine::access::{self, known, narrowed};
use bastide_engine::{Cancel, Snapshot};
use bastide_model::Estate;
use bastide_model::schema::{Attribute, Scalar, Travel};
use bastide_model::show::{self, count};
use bastide_syntax::FileId;
use bastide_syntax::tree::{Declaration, Domain};
use jiff::civil::Date;
use std::collections::HashMap;
use std::fmt::Write;
use std::ops::Range;

/// So many values, members or facts are listed.
const MOST: usize = 12;

/// What is told of what stands at a byte of a file, and the bytes it is told of.
pub fn told(desk: &Desk, file: FileId, byte: usize, today: Date, cancel: &Cancel) -> Option<(String, Range<usize>)> {
    let estate = desk.names()?;
    if let Some((subject, range)) = subject::at(desk, file, byte) {
        let snapshot = desk.snapshot(today);
        let text = match &subject {
            Subject::Attribute(domain, name) => of_attribute(estate, *domain, name),
            Subject::Action(name) => of_action(estate, name),
            Subject::Role(name) => of_role(estate, name),
            Subject::Kind(name) => of_kind(estate, name),
            Subject::Type(name) => of_type(estate, name),
            Subject::Value(of, name) => of_value(estate, of, name),
            Subject::Group(id) => {
                let group = estate.groups().find(id)?;
                of_known(snapshot?, access::Subject::Group(group))
            }
            Subject::User(id) => of_known(snapshot?, access::Subject::User(estate.people().find(id)?)),
            Subject::Place(id) => {
                let resource = subject::resource(estate, id)?;
                of_known(snapshot?, access::Subject::Resource(resource))
            }
            Subject::Rule(name) => of_rule(desk, name, today, cancel),
            Subject::Finding(name) => {
                let found = bastide_audit::ALL.iter().find(|known| known.name == name)?;
                Some(format!("**{name}**\n\n{}", found.what))
            }
            Subject::Persona(name) => {
                let persona = estate.proofs().personas.iter().find(|persona| persona.name == *name)?;
                let groups: Vec<&str> = persona.groups.iter().map(|group| estate.groups().id(*group)).collect();
                Some(format!("**persona** `{name}`: member of {}", listed(&groups, groups.len())))
            }
            Subject::Expectation(_) | Subject::Guarantee(_) => None,
        };
        return Some((text?, range));
    }
    of_condition(desk, file, byte, today, cancel)
}

fn listed(names: &[&str], all: usize) -> String {
    let shown: Vec<String> = names.iter().take(MOST).map(|name| format!("`{name}`")).collect();
    match (shown.len(), all) {
        (0, _) => "none".to_string(),
        (shown_count, all) if shown_count < all => format!("{} and {} more", shown.join(", "), all - shown_count),
        _ => shown.join(", "),
    }
}

fn of_attribute(estate: &Estate, domain: Domain, name: &str) -> Option<String> {
    let Some(declared) = attribute(estate, domain, name) else {
        return fixed(domain, name).map(|text| format!("**{name}**: {text}"));
    };
    let schema = estate.schema();
    let whose = match domain {
        Domain::User => "users".to_string(),
        Domain::Session => "the session".to_string(),
        Domain::Resource => match &declared.kinds {
            None => "resources".to_string(),
            Some(kinds) => {
                kinds.iter().map(|kind| schema.kinds[kind.index()].name.as_str()).collect::<Vec<_>>().join(", ")
            }
        },
    };
    let mut out = format!("**{name}** of {whose}: {}", schema.attribute_type(declared));
    if let Some(default) = &declared.default {
        let _ = write!(out, ", `{}` unless it says otherwise", schema.show(default));
    }
    match declared.travel {
        Travel::Stays => {}
        Travel::Inherit => out.push_str("\n\nA resource without one has that of its parent."),
        Travel::Highest => out.push_str("\n\nThe highest of its own, its parent's and its sources' counts."),
    }
    if let Some(values) = values(estate, domain, name, declared) {
        let _ = write!(out, "\n\n{values}");
    }
    Some(out)
}

fn fixed(domain: Domain, name: &str) -> Option<&'static str> {
    Some(match (domain, name) {
        (Domain::User, "id") => "the id of the user",
        (Domain::User, "name") => "the name of the user",
        (Domain::User, "kind") => "`person`, `guest` or `service`",
        (Domain::User, "realm") => "where the user comes from",
        (Domain::User, "active") => "whether the account is active",
        (Domain::Resource, "id") => "the id of the resource",
        (Domain::Resource, "name") => "the name of the resource",
        (Domain::Resource, "kind") => "the kind of the resource; a kind fits its sub-kinds, too",
        (Domain::Resource, "owner") => "who owns the resource",
        (Domain::Resource, "state") => "the state of the resource",
        (Domain::Resource, "depth") => "how deep the resource lies",
        _ => return None,
    })
}

/// The values of an attribute, how often each occurs, and who lacks one.
fn values(estate: &Estate, domain: Domain, name: &str, declared: &Attribute) -> Option<String> {
    let (column, of, all): (&bastide_model::column::Column, &str, usize) = match domain {
        Domain::User => {
            let id = estate.schema().user_attribute(name)?;
            (estate.people().attribute(id), "user", estate.people().len())
        }
        Domain::Resource => {
            let id = estate.schema().resource_attribute(name)?;
            let fits = |kind: &bastide_model::KindId| estate.schema().is_any(*kind, declared.kinds.as_deref());
            let all = estate.catalog().kinds.iter().filter(|kind| fits(kind)).count();
            (&estate.catalog().attributes[id.index()], "resource", all)
        }
        Domain::Session => return None,
    };
    let mut counts: HashMap<u32, usize> = HashMap::new();
    for row in 0..column.numbers().len() {
        if let Some(code) = column.code(row) {
            *counts.entry(code).or_default() += 1;
        }
    }
    let with: usize = counts.values().sum();
    let mut counted: Vec<(String, usize)> = Vec::new();
    let mut seen: Vec<(u32, usize)> = counts.into_iter().collect();
    seen.sort_by_key(|(code, number)| (std::cmp::Reverse(*number), *code));
    let distinct = seen.len();
    for (code, number) in seen.into_iter().take(MOST) {
        let row = (0..column.numbers().len()).find(|row| column.code(*row) == Some(code))?;
        counted.push((column.get(row).map_or(String::new(), |value| estate.schema().show(value)), number));
    }
    let mut out = match all.saturating_sub(with) {
        0 => format!("Every {of} has one."),
        lacking => format!("{} of {} have none.", lacking, count(all, of)),
    };
    for (value, number) in counted {
        let _ = write!(out, "\n- `{value}` {}", count(number, of));
    }
    if distinct > MOST {
        let _ = write!(out, "\n- and {} more", count(distinct - MOST, "value"));
    }
    Some(out)
}

fn of_action(estate: &Estate, name: &str) -> Option<String> {
    let schema = estate.schema();
    let id = schema.action(name)?;
    let action = &schema.actions[id.index()];
    let mut out = format!("**action** `{name}`");
    if let Some(on) = &action.on {
        let kinds: Vec<&str> = on.iter().map(|kind| schema.kinds[kind.index()].name.as_str()).collect();
        let _ = write!(out, " on {}", listed(&kinds, kinds.len()));
    }
    for need in &action.needs {
        let target = show::target(estate, need.target);
        let _ = write!(out, "\n- needs `{}` on {target}", schema.actions[need.action.index()].name);
    }
    let roles: Vec<&str> =
        schema.roles.iter().filter(|role| role.actions.contains(id.index())).map(|role| role.name.as_str()).collect();
    if !roles.is_empty() {
        let _ = write!(out, "\n- in the roles {}", listed(&roles, roles.len()));
    }
    let speaking = estate.statements().iter().filter(|s| s.speaks_of(id)).count();
    let _ = write!(
        out,
        "\n- {} it",
        if speaking == 1 {
            "1 statement speaks of".into()
        } else {
            format!("{} speak of", count(speaking, "statement"))
        }
    );
    Some(out)
}

fn of_role(estate: &Estate, name: &str) -> Option<String> {
    let role = &estate.schema().roles[estate.schema().role(name)?.index()];
    let actions: Vec<&str> = role.actions.ones().map(|at| estate.schema().actions[at].name.as_str()).collect();
    let mut out = format!("**role** `{name}`: {}", listed(&actions, actions.len()));
    if role.off {
        out.push_str("\n\nIt is switched off.");
    }
    if role.locked {
        out.push_str("\n\nIt is locked.");
    }
    Some(out)
}

fn of_kind(estate: &Estate, name: &str) -> Option<String> {
    let schema = estate.schema();
    let id = schema.kind(name)?;
    let kind = &schema.kinds[id.index()];
    let mut out = format!("**kind** `{name}`");
    if let Some(base) = kind.is.get(1) {
        let _ = write!(out, ", a sort of `{}`", schema.kinds[base.index()].name);
    }
    let within: Vec<&str> = kind.containers.iter().map(|of| schema.kinds[of.index()].name.as_str()).collect();
    if !within.is_empty() {
        let _ = write!(out, " in {}", listed(&within, within.len()));
    }
    let number = estate.catalog().kinds.iter().filter(|of| schema.is_kind(**of, id)).count();
    let _ = write!(out, "\n\n{} of it, sub-kinds among them.", count(number, "resource"));
    Some(out)
}

fn of_type(estate: &Estate, name: &str) -> Option<String> {
    let of = &estate.schema().types[estate.schema().named_type(name)?.index()];
    let values: Vec<&str> = of.values.iter().map(String::as_str).collect();
    let form = if of.scale { "scale, the lowest first" } else { "choice" };
    Some(format!("**type** `{name}`: {form}: {}", listed(&values, values.len())))
}

fn of_value(estate: &Estate, of: &str, name: &str) -> Option<String> {
    let declared = &estate.schema().types[estate.schema().named_type(of)?.index()];
    let at = declared.values.iter().position(|value| value == name)? + 1;
    let place = if declared.scale { format!(", step {at} of {}", declared.values.len()) } else { String::new() };
    Some(format!("`{name}`, a value of `{of}`{place}"))
}

/// Facts of a user, a group or a place.
fn of_known(snapshot: &Snapshot, subject: access::Subject) -> Option<String> {
    let known = known(snapshot, subject);
    let named = if known.name == known.id { String::new() } else { format!(": {}", known.name) };
    let mut out = format!("**{}** `{}`{named}\n", known.sort, known.id);
    for (name, value) in &known.facts {
        let _ = write!(out, "\n- {name}: {value}");
    }
    for met in known.attributes.iter().filter(|met| met.value.is_some()) {
        let _ = write!(out, "\n- `{}`: {}", met.name, met.value.as_deref().unwrap_or_default());
    }
    let groups: Vec<&str> = known.groups.iter().map(|(id, _)| id.as_str()).collect();
    if !groups.is_empty() {
        let _ = write!(out, "\n- in {}", listed(&groups, groups.len()));
    }
    let members: Vec<&str> = known.members.iter().map(|(id, _)| id.as_str()).collect();
    if !members.is_empty() {
        let _ = write!(out, "\n- direct members: {}", listed(&members, members.len()));
    }
    if !known.allowed.is_empty() {
        let allowed: Vec<String> = known.allowed.iter().map(|(action, users)| format!("`{action}` {users}")).collect();
        let _ = write!(out, "\n- users who may: {}", allowed.join(", "));
    }
    Some(out)
}

/// A rule, and how it narrows word by word.
fn of_rule(desk: &Desk, name: &str, today: Date, cancel: &Cancel) -> Option<String> {
    let id = desk.rule(name)?;
    let snapshot = desk.snapshot(today)?;
    let steps = cancel.ask(|question| narrowed(&snapshot.clone().cancellable(question), id)).ok()?;
    let statement = snapshot.estate().statement(id);
    let mut out = format!("**rule** `{name}`");
    if let Some(because) = &statement.because {
        let _ = write!(out, ": {because}");
    }
    for (_, step) in &steps {
        let _ =
            write!(out, "\n- {}: {} on {}", step.words, count(step.users, "user"), count(step.resources, "resource"));
    }
    Some(out)
}

/// The condition under the cursor: how many users and resources it leaves.
fn of_condition(
    desk: &Desk,
    file: FileId,
    byte: usize,
    today: Date,
    cancel: &Cancel,
) -> Option<(String, Range<usize>)> {
    let tree = desk.trees().iter().find(|tree| tree.file == file)?;
    let rule = tree.declarations.iter().find_map(|declaration| match declaration {
        Declaration::Rule(rule) if rule.span.range().contains(&byte) => Some(rule),
        _ => None,
    })?;
    let id = desk.rule(&rule.name.text)?;
    let snapshot = desk.snapshot(today)?;
    let steps = cancel.ask(|question| narrowed(&snapshot.clone().cancellable(question), id)).ok()?;
    let (mut before, mut found) = (None, None);
    for (span, step) in &steps {
        if let Some(span) = span.filter(|span| span.range().contains(&byte)) {
            found = before.map(|before: &access::Narrowing| (before, step, span.range()));
            break;
        }
        before = Some(step);
    }
    let (before, step, range) = found?;
    let text = format!(
        "leaves {} of {} and {} of {}",
        step.users,
        count(before.users, "user"),
        step.resources,
        count(before.resources, "resource")
    );
    Some((text, range))
}

/// The values of the right type that an attribute may be compared with, the most frequent first.
pub fn offered(estate: &Estate, domain: Domain, name: &str) -> Vec<String> {
    let schema = estate.schema();
    let named = |scalar: Scalar| match scalar {
        Scalar::Named(id) => Some(schema.types[id.index()].values.clone()),
        Scalar::Flag => Some(vec!["yes".to_string(), "no".to_string()]),
        _ => None,
    };
    let kinds = || schema.kinds.iter().map(|kind| kind.name.clone()).collect();
    let declared = attribute(estate, domain, name);
    match (declared, domain, name) {
        (None, Domain::Resource, "kind") => return kinds(),
        (None, Domain::User, "kind") => return bastide_model::schema::USER_KINDS.map(str::to_string).to_vec(),
        (None, Domain::Resource, "state") => return named(schema.state_type()).unwrap_or_default(),
        (None, ..) => return Vec::new(),
        (Some(_), ..) => {}
    }
    let declared = declared.expect("looked at just now");
    if let Some(values) = named(declared.scalar) {
        return values;
    }
    let column = match domain {
        Domain::User => schema.user_attribute(name).map(|id| estate.people().attribute(id)),
        Domain::Resource => schema.resource_attribute(name).map(|id| &estate.catalog().attributes[id.index()]),
        Domain::Session => None,
    };
    let Some(column) = column else { return Vec::new() };
    let mut counts: HashMap<String, usize> = HashMap::new();
    // Of a long column, what stands in its first rows will do.
    for row in 0..column.numbers().len().min(20_000) {
        if let Some(value) = column.get(row) {
            let texts = match value {
                bastide_model::Value::Set(elements) => elements.iter().map(|element| schema.show(element)).collect(),
                one => vec![schema.show(one)],
            };
            texts.into_iter().for_each(|text| *counts.entry(text).or_default() += 1);
        }
    }
    let mut values: Vec<(String, usize)> = counts.into_iter().collect();
    values.sort_by(|(a, m), (b, n)| n.cmp(m).then_with(|| a.cmp(b)));
    values.into_iter().take(50).map(|(value, _)| value).collect()
}
