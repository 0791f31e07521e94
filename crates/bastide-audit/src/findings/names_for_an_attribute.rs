//! `names-for-an-attribute`: people listed one by one who are exactly those with one value of an attribute, or exactly the
//! members of a group.

use super::{Check, Descriptor, Group};
use crate::case::many;
use crate::{Case, Found, Survey};
use bastide_engine::change::entry_cells;
use bastide_model::condition::*;
use bastide_model::show;
use bastide_model::statement::{Comparison, Sort};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use std::collections::BTreeMap;

/// What it is.
pub const DESCRIPTOR: Descriptor = Descriptor {
    name: "names-for-an-attribute",
    group: Group::Brittle,
    level: crate::Level::Note,
    what: "people whom a rule or several entries list by name and who are exactly those with one value of an attribute, or of two, or exactly the members of a group; inactive users apart",
    why: "Who comes next is forgotten, and who goes keeps it. The attribute knows.",
    mind: "It is chance that they have it in common.",
    check: Check::Policy(check),
};

/// Users with one value of an attribute, and the condition that says so.
struct Class {
    users: FixedBitSet,
    test: Test,
}

fn check(case: &Case, survey: &Survey) -> Vec<Found> {
    let estate = case.estate;
    // By what is given: the statements that list people, and these.
    let mut lists: Vec<(Vec<StatementId>, FixedBitSet)> = Vec::new();
    let mut entries: BTreeMap<String, (Vec<StatementId>, FixedBitSet)> = BTreeMap::new();
    let nobody = || FixedBitSet::with_capacity(estate.people().len());
    for (id, s) in case.live() {
        let mut users = nobody();
        let named = |t: &Term| if let Term::User(user) = t { Some(*user) } else { None };
        if !s.who.terms.iter().all(|t| named(t).is_some()) || s.who.condition.is_some() {
            continue;
        }
        s.who.terms.iter().filter_map(named).for_each(|user| users.insert(user.index()));
        if s.sort == Sort::Rule {
            lists.push((vec![id], users));
        } else {
            let key = format!("{:?} {:?} {:?} {:?}", &entry_cells(estate, s)[1..], s.from, s.until, s.layer);
            let (ids, all) = entries.entry(key).or_insert_with(|| (Vec::new(), nobody()));
            ids.push(id);
            all.union_with(&users);
        }
    }
    lists.extend(entries.into_values());
    let few = case.limits.listed as usize;
    lists.retain(|(_, users)| users.intersection(estate.people().active()).count() >= few);
    if lists.is_empty() {
        return Vec::new();
    }
    let classes = classes(estate);
    let active = estate.people().active();
    let mut found = Vec::new();
    for (ids, mut users) in lists {
        users.intersect_with(active);
        let Some(who) = same(estate, &classes, &users) else { continue };
        let (first, rest) = ids.split_first().expect("no list is empty");
        let mut instead = estate.statement(*first).clone();
        instead.who = who;
        let words = show::who(estate, &instead.who);
        let number = users.count_ones(..);
        let whose = match ids.len() {
            1 => case.named(*first),
            n => format!("{n} entries, the first of them `{}`,", estate.statement(*first).name),
        };
        let message = format!("{whose} list {} by name, who are exactly `{words}`", many(number as u64, "user"));
        let message = if ids.len() == 1 { message.replacen(" list ", " lists ", 1) } else { message };
        let mut replaced: Vec<(StatementId, Option<Statement>)> = vec![(*first, Some(instead))];
        replaced.extend(rest.iter().map(|id| (*id, None)));
        let goal = format!("to say the same of them and of whoever comes: `who {words}`, which changes nothing today");
        found.push(
            Found::of(case, *first, message)
                .naming_users(estate, users.ones())
                .evidence("whoever gets that later has it then, and whoever loses it does not".to_string())
                .example(survey.of(*first).example)
                .suggest_instead(goal, replaced)
                .harmless(),
        );
    }
    found
}

/// Every single value of users that is no default and that not everybody has, with who has it.
fn classes(estate: &Estate) -> Vec<Class> {
    let rows = estate.people().len();
    let mut found = Vec::new();
    let mut add = |field: UserField, caseless: bool, values: BTreeMap<Value, FixedBitSet>| {
        for (value, mut users) in values {
            users.intersect_with(estate.people().active());
            let test = Test::Compare {
                left: Operand::User(field),
                comparison: Comparison::Equal,
                right: Operand::Literal(value),
                caseless,
            };
            found.push(Class { users, test });
        }
    };
    let gather = |of: &dyn Fn(usize) -> Option<Value>| {
        let mut values: BTreeMap<Value, FixedBitSet> = BTreeMap::new();
        for row in 0..rows {
            if let Some(value) = of(row) {
                values.entry(value).or_insert_with(|| FixedBitSet::with_capacity(rows)).insert(row);
            }
        }
        values
    };
    add(UserField::Kind, false, gather(&|row| Some(Value::Text(estate.people().kind(UserId::new(row)).into()))));
    add(UserField::Realm, false, gather(&|row| estate.people().realms().get(row).cloned()));
    for (at, (attribute, column)) in
        estate.schema().user_attributes.iter().zip(estate.people().attributes()).enumerate()
    {
        // What is different for nearly everybody is no value that people share.
        if attribute.set || attribute.caseless || column.distinct().len() > 1000 {
            continue;
        }
        let is = |row: usize| column.get(row).filter(|v| attribute.default.as_ref() != Some(*v)).cloned();
        add(UserField::Attribute(UserAttributeId::new(at)), false, gather(&is));
    }
    found
}

/// Who are exactly these users: those with one value, the members of a group, those with two values.
fn same(estate: &Estate, classes: &[Class], users: &FixedBitSet) -> Option<Who> {
    let span = bastide_syntax::Span::new(bastide_syntax::FileId(0), 0, 0);
    let who = |test: Test| Who { terms: vec![Term::Anyone], condition: Some(Condition { test, span }) };
    if let Some(class) = classes.iter().find(|c| c.users == *users) {
        return Some(who(class.test.clone()));
    }
    let group = estate.groups().all().find(|g| {
        if !users.is_subset(estate.groups().users(*g)) {
            return false;
        }
        let mut members = estate.groups().users(*g).clone();
        members.intersect_with(estate.people().active());
        members.grow(users.len());
        estate.groups().computed(*g).is_none() && members == *users
    });
    if let Some(group) = group {
        return Some(Who { terms: vec![Term::Members(group)], condition: None });
    }
    let wider: Vec<&Class> = classes.iter().filter(|c| users.is_subset(&c.users)).collect();
    for (at, a) in wider.iter().enumerate() {
        for b in &wider[at + 1..] {
            if a.users.intersection_count(&b.users) == users.count_ones(..) {
                let part = |test: &Test| Condition { test: test.clone(), span };
                return Some(who(Test::And(vec![part(&a.test), part(&b.test)])));
            }
        }
    }
    None
}
