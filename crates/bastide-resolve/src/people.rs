//! People: sorted by id, doubles refused, defaults filled in.

use bastide_model::column::{Column, NONE};
use bastide_model::people::{Farewell, PeopleLists};
use bastide_model::rows::{PeopleRows, RowPlace, SignInRows};
use bastide_model::schema::{Attribute, Scalar};
use bastide_model::strings::{Index, Strings};
use bastide_model::value::Value;
use bastide_model::{Groups, People, Schema, SessionAttributeId, UserId};
use bastide_syntax::nearest::nearest;
use bastide_syntax::{Diagnostic, Diagnostics, Span, codes};
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::collections::BTreeMap;

pub(crate) fn build(rows: PeopleRows, schema: &Schema, out: &mut Diagnostics) -> People {
    let (_, twice) = Index::of(&rows.ids);
    duplicates(&rows.ids, &twice, &rows.places, out);
    let dropped: FixedBitSet = twice.iter().map(|(later, _)| *later as usize).collect();
    let mut order: Vec<u32> = (0..rows.ids.len() as u32).filter(|i| !dropped.contains(*i as usize)).collect();
    order.sort_by_key(|i| rows.ids.get(*i as usize));
    let ids = rows.ids.reordered(&order);
    let names = order
        .iter()
        .map(|&i| {
            let name = rows.names.get(i as usize);
            if name.is_empty() { rows.ids.get(i as usize) } else { name }
        })
        .collect();
    let places: Vec<RowPlace> = order.iter().map(|&i| rows.places[i as usize]).collect();
    let count = order.len();
    let attributes = schema
        .user_attributes
        .iter()
        .zip(rows.attributes)
        .map(|(attribute, column)| {
            let mut column = column.reordered(&order);
            fill(&mut column, attribute, count, |_| true);
            let user = |row: usize| format!("user `{}`", ids.get(row));
            required(&column, attribute, count, &user, &|row| places[row], |_| true, out);
            column
        })
        .collect();
    crate::alike::people(&ids, &|at| places[at].span(), out);
    let farewells = farewells(rows.farewells, &order);
    People::new(PeopleLists {
        names,
        kinds: order.iter().map(|&i| rows.kinds[i as usize]).collect(),
        active: (0..count).filter(|&new| rows.active.contains(order[new] as usize)).collect(),
        realms: rows.realms.reordered(&order),
        attributes,
        origins: places.iter().map(|p| p.origin()).collect(),
        ids,
        farewells,
    })
}

/// The values of one attribute by user.
struct Gathered {
    known: HashMap<Value, u32>,
    values: Vec<Value>,
    codes: Vec<u32>,
}

/// Gives users what their sign-ins tell. From here on the attributes that any source tells are asked of each user.
pub(crate) fn sign_ins(schema: &mut Schema, people: &mut People, rows: &SignInRows, out: &mut Diagnostics) {
    let count = people.len();
    let none = || Gathered { known: HashMap::new(), values: Vec::new(), codes: vec![NONE; count] };
    let mut gathered: BTreeMap<SessionAttributeId, Gathered> = rows.tells.iter().map(|id| (*id, none())).collect();
    let (mut columns, mut at) = (BTreeMap::new(), BTreeMap::new());
    let (mut strangers, mut first) = (0, None);
    for row in &rows.rows {
        let Some(user) = people.find(&row.user) else {
            strangers += 1;
            first = first.or(Some(row));
            continue;
        };
        for (id, value) in &row.values {
            let Some(Gathered { known, values, codes }) = gathered.get_mut(id) else { continue };
            codes[user.index()] = *known.entry(value.clone()).or_insert_with(|| {
                values.push(value.clone());
                values.len() as u32 - 1
            });
            at.insert((*id, user), row.place.origin());
        }
    }
    if let Some(row) = first {
        let message = match strangers {
            1 => format!("a sign-in of `{}`, who is no user", row.user),
            _ => format!("{strangers} sign-ins are of nobody who is a user; the first is of `{}`", row.user),
        };
        let told = Diagnostic::at(&codes::UNKNOWN_REFERENCE, row.place.span(), message);
        let near = nearest(&row.user, people.all().map(|user| people.id(user)));
        out.push(match near {
            Some(near) if strangers == 1 => told.help(format!("did you mean `{near}`?")),
            _ => told,
        });
    }
    for (id, Gathered { values, codes, .. }) in gathered {
        let mut column = Column::new(values, codes);
        fill(&mut column, &schema.session_attributes[id.index()], count, |_| true);
        columns.insert(id, column);
    }
    people.sign_in_by(columns, at);
    schema.sign_ins = rows.tells.clone();
}

/// Fills the attribute that is to hold everybody's groups.
pub(crate) fn member_of(
    schema: &mut Schema,
    people: &mut People,
    groups: &Groups,
    (name, span): (&str, Span),
    out: &mut Diagnostics,
) {
    let Some(id) = schema.user_attribute(name) else {
        let near = nearest(name, schema.user_attributes.iter().map(|a| a.name.as_str()));
        let told = Diagnostic::at(&codes::UNKNOWN_ATTRIBUTE, span, format!("there is no attribute `{name}` of user"));
        out.push(match near {
            Some(near) => told.help(format!("did you mean `{near}`?")),
            None => told.help(format!("to declare it, write `attribute {name} of user: set of text`")),
        });
        return;
    };
    let attribute = &schema.user_attributes[id.index()];
    if !attribute.set || attribute.scalar != Scalar::Text {
        let message = format!("`{name}` cannot hold the groups of a user");
        out.push(Diagnostic::at(&codes::TYPE_MISMATCH, span, message).help("it must be a `set of text`"));
        return;
    }
    let own = (0..people.len()).find(|row| people.attribute(id).get(*row).is_some());
    if let Some(row) = own {
        let user = people.id(UserId::new(row));
        let message = format!("`{name}` holds the groups of a user, and user `{user}` has a value of it already");
        out.push(Diagnostic::at(&codes::BAD_VALUE, span, message).help("leave the column and the default out"));
        return;
    }
    schema.member_of = Some(id);
    people.hold_groups(id, groups);
}

/// What is said of those who are left of the rows, in their new order.
fn farewells(of_rows: Vec<(u32, String, String)>, order: &[u32]) -> Vec<Farewell> {
    if of_rows.is_empty() {
        return Vec::new();
    }
    let users: HashMap<u32, usize> = order.iter().enumerate().map(|(new, old)| (*old, new)).collect();
    let mut found: Vec<Farewell> = of_rows
        .into_iter()
        .filter_map(|(row, field, text)| Some(Farewell { user: UserId::new(*users.get(&row)?), field, text }))
        .collect();
    found.sort_by_key(|f| f.user);
    found
}

/// Reports ids that stand twice, naming both places.
fn duplicates(ids: &Strings, twice: &[(u32, u32)], places: &[RowPlace], out: &mut Diagnostics) {
    for &(later, first) in twice {
        let message = format!("user `{}` stands twice", ids.get(later as usize));
        let (here, there) = (places[later as usize].span(), places[first as usize].span());
        out.push(Diagnostic::at(&codes::DUPLICATE_ID, here, message).other(there, "the first"));
    }
}

/// Gives rows without a value (or with the empty set) the default.
pub fn fill(column: &mut Column, attribute: &Attribute, rows: usize, has: impl Fn(usize) -> bool) {
    let Some(default) = &attribute.default else { return };
    let default = column.intern(default.clone());
    let distinct = column.distinct().clone();
    for (row, code) in column.codes_mut(rows).iter_mut().enumerate() {
        if (*code == NONE || distinct.is_empty_set(*code)) && has(row) {
            *code = default;
        }
    }
}

/// Reports rows whose required value is missing.
pub(crate) fn required(
    column: &Column,
    attribute: &Attribute,
    rows: usize,
    what: &dyn Fn(usize) -> String,
    places: &dyn Fn(usize) -> RowPlace,
    has: impl Fn(usize) -> bool,
    out: &mut Diagnostics,
) {
    if !attribute.required {
        return;
    }
    for row in (0..rows).filter(|row| has(*row)) {
        if column.get(row).is_none_or(Value::is_empty_set) {
            let message = format!("{} has no `{}`, which is required", what(row), attribute.name);
            let place = places(row).span();
            out.push(Diagnostic::at(&codes::MISSING_VALUE, place, message).other(attribute.span, "required here"));
        }
    }
}
