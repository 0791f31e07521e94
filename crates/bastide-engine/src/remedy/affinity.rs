//! Whether a user is like the members of a group: by one attribute that most of them share.

use bastide_model::column::Column;
use bastide_model::groups::Member;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use std::collections::BTreeMap;

/// Members of a group that must share a value for it to say anything.
const FEWEST: usize = 2;

/// What most members of a group have in common with a user, as words; none where that is nothing.
pub fn alike(estate: &Estate, user: UserId, group: GroupId) -> Option<String> {
    let members = estate.groups().users(group);
    let count = members.ones().filter(|m| *m != user.index()).count();
    if count < FEWEST {
        return None;
    }
    let mut best: Option<(usize, String)> = None;
    for (attribute, column) in estate.schema().user_attributes.iter().zip(estate.people().attributes()) {
        let Some(value) = column.get(user.index()) else { continue };
        if attribute.set || attribute.default.as_ref() == Some(value) {
            continue;
        }
        let share = members.ones().filter(|m| *m != user.index() && column.get(*m) == Some(value)).count();
        // What nearly everybody has says nothing of this group.
        let all = (0..estate.people().len()).filter(|u| column.get(*u) == Some(value)).count();
        if share * 5 < count * 3 || all * 2 > estate.people().len() {
            continue;
        }
        let text = format!(
            "{share} of the {count} others in it have the same `{}`, {}",
            attribute.name,
            estate.schema().show(value)
        );
        if best.as_ref().is_none_or(|(most, _)| share > *most) {
            best = Some((share, text));
        }
    }
    if best.is_some() {
        return best.map(|(_, text)| text);
    }
    // Or nearly everybody in another group of the user's is in this one, too.
    for other in estate.groups().direct(user).iter().filter(|g| **g != group) {
        let peers = estate.groups().users(*other);
        let active = |u: &usize| *u != user.index() && estate.people().is_active(UserId::new(*u));
        let all = peers.ones().filter(active).count();
        let inside = peers.ones().filter(active).filter(|u| members.contains(*u)).count();
        if all > FEWEST && inside * 10 >= all * 9 {
            return Some(format!("{inside} of the {all} others in `{}` are in it", estate.groups().id(*other)));
        }
    }
    None
}

/// The value that resources about the same thing have: those that share another value with it which
/// few have. With what speaks for it.
pub fn companions(
    estate: &Estate,
    resource: ResourceId,
    column: &Column,
    fits: impl Fn(&Value) -> bool,
) -> Option<(Value, String)> {
    const FEW: usize = 40;
    let row = resource.index();
    for (attribute, by) in estate.schema().resource_attributes.iter().zip(&estate.catalog().attributes) {
        let Some(shared) = by.code(row).filter(|_| !attribute.set && attribute.travel == schema::Travel::Stays) else {
            continue;
        };
        let others: Vec<usize> =
            (0..estate.catalog().len()).filter(|r| *r != row && by.code(*r) == Some(shared)).take(FEW + 1).collect();
        let values: Vec<&Value> = others.iter().filter_map(|r| column.get(*r)).collect();
        let Some(first) = values.first().filter(|_| others.len() <= FEW) else { continue };
        if values.iter().all(|v| v == first) && fits(first) {
            let whose = match (values.len(), others.len()) {
                (some, all) if some == all => "the others".to_string(),
                (some, all) => format!("{some} of the {all} others"),
            };
            let text = format!(
                "the value is missing; {whose} with the same `{}`, {}, {} this one",
                attribute.name,
                estate.schema().show(by.distinct().value(shared)),
                if values.len() == 1 && others.len() > 1 { "has" } else { "have" }
            );
            return Some(((*first).clone(), text));
        }
    }
    None
}

/// In what those who come into a group by one membership differ from everybody else in it, as words;
/// none where they do not, or where there is nobody else.
pub fn odd(estate: &Estate, member: Member, group: GroupId) -> Option<String> {
    let rows = estate.people().len();
    let come: FixedBitSet = match member {
        Member::User(user) => {
            let mut one = FixedBitSet::with_capacity(rows);
            one.insert(user.index());
            one
        }
        Member::Group(inner) => estate.groups().users(inner).clone(),
    };
    let mut rest = estate.groups().users(group).clone();
    rest.difference_with(&come);
    let (some, others) = (come.count_ones(..), rest.count_ones(..));
    if some == 0 || others < FEWEST {
        return None;
    }
    for (attribute, column) in estate.schema().user_attributes.iter().zip(estate.people().attributes()) {
        if attribute.set {
            continue;
        }
        let Some(value) = most_common_of(column, &come) else { continue };
        let share = |of: &FixedBitSet| of.ones().filter(|u| column.get(*u) == Some(value)).count();
        // Nearly all of them have it, and nearly nobody else in the group.
        if share(&come) * 10 >= some * 8 && share(&rest) * 10 <= others && attribute.default.as_ref() != Some(value) {
            let of_others = if others == 1 { "the other member".into() } else { format!("the {others} other members") };
            let whose = match member {
                Member::User(user) => format!("`{}` has", estate.people().id(user)),
                Member::Group(inner) => format!("in `{}` {} of {some} have", estate.groups().id(inner), share(&come)),
            };
            let text = format!(
                "{whose} the `{}` {}; of {of_others} of `{}` {}",
                attribute.name,
                estate.schema().show(value),
                estate.groups().id(group),
                match share(&rest) {
                    0 => "none".to_string(),
                    n => format!("only {n}"),
                },
            );
            return Some(text);
        }
    }
    None
}

/// Whether nobody who comes into a group by one membership has what most of its members have, as
/// words; none where somebody has.
pub fn stranger(estate: &Estate, member: Member, group: GroupId) -> Option<String> {
    let all = estate.groups().users(group);
    let count = all.count_ones(..);
    let come: Vec<usize> = match member {
        Member::User(user) => vec![user.index()],
        Member::Group(inner) => estate.groups().users(inner).ones().collect(),
    };
    if count < FEWEST + come.len() || come.is_empty() {
        return None;
    }
    for (attribute, column) in estate.schema().user_attributes.iter().zip(estate.people().attributes()) {
        if attribute.set {
            continue;
        }
        let Some(value) = most_common_of(column, all) else { continue };
        let share = all.ones().filter(|u| column.get(*u) == Some(value)).count();
        let everybody = (0..estate.people().len()).filter(|u| column.get(*u) == Some(value)).count();
        let telling =
            share * 2 > count && everybody * 2 < estate.people().len() && attribute.default.as_ref() != Some(value);
        if telling && !come.iter().any(|u| column.get(*u) == Some(value)) {
            return Some(format!(
                "{share} of the {count} members of `{}` have the `{}` {}; nobody has who comes in this way",
                estate.groups().id(group),
                attribute.name,
                estate.schema().show(value)
            ));
        }
    }
    None
}

fn most_common_of<'c>(column: &'c Column, among: &FixedBitSet) -> Option<&'c Value> {
    let mut counts: BTreeMap<u32, usize> = BTreeMap::new();
    for code in among.ones().filter_map(|row| column.code(row)) {
        *counts.entry(code).or_default() += 1;
    }
    let best = counts.into_iter().max_by_key(|(code, count)| (*count, std::cmp::Reverse(*code)));
    best.map(|(code, _)| column.distinct().value(code))
}

/// The value of an attribute that most users or resources have.
pub fn most_common(column: &Column, rows: usize, fits: impl Fn(&Value) -> bool) -> Option<Value> {
    let mut counts: BTreeMap<u32, usize> = BTreeMap::new();
    for code in (0..rows).filter_map(|row| column.code(row)) {
        *counts.entry(code).or_default() += 1;
    }
    let fitting = counts.into_iter().filter(|(code, _)| fits(column.distinct().value(*code)));
    let best = fitting.max_by_key(|(code, count)| (*count, std::cmp::Reverse(*code)));
    best.map(|(code, _)| column.distinct().value(code).clone())
}
