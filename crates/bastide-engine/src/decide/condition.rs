//! Conditions in three-valued logic, and who is meant by a who-clause or a group.

use super::{ReferenceEvaluator, targets};
use bastide_model::condition::*;
use bastide_model::groups::Computed;
use bastide_model::statement::{Comparison, SetRelation};
use bastide_model::value::{compares, fold, is_element};
use bastide_model::*;
use jiff::ToSpan;
use std::borrow::Cow;

impl ReferenceEvaluator<'_> {
    /// A condition for a user and a resource. Either may be left out where the condition does not
    /// mention it; what is asked of one that is left out is unknown.
    pub fn condition(&self, condition: &Condition, user: Option<UserId>, resource: Option<ResourceId>) -> Truth {
        let operand = |operand: &'_ Operand| self.operand(operand, user, resource).map(|d| d.is_some());
        match &condition.test {
            Test::Or(parts) => {
                let mut truth = Truth::False;
                for part in parts {
                    truth = truth.or(self.condition(part, user, resource));
                    if truth == Truth::True {
                        break;
                    }
                }
                truth
            }
            Test::And(parts) => {
                let mut truth = Truth::True;
                for part in parts {
                    truth = truth.and(self.condition(part, user, resource));
                    if truth == Truth::False {
                        break;
                    }
                }
                truth
            }
            Test::Not(inner) => !self.condition(inner, user, resource),
            Test::Holds(action, target) => match user {
                Some(user) => self.holds(user, *action, *target, resource),
                None => Truth::Unknown,
            },
            Test::MemberOf(None) => Truth::False,
            Test::MemberOf(Some(group)) => user.map_or(Truth::Unknown, |user| self.member(user, *group)),
            Test::IsOwner => match (user, resource) {
                (Some(user), Some(resource)) => self.owner(user, resource),
                _ => Truth::Unknown,
            },
            Test::Flag(flag) => match self.operand(flag, user, resource) {
                Some(Some(Datum::Flag(set))) => Truth::from(set),
                _ => Truth::Unknown,
            },
            Test::IsSet(of) => Truth::from(operand(of)),
            Test::IsMissing(of) => !Truth::from(operand(of)),
            Test::IsEmpty(of) => match self.operand(of, user, resource) {
                Some(Some(Datum::Set(elements))) => Truth::from(elements.is_empty()),
                _ => Truth::Unknown,
            },
            Test::Like { operand, pattern, caseless } => match self.operand(operand, user, resource) {
                Some(Some(Datum::Text(text))) => {
                    Truth::from(if *caseless { pattern.fits(&fold(&text)) } else { pattern.fits(&text) })
                }
                _ => Truth::Unknown,
            },
            Test::Compare { left, comparison, right, caseless } => {
                self.compare(left, *comparison, right, *caseless, user, resource)
            }
            Test::Sets { left, relation, right, caseless } => {
                self.relate(left, *relation, right, *caseless, user, resource)
            }
        }
    }

    fn compare(
        &self,
        left: &Operand,
        comparison: Comparison,
        right: &Operand,
        caseless: bool,
        user: Option<UserId>,
        resource: Option<ResourceId>,
    ) -> Truth {
        let (Some(Some(a)), Some(Some(b))) = (self.operand(left, user, resource), self.operand(right, user, resource))
        else {
            return Truth::Unknown;
        };
        Truth::from(compares(&a, comparison, &b, caseless))
    }

    fn relate(
        &self,
        left: &Operand,
        relation: SetRelation,
        right: &Operand,
        caseless: bool,
        user: Option<UserId>,
        resource: Option<ResourceId>,
    ) -> Truth {
        let Some(Some(element)) = self.operand(left, user, resource) else { return Truth::Unknown };
        if let (Operand::Kinds(kinds), Datum::Kind(kind)) = (right, &element) {
            return Truth::from(kinds.contains(kind));
        }
        let Some(Some(Datum::Set(set))) = self.operand(right, user, resource) else { return Truth::Unknown };
        let is_in = |element: &Datum, set: &[Value]| is_element(element, set, caseless);
        Truth::from(match (relation, &element) {
            (SetRelation::In, element) => is_in(element, set),
            (SetRelation::Overlaps, Datum::Set(own)) => own.iter().any(|v| is_in(&v.datum(), set)),
            (SetRelation::Covers, Datum::Set(own)) => set.iter().all(|v| is_in(&v.datum(), own)),
            _ => return Truth::Unknown,
        })
    }

    /// The value of an operand: the outer `None` where it cannot be asked (a user or resource left
    /// out), the inner where the value is missing. A set is never missing.
    pub(crate) fn operand<'a>(
        &'a self,
        operand: &'a Operand,
        user: Option<UserId>,
        resource: Option<ResourceId>,
    ) -> Option<Option<Datum<'a>>> {
        let estate = self.estate;
        let kept = |value: Option<&'a Value>, set: bool| match value {
            Some(value) => Some(value.datum()),
            None if set => Some(Datum::Set(&[])),
            None => None,
        };
        Some(match operand {
            Operand::Literal(value) => Some(value.datum()),
            Operand::Kinds(kinds) => kinds.first().map(|k| Datum::Kind(*k)),
            Operand::Today(days) => {
                let date = self.moment.date;
                // A day the calendar does not reach is a missing value.
                date.checked_add(days.days()).ok().map(Datum::Date)
            }
            Operand::Session(id) => {
                let attribute = &estate.schema().session_attributes[id.index()];
                kept(self.moment.value(*id), attribute.set)
            }
            // The same for everybody: it can be asked without a user.
            Operand::User(UserField::SignIn(id)) if self.moment.is_given(*id) => {
                kept(self.moment.value(*id), estate.schema().session_attributes[id.index()].set)
            }
            Operand::User(field) => {
                let people = estate.people();
                let user = user?;
                match field {
                    UserField::Id => Some(Datum::Text(Cow::Borrowed(people.id(user)))),
                    UserField::Name => Some(Datum::Text(Cow::Borrowed(people.name(user)))),
                    UserField::Kind => Some(Datum::Text(Cow::Borrowed(people.kind(user)))),
                    UserField::Active => Some(Datum::Flag(people.is_active(user))),
                    UserField::Realm => people.realms().get(user.index()).map(Value::datum),
                    UserField::Attribute(id) => {
                        let set = estate.schema().user_attributes[id.index()].set;
                        kept(people.attribute(*id).get(user.index()), set)
                    }
                    UserField::SignIn(id) => {
                        let set = estate.schema().session_attributes[id.index()].set;
                        kept(self.moment.value_for(people, *id, user), set)
                    }
                }
            }
            Operand::Resource(step, field) => match self.step(*step, resource?) {
                Some(resource) => self.field(*field, resource),
                None => match field {
                    ResourceField::Attribute(id) if estate.schema().resource_attributes[id.index()].set => {
                        Some(Datum::Set(&[]))
                    }
                    _ => None,
                },
            },
        })
    }

    /// The resource an attribute is looked up on.
    pub(crate) fn step(&self, step: Step, resource: ResourceId) -> Option<ResourceId> {
        let catalog = self.estate.catalog();
        match step {
            Step::Own => Some(resource),
            Step::Parent => catalog.parent(resource),
            Step::Kind(kind) => catalog.upward(resource).find(|r| self.estate.schema().is_kind(catalog.kind(*r), kind)),
        }
    }

    fn field(&self, field: ResourceField, resource: ResourceId) -> Option<Datum<'_>> {
        let catalog = self.estate.catalog();
        match field {
            ResourceField::Id => Some(Datum::Text(Cow::Borrowed(catalog.id(resource)))),
            ResourceField::Name => Some(Datum::Text(Cow::Borrowed(catalog.name(resource)))),
            ResourceField::Path => Some(Datum::Text(Cow::Owned(catalog.path(resource)))),
            ResourceField::Kind => Some(Datum::Kind(catalog.kind(resource))),
            ResourceField::Owner => catalog.owners.get(resource.index()).map(Value::datum),
            ResourceField::State => catalog.states.get(resource.index()).map(Value::datum),
            ResourceField::Attribute(id) => {
                let attribute = &self.estate.schema().resource_attributes[id.index()];
                match catalog.attributes[id.index()].get(resource.index()) {
                    Some(value) => Some(value.datum()),
                    None if attribute.set => Some(Datum::Set(&[])),
                    None => None,
                }
            }
        }
    }

    fn holds(&self, user: UserId, action: ActionId, target: HoldsTarget, resource: Option<ResourceId>) -> Truth {
        match target {
            HoldsTarget::Nowhere => Truth::False,
            HoldsTarget::Place(place) => Truth::from(self.allows(user, action, place)),
            HoldsTarget::Relative(target) => match resource {
                None => Truth::Unknown,
                Some(resource) => {
                    let targets = targets(self.estate, resource, target);
                    Truth::from(!targets.unmet && targets.found.iter().all(|t| self.allows(user, action, *t)))
                }
            },
        }
    }

    /// Whether a user owns a resource: unknown without an owner.
    pub(crate) fn owner(&self, user: UserId, resource: ResourceId) -> Truth {
        let is = |owner: UserId| owner == user || self.estate.people().copies(owner).contains(&user.0);
        Truth::from(self.estate.catalog().owner(resource).map(|owner| owner.is_some_and(is)))
    }

    /// A who-clause.
    pub(crate) fn who(&self, who: &Who, user: UserId, resource: Option<ResourceId>) -> Truth {
        let mut truth = Truth::False;
        for term in &who.terms {
            truth = truth.or(self.term(term, user, resource));
            if truth == Truth::True {
                break;
            }
        }
        match &who.condition {
            Some(condition) if truth != Truth::False => truth.and(self.condition(condition, Some(user), resource)),
            _ => truth,
        }
    }

    /// One term of a who-clause.
    pub(crate) fn term(&self, term: &Term, user: UserId, resource: Option<ResourceId>) -> Truth {
        match term {
            Term::Anyone => Truth::True,
            Term::User(one) => Truth::from(*one == user),
            Term::Nobody(_) => Truth::False,
            Term::Members(group) => self.member(user, *group),
            Term::Owner => resource.map_or(Truth::Unknown, |resource| self.owner(user, resource)),
        }
    }

    /// Whether a user is in a group, by data or by a computed group.
    pub fn member(&self, user: UserId, group: GroupId) -> Truth {
        let groups = self.estate.groups();
        if groups.users(group).contains(user.index()) {
            return Truth::True;
        }
        let through = groups.through(group);
        if through.is_empty() {
            return Truth::False;
        }
        if let Some(known) = self.groups.borrow().get(&(group, user)) {
            return *known;
        }
        let mut truth = Truth::False;
        for &inner in through {
            truth = truth.or(match groups.computed(inner).expect("through lists computed groups") {
                Computed::Who(who) => self.who(who, user, None),
                Computed::Holders(action, places) => {
                    Truth::from(places.iter().any(|place| self.allows(user, *action, *place)))
                }
            });
        }
        self.groups.borrow_mut().insert((group, user), truth);
        truth
    }
}
