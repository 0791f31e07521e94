//! Typed conditions: every name is resolved and every comparison is between values of one type.

use crate::ids::*;
use crate::schema::Target;
use crate::statement::{Comparison, SetRelation};
use crate::value::{Pattern, Value};
use bastide_syntax::Span;

/// A condition and where it is written.
#[derive(Clone, Debug)]
pub struct Condition {
    /// What it asks.
    pub test: Test,
    /// Where it is written.
    pub span: Span,
}

/// What a condition asks.
#[derive(Clone, Debug)]
pub enum Test {
    /// Any of these.
    Or(Vec<Condition>),
    /// All of these.
    And(Vec<Condition>),
    /// The opposite.
    Not(Box<Condition>),
    /// Whether the user holds an action on a target.
    Holds(ActionId, HoldsTarget),
    /// Whether the user is in a group; none: a group that does not exist.
    MemberOf(Option<GroupId>),
    /// Whether the user owns the resource.
    IsOwner,
    /// A flag by itself.
    Flag(Operand),
    /// Whether there is a value.
    IsSet(Operand),
    /// Whether there is no value.
    IsMissing(Operand),
    /// Whether a set is empty.
    IsEmpty(Operand),
    /// Whether a text fits a pattern (folded where `caseless`).
    Like {
        /// The text.
        operand: Operand,
        /// The pattern, folded already where it must be.
        pattern: Pattern,
        /// Whether case is left aside.
        caseless: bool,
    },
    /// A comparison of two single values.
    Compare {
        /// Left side.
        left: Operand,
        /// How.
        comparison: Comparison,
        /// Right side.
        right: Operand,
        /// Whether case is left aside.
        caseless: bool,
    },
    /// A relation to a set.
    Sets {
        /// An element (`in`) or a set.
        left: Operand,
        /// How.
        relation: SetRelation,
        /// The set.
        right: Operand,
        /// Whether case is left aside.
        caseless: bool,
    },
}

/// Where `holds` looks.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum HoldsTarget {
    /// Relative to the resource.
    Relative(Target),
    /// A place.
    Place(ResourceId),
    /// A path that fits nothing.
    Nowhere,
}

/// One side of a comparison.
#[derive(Clone, Debug)]
pub enum Operand {
    /// Of the user.
    User(UserField),
    /// Of the resource, or of one above it.
    Resource(Step, ResourceField),
    /// Of the session.
    Session(SessionAttributeId),
    /// A value.
    Literal(Value),
    /// A kind (`resource.kind = item`).
    Kinds(Vec<KindId>),
    /// Today, so many days later or earlier.
    Today(i64),
}

/// Which resource an attribute is looked up on.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Step {
    /// The resource itself.
    Own,
    /// Its parent.
    Parent,
    /// The nearest of a kind, itself included.
    Kind(KindId),
}

/// A field of a user.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum UserField {
    /// `user.id`
    Id,
    /// `user.name`
    Name,
    /// `user.kind`
    Kind,
    /// `user.active`
    Active,
    /// `user.realm`
    Realm,
    /// A declared attribute.
    Attribute(UserAttributeId),
}

/// A field of a resource.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum ResourceField {
    /// `resource.id`
    Id,
    /// `resource.name`
    Name,
    /// `resource.path`
    Path,
    /// `resource.kind`
    Kind,
    /// `resource.owner`
    Owner,
    /// `resource.state`
    State,
    /// A declared attribute.
    Attribute(ResourceAttributeId),
}

/// A who-clause.
#[derive(Clone, Default, Debug)]
pub struct Who {
    /// Any of these.
    pub terms: Vec<Term>,
    /// And this.
    pub condition: Option<Condition>,
}

/// A term of a who-clause.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Term {
    /// Everybody.
    Anyone,
    /// The owner of the resource.
    Owner,
    /// One user.
    User(UserId),
    /// The members of a group.
    Members(GroupId),
    /// A user or group that does not exist: nobody. The name as written.
    Nobody(String),
}

impl Operand {
    fn mentions(&self, seen: &mut Mentions) {
        match self {
            Operand::User(_) => seen.user = true,
            Operand::Resource(..) => seen.resource = true,
            Operand::Session(_) => seen.session = true,
            Operand::Today(_) => seen.today = true,
            Operand::Literal(_) | Operand::Kinds(_) => {}
        }
    }
}

/// What a condition depends on.
#[derive(Clone, Copy, PartialEq, Eq, Default, Debug)]
pub struct Mentions {
    /// The user.
    pub user: bool,
    /// The resource.
    pub resource: bool,
    /// The session.
    pub session: bool,
    /// The date.
    pub today: bool,
}

impl Condition {
    /// What it depends on. `holds` depends on user and resource.
    pub fn mentions(&self) -> Mentions {
        let mut seen = Mentions::default();
        self.visit(&mut |condition| match &condition.test {
            Test::Or(_) | Test::And(_) | Test::Not(_) => {}
            Test::Holds(_, target) => {
                seen.user = true;
                seen.resource |= matches!(target, HoldsTarget::Relative(_));
            }
            Test::MemberOf(_) => seen.user = true,
            Test::IsOwner => {
                seen.user = true;
                seen.resource = true;
            }
            Test::Flag(o) | Test::IsSet(o) | Test::IsMissing(o) | Test::IsEmpty(o) => o.mentions(&mut seen),
            Test::Like { operand, .. } => operand.mentions(&mut seen),
            Test::Compare { left, right, .. } | Test::Sets { left, right, .. } => {
                left.mentions(&mut seen);
                right.mentions(&mut seen);
            }
        });
        seen
    }

    /// What it demands all of.
    pub fn conjuncts(&self) -> Vec<&Condition> {
        match &self.test {
            Test::And(parts) => parts.iter().flat_map(Condition::conjuncts).collect(),
            _ => vec![self],
        }
    }

    /// Calls `see` on this condition and every one inside it.
    pub fn visit<'c>(&'c self, see: &mut impl FnMut(&'c Condition)) {
        see(self);
        match &self.test {
            Test::Or(parts) | Test::And(parts) => parts.iter().for_each(|p| p.visit(see)),
            Test::Not(inner) => inner.visit(see),
            _ => {}
        }
    }
}

impl Test {
    /// What it looks up, left to right; what stands inside an `or`, `and` or `not` not among it. Whoever adds a form decides
    /// here what it looks up.
    pub fn operands(&self) -> Vec<&Operand> {
        match self {
            Test::Or(_) | Test::And(_) | Test::Not(_) => Vec::new(),
            Test::Holds(..) | Test::MemberOf(_) | Test::IsOwner => Vec::new(),
            Test::Flag(o) | Test::IsSet(o) | Test::IsMissing(o) | Test::IsEmpty(o) => vec![o],
            Test::Like { operand, .. } => vec![operand],
            Test::Compare { left, right, .. } | Test::Sets { left, right, .. } => vec![left, right],
        }
    }
}

impl Who {
    /// Whether it depends on the resource, so that it must be asked for each.
    pub fn mentions_resource(&self) -> bool {
        self.terms.contains(&Term::Owner) || self.condition.as_ref().is_some_and(|c| c.mentions().resource)
    }
}
