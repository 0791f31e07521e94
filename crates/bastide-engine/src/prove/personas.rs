//! Personas as users: an estate in which they stand behind everybody else.

use bastide_model::groups::{Member, Membership};
use bastide_model::people::Newcomer;
use bastide_model::proof::Persona;
use bastide_model::*;
use bastide_resolve::derived::fill;
use std::borrow::Cow;

/// The estate with its personas as users, numbered on from the real ones.
pub fn with_personas(estate: &Estate) -> Cow<'_, Estate> {
    if estate.proofs().personas.is_empty() {
        return Cow::Borrowed(estate);
    }
    let first = estate.people().len();
    let personas = &estate.proofs().personas;
    let rows = first + personas.len();
    let newcomers: Vec<Newcomer> = personas.iter().map(newcomer).collect();
    let mut people = People::clone(estate.people()).with(&newcomers);
    let mut groups = Groups::clone(estate.groups());
    for (i, persona) in personas.iter().enumerate() {
        let member = Member::User(UserId::new(first + i));
        for group in &persona.groups {
            groups.join(*group, Membership { member, origin: persona.origin });
        }
    }
    for (at, attribute) in estate.schema().user_attributes.iter().enumerate() {
        fill(people.attribute_mut(UserAttributeId::new(at)), attribute, rows, |row| row >= first);
    }
    for (id, column) in people.sign_ins_mut() {
        fill(column, &estate.schema().session_attributes[id.index()], rows, |row| row >= first);
    }
    groups.close(rows);
    if let Some(attribute) = estate.schema().member_of {
        people.hold_groups(attribute, &groups);
    }
    Cow::Owned(estate.with_people(people, groups))
}

fn newcomer(persona: &Persona) -> Newcomer<'_> {
    let Persona { name, kind, realm, values, origin, .. } = persona;
    Newcomer { id: name, kind: *kind, realm: realm.as_ref(), values, origin: *origin }
}
