//! Typed conditions: every name is resolved and every comparison is between values of one type.

use crate::ids::*;
use crate::schema::{Schema, Target};
use crate::value::{Pattern, Value};
use bastide_syntax::Span;
use bastide_syntax::tree::{Comparison, SetRelation};
use std::ops::Range;

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
    /// An attribute of the session, where the estate tells it for each user.
    SignIn(SessionAttributeId),
}

impl UserField {
    /// All of them.
    pub fn all(schema: &Schema) -> impl Iterator<Item = UserField> {
        use UserField::{Active, Id, Kind, Name, Realm};
        let declared = (0..schema.user_attributes.len()).map(|at| UserField::Attribute(UserAttributeId::new(at)));
        let sign_ins = schema.sign_ins.iter().map(|id| UserField::SignIn(*id));
        [Id, Name, Kind, Active, Realm].into_iter().chain(declared).chain(sign_ins)
    }
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

impl Who {
    /// Gives users other numbers, one or several. A user who has none is nobody from here on, under the id that is given.
    pub fn renumber(&mut self, numbers: impl Fn(UserId) -> Range<u32>, id: impl Fn(UserId) -> String) {
        let mut terms = Vec::with_capacity(self.terms.len());
        for term in std::mem::take(&mut self.terms) {
            match term {
                Term::User(user) if numbers(user).is_empty() => terms.push(Term::Nobody(id(user))),
                Term::User(user) => terms.extend(numbers(user).map(|number| Term::User(UserId(number)))),
                other => terms.push(other),
            }
        }
        self.terms = terms;
    }
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
            Operand::User(field) => {
                seen.user = true;
                seen.session |= matches!(field, UserField::SignIn(_));
            }
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
        match self.test.form() {
            Form::All(parts) => parts.iter().flat_map(Condition::conjuncts).collect(),
            Form::Any(_) | Form::Not(_) | Form::Leaf => vec![self],
        }
    }

    /// Shows it and all its parts to `see`, a whole before its parts, left to right.
    pub fn visit<'c>(&'c self, see: &mut impl FnMut(&'c Condition)) {
        see(self);
        match self.test.form() {
            Form::Any(parts) | Form::All(parts) => parts.iter().for_each(|p| p.visit(see)),
            Form::Not(inner) => inner.visit(see),
            Form::Leaf => {}
        }
    }

    /// What it asks of elsewhere, left to right.
    pub fn elsewhere(&self) -> Vec<Elsewhere> {
        let mut found = Vec::new();
        self.visit(&mut |inner| found.extend(inner.test.elsewhere()));
        found
    }

    /// The groups that it names, left to right.
    pub fn groups(&self) -> impl Iterator<Item = GroupId> {
        self.elsewhere().into_iter().filter_map(|asked| match asked {
            Elsewhere::Group(group) => Some(group),
            Elsewhere::Decision(..) => None,
        })
    }

    /// The decisions that it asks for, left to right.
    pub fn decisions(&self) -> impl Iterator<Item = (ActionId, HoldsTarget)> {
        self.elsewhere().into_iter().filter_map(|asked| match asked {
            Elsewhere::Decision(action, target) => Some((action, target)),
            Elsewhere::Group(_) => None,
        })
    }

    /// What it looks up, left to right, with all its parts.
    pub fn operands(&self) -> Vec<&Operand> {
        let mut found = Vec::new();
        self.visit(&mut |inner| found.extend(inner.test.operands()));
        found
    }
}

/// How a condition is put together.
#[derive(Clone, Copy, Debug)]
pub enum Form<'c> {
    /// Any of these.
    Any(&'c [Condition]),
    /// All of these.
    All(&'c [Condition]),
    /// The opposite.
    Not(&'c Condition),
    /// It has no parts.
    Leaf,
}

/// What a condition asks for that is not data of the user, the resource or the session.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Elsewhere {
    /// A decision for the user.
    Decision(ActionId, HoldsTarget),
    /// Whether the user is in a group.
    Group(GroupId),
}

/// A comparison of two single values.
#[derive(Clone, Copy, Debug)]
pub struct Compared<'c> {
    /// Left side.
    pub left: &'c Operand,
    /// How.
    pub comparison: Comparison,
    /// Right side.
    pub right: &'c Operand,
    /// Whether case is left aside.
    pub caseless: bool,
}

// The only places that list all forms of a condition for what is in it. Whoever adds a form decides here; there are no wild
// cards, so that nothing compiles before.
impl Test {
    /// How it is put together.
    pub fn form(&self) -> Form<'_> {
        match self {
            Test::Or(parts) => Form::Any(parts),
            Test::And(parts) => Form::All(parts),
            Test::Not(inner) => Form::Not(inner),
            Test::Holds(..) | Test::MemberOf(_) | Test::IsOwner => Form::Leaf,
            Test::Flag(_) | Test::IsSet(_) | Test::IsMissing(_) | Test::IsEmpty(_) => Form::Leaf,
            Test::Like { .. } | Test::Compare { .. } | Test::Sets { .. } => Form::Leaf,
        }
    }

    /// What it looks up, left to right; what its parts look up not among it.
    pub fn operands(&self) -> Vec<&Operand> {
        match self {
            Test::Or(_) | Test::And(_) | Test::Not(_) => Vec::new(),
            Test::Holds(..) | Test::MemberOf(_) | Test::IsOwner => Vec::new(),
            Test::Flag(o) | Test::IsSet(o) | Test::IsMissing(o) | Test::IsEmpty(o) => vec![o],
            Test::Like { operand, .. } => vec![operand],
            Test::Compare { left, right, .. } | Test::Sets { left, right, .. } => vec![left, right],
        }
    }

    /// What it asks of elsewhere; what its parts ask not among it.
    pub fn elsewhere(&self) -> Option<Elsewhere> {
        match self {
            Test::Holds(action, target) => Some(Elsewhere::Decision(*action, *target)),
            Test::MemberOf(Some(group)) => Some(Elsewhere::Group(*group)),
            Test::Or(_) | Test::And(_) | Test::Not(_) | Test::MemberOf(None) | Test::IsOwner => None,
            Test::Flag(_) | Test::IsSet(_) | Test::IsMissing(_) | Test::IsEmpty(_) => None,
            Test::Like { .. } | Test::Compare { .. } | Test::Sets { .. } => None,
        }
    }

    /// The two single values that it compares, where it is about that.
    pub fn compared(&self) -> Option<Compared<'_>> {
        match self {
            Test::Compare { left, comparison, right, caseless } => {
                Some(Compared { left, comparison: *comparison, right, caseless: *caseless })
            }
            Test::Or(_) | Test::And(_) | Test::Not(_) | Test::Holds(..) | Test::MemberOf(_) | Test::IsOwner => None,
            Test::Flag(_) | Test::IsSet(_) | Test::IsMissing(_) | Test::IsEmpty(_) => None,
            Test::Like { .. } | Test::Sets { .. } => None,
        }
    }
}

impl Who {
    /// The groups that it names, by themselves and in its condition.
    pub fn groups(&self) -> Vec<GroupId> {
        let by_name = self.terms.iter().filter_map(|term| match term {
            Term::Members(group) => Some(*group),
            Term::Anyone | Term::Owner | Term::User(_) | Term::Nobody(_) => None,
        });
        by_name.chain(self.condition.iter().flat_map(Condition::groups)).collect()
    }

    /// Whether it depends on the resource, so that it must be asked for each.
    pub fn mentions_resource(&self) -> bool {
        self.terms.contains(&Term::Owner) || self.condition.as_ref().is_some_and(|c| c.mentions().resource)
    }
}
