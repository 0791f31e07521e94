//! What stands under the cursor, in a policy file or a table of the estate.

use crate::desk::Desk;
use crate::tables::{self, Use};
use bastide_engine::find;
use bastide_model::catalog::PathPattern;
use bastide_model::{Estate, ResourceId};
use bastide_syntax::FileId;
use bastide_syntax::mentions::{Mention, Sort, mentions};
use bastide_syntax::tree::Domain;
use std::ops::Range;

/// Something that has a name.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Subject {
    /// A kind.
    Kind(String),
    /// An action.
    Action(String),
    /// A role.
    Role(String),
    /// A type.
    Type(String),
    /// A value of a choice or a scale: the type, and the value.
    Value(String, String),
    /// An attribute.
    Attribute(Domain, String),
    /// A group.
    Group(String),
    /// A user.
    User(String),
    /// A persona.
    Persona(String),
    /// A rule.
    Rule(String),
    /// An expectation.
    Expectation(String),
    /// A guarantee.
    Guarantee(String),
    /// A place, by its id.
    Place(String),
    /// A finding of the audit.
    Finding(String),
}

impl Subject {
    /// What it is, and its name.
    pub fn words(&self) -> (&'static str, &str) {
        match self {
            Subject::Kind(name) => ("kind", name),
            Subject::Action(name) => ("action", name),
            Subject::Role(name) => ("role", name),
            Subject::Type(name) => ("type", name),
            Subject::Value(_, name) => ("value", name),
            Subject::Attribute(Domain::User, name) => ("attribute of users", name),
            Subject::Attribute(Domain::Resource, name) => ("attribute of resources", name),
            Subject::Attribute(Domain::Session, name) => ("attribute of the session", name),
            Subject::Group(name) => ("group", name),
            Subject::User(name) => ("user", name),
            Subject::Persona(name) => ("persona", name),
            Subject::Rule(name) => ("rule", name),
            Subject::Expectation(name) => ("expectation", name),
            Subject::Guarantee(name) => ("guarantee", name),
            Subject::Place(id) => ("place", id),
            Subject::Finding(name) => ("finding", name),
        }
    }
}

/// The attribute of a name.
pub fn attribute<'e>(estate: &'e Estate, domain: Domain, name: &str) -> Option<&'e bastide_model::schema::Attribute> {
    let schema = estate.schema();
    let all = match domain {
        Domain::User => &schema.user_attributes,
        Domain::Resource => &schema.resource_attributes,
        Domain::Session => &schema.session_attributes,
    };
    all.iter().find(|attribute| attribute.name == name)
}

/// What a mention of a policy file is about.
pub fn of_mention(estate: &Estate, mention: &Mention) -> Option<Subject> {
    let name = mention.name.to_string();
    Some(match mention.sort {
        Sort::Kind => Subject::Kind(name),
        Sort::Action => Subject::Action(name),
        Sort::Role => Subject::Role(name),
        Sort::Item if estate.schema().action(&name).is_some() => Subject::Action(name),
        Sort::Item => Subject::Role(name),
        Sort::Type => Subject::Type(name),
        Sort::TypeValue => {
            let holds = |of: &&bastide_model::schema::NamedType| {
                of.span.file == mention.span.file && of.span.start < mention.span.start && of.values.contains(&name)
            };
            let of = estate.schema().types.iter().filter(holds).max_by_key(|of| of.span.start)?;
            Subject::Value(of.name.clone(), name)
        }
        Sort::Attribute(domain) => Subject::Attribute(domain, name),
        Sort::Value => {
            let (domain, attribute_name) = mention.of?;
            let scalar = match attribute(estate, domain, attribute_name) {
                Some(attribute) => attribute.scalar,
                None if (domain, attribute_name) == (Domain::Resource, "kind") => return Some(Subject::Kind(name)),
                None if (domain, attribute_name) == (Domain::Resource, "state") => estate.schema().state_type(),
                None => return None,
            };
            match scalar {
                bastide_model::schema::Scalar::Named(id) => {
                    let of = &estate.schema().types[id.index()];
                    of.values.contains(&name).then(|| Subject::Value(of.name.clone(), name))?
                }
                _ => return None,
            }
        }
        Sort::Group => Subject::Group(name),
        Sort::User if estate.proofs().personas.iter().any(|persona| persona.name == name) => Subject::Persona(name),
        Sort::User => Subject::User(name),
        Sort::Persona => Subject::Persona(name),
        Sort::Rule => Subject::Rule(name),
        Sort::Expectation => Subject::Expectation(name),
        Sort::Guarantee => Subject::Guarantee(name),
        Sort::Finding => Subject::Finding(name),
        Sort::Layer => return None,
        Sort::Path => Subject::Place(place(estate, &name)?),
        Sort::Id => Subject::Place(name),
    })
}

/// The id of the one place that a path leads to.
fn place(estate: &Estate, raw: &str) -> Option<String> {
    let pattern = PathPattern::new(raw);
    let found: Vec<ResourceId> = if pattern.is_wild() { Vec::new() } else { estate.catalog().matching(&pattern) };
    found.first().map(|place| estate.catalog().id(*place).to_string())
}

/// What stands at a byte of a file, and where its name begins and ends.
pub fn at(desk: &Desk, file: FileId, byte: usize) -> Option<(Subject, Range<usize>)> {
    let estate = desk.names()?;
    if let Some(tree) = desk.trees().iter().find(|tree| tree.file == file) {
        let here = |mention: &&Mention| mention.span.range().start <= byte && byte <= mention.span.range().end;
        let all = mentions(tree);
        let mention = all.iter().filter(here).min_by_key(|mention| mention.span.end - mention.span.start)?;
        // Of a path, the segments up to the cursor.
        if mention.sort == Sort::Path {
            let range = mention.span.range();
            let text = desk.sources()?.text(file);
            let upto =
                text[byte.clamp(range.start, range.end)..range.end].find(['/', '"']).map_or(range.end, |n| byte + n);
            let from = text[range.start + 1..upto.max(range.start + 1)]
                .rfind('/')
                .map_or(range.start + 1, |n| range.start + 2 + n);
            let raw = text.get(range.start + 1..upto)?;
            return Some((Subject::Place(place(estate, raw)?), from..upto));
        }
        return Some((of_mention(estate, mention)?, mention.span.range()));
    }
    let found = tables::at(desk, file, byte)?;
    Some((subject_of(estate, &found)?, found.range.clone()))
}

/// What a cell of a table is about.
pub fn subject_of(estate: &Estate, found: &Use) -> Option<Subject> {
    let name = found.name.clone();
    Some(match found.sort {
        tables::Sort::User => Subject::User(name),
        tables::Sort::Group => Subject::Group(name),
        tables::Sort::Kind => Subject::Kind(name),
        tables::Sort::Item if estate.schema().action(&name).is_some() => Subject::Action(name),
        tables::Sort::Item => Subject::Role(name),
        tables::Sort::Place => Subject::Place(name),
        tables::Sort::PlaceName(ref id) => Subject::Place(id.clone()),
        tables::Sort::Attribute(domain) => Subject::Attribute(domain, name),
        tables::Sort::Value(domain, ref of) => {
            let scalar = match attribute(estate, domain, of) {
                Some(attribute) => attribute.scalar,
                None if of == "state" => estate.schema().state_type(),
                None => return None,
            };
            match scalar {
                bastide_model::schema::Scalar::Named(id) => {
                    Subject::Value(estate.schema().types[id.index()].name.clone(), name)
                }
                _ => return None,
            }
        }
    })
}

/// The resource of a subject that is a place.
pub fn resource(estate: &Estate, id: &str) -> Option<ResourceId> {
    estate.catalog().find(id).or_else(|| find::exact_resource(estate, id))
}
