//! Users by the values of one of their fields: looked up, never scanned.
//!
//! A list of users for each value (or, where the field is a set, for each element of it), and users in the order of their
//! values. Cost: users and their values once.

use crate::sets::store::{SetId, SetStore};
use bastide_model::condition::UserField;
use bastide_model::value::{Datum, fold};
use bastide_model::*;
use hashbrown::{DefaultHashBuilder, HashTable};
use rust_decimal::prelude::ToPrimitive;
use std::hash::BuildHasher;

/// A list is long where it has more users than a set has words, through this: to join words is quicker by so much than to put
/// one user after the other in.
const LONG: usize = 4;
/// So many words the sets of an index may have; were they more, a list is long where it has more users than a set has words.
const MOST_WORDS: usize = 1 << 22;
/// So many steps lie between two sets of the first users in order.
const STEPS: usize = 128;

/// What users are looked up by.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct By {
    /// The field.
    pub field: UserField,
    /// Whether case is left aside.
    pub caseless: bool,
    /// Whether by the elements of a set.
    pub elements: bool,
}

/// Users by value.
pub struct Index {
    caseless: bool,
    hasher: DefaultHashBuilder,
    values: Vec<Value>,
    /// Numbers of values, found by value.
    table: HashTable<u32>,
    /// Where the list of each value begins, and where the last one ends.
    starts: Vec<u32>,
    users: Vec<u32>,
    /// The long lists, as sets.
    sets: Vec<Option<SetId>>,
    /// Users with a value; of a set, with an element.
    pub valued: SetId,
    /// All others.
    pub missing: SetId,
    /// Of each user, how many elements there are.
    pub sizes: Vec<u32>,
    /// Users in the order of their values.
    order: Vec<u32>,
    /// Values in order, each with how many users come before it.
    ranks: Vec<(Value, u32)>,
    /// Where each of them is in order, roughly.
    coarse: Vec<i64>,
    /// The first users in that order, as sets: after every so many.
    firsts: Vec<SetId>,
    span: usize,
}

/// The value of a user's field; of an attribute of the session that of the sign-in, which is asked where none is given.
fn value_of(people: &People, field: UserField, user: UserId) -> Option<Value> {
    match field {
        UserField::Id => Some(Value::Text(people.id(user).into())),
        UserField::Name => Some(Value::Text(people.name(user).into())),
        UserField::Kind => Some(Value::Text(people.kind(user).into())),
        UserField::Active => Some(Value::Flag(people.is_active(user))),
        UserField::Realm => people.realms().get(user.index()).cloned(),
        UserField::Attribute(id) => people.attribute(id).get(user.index()).cloned(),
        UserField::SignIn(id) => people.sign_in(id).expect("it is told by sign-ins").get(user.index()).cloned(),
    }
}

/// Where a value is in order, roughly: of two values the greater one has no less. Numbers are quicker to compare.
fn coarse(value: &Value) -> i64 {
    match value {
        Value::Text(text) => {
            let mut first = [0; 8];
            let length = text.len().min(8);
            first[..length].copy_from_slice(&text.as_bytes()[..length]);
            // The sign counts as the first bit of text.
            (u64::from_be_bytes(first) ^ 1 << 63) as i64
        }
        Value::Number(number) => {
            let end = if number.is_sign_negative() { i64::MIN } else { i64::MAX };
            number.floor().to_i64().unwrap_or(end)
        }
        Value::Date(date) => i64::from(date.year()) * 10_000 + i64::from(date.month()) * 100 + i64::from(date.day()),
        Value::Flag(flag) => i64::from(*flag),
        Value::Step(_, step) => i64::from(*step),
        // Sets are not put in order.
        Value::Set(_) => 0,
    }
}

impl Index {
    /// Users by the values of a field; with `ordered`, in their order, too.
    pub fn new(people: &People, by: By, ordered: bool, sets: &mut SetStore) -> Index {
        let mut index = Index {
            caseless: by.caseless,
            hasher: DefaultHashBuilder::default(),
            values: Vec::new(),
            table: HashTable::new(),
            starts: Vec::new(),
            users: Vec::new(),
            sets: Vec::new(),
            valued: SetId::NONE,
            missing: SetId::ALL,
            sizes: if by.elements { vec![0; people.len()] } else { Vec::new() },
            order: Vec::new(),
            ranks: Vec::new(),
            coarse: Vec::new(),
            firsts: Vec::new(),
            span: (people.len() / STEPS).max(64),
        };
        // Numbers of values, by user; values of a column are looked up once each.
        let mut pairs: Vec<(u32, u32)> = Vec::new();
        let mut put = |index: &mut Index, user: UserId, numbers: &[u32]| {
            pairs.extend(numbers.iter().map(|number| (*number, user.0)));
            if by.elements {
                index.sizes[user.index()] = numbers.len() as u32;
            }
        };
        let column = match by.field {
            UserField::Attribute(id) => Some(people.attribute(id)),
            UserField::Realm => Some(people.realms()),
            UserField::SignIn(id) => Some(people.sign_in(id).expect("it is told by sign-ins")),
            UserField::Id | UserField::Name | UserField::Kind | UserField::Active => None,
        };
        match column {
            Some(column) => {
                let known: Vec<Vec<u32>> =
                    column.distinct().iter().map(|value| index.numbers(value, by.elements)).collect();
                for user in people.all() {
                    if let Some(code) = column.code(user.index()) {
                        put(&mut index, user, &known[code as usize]);
                    }
                }
            }
            None => {
                for user in people.all() {
                    let value = value_of(people, by.field, user);
                    let numbers = value.map_or(Vec::new(), |value| index.numbers(&value, by.elements));
                    put(&mut index, user, &numbers);
                }
            }
        }
        pairs.sort_unstable();
        index.starts = vec![0; index.values.len() + 1];
        pairs.iter().for_each(|(number, _)| index.starts[*number as usize + 1] += 1);
        for at in 0..index.values.len() {
            index.starts[at + 1] += index.starts[at];
        }
        index.users = pairs.iter().map(|(_, user)| *user).collect();
        index.valued = sets.of(index.users.iter().map(|user| *user as usize));
        index.missing = sets.complement(index.valued);
        index.sets = vec![None; index.values.len()];
        let width = sets.width();
        let longer = index.starts.windows(2).filter(|of| (of[1] - of[0]) as usize > width / LONG).count();
        let long = if longer * width <= MOST_WORDS { width / LONG } else { width };
        for number in 0..index.values.len() {
            let list = &index.users[index.starts[number] as usize..index.starts[number + 1] as usize];
            if list.len() > long {
                index.sets[number] = Some(sets.of(list.iter().map(|user| *user as usize)));
            }
        }
        if ordered {
            index.put_in_order(sets);
        }
        index
    }

    fn put_in_order(&mut self, sets: &mut SetStore) {
        let mut sorted: Vec<u32> = (0..self.values.len() as u32).collect();
        sorted.sort_by(|a, b| self.values[*a as usize].cmp(&self.values[*b as usize]));
        for number in sorted {
            self.coarse.push(coarse(&self.values[number as usize]));
            self.ranks.push((self.values[number as usize].clone(), self.order.len() as u32));
            let list = self.list(number).to_vec();
            self.order.extend(list);
        }
        let mut first = vec![0u64; sets.width()];
        for (at, user) in self.order.iter().enumerate() {
            if at % self.span == 0 {
                self.firsts.push(sets.of_words(&first));
            }
            first[*user as usize / 64] |= 1 << (user % 64);
        }
        self.firsts.push(sets.of_words(&first));
    }

    /// The number of a value, or those of the elements of a set; new ones are added.
    fn numbers(&mut self, value: &Value, elements: bool) -> Vec<u32> {
        match value {
            Value::Set(set) if elements => {
                let mut numbers: Vec<u32> = set.iter().map(|element| self.add(element)).collect();
                numbers.sort_unstable();
                // Elements may be the same where case is left aside.
                numbers.dedup();
                numbers
            }
            value => vec![self.add(value)],
        }
    }

    fn add(&mut self, value: &Value) -> u32 {
        if let Some(known) = self.find(&value.datum()) {
            return known;
        }
        let value = match value {
            Value::Text(text) if self.caseless => Value::Text(fold(text).into()),
            Value::Number(number) => Value::Number(number.normalize()),
            other => other.clone(),
        };
        let number = self.values.len() as u32;
        let (hasher, values) = (&self.hasher, &self.values);
        let hash = |value: &Value| match value {
            Value::Text(text) => hasher.hash_one(&**text),
            other => hasher.hash_one(other),
        };
        self.table.insert_unique(hash(&value), number, |number| hash(&values[*number as usize]));
        self.values.push(value);
        number
    }

    /// The number of a value that users have.
    pub fn find(&self, value: &Datum) -> Option<u32> {
        let other = match value {
            Datum::Text(text) => {
                let folded;
                let text: &str = if self.caseless {
                    folded = fold(text);
                    &folded
                } else {
                    text
                };
                let is = |number: &u32| matches!(&self.values[*number as usize], Value::Text(own) if **own == *text);
                return self.table.find(self.hasher.hash_one(text), is).copied();
            }
            Datum::Number(number) => Value::Number(number.normalize()),
            Datum::Date(date) => Value::Date(*date),
            Datum::Flag(flag) => Value::Flag(*flag),
            Datum::Step(of, step) => Value::Step(*of, *step),
            // No user's value is a kind, and sets are looked up by their elements.
            Datum::Kind(_) | Datum::Set(_) => return None,
        };
        self.table.find(self.hasher.hash_one(&other), |number| self.values[*number as usize] == other).copied()
    }

    /// How many different values there are.
    pub fn len(&self) -> usize {
        self.values.len()
    }

    /// The users with a value, in order.
    pub fn list(&self, number: u32) -> &[u32] {
        &self.users[self.starts[number as usize] as usize..self.starts[number as usize + 1] as usize]
    }

    /// The same as a set, where the list is long.
    pub fn set(&self, number: u32) -> Option<SetId> {
        self.sets[number as usize]
    }

    /// How many users have a value that is less, and how many one that is not greater.
    pub fn rank(&self, value: &Datum) -> (usize, usize) {
        let value = match value {
            Datum::Text(text) if self.caseless => Value::Text(fold(text).into()),
            Datum::Text(text) => Value::Text((&**text).into()),
            Datum::Number(number) => Value::Number(*number),
            Datum::Date(date) => Value::Date(*date),
            Datum::Flag(flag) => Value::Flag(*flag),
            Datum::Step(of, step) => Value::Step(*of, *step),
            Datum::Kind(_) | Datum::Set(_) => unreachable!("neither is put in order: typing sees to that"),
        };
        let near = coarse(&value);
        let mut at = self.coarse.partition_point(|own| *own < near);
        // Few are as near as that; their values tell.
        at += match self.coarse.get(at) {
            Some(own) if *own == near => self.ranks[at..].partition_point(|(own, _)| *own < value),
            _ => 0,
        };
        let before = |at: usize| self.ranks.get(at).map_or(self.order.len(), |(_, before)| *before as usize);
        let is = self.ranks.get(at).is_some_and(|(own, _)| *own == value);
        (before(at), before(at + usize::from(is)))
    }

    /// Users in the order of their values.
    pub fn order(&self) -> &[u32] {
        &self.order
    }

    /// Puts the first so many users in that order into words, which are overwritten. Cost: words, and at most one span of
    /// users.
    pub fn first(&self, count: usize, sets: &SetStore, words: &mut [u64]) {
        let step = count / self.span;
        words.copy_from_slice(sets.row(self.firsts[step]));
        self.order[step * self.span..count].iter().for_each(|user| words[*user as usize / 64] |= 1 << (user % 64));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_model::statement::Comparison;
    use bastide_model::value::compares;
    use bastide_testkit::random::{Shape, plan};

    /// Looked up and put in order, users are those whom a comparison one by one gives.
    #[test]
    fn users_are_found_as_by_comparing_each() {
        let (mut found, mut ranked) = (0, 0);
        for seed in 0..60 {
            let estate = plan(seed, Shape::ALL).with_more(seed, 150).case().estate();
            let people = estate.people();
            let single = |id: &usize| !estate.schema().user_attributes[*id].set;
            for id in (0..people.attributes().len()).filter(single) {
                let field = UserField::Attribute(UserAttributeId::new(id));
                let mut sets = SetStore::new(people.len());
                let index = Index::new(people, By { field, caseless: false, elements: false }, true, &mut sets);
                let values: Vec<Value> = people.attributes()[id].distinct().iter().cloned().collect();
                let mut words = vec![0; sets.width()];
                for value in &values {
                    let with = |comparison: Comparison| -> Vec<u32> {
                        let is = |user: &UserId| {
                            let own = value_of(people, field, *user);
                            own.is_some_and(|own| compares(&own.datum(), comparison, &value.datum(), false))
                        };
                        people.all().filter(is).map(|user| user.0).collect()
                    };
                    let equal = index.find(&value.datum()).map_or(&[][..], |number| index.list(number));
                    assert_eq!(equal, with(Comparison::Equal));
                    found += equal.len();
                    let (less, not_greater) = index.rank(&value.datum());
                    for (count, comparison) in [(less, Comparison::Less), (not_greater, Comparison::LessEqual)] {
                        index.first(count, &sets, &mut words);
                        let first = sets.of_words(&words);
                        let users: Vec<u32> = sets.users(first).map(|user| user as u32).collect();
                        assert_eq!(users, with(comparison));
                        ranked += usize::from(count > 0);
                    }
                }
            }
        }
        assert!(found > 500 && ranked > 100, "{found}, {ranked}");
    }
}
