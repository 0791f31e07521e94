//! Personas as users: an estate in which they stand behind everybody else.

use bastide_model::groups::{Member, Membership};
use bastide_model::strings::Index;
use bastide_model::*;
use bastide_resolve::derived::fill;
use std::borrow::Cow;
use std::sync::Arc;

/// The estate with its personas as users, numbered on from the real ones.
pub fn with_personas(estate: &Estate) -> Cow<'_, Estate> {
    if estate.proofs.personas.is_empty() {
        return Cow::Borrowed(estate);
    }
    let mut whole = estate.clone();
    let first = whole.people.len();
    let rows = first + whole.proofs.personas.len();
    let personas = Arc::clone(&whole.proofs);
    let people = Arc::make_mut(&mut whole.people);
    let groups = Arc::make_mut(&mut whole.groups);
    people.active.grow(rows);
    for (i, persona) in personas.personas.iter().enumerate() {
        let row = first + i;
        people.ids.push(&persona.name);
        people.names.push(&persona.name);
        people.kinds.push(persona.kind);
        people.origins.push(persona.origin);
        people.active.insert(row);
        let realm = persona.realm.clone().map(|realm| people.realms.intern(realm));
        people.realms.set_code(row, rows, realm);
        for (id, value) in &persona.values {
            let column = &mut people.attributes[id.index()];
            let code = column.intern(value.clone());
            column.set_code(row, rows, Some(code));
        }
        for group in &persona.groups {
            let member = Member::User(UserId::new(row));
            groups.members[group.index()].push(Membership { member, origin: persona.origin });
        }
    }
    for (attribute, column) in estate.schema.user_attributes.iter().zip(&mut people.attributes) {
        fill(column, attribute, rows, |row| row >= first);
    }
    for (id, column) in &mut people.sign_ins {
        fill(column, &estate.schema.session_attributes[id.index()], rows, |row| row >= first);
    }
    people.index = Index::of(&people.ids).0;
    groups.members.iter_mut().for_each(|list| list.sort());
    groups.close(rows);
    if let Some(attribute) = estate.schema.member_of {
        people.hold_groups(attribute, groups);
    }
    Cow::Owned(whole)
}
