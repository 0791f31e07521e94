//! Conditions as expressions over sets of users.
//!
//! Three-valued logic ends here: a statement asks either for whom its condition is true or for whom it is not false, and
//! which of the two each part of it must give follows from the `not`s around it. What mentions the user alone becomes a set,
//! once; what mentions the resource alone, one bit of a resource; what mentions both is looked up.

use super::index::{By, Index};
use crate::decide::ReferenceEvaluator;
use crate::sets::store::{SetId, SetStore};
use bastide_model::condition::*;
use bastide_model::groups::Computed;
use bastide_model::schema::Target;
use bastide_model::statement::{Comparison, SetRelation};
use bastide_model::value::Pattern;
use bastide_model::*;
use hashbrown::HashMap;

/// For whom something holds.
#[derive(Clone, Debug)]
pub enum Expr {
    /// The same users whatever the resource.
    Set(SetId),
    /// Who holds an action on any of these places.
    Held(ActionId, Box<[ResourceId]>),
    /// Everybody or nobody: [`Atom`].
    Bit(u32),
    /// By value of user and resource: [`Leaf`].
    Leaf(u32),
    /// Who holds an action on what a target leads to.
    Ask(Target, ActionId),
    /// Everybody else.
    Not(Box<Expr>),
    /// In all of these.
    And(Box<[Expr]>),
    /// In any of these.
    Or(Box<[Expr]>),
}

/// What hangs on the resource alone.
pub struct Atom {
    /// The condition.
    pub condition: Condition,
    /// Whether it is to be not false, and not true for certain.
    pub open: bool,
    /// The field it hangs on, where that is one with numbered values.
    pub column: Option<(Step, ResourceField)>,
    /// The text of which nearly every resource has another one, and the pattern that it must fit, where that is all.
    pub like: Option<((Step, ResourceField), Pattern)>,
}

/// What is compared with a value of the user.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Relation {
    /// The user owns the resource.
    Owner,
    /// Values are equal, or (`false`) are not.
    Equal(bool),
    /// The user's value is less, and so on.
    Order(Comparison),
    /// The user's value is in the resource's set.
    UserIn,
    /// The resource's value is in the user's set.
    ResourceIn,
    /// Sets have an element in common.
    Overlaps,
    /// The user's set holds all of the resource's.
    UserCovers,
    /// The resource's set holds all of the user's.
    ResourceCovers,
}

impl Relation {
    /// Whether the resource's value is a set.
    pub fn is_of_sets(self) -> bool {
        match self {
            Relation::UserIn | Relation::Overlaps | Relation::UserCovers | Relation::ResourceCovers => true,
            Relation::Owner | Relation::Equal(_) | Relation::Order(_) | Relation::ResourceIn => false,
        }
    }
}

/// A comparison of a value of the user with one of the resource.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct Leaf {
    /// How.
    pub relation: Relation,
    /// Users by value: a position among the indexes.
    pub index: u32,
    /// Where the resource's value is found.
    pub field: (Step, ResourceField),
    /// Whether it is to be not false, and not true for certain.
    pub open: bool,
}

/// Everything that statements are compiled to, but they themselves.
#[derive(Default)]
pub struct Parts {
    /// What hangs on the resource alone.
    pub atoms: Vec<Atom>,
    /// Comparisons of user and resource.
    pub leaves: Vec<Leaf>,
    /// Users by value.
    pub indexes: Vec<Index>,
    known_atoms: HashMap<(String, bool), u32>,
    known_leaves: HashMap<Leaf, u32>,
    known_indexes: HashMap<By, u32>,
}

/// Compiles conditions.
pub struct Compiler<'c, 'e> {
    reference: &'c ReferenceEvaluator<'e>,
    pub sets: &'c mut SetStore,
    pub parts: &'c mut Parts,
    groups: HashMap<(GroupId, bool), Expr>,
    /// Conditions on users alone: for whom true, for whom not false.
    of_users: HashMap<String, (SetId, SetId)>,
    /// Fields whose users are wanted in order.
    ordered: &'c hashbrown::HashSet<UserField>,
}

/// A constant.
pub fn constant(truth: bool) -> Expr {
    Expr::Set(if truth { SetId::ALL } else { SetId::NONE })
}

/// Fields of users that are compared by `<` and its kin.
pub fn ordered_fields(estate: &Estate) -> hashbrown::HashSet<UserField> {
    let mut fields = hashbrown::HashSet::new();
    let whos = estate.groups().bodies().filter_map(|computed| match computed {
        Computed::Who(who) => who.condition.as_ref(),
        Computed::Holders(..) => None,
    });
    let all = estate.statements().iter().flat_map(|statement| statement.conditions()).chain(whos);
    for condition in all {
        condition.visit(&mut |inner| {
            if let Test::Compare { left, right, .. } = &inner.test {
                for operand in [left, right] {
                    if let Operand::User(field) = operand {
                        fields.insert(*field);
                    }
                }
            }
        });
    }
    fields
}

impl<'c, 'e> Compiler<'c, 'e> {
    pub fn new(
        reference: &'c ReferenceEvaluator<'e>,
        sets: &'c mut SetStore,
        parts: &'c mut Parts,
        ordered: &'c hashbrown::HashSet<UserField>,
    ) -> Compiler<'c, 'e> {
        Compiler { reference, sets, parts, groups: HashMap::new(), of_users: HashMap::new(), ordered }
    }

    fn estate(&self) -> &'e Estate {
        self.reference.estate()
    }

    /// To whom a statement applies.
    pub fn statement(&mut self, statement: &Statement, open: bool) -> Expr {
        let mut all = vec![self.who(&statement.who, open)];
        let conditions = [&statement.what.condition, &statement.condition];
        all.extend(conditions.into_iter().flatten().map(|condition| self.condition(condition, open)));
        self.and(all)
    }

    /// A who-clause.
    pub fn who(&mut self, who: &Who, open: bool) -> Expr {
        let any = self.terms(who, open);
        match &who.condition {
            Some(condition) => {
                let condition = self.condition(condition, open);
                self.and(vec![any, condition])
            }
            None => any,
        }
    }

    /// The terms of a who-clause.
    pub fn terms(&mut self, who: &Who, open: bool) -> Expr {
        let terms = who.terms.iter().map(|term| match term {
            Term::Anyone => constant(true),
            Term::Nobody(_) => constant(false),
            Term::User(user) => Expr::Set(self.sets.of([user.index()])),
            Term::Members(group) => self.group(*group, open),
            Term::Owner => self.owner(open),
        });
        let terms: Vec<Expr> = terms.collect();
        self.or(terms)
    }

    /// The members of a group.
    pub fn group(&mut self, group: GroupId, open: bool) -> Expr {
        if let Some(known) = self.groups.get(&(group, open)) {
            return known.clone();
        }
        let groups = self.estate().groups();
        let mut any = vec![Expr::Set(self.sets.of(groups.users(group).ones()))];
        for inner in groups.through(group) {
            any.push(match groups.computed(*inner).expect("only computed groups are passed through") {
                Computed::Who(who) => self.who(who, open),
                Computed::Holders(action, places) => Expr::Held(*action, places.as_slice().into()),
            });
        }
        let expr = self.or(any);
        self.groups.insert((group, open), expr.clone());
        expr
    }

    fn owner(&mut self, open: bool) -> Expr {
        let field = (Step::Own, ResourceField::Owner);
        self.leaf(Leaf { relation: Relation::Owner, index: u32::MAX, field, open })
    }

    /// For whom a condition is true or, with `open`, not false.
    pub fn condition(&mut self, condition: &Condition, open: bool) -> Expr {
        match &condition.test {
            Test::And(parts) => {
                let parts = parts.iter().map(|part| self.condition(part, open)).collect();
                self.and(parts)
            }
            Test::Or(parts) => {
                let parts = parts.iter().map(|part| self.condition(part, open)).collect();
                self.or(parts)
            }
            Test::Not(inner) => {
                let inner = self.condition(inner, !open);
                self.not(inner)
            }
            Test::Holds(_, HoldsTarget::Nowhere) => constant(false),
            Test::Holds(action, HoldsTarget::Place(place)) => Expr::Held(*action, [*place].into()),
            Test::Holds(action, HoldsTarget::Relative(target)) => Expr::Ask(*target, *action),
            Test::MemberOf(None) => constant(false),
            Test::MemberOf(Some(group)) => self.group(*group, open),
            Test::IsOwner => self.owner(open),
            test @ (Test::Flag(_)
            | Test::IsSet(_)
            | Test::IsMissing(_)
            | Test::IsEmpty(_)
            | Test::Like { .. }
            | Test::Compare { .. }
            | Test::Sets { .. }) => self.comparison(condition, test, open),
        }
    }

    /// Whether it may differ from one user to another. What was given of the session does not.
    fn differs_by_user(&self, operand: &Operand) -> bool {
        match operand {
            Operand::User(UserField::SignIn(id)) => !self.reference.moment().is_given(*id),
            Operand::User(_) => true,
            Operand::Resource(..) | Operand::Session(_) | Operand::Literal(_) => false,
            Operand::Kinds(_) | Operand::Today(_) => false,
        }
    }

    fn comparison(&mut self, condition: &Condition, test: &Test, open: bool) -> Expr {
        let operands = test.operands();
        let of_user = operands.iter().any(|operand| self.differs_by_user(operand));
        let of_resource = operands.iter().any(|operand| matches!(operand, Operand::Resource(..)));
        match (of_user, of_resource) {
            (false, false) => {
                let truth = self.reference.condition(condition, None, None);
                constant(if open { truth.not_false() } else { truth.is_true() })
            }
            (true, false) => {
                let (yes, not_false) = self.users(condition, &operands);
                Expr::Set(if open { not_false } else { yes })
            }
            (false, true) => self.atom(condition, &operands, open),
            (true, true) => self.pair(test, open),
        }
    }

    /// A comparison of users alone, asked once for each of their values.
    fn users(&mut self, condition: &Condition, operands: &[&Operand]) -> (SetId, SetId) {
        let key = format!("{:?}", condition.test);
        if let Some(known) = self.of_users.get(&key) {
            return *known;
        }
        let people = self.estate().people();
        let mut fields: Vec<UserField> = operands
            .iter()
            .filter_map(|operand| if let Operand::User(field) = operand { Some(*field) } else { None })
            .collect();
        fields.dedup();
        let column = match fields[..] {
            [UserField::Attribute(id)] => Some(people.attribute(id)),
            [UserField::Realm] => Some(people.realms()),
            [UserField::SignIn(id)] => Some(people.sign_in(id).expect("it is told by sign-ins")),
            _ => None,
        };
        let reference = self.reference;
        let mut by_value: Vec<Option<Truth>> = vec![None; column.map_or(0, |column| column.distinct().len() + 1)];
        let truths = people.all().map(|user| {
            let ask = || reference.condition(condition, Some(user), None);
            match column {
                Some(column) => {
                    let code = column.code(user.index()).map_or(column.distinct().len(), |code| code as usize);
                    *by_value[code].get_or_insert_with(ask)
                }
                None => ask(),
            }
        });
        let truths: Vec<Truth> = truths.collect();
        let of = |is: fn(Truth) -> bool| truths.iter().enumerate().filter(move |(_, t)| is(**t)).map(|(user, _)| user);
        let found = (self.sets.of(of(Truth::is_true)), self.sets.of(of(Truth::not_false)));
        self.of_users.insert(key, found);
        found
    }

    fn atom(&mut self, condition: &Condition, operands: &[&Operand], open: bool) -> Expr {
        let mut fields: Vec<(Step, ResourceField)> = operands
            .iter()
            .filter_map(
                |operand| if let Operand::Resource(step, field) = operand { Some((*step, *field)) } else { None },
            )
            .collect();
        fields.dedup();
        let numbered = |(_, field): &(Step, ResourceField)| {
            !matches!(field, ResourceField::Id | ResourceField::Name | ResourceField::Path)
        };
        let column = match fields[..] {
            [field] if numbered(&field) => Some(field),
            _ => None,
        };
        let Parts { atoms, known_atoms, .. } = &mut *self.parts;
        let number = *known_atoms.entry((format!("{:?}", condition.test), open)).or_insert_with(|| {
            let like = match &condition.test {
                Test::Like { operand: Operand::Resource(step, field), pattern, caseless: false }
                    if !numbered(&(*step, *field)) =>
                {
                    Some(((*step, *field), pattern.clone()))
                }
                _ => None,
            };
            atoms.push(Atom { condition: condition.clone(), open, column, like });
            atoms.len() as u32 - 1
        });
        Expr::Bit(number)
    }

    /// A comparison of a user's value with a resource's.
    fn pair(&mut self, test: &Test, open: bool) -> Expr {
        let (left, right, caseless) = match test {
            Test::Compare { left, right, caseless, .. } | Test::Sets { left, right, caseless, .. } => {
                (left, right, *caseless)
            }
            Test::Or(_)
            | Test::And(_)
            | Test::Not(_)
            | Test::Holds(..)
            | Test::MemberOf(_)
            | Test::IsOwner
            | Test::Flag(_)
            | Test::IsSet(_)
            | Test::IsMissing(_)
            | Test::IsEmpty(_)
            | Test::Like { .. } => unreachable!("only a comparison has two sides"),
        };
        let (field, of, user_first) = match (left, right) {
            (Operand::User(field), Operand::Resource(step, of)) => (*field, (*step, *of), true),
            (Operand::Resource(step, of), Operand::User(field)) => (*field, (*step, *of), false),
            _ => unreachable!("one side is of the user, the other of the resource"),
        };
        let relation = match test {
            Test::Compare { comparison, .. } => match (comparison, user_first) {
                (Comparison::Equal, _) => Relation::Equal(true),
                (Comparison::NotEqual, _) => Relation::Equal(false),
                (comparison, true) => Relation::Order(*comparison),
                (Comparison::Less, false) => Relation::Order(Comparison::Greater),
                (Comparison::LessEqual, false) => Relation::Order(Comparison::GreaterEqual),
                (Comparison::Greater, false) => Relation::Order(Comparison::Less),
                (Comparison::GreaterEqual, false) => Relation::Order(Comparison::LessEqual),
            },
            Test::Sets { relation, .. } => match (relation, user_first) {
                (SetRelation::In, true) => Relation::UserIn,
                (SetRelation::In, false) => Relation::ResourceIn,
                (SetRelation::Overlaps, _) => Relation::Overlaps,
                (SetRelation::Covers, true) => Relation::UserCovers,
                (SetRelation::Covers, false) => Relation::ResourceCovers,
            },
            _ => unreachable!("told apart above"),
        };
        let owner = of == (Step::Own, ResourceField::Owner) && field == UserField::Id && !caseless;
        if owner && relation == Relation::Equal(true) {
            return self.owner(open);
        }
        let elements = match relation {
            Relation::ResourceIn | Relation::Overlaps | Relation::UserCovers | Relation::ResourceCovers => true,
            Relation::Owner | Relation::Equal(_) | Relation::Order(_) | Relation::UserIn => false,
        };
        let index = self.index(By { field, caseless, elements });
        self.leaf(Leaf { relation, index, field: of, open })
    }

    fn index(&mut self, by: By) -> u32 {
        let people = self.estate().people();
        let Parts { indexes, known_indexes, .. } = &mut *self.parts;
        *known_indexes.entry(by).or_insert_with(|| {
            indexes.push(Index::new(people, by, !by.elements && self.ordered.contains(&by.field), self.sets));
            indexes.len() as u32 - 1
        })
    }

    fn leaf(&mut self, leaf: Leaf) -> Expr {
        let Parts { leaves, known_leaves, .. } = &mut *self.parts;
        let number = *known_leaves.entry(leaf).or_insert_with_key(|leaf| {
            leaves.push(leaf.clone());
            leaves.len() as u32 - 1
        });
        Expr::Leaf(number)
    }

    fn not(&mut self, inner: Expr) -> Expr {
        match inner {
            Expr::Set(set) => Expr::Set(self.sets.complement(set)),
            Expr::Not(inner) => *inner,
            other => Expr::Not(other.into()),
        }
    }

    fn and(&mut self, parts: Vec<Expr>) -> Expr {
        let flat = parts.into_iter().flat_map(|part| if let Expr::And(inner) = part { inner } else { [part].into() });
        self.several(flat.collect(), true)
    }

    fn or(&mut self, parts: Vec<Expr>) -> Expr {
        let flat = parts.into_iter().flat_map(|part| if let Expr::Or(inner) = part { inner } else { [part].into() });
        self.several(flat.collect(), false)
    }

    /// All of several, or any of them: what is the same everywhere becomes one set.
    fn several(&mut self, parts: Vec<Expr>, all: bool) -> Expr {
        let (settles, empty) = if all { (SetId::NONE, SetId::ALL) } else { (SetId::ALL, SetId::NONE) };
        let (mut set, mut rest) = (empty, Vec::new());
        for part in parts {
            match part {
                Expr::Set(own) if all => set = self.sets.intersect(set, own),
                Expr::Set(own) => set = self.sets.union(set, own),
                other => rest.push(other),
            }
        }
        if set == settles {
            return Expr::Set(settles);
        }
        if set != empty {
            rest.push(Expr::Set(set));
        }
        joined(rest, all, if all { Expr::And } else { Expr::Or })
    }
}

/// Several in one, those first that cost least and may settle it; `empty` is what none of them gives.
fn joined(mut parts: Vec<Expr>, empty: bool, join: fn(Box<[Expr]>) -> Expr) -> Expr {
    fn cost(expr: &Expr) -> u8 {
        match expr {
            Expr::Bit(_) => 0,
            Expr::Set(_) => 1,
            Expr::Held(..) => 2,
            Expr::Leaf(_) => 3,
            Expr::Ask(..) => 4,
            Expr::Not(inner) => cost(inner),
            Expr::And(parts) | Expr::Or(parts) => parts.iter().map(cost).max().unwrap_or(0),
        }
    }
    match parts.len() {
        0 => constant(empty),
        1 => parts.pop().expect("there is one"),
        _ => {
            parts.sort_by_key(cost);
            join(parts.into())
        }
    }
}

impl Expr {
    /// Calls `see` on this and everything inside.
    pub fn visit(&self, see: &mut impl FnMut(&Expr)) {
        see(self);
        match self {
            Expr::Set(_) | Expr::Held(..) | Expr::Bit(_) | Expr::Leaf(_) | Expr::Ask(..) => {}
            Expr::Not(inner) => inner.visit(see),
            Expr::And(parts) | Expr::Or(parts) => parts.iter().for_each(|part| part.visit(see)),
        }
    }

    /// Whether it is the same users whatever the resource.
    pub fn is_constant(&self) -> bool {
        let mut constant = true;
        self.visit(&mut |inner| constant &= !matches!(inner, Expr::Bit(_) | Expr::Leaf(_) | Expr::Ask(..)));
        constant
    }
}

/// Whether a what-clause is not false where nothing is known of the user: then its statement says which layer controls a
/// resource. Gives an expression over bits alone.
pub fn covering(compiler: &mut Compiler, condition: &Condition, open: bool) -> Expr {
    match &condition.test {
        Test::And(parts) => {
            let parts = parts.iter().map(|part| covering(compiler, part, open)).collect();
            compiler.and(parts)
        }
        Test::Or(parts) => {
            let parts = parts.iter().map(|part| covering(compiler, part, open)).collect();
            compiler.or(parts)
        }
        Test::Not(inner) => {
            let inner = covering(compiler, inner, !open);
            compiler.not(inner)
        }
        Test::MemberOf(None) => constant(false),
        Test::Holds(..) | Test::MemberOf(Some(_)) | Test::IsOwner => constant(open),
        test @ (Test::Flag(_)
        | Test::IsSet(_)
        | Test::IsMissing(_)
        | Test::IsEmpty(_)
        | Test::Like { .. }
        | Test::Compare { .. }
        | Test::Sets { .. }) => {
            let of_user = test.operands().into_iter().any(|operand| compiler.differs_by_user(operand));
            if of_user { constant(open) } else { compiler.condition(condition, open) }
        }
    }
}
