//! What of a resource a statement's outcome hangs on, and its value for a resource as one number.

use crate::decide::targets;
use bastide_model::column::NONE;
use bastide_model::condition::*;
use bastide_model::schema::Target;
use bastide_model::statement::Comparison;
use bastide_model::*;
use std::sync::Arc;

/// Something of a resource that conditions ask for.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Feature {
    /// A field of it, of its parent, or of one above it.
    Field(Step, ResourceField),
    /// Whether a decision is positive on a target: the set of users for whom it is.
    Ask(Target, ActionId),
    /// Whether it has an owner, and whether the owner is a user. Who it is does not matter here:
    /// see [`View`].
    Owned,
}

/// As whom a resource's users are looked at. An owner is one user of many, and resources have many
/// owners: what is decided for everybody else does not hang on who it is, and what is decided for
/// an owner hangs only on being one. So each is worked out for all users at once, as if nobody, or
/// as if everybody, owned the resource; the owner is then looked up in the second.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum View {
    /// As somebody who does not own it.
    Other,
    /// As its owner.
    Owner,
}

/// The features a condition mentions. A decision on the resource itself is left out: it follows
/// from everything else; `own` is set where there is one.
pub fn of_condition(condition: &Condition, features: &mut Vec<Feature>, own: &mut bool) {
    condition.visit(&mut |inner| match &inner.test {
        Test::Holds(action, HoldsTarget::Relative(target)) if *target == Target::Own => {
            *own = true;
            let _ = action;
        }
        Test::Holds(action, HoldsTarget::Relative(target)) => features.push(Feature::Ask(*target, *action)),
        Test::IsOwner => features.push(Feature::Owned),
        _ if is_owner(&inner.test) => features.push(Feature::Owned),
        Test::Flag(o) | Test::IsSet(o) | Test::IsMissing(o) | Test::IsEmpty(o) => of_operand(o, features),
        Test::Like { operand, .. } => of_operand(operand, features),
        Test::Compare { left, right, .. } | Test::Sets { left, right, .. } => {
            of_operand(left, features);
            of_operand(right, features);
        }
        _ => {}
    });
}

/// Whether a comparison asks for the owner in other words: `user.id = resource.owner`.
pub fn is_owner(test: &Test) -> bool {
    let Test::Compare { left, comparison: Comparison::Equal, right, caseless: false } = test else { return false };
    let id = |o: &Operand| matches!(o, Operand::User(UserField::Id));
    let owner = |o: &Operand| matches!(o, Operand::Resource(Step::Own, ResourceField::Owner));
    (id(left) && owner(right)) || (owner(left) && id(right))
}

fn of_operand(operand: &Operand, features: &mut Vec<Feature>) {
    if let Operand::Resource(step, field) = operand {
        features.push(Feature::Field(*step, *field));
    }
}

/// The values of resources as numbers: equal numbers, equal values.
///
/// They are asked for several times a resource, and so are looked up where they lie, and not by way of the catalog.
pub struct Cells<'e> {
    estate: &'e Estate,
    parents: &'e [Option<ResourceId>],
    kinds: &'e [KindId],
    owners: &'e [u32],
    /// By number of an owner, whether that is a user.
    users: Box<[bool]>,
    states: &'e [u32],
    attributes: Box<[&'e [u32]]>,
}

impl<'e> Cells<'e> {
    /// Those of an estate's resources.
    pub fn of(estate: &'e Estate) -> Cells<'e> {
        let catalog = &estate.catalog;
        Cells {
            estate,
            parents: &catalog.parents,
            kinds: &catalog.kinds,
            owners: catalog.owners.numbers(),
            users: catalog.owner_users.iter().map(Option::is_some).collect(),
            states: catalog.states.numbers(),
            attributes: catalog.attributes.iter().map(|column| column.numbers()).collect(),
        }
    }

    /// The parent.
    pub fn parent(&self, resource: ResourceId) -> Option<ResourceId> {
        self.parents[resource.index()]
    }

    /// The kind.
    pub fn kind(&self, resource: ResourceId) -> KindId {
        self.kinds[resource.index()]
    }

    /// The value of a field; [`NONE`] where it is missing.
    pub fn field(&self, of: Step, field: ResourceField, resource: ResourceId) -> u32 {
        let Some(resource) = self.step(of, resource) else { return NONE };
        let number = |cells: &[u32]| cells.get(resource.index()).copied().unwrap_or(NONE);
        match field {
            ResourceField::Id | ResourceField::Name | ResourceField::Path => resource.0,
            ResourceField::Kind => self.kind(resource).0,
            ResourceField::Owner => number(self.owners),
            ResourceField::State => number(self.states),
            ResourceField::Attribute(id) => number(self.attributes[id.index()]),
        }
    }

    /// Where the values of a feature lie, if it is a state or an attribute of the resource itself. Where there are fewer
    /// than resources, the others have none.
    pub fn own(&self, feature: Feature) -> Option<&'e [u32]> {
        match feature {
            Feature::Field(Step::Own, ResourceField::State) => Some(self.states),
            Feature::Field(Step::Own, ResourceField::Attribute(id)) => Some(self.attributes[id.index()]),
            _ => None,
        }
    }

    /// The resource a step leads to.
    fn step(&self, step: Step, resource: ResourceId) -> Option<ResourceId> {
        match step {
            Step::Own => Some(resource),
            Step::Parent => self.parent(resource),
            Step::Kind(kind) => {
                let mut upward = self.estate.catalog.upward(resource);
                upward.find(|above| self.estate.schema.is_kind(self.kind(*above), kind))
            }
        }
    }

    /// The value of [`Feature::Owned`]: whether a resource has no owner, one who is no user, or a user.
    pub fn owned(&self, resource: ResourceId) -> u32 {
        match self.owners.get(resource.index()) {
            None | Some(&NONE) => 0,
            Some(owner) => 1 + u32::from(self.users[*owner as usize]),
        }
    }
}

/// A feature as a digit of a number: what can be told of a resource by few values.
#[derive(Clone)]
pub struct Digit<'e> {
    feature: Feature,
    /// Where it lies, if it is a field of the resource itself.
    cells: Option<&'e [u32]>,
    /// By value, what stands for all that come to the same; the last is for a missing one.
    folded: Option<Arc<[u32]>>,
    /// More than any value but a missing one.
    pub radix: u32,
}

impl<'e> Digit<'e> {
    /// A feature of an estate's resources; none where it is not known beforehand how many values it has.
    pub fn new(cells: &Cells<'e>, estate: &Estate, feature: Feature) -> Option<Digit<'e>> {
        Some(Digit { feature, cells: cells.own(feature), folded: None, radix: radix(estate, feature)? })
    }

    /// The same, values that come to the same being one.
    pub fn folded(self, folded: Arc<[u32]>) -> Digit<'e> {
        let radix = folded.iter().max().map_or(self.radix, |most| most + 1);
        Digit { folded: Some(folded), radix, ..self }
    }

    /// Whether it is the same feature, and the same values come to the same.
    pub fn is_same(&self, other: &Digit) -> bool {
        (self.feature, &self.folded) == (other.feature, &other.folded)
    }

    /// A number that stands for the values of other digits, with the value for a resource behind it. A missing value takes
    /// the last place.
    pub fn behind(&self, number: u64, cells: &Cells, resource: ResourceId) -> u64 {
        let value = match (self.cells, self.feature) {
            (Some(own), _) => own.get(resource.index()).copied().unwrap_or(NONE),
            (None, Feature::Field(step, field)) => cells.field(step, field, resource),
            (None, _) => cells.owned(resource),
        };
        let value = match &self.folded {
            Some(folded) => folded[(value as usize).min(folded.len() - 1)],
            None => value.min(self.radix - 1),
        };
        number * u64::from(self.radix) + u64::from(value)
    }

    /// The same for many resources.
    pub fn behind_each(&self, numbers: &mut [u64], cells: &Cells, resources: &[u32]) {
        let radix = u64::from(self.radix);
        match (self.cells.filter(|own| own.len() == cells.parents.len()), &self.folded) {
            (Some(own), Some(folded)) => {
                let missing = folded[folded.len() - 1];
                let value = |value: u32| folded.get(value as usize).copied().unwrap_or(missing);
                behind_each(numbers, radix, own, resources, value);
            }
            (Some(own), None) => behind_each(numbers, radix, own, resources, |value| value.min(self.radix - 1)),
            (None, None) if self.feature == Feature::Owned && cells.owners.len() == cells.parents.len() => {
                let value = |owner: u32| cells.users.get(owner as usize).map_or(0, |user| 1 + u32::from(*user));
                behind_each(numbers, radix, cells.owners, resources, value);
            }
            _ => {
                let pairs = numbers.iter_mut().zip(resources);
                pairs.for_each(|(number, resource)| *number = self.behind(*number, cells, ResourceId(*resource)));
            }
        }
    }
}

/// Puts the values of many resources behind numbers.
fn behind_each(numbers: &mut [u64], radix: u64, own: &[u32], resources: &[u32], value: impl Fn(u32) -> u32) {
    let put = |number: &mut u64, own: u32| *number = *number * radix + u64::from(value(own));
    match resources {
        // Neighbours, which is nearly always so: one after the other.
        [first, .., last] if (last - first) as usize + 1 == resources.len() => {
            let own = &own[*first as usize..=*last as usize];
            numbers.iter_mut().zip(own).for_each(|(number, own)| put(number, *own));
        }
        _ => numbers.iter_mut().zip(resources).for_each(|(number, at)| put(number, own[*at as usize])),
    }
}

/// How many values a feature can have, a missing one included; none where that is not known beforehand.
pub fn radix(estate: &Estate, feature: Feature) -> Option<u32> {
    let catalog = &estate.catalog;
    let values = match feature {
        Feature::Ask(..) => return None,
        Feature::Owned => 2,
        Feature::Field(_, field) => match field {
            ResourceField::Id | ResourceField::Name | ResourceField::Path => return None,
            ResourceField::Kind => estate.schema.kinds.len(),
            ResourceField::Owner => catalog.owners.values.len(),
            ResourceField::State => catalog.states.values.len(),
            ResourceField::Attribute(id) => catalog.attributes[id.index()].values.len(),
        },
    };
    u32::try_from(values + 1).ok()
}

/// The resources a target leads to, and whether one is missing.
pub fn lead(estate: &Estate, resource: ResourceId, target: Target) -> (Vec<ResourceId>, bool) {
    let targets = targets(estate, resource, target);
    (targets.found, targets.unmet)
}
