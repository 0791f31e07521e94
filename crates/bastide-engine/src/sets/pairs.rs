//! Conditions over all users at once. A three-valued truth over users is a pair of sets: those for
//! whom it is true, and those for whom it is not false.

use super::features::View;
use super::store::{SetId, SetStore};
use super::{SetEngine, features};
use bastide_model::condition::*;
use bastide_model::groups::Computed;
use bastide_model::statement::{Comparison, SetRelation};
use bastide_model::*;
use hashbrown::HashMap;

/// True for some, not false for some more.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Pair {
    /// True for these.
    pub yes: SetId,
    /// True or unknown for these.
    pub open: SetId,
}

impl Pair {
    /// The same for everybody.
    pub fn constant(truth: Truth) -> Pair {
        let set = |is: bool| if is { SetId::ALL } else { SetId::NONE };
        Pair { yes: set(truth.is_true()), open: set(truth.not_false()) }
    }

    /// Known for everybody.
    pub fn known(set: SetId) -> Pair {
        Pair { yes: set, open: set }
    }

    pub(super) fn and(self, other: Pair, sets: &mut SetStore) -> Pair {
        Pair { yes: sets.intersect(self.yes, other.yes), open: sets.intersect(self.open, other.open) }
    }

    pub(super) fn or(self, other: Pair, sets: &mut SetStore) -> Pair {
        Pair { yes: sets.union(self.yes, other.yes), open: sets.union(self.open, other.open) }
    }

    fn not(self, sets: &mut SetStore) -> Pair {
        Pair { yes: sets.complement(self.open), open: sets.complement(self.yes) }
    }
}

/// Users by the value of one field: everybody with the same value is in one class.
pub(super) struct Classes {
    /// One user of each class, and the class.
    pub classes: Vec<(UserId, SetId)>,
    /// The class of a value.
    pub by_value: HashMap<Value, SetId>,
    /// Users without a value.
    pub missing: SetId,
}

impl<'e> SetEngine<'e> {
    /// A condition on a resource (any, where it mentions none).
    pub(super) fn pair(&mut self, condition: &'e Condition, resource: Option<ResourceId>, view: View) -> Pair {
        match &condition.test {
            Test::And(parts) => {
                let mut whole = Pair::constant(Truth::True);
                for part in parts {
                    if whole.open == SetId::NONE {
                        break;
                    }
                    let next = self.pair(part, resource, view);
                    whole = whole.and(next, &mut self.sets);
                }
                whole
            }
            Test::Or(parts) => {
                let mut whole = Pair::constant(Truth::False);
                for part in parts {
                    let next = self.pair(part, resource, view);
                    whole = whole.or(next, &mut self.sets);
                }
                whole
            }
            Test::Not(inner) => self.pair(inner, resource, view).not(&mut self.sets),
            Test::Holds(_, HoldsTarget::Nowhere) => Pair::constant(Truth::False),
            Test::Holds(action, HoldsTarget::Place(place)) => Pair::known(self.allowed(*place, *action)),
            Test::Holds(action, HoldsTarget::Relative(target)) => {
                let resource = resource.expect("a group cannot look at a resource");
                Pair::known(self.met(resource, *target, *action, view))
            }
            Test::MemberOf(None) => Pair::constant(Truth::False),
            Test::MemberOf(Some(group)) => self.members(*group),
            Test::IsOwner => self.owner(resource.expect("a group cannot look at a resource"), view),
            asked if features::is_owner(asked) => self.owner(resource.expect("a group has no owner"), view),
            _ => self.leaf(condition, resource),
        }
    }

    /// Whether those looked at own the resource.
    pub(super) fn owner(&self, resource: ResourceId, view: View) -> Pair {
        Pair::constant(match (self.cells.owned(resource), view) {
            (0, _) => Truth::Unknown,
            (_, View::Owner) => Truth::True,
            (_, View::Other) => Truth::False,
        })
    }

    /// The set of one user.
    pub fn single(&mut self, user: UserId) -> SetId {
        if self.singles[user.index()].is_none() {
            self.singles[user.index()] = Some(self.sets.of([user.index()]));
        }
        self.singles[user.index()].expect("just made")
    }

    /// The members of a group.
    pub(super) fn members(&mut self, group: GroupId) -> Pair {
        if let Some(known) = self.groups[group.index()] {
            return known;
        }
        let groups = &self.estate.groups;
        let mut pair = Pair::known(self.sets.of(groups.users(group).ones()));
        for &inner in groups.through(group) {
            let body = groups.computed[inner.index()].as_ref().expect("only computed groups are passed through");
            let found = match body {
                Computed::Who(who) => self.who(who, None, View::Other),
                Computed::Holders(action, places) => {
                    let mut all = SetId::NONE;
                    for place in places {
                        let holders = self.allowed(*place, *action);
                        all = self.sets.union(all, holders);
                    }
                    Pair::known(all)
                }
            };
            pair = pair.or(found, &mut self.sets);
        }
        self.groups[group.index()] = Some(pair);
        pair
    }

    /// A who-clause on a resource (any, where it mentions none).
    pub(super) fn who(&mut self, who: &'e Who, resource: Option<ResourceId>, view: View) -> Pair {
        let pair = self.any_term(who, resource, view);
        match &who.condition {
            Some(condition) if pair.open != SetId::NONE => {
                let narrowed = self.pair(condition, resource, view);
                pair.and(narrowed, &mut self.sets)
            }
            _ => pair,
        }
    }

    /// The terms of a who-clause alone.
    pub(super) fn any_term(&mut self, who: &Who, resource: Option<ResourceId>, view: View) -> Pair {
        let mut pair = Pair::constant(Truth::False);
        for term in &who.terms {
            let next = match term {
                Term::Anyone => Pair::constant(Truth::True),
                Term::Nobody(_) => Pair::constant(Truth::False),
                Term::User(user) => Pair::known(self.single(*user)),
                Term::Members(group) => self.members(*group),
                Term::Owner => self.owner(resource.expect("a group has no owner"), view),
            };
            pair = pair.or(next, &mut self.sets);
        }
        pair
    }

    /// A comparison: decided once for each combination of the resource's values it mentions, and
    /// then once for each class of users alike in what it mentions of them.
    pub(super) fn leaf(&mut self, condition: &'e Condition, resource: Option<ResourceId>) -> Pair {
        let mut mentioned = Vec::new();
        features::of_condition(condition, &mut mentioned, &mut false);
        let mut key = vec![condition as *const Condition as usize];
        if let Some(resource) = resource {
            key.extend(mentioned.iter().map(|feature| match feature {
                features::Feature::Field(step, field) => self.cells.field(*step, *field, resource) as usize,
                features::Feature::Ask(..) | features::Feature::Owned => 0,
            }));
        }
        if let Some(known) = self.leaves.get(&key[..]) {
            return *known;
        }
        let pair = self.decide_leaf(condition, resource);
        self.leaves.insert(key.into_boxed_slice(), pair);
        pair
    }

    fn decide_leaf(&mut self, condition: &'e Condition, resource: Option<ResourceId>) -> Pair {
        let leaf = &condition.test;
        let fields = user_fields(leaf);
        let [field] = fields[..] else {
            if fields.is_empty() {
                return Pair::constant(self.judge.condition(condition, None, resource));
            }
            // Two fields of the user: one user at a time, once.
            let truths = self.estate.people.all().map(|user| self.judge.condition(condition, Some(user), resource));
            let truths: Vec<Truth> = truths.collect();
            let of = |is: fn(Truth) -> bool| truths.iter().enumerate().filter(move |(_, t)| is(**t)).map(|(u, _)| u);
            return Pair { yes: self.sets.of(of(Truth::is_true)), open: self.sets.of(of(Truth::not_false)) };
        };
        self.sort_by(field);
        if let Some(pair) = self.by_value(leaf, field, resource) {
            return pair;
        }
        let classes = self.classes[&field].classes.clone();
        let mut pair = Pair::constant(Truth::False);
        for (user, class) in classes {
            let truth = self.judge.condition(condition, Some(user), resource);
            if truth.not_false() {
                pair.open = self.sets.union(pair.open, class);
            }
            if truth.is_true() {
                pair.yes = self.sets.union(pair.yes, class);
            }
        }
        pair
    }

    /// Equality with one value, and membership in one set, by looking the value up instead of
    /// trying every class. None where the comparison is of another form.
    fn by_value(&mut self, leaf: &'e Test, field: UserField, resource: Option<ResourceId>) -> Option<Pair> {
        let (other, equal, set) = match leaf {
            Test::Compare { left, comparison, right, caseless: false } => {
                let other = if matches!(left, Operand::User(_)) { right } else { left };
                match comparison {
                    Comparison::Equal => (other, true, false),
                    Comparison::NotEqual => (other, false, false),
                    _ => return None,
                }
            }
            Test::Sets { left: Operand::User(_), relation: SetRelation::In, right, caseless: false } => {
                (right, true, true)
            }
            _ => return None,
        };
        let wanted: Vec<Value> = match self.judge.operand(other, None, resource)? {
            None => return Some(Pair::constant(Truth::Unknown)),
            Some(Datum::Set(elements)) if set => elements.to_vec(),
            Some(Datum::Text(text)) => vec![Value::Text(text.into_owned().into())],
            Some(Datum::Number(number)) => vec![Value::Number(number.normalize())],
            Some(Datum::Date(date)) => vec![Value::Date(date)],
            Some(Datum::Flag(flag)) => vec![Value::Flag(flag)],
            Some(Datum::Step(of, step)) => vec![Value::Step(of, step)],
            Some(Datum::Kind(_) | Datum::Set(_)) => return None,
        };
        let classes = &self.classes[&field];
        let missing = classes.missing;
        let found: Vec<SetId> = wanted.iter().filter_map(|value| classes.by_value.get(value).copied()).collect();
        let mut yes = SetId::NONE;
        for class in found {
            yes = self.sets.union(yes, class);
        }
        if !equal {
            let valued = self.sets.complement(missing);
            yes = self.sets.subtract(valued, yes);
        }
        Some(Pair { yes, open: self.sets.union(yes, missing) })
    }

    /// Sorts users into classes by a field, once.
    fn sort_by(&mut self, field: UserField) {
        if self.classes.contains_key(&field) {
            return;
        }
        let people = &self.estate.people;
        let value = |user: UserId| -> Option<Value> {
            match field {
                UserField::Id => Some(Value::Text(people.id(user).into())),
                UserField::Name => Some(Value::Text(people.name(user).into())),
                UserField::Kind => Some(Value::Text(people.kind(user).into())),
                UserField::Active => Some(Value::Flag(people.is_active(user))),
                UserField::Realm => people.realms.get(user.index()).cloned(),
                UserField::Attribute(id) => people.attributes[id.index()].get(user.index()).cloned(),
            }
        };
        let mut sorted: HashMap<Option<Value>, Vec<usize>> = HashMap::new();
        for user in people.all() {
            sorted.entry(value(user)).or_default().push(user.index());
        }
        let mut classes = Classes { classes: Vec::new(), by_value: HashMap::new(), missing: SetId::NONE };
        for (value, users) in sorted {
            let first = UserId::new(users[0]);
            let class = self.sets.of(users);
            classes.classes.push((first, class));
            match value {
                Some(value) => drop(classes.by_value.insert(value, class)),
                None => classes.missing = class,
            }
        }
        // Numbers of sets must not depend on how a table happens to be ordered.
        classes.classes.sort_unstable_by_key(|(user, _)| *user);
        self.classes.insert(field, classes);
    }
}

/// The different fields of the user that a comparison mentions.
fn user_fields(leaf: &Test) -> Vec<UserField> {
    let operands: Vec<&Operand> = match leaf {
        Test::Flag(o) | Test::IsSet(o) | Test::IsMissing(o) | Test::IsEmpty(o) => vec![o],
        Test::Like { operand, .. } => vec![operand],
        Test::Compare { left, right, .. } | Test::Sets { left, right, .. } => vec![left, right],
        _ => Vec::new(),
    };
    let mut fields: Vec<UserField> =
        operands.into_iter().filter_map(|o| if let Operand::User(field) = o { Some(*field) } else { None }).collect();
    fields.dedup();
    fields
}
