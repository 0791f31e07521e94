//! Where a value comes from that a condition looked up.

use super::Met;
use crate::decide::ReferenceEvaluator;
use bastide_model::condition::*;
use bastide_model::schema::Travel;
use bastide_model::*;
use std::collections::{BTreeSet, VecDeque};

/// In words: its own and where that is written, from which resource it came and how, or the default.
pub(super) fn origin(reference: &ReferenceEvaluator, operand: &Operand, user: UserId, resource: ResourceId) -> String {
    let estate = reference.estate();
    match operand {
        Operand::User(UserField::Attribute(id)) => of_user(estate, *id, user),
        Operand::User(UserField::Realm) => estate.place(estate.people().origin(user)),
        Operand::Resource(step, field) => {
            let Some(at) = reference.step(*step, resource) else { return String::new() };
            let beside = if at == resource { String::new() } else { format!("of `{}`, ", estate.catalog().path(at)) };
            let from = match field {
                ResourceField::Attribute(id) => of_resource(estate, *id, at),
                ResourceField::State | ResourceField::Owner => {
                    format!("its own, {}", estate.place(estate.catalog().origins[at.index()]))
                }
                // What it is and where it lies goes without saying.
                ResourceField::Id | ResourceField::Name | ResourceField::Path | ResourceField::Kind => String::new(),
            };
            format!("{beside}{from}").trim_end_matches([',', ' ']).to_string()
        }
        Operand::Session(id) | Operand::User(UserField::SignIn(id)) => {
            of_session(estate, reference.moment(), *id, user)
        }
        Operand::Today(_) => "the day asked for".to_string(),
        Operand::User(_) | Operand::Literal(_) | Operand::Kinds(_) => String::new(),
    }
}

/// Where the value of an attribute of the session comes from.
fn of_session(estate: &Estate, moment: &Moment, id: SessionAttributeId, user: UserId) -> String {
    match (moment.value_for(estate.people(), id, user), estate.people().signed_in_at(id, user)) {
        (None, _) => String::new(),
        (Some(_), _) if moment.is_given(id) => "given".to_string(),
        (Some(_), Some(origin)) => format!("the sign-in, {}", estate.place(origin)),
        (Some(_), None) => "the default".to_string(),
    }
}

/// What is known of the session of a user, of the attributes that sign-ins tell.
pub(crate) fn signed_in(estate: &Estate, moment: &Moment, user: UserId) -> impl Iterator<Item = Met> {
    estate.schema().sign_ins.iter().map(move |id| Met {
        name: format!("session.{}", estate.schema().session_attributes[id.index()].name),
        value: moment.value_for(estate.people(), *id, user).map(|value| estate.schema().show(value)),
        from: of_session(estate, moment, *id, user),
    })
}

/// Where the value of a user's attribute comes from.
pub(crate) fn of_user(estate: &Estate, id: UserAttributeId, user: UserId) -> String {
    let attribute = &estate.schema().user_attributes[id.index()];
    match estate.people().attribute(id).get(user.index()) {
        None => String::new(),
        Some(value) if attribute.default.as_ref() == Some(value) => "the default".to_string(),
        Some(_) => estate.place(estate.people().origin(user)),
    }
}

/// Where the value of a resource's attribute comes from.
pub(crate) fn of_resource(estate: &Estate, id: ResourceAttributeId, at: ResourceId) -> String {
    let (catalog, attribute) = (estate.catalog(), &estate.schema().resource_attributes[id.index()]);
    let Some(value) = catalog.attributes[id.index()].get(at.index()) else { return String::new() };
    let own = |r: ResourceId| {
        let column = catalog.own[id.index()].as_ref().unwrap_or(&catalog.attributes[id.index()]);
        column.get(r.index()).filter(|v| !v.is_empty_set())
    };
    let line = |r: ResourceId| estate.place(catalog.origins[r.index()]);
    if attribute.travel == Travel::Stays && attribute.default.as_ref() == Some(value) {
        return "the default".to_string();
    }
    if own(at) == Some(value) {
        return format!("its own, {}", line(at));
    }
    match attribute.travel {
        Travel::Stays => String::new(),
        Travel::Inherit => match catalog.upward(at).skip(1).find(|r| own(*r).is_some()) {
            Some(above) => format!("inherited from `{}`, {}", catalog.path(above), line(above)),
            None => "the default".to_string(),
        },
        Travel::Highest => {
            // The nearest that has it of its own, through parents and sources.
            let (mut seen, mut open) = (BTreeSet::from([at]), VecDeque::from([(at, false)]));
            while let Some((resource, linked)) = open.pop_front() {
                if own(resource) == Some(value) {
                    let how = if linked { "travelled from its source" } else { "travelled from" };
                    return format!("{how} `{}`, {}", catalog.path(resource), line(resource));
                }
                let sources = catalog.sources(resource).iter().filter_map(|source| match source {
                    Source::Resource(source) => Some((*source, true)),
                    Source::Missing(_) => None,
                });
                let above = catalog.parent(resource).map(|parent| (parent, linked));
                open.extend(above.into_iter().chain(sources).filter(|(r, _)| seen.insert(*r)));
            }
            "the default".to_string()
        }
    }
}
