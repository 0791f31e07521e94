//! Values that would make a condition true or false: for each comparison that stands in the way, the
//! attribute of the user or the resource that could be set, and to what.

use super::affinity::{companions, most_common};
use super::idea::{Idea, charge};
use crate::change::{Change, ResourceCell, UserCell};
use crate::decide::ReferenceEvaluator;
use bastide_model::column::Column;
use bastide_model::condition::*;
use bastide_model::statement::{Comparison, SetRelation};
use bastide_model::value::{compares, is_element};
use bastide_model::*;

/// The operand that is set.
#[derive(Clone, Copy)]
enum TargetCell {
    User(UserId, UserCell),
    Resource(ResourceId, ResourceCell),
}

/// Whose condition it is.
#[derive(Clone, Copy)]
pub struct About<'j, 'e> {
    pub reference: &'j ReferenceEvaluator<'e>,
    pub user: UserId,
    /// Names of actions whose gain weighs little.
    pub harmless: &'j [String],
    pub resource: ResourceId,
}

impl About<'_, '_> {
    fn truth(&self, condition: &Condition) -> Truth {
        self.reference.condition(condition, Some(self.user), Some(self.resource))
    }

    /// Changes of values that bring a condition nearer to true (or to false).
    pub fn turn(&self, condition: &Condition, wanted: bool) -> Vec<Idea> {
        let truth = self.truth(condition);
        if truth == Truth::from(wanted) {
            return Vec::new();
        }
        match &condition.test {
            Test::And(parts) | Test::Or(parts) => parts.iter().flat_map(|p| self.turn(p, wanted)).collect(),
            Test::Not(inner) => self.turn(inner, !wanted),
            Test::Compare { left, comparison, right, caseless } => {
                let mut ideas = self.compare(left, *comparison, right, *caseless, wanted, truth);
                ideas.extend(self.compare(right, comparison.turned(), left, *caseless, wanted, truth));
                ideas
            }
            Test::Sets { left, relation, right, caseless } => {
                self.sets(left, *relation, right, *caseless, wanted, truth)
            }
            Test::IsOwner => {
                let owner = Value::Text(self.reference.estate().people().id(self.user).into());
                let cell = TargetCell::Resource(self.resource, ResourceCell::Owner);
                self.idea(cell, wanted.then_some(owner), truth).into_iter().collect()
            }
            Test::Flag(of) => self.set(of, Some(Value::Flag(wanted)), truth),
            Test::IsSet(of) | Test::IsMissing(of) => {
                let present = matches!(condition.test, Test::IsSet(_)) == wanted;
                match self.cell(of) {
                    Some(cell) if present => {
                        let value = self.usual(cell, |_| true);
                        value.and_then(|v| self.idea(cell, Some(v), truth)).into_iter().collect()
                    }
                    _ => self.set(of, None, truth),
                }
            }
            // Memberships and decisions elsewhere are the business of the caller.
            Test::Holds(..) | Test::MemberOf(_) => Vec::new(),
            // What would make a set empty, or a text fit a pattern, is anybody's guess.
            Test::IsEmpty(_) | Test::Like { .. } => Vec::new(),
        }
    }

    /// Values for `left` that make `left comparison right` hold, or not hold.
    fn compare(
        &self,
        left: &Operand,
        comparison: Comparison,
        right: &Operand,
        caseless: bool,
        wanted: bool,
        truth: Truth,
    ) -> Vec<Idea> {
        let Some(cell) = self.cell(left) else { return Vec::new() };
        let Some(Some(other)) = self.reference.operand(right, Some(self.user), Some(self.resource)) else {
            return Vec::new();
        };
        let fits = |value: &Value| compares(&value.datum(), comparison, &other, caseless) == wanted;
        let given: Option<Value> = match &other {
            Datum::Text(text) => Some(Value::Text(text.as_ref().into())),
            Datum::Number(number) => Some(Value::Number(*number)),
            Datum::Date(date) => Some(Value::Date(*date)),
            Datum::Step(of, step) => Some(Value::Step(*of, *step)),
            _ => None,
        };
        // The value on the other side where it fits, else one that others have, else a step further.
        let step = |by: i32| match &other {
            Datum::Step(of, step) => {
                let to = i32::from(*step) + by;
                let values = self.reference.estate().schema().types[of.index()].values.len() as i32;
                (0..values).contains(&to).then_some(Value::Step(*of, to as u16))
            }
            _ => None,
        };
        let usual = || self.usual(cell, fits);
        // A day or a number that happens to fit is seldom the right one; what others have is likelier.
        let counted = matches!(other, Datum::Date(_) | Datum::Number(_)) && comparison != Comparison::Equal;
        if let (Truth::Unknown, TargetCell::Resource(resource, ResourceCell::Attribute(id))) = (truth, cell)
            && let column = &self.reference.estate().catalog().attributes[id.index()]
            && let Some((value, hint)) = companions(self.reference.estate(), resource, column, fits)
        {
            let idea = self.idea(cell, Some(value), truth);
            return idea.map(|idea| Idea { hint: Some(hint), ..idea }).into_iter().collect();
        }
        let value = if counted {
            usual().or_else(|| given.filter(fits))
        } else {
            given.filter(fits).or_else(|| step(-1).filter(fits)).or_else(|| step(1).filter(fits)).or_else(usual)
        };
        value.and_then(|value| self.idea(cell, Some(value), truth)).into_iter().collect()
    }

    fn sets(
        &self,
        left: &Operand,
        relation: SetRelation,
        right: &Operand,
        caseless: bool,
        wanted: bool,
        truth: Truth,
    ) -> Vec<Idea> {
        let own = |of: &Operand| match self.ask(of) {
            Some(Datum::Set(set)) => set.to_vec(),
            _ => Vec::new(),
        };
        let mut ideas = Vec::new();
        match relation {
            SetRelation::In => {
                // The element joins the set, or leaves it.
                if let (Some(cell), Some(element)) = (self.cell(right), self.ask(left)) {
                    let mut set = own(right);
                    let element = match element {
                        Datum::Text(text) => Some(Value::Text(text.as_ref().into())),
                        Datum::Number(number) => Some(Value::Number(number)),
                        Datum::Date(date) => Some(Value::Date(date)),
                        Datum::Step(of, step) => Some(Value::Step(of, step)),
                        _ => None,
                    };
                    if let Some(element) = element {
                        if wanted {
                            set.push(element)
                        } else {
                            set.retain(|v| !is_element(&element.datum(), std::slice::from_ref(v), caseless))
                        }
                        ideas.extend(self.idea(cell, Some(Value::set(set)), truth));
                    }
                }
                // Or the value becomes one of the set.
                if let Some(cell) = self.cell(left) {
                    let set = own(right);
                    let fits = |value: &Value| is_element(&value.datum(), &set, caseless) == wanted;
                    let value = self.usual(cell, fits).or_else(|| set.first().filter(|_| wanted).cloned());
                    ideas.extend(value.and_then(|value| self.idea(cell, Some(value), truth)));
                }
            }
            SetRelation::Overlaps | SetRelation::Covers => {
                let (a, b) = (own(left), own(right));
                let missing: Vec<Value> = b.iter().filter(|v| !is_element(&v.datum(), &a, caseless)).cloned().collect();
                if let Some(cell) = self.cell(left) {
                    let value = match (relation, wanted) {
                        (SetRelation::Overlaps, true) => {
                            b.first().map(|v| a.iter().cloned().chain([v.clone()]).collect())
                        }
                        (_, true) => Some(a.iter().cloned().chain(missing).collect::<Vec<Value>>()),
                        _ => Some(a.iter().filter(|v| !is_element(&v.datum(), &b, caseless)).cloned().collect()),
                    };
                    ideas.extend(value.and_then(|v| self.idea(cell, Some(Value::set(v)), truth)));
                }
                if let Some(cell) = self.cell(right) {
                    let value: Option<Vec<Value>> = match (relation, wanted) {
                        (SetRelation::Overlaps, true) => {
                            a.first().map(|v| b.iter().cloned().chain([v.clone()]).collect())
                        }
                        (SetRelation::Overlaps, false) => {
                            Some(b.iter().filter(|v| !is_element(&v.datum(), &a, caseless)).cloned().collect())
                        }
                        _ => None,
                    };
                    ideas.extend(value.and_then(|v| self.idea(cell, Some(Value::set(v)), truth)));
                }
            }
        }
        ideas
    }

    /// The value of an operand, where there is one.
    fn ask<'a>(&'a self, of: &'a Operand) -> Option<Datum<'a>> {
        self.reference.operand(of, Some(self.user), Some(self.resource)).flatten()
    }

    fn set(&self, of: &Operand, value: Option<Value>, truth: Truth) -> Vec<Idea> {
        self.cell(of).and_then(|cell| self.idea(cell, value, truth)).into_iter().collect()
    }

    /// What an operand reads, where an administrator could set it.
    fn cell(&self, operand: &Operand) -> Option<TargetCell> {
        match operand {
            Operand::User(field) => {
                let cell = match field {
                    UserField::Kind => UserCell::Kind,
                    UserField::Realm => UserCell::Realm,
                    UserField::Active => UserCell::Active,
                    // What follows from memberships is not set.
                    UserField::Attribute(id) if self.reference.estate().schema().member_of == Some(*id) => return None,
                    UserField::Attribute(id) => UserCell::Attribute(*id),
                    UserField::Id | UserField::Name | UserField::SignIn(_) => return None,
                };
                Some(TargetCell::User(self.user, cell))
            }
            Operand::Resource(step, field) => {
                let catalog = self.reference.estate().catalog();
                let resource = match step {
                    Step::Own => self.resource,
                    Step::Parent => catalog.parent(self.resource)?,
                    Step::Kind(kind) => {
                        let is = |r: &ResourceId| self.reference.estate().schema().is_kind(catalog.kind(*r), *kind);
                        catalog.upward(self.resource).find(is)?
                    }
                };
                let cell = match field {
                    ResourceField::Owner => ResourceCell::Owner,
                    ResourceField::State => ResourceCell::State,
                    ResourceField::Attribute(id) => ResourceCell::Attribute(*id),
                    _ => return None,
                };
                Some(TargetCell::Resource(resource, cell))
            }
            _ => None,
        }
    }

    fn column(&self, cell: TargetCell) -> Option<(&Column, usize)> {
        let estate = self.reference.estate();
        match cell {
            TargetCell::User(_, UserCell::Attribute(id)) => {
                Some((estate.people().attribute(id), estate.people().len()))
            }
            TargetCell::User(_, UserCell::Realm) => Some((estate.people().realms(), estate.people().len())),
            TargetCell::Resource(_, ResourceCell::Attribute(id)) => {
                Some((&estate.catalog().attributes[id.index()], estate.catalog().len()))
            }
            TargetCell::Resource(_, ResourceCell::State) => Some((&estate.catalog().states, estate.catalog().len())),
            _ => None,
        }
    }

    /// The value that most have among those that fit.
    fn usual(&self, cell: TargetCell, fits: impl Fn(&Value) -> bool) -> Option<Value> {
        let (column, rows) = self.column(cell)?;
        most_common(column, rows, fits)
    }

    fn idea(&self, cell: TargetCell, value: Option<Value>, truth: Truth) -> Option<Idea> {
        let unknown = truth == Truth::Unknown;
        let mut hint = None;
        if unknown && value.is_some() {
            hint = Some(
                "a value is missing; the one given here is an example that would do: fill in the right one".to_string(),
            );
        }
        let change = match cell {
            // Guests do not become persons, nor the other way round, so that somebody can open something.
            TargetCell::User(_, UserCell::Kind | UserCell::Active) => return None,
            TargetCell::User(user, cell) => Change::User(user, cell, value),
            TargetCell::Resource(resource, cell) => Change::Resource(resource, cell, value),
        };
        let amount = match (&change, unknown) {
            (_, true) => charge::FILL_IN,
            (Change::User(..), _) => charge::USER_VALUE,
            _ => charge::RESOURCE_VALUE,
        };
        Some(Idea { changes: vec![change], charge: amount, hint, mends: unknown })
    }
}
