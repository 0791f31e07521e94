//! Typing of expressions: every name is looked up and every comparison is between values of one type.

use crate::literal::{literal, shown};
use crate::scope::Scope;
use bastide_model::condition::{Condition, HoldsTarget, Operand, ResourceField, Step, Term, Test, UserField, Who};
use bastide_model::schema::{Attribute, Scalar, Target};
use bastide_model::value::{Pattern, Value};
use bastide_model::*;
use bastide_syntax::codes;
use bastide_syntax::nearest::nearest;
use bastide_syntax::tree::{
    self, Comparison, Domain, Expr, ExprBody, Literal, LiteralBody, Member, Name, OperandBody, SetOperand, SetRelation,
};
use bastide_syntax::{Diagnostic, Diagnostics, Span};

/// The type of one side.
#[derive(Clone, Copy, PartialEq)]
struct Type {
    scalar: Scalar,
    set: bool,
    caseless: bool,
}

impl Type {
    fn single(scalar: Scalar) -> Type {
        Type { scalar, set: false, caseless: false }
    }
}

/// Typing fails after its reason was reported.
struct Failed;
type Typed<T> = Result<T, Failed>;

impl Scope<'_> {
    /// Types a condition; none where it has mistakes, which are reported.
    pub fn condition(&self, expr: &Expr, out: &mut Diagnostics) -> Option<Condition> {
        Typer { scope: self, out }.expr(expr).ok()
    }

    /// Types a who-clause.
    pub fn who(&self, who: &tree::Who, out: &mut Diagnostics) -> Who {
        let terms = who
            .terms
            .iter()
            .map(|term| match term {
                tree::Term::Anyone(_) => Term::Anyone,
                tree::Term::Owner(_) => Term::Owner,
                tree::Term::User(name) => {
                    self.user(&name.text, name.span, out).map_or(Term::Nobody(name.text.clone()), Term::User)
                }
                tree::Term::Members(name) => {
                    self.group(&name.text, name.span, out).map_or(Term::Nobody(name.text.clone()), Term::Members)
                }
            })
            .collect();
        let condition = who.condition.as_ref().and_then(|c| self.condition(c, out));
        Who { terms, condition }
    }
}

struct Typer<'s, 'a, 'o> {
    scope: &'s Scope<'a>,
    out: &'o mut Diagnostics,
}

impl Typer<'_, '_, '_> {
    fn fail<T>(&mut self, diagnostic: Diagnostic) -> Typed<T> {
        self.out.push(diagnostic);
        Err(Failed)
    }

    fn expr(&mut self, expr: &Expr) -> Typed<Condition> {
        let test = match &expr.body {
            ExprBody::Or(parts) => Test::Or(self.all(parts)?),
            ExprBody::And(parts) => Test::And(self.all(parts)?),
            ExprBody::Not(inner) => Test::Not(Box::new(self.expr(inner)?)),
            ExprBody::Group(inner) => return self.expr(inner),
            ExprBody::Holds(holds) => self.holds(&holds.0, &holds.1)?,
            ExprBody::MemberOf(name) => Test::MemberOf(self.scope.group(&name.text, name.span, self.out)),
            ExprBody::IsOwner => Test::IsOwner,
            ExprBody::Flag(operand) => self.flag(operand)?,
            ExprBody::Is(operand, test) => self.is(operand, *test)?,
            ExprBody::Like(operand, pattern) => self.like(operand, pattern)?,
            ExprBody::Compare(left, comparison, right) => self.compare(left, *comparison, right, expr.span)?,
            ExprBody::Sets(left, relation, right) => self.sets(left, *relation, right, expr.span)?,
        };
        Ok(Condition { test, span: expr.span })
    }

    /// Types every part before giving up, so that each mistake is reported.
    fn all(&mut self, parts: &[Expr]) -> Typed<Vec<Condition>> {
        let typed: Vec<Typed<Condition>> = parts.iter().map(|part| self.expr(part)).collect();
        typed.into_iter().collect()
    }

    fn holds(&mut self, action: &Name, target: &tree::Target) -> Typed<Test> {
        let action = self.scope.action(action, self.out);
        let target = match target {
            tree::Target::Own(_) => HoldsTarget::Relative(Target::Own),
            tree::Target::Parent(_) => HoldsTarget::Relative(Target::Parent),
            tree::Target::Source(_) => HoldsTarget::Relative(Target::Source),
            tree::Target::Kind(name) => {
                HoldsTarget::Relative(Target::Kind(self.scope.kind(name, self.out).ok_or(Failed)?))
            }
            tree::Target::Path(path) => {
                let pattern = bastide_model::catalog::PathPattern::new(&path.raw);
                if pattern.is_wild() {
                    return self.fail(
                        Diagnostic::at(
                            &codes::WRONG_TARGET,
                            path.span,
                            "`holds` looks at one place, found a path with `*`",
                        )
                        .help("to ask about several places, define a group: `group g = holders of ... on \"...\"`"),
                    );
                }
                let place = tree::Place::Path(path.clone());
                let found = self.scope.place(&place, self.out);
                found.first().map_or(HoldsTarget::Nowhere, |r| HoldsTarget::Place(*r))
            }
        };
        Ok(Test::Holds(action.ok_or(Failed)?, target))
    }

    fn flag(&mut self, operand: &tree::Operand) -> Typed<Test> {
        if let OperandBody::Literal(written) = &operand.body {
            let message = format!("{} is no condition", shown(written));
            let help = "a condition compares an attribute, as in `resource.state = released`";
            return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, operand.span, message).help(help));
        }
        let (typed, found) = self.operand(operand)?;
        if found.scalar != Scalar::Flag || found.set {
            let message = format!("expected a comparison or a flag, found {}", self.describe(found));
            return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, operand.span, message));
        }
        Ok(Test::Flag(typed))
    }

    fn is(&mut self, operand: &tree::Operand, test: tree::Test) -> Typed<Test> {
        if !matches!(operand.body, OperandBody::Member(_)) {
            let message = "only an attribute can be set, missing or empty";
            return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, operand.span, message));
        }
        let (typed, found) = self.operand(operand)?;
        match test {
            tree::Test::Empty if !found.set => {
                let message = format!("`is empty` is for sets, found {}", self.describe(found));
                let help = "to ask whether there is a value, write `is missing`";
                self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, operand.span, message).help(help))
            }
            tree::Test::Empty => Ok(Test::IsEmpty(typed)),
            tree::Test::Set | tree::Test::Missing => {
                if found.set {
                    let always =
                        if test == tree::Test::Set { "`is set` always holds" } else { "`is missing` never holds" };
                    let message = format!("a set is never missing: {always} here");
                    let help = "to ask whether it has elements, write `is empty` or `not ... is empty`";
                    self.out.push(Diagnostic::at(&codes::NO_EFFECT, operand.span, message).help(help));
                }
                Ok(if test == tree::Test::Set { Test::IsSet(typed) } else { Test::IsMissing(typed) })
            }
        }
    }

    fn like(&mut self, operand: &tree::Operand, pattern: &tree::Text) -> Typed<Test> {
        if matches!(operand.body, OperandBody::Literal(_)) {
            let message = "expected an attribute before `like`";
            return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, operand.span, message));
        }
        let (typed, found) = self.operand(operand)?;
        if !matches!(found.scalar, Scalar::Text | Scalar::State) || found.set {
            let message = format!("`like` is for text, found {}", self.describe(found));
            return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, operand.span, message));
        }
        let plain = Pattern::new(&pattern.raw, true);
        let pattern = if found.caseless { plain.folded() } else { plain };
        Ok(Test::Like { operand: typed, pattern, caseless: found.caseless })
    }

    fn compare(
        &mut self,
        left: &tree::Operand,
        comparison: Comparison,
        right: &tree::Operand,
        span: Span,
    ) -> Typed<Test> {
        let ((left_typed, a), (right_typed, b)) = match (&left.body, &right.body) {
            (OperandBody::Literal(_), OperandBody::Literal(_)) => {
                let message = "two fixed values are compared: one side must be an attribute";
                return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, span, message));
            }
            (OperandBody::Literal(written), _) => {
                let (right, of) = self.operand(right)?;
                ((self.literal(written, of)?, Type { set: false, ..of }), (right, of))
            }
            (_, OperandBody::Literal(written)) => {
                let (left, of) = self.operand(left)?;
                if of.set {
                    return self.set_compared(span, of);
                }
                ((left, of), (self.literal(written, of)?, Type { set: false, ..of }))
            }
            _ => {
                let (left, right) = (self.operand(left), self.operand(right));
                (left?, right?)
            }
        };
        if a.set || b.set {
            return self.set_compared(span, if a.set { a } else { b });
        }
        if a.scalar != b.scalar {
            let message = format!("{} is compared with {}", self.describe(a), self.describe(b));
            return self.fail(
                Diagnostic::at(&codes::TYPE_MISMATCH, span, message).help("both sides of a comparison are of one type"),
            );
        }
        let ordered = match a.scalar {
            Scalar::Number | Scalar::Date => true,
            Scalar::Named(id) => self.scope.schema.types[id.index()].scale,
            _ => false,
        };
        if !ordered && !matches!(comparison, Comparison::Equal | Comparison::NotEqual) {
            let message = format!("`{}` needs an order, and {} has none", comparison.sign(), self.describe(a));
            return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, span, message));
        }
        Ok(Test::Compare { left: left_typed, comparison, right: right_typed, caseless: a.caseless || b.caseless })
    }

    fn set_compared<T>(&mut self, span: Span, of: Type) -> Typed<T> {
        let message = format!("{} cannot be compared by `=`", self.describe(of));
        let help = "to ask for an element, write `... in ...`; for a common one, `overlaps`; for all of them, `covers`";
        self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, span, message).help(help))
    }

    fn sets(&mut self, left: &tree::Operand, relation: SetRelation, right: &SetOperand, span: Span) -> Typed<Test> {
        let wants_set = relation != SetRelation::In;
        let (left_typed, a, right_typed, b) = match (&left.body, right) {
            (OperandBody::Literal(_), SetOperand::Values(_)) => {
                let message = "two fixed values are compared: one side must be an attribute";
                return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, span, message));
            }
            (OperandBody::Literal(written), SetOperand::Operand(right)) => {
                let (right, b) = self.operand(right)?;
                (self.literal(written, b)?, Type { set: false, ..b }, right, b)
            }
            (_, SetOperand::Values(values)) => {
                let (left, a) = self.operand(left)?;
                let right = self.literals(&values.literals, a)?;
                (left, a, right, Type { set: true, ..a })
            }
            (_, SetOperand::Operand(operand)) => {
                let (left, a) = self.operand(left)?;
                if let OperandBody::Literal(written) = &operand.body {
                    let message = format!("`{}` needs a set on its right, found {}", relation.word(), shown(written));
                    let help = "a list of values stands in parentheses: `in (harbour, island)`";
                    return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, operand.span, message).help(help));
                }
                let (right, b) = self.operand(operand)?;
                (left, a, right, b)
            }
        };
        if !b.set {
            let message = format!("`{}` needs a set on its right, found {}", relation.word(), self.describe(b));
            return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, span, message));
        }
        if a.set != wants_set {
            let wanted = if wants_set { "a set" } else { "a single value" };
            let message = format!("`{}` needs {wanted} on its left, found {}", relation.word(), self.describe(a));
            return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, left.span, message));
        }
        if a.scalar != b.scalar {
            let message = format!("{} is compared with {}", self.describe(a), self.describe(b));
            return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, span, message));
        }
        let caseless = a.caseless || b.caseless;
        Ok(Test::Sets { left: left_typed, relation, right: right_typed, caseless })
    }

    fn literal(&mut self, written: &Literal, of: Type) -> Typed<Operand> {
        if of.scalar == Scalar::Kind {
            return Ok(Operand::Kinds(vec![self.kind_literal(written)?]));
        }
        match literal(self.scope.schema, of.scalar, written) {
            Ok(value) => Ok(Operand::Literal(value)),
            Err(diagnostic) => self.fail(diagnostic),
        }
    }

    fn literals(&mut self, written: &[Literal], of: Type) -> Typed<Operand> {
        if of.scalar == Scalar::Kind {
            let kinds: Vec<Typed<KindId>> = written.iter().map(|w| self.kind_literal(w)).collect();
            return Ok(Operand::Kinds(kinds.into_iter().collect::<Typed<_>>()?));
        }
        let mut values = Vec::new();
        let mut failed = false;
        for one in written {
            match literal(self.scope.schema, of.scalar, one) {
                Ok(value) => values.push(value),
                Err(diagnostic) => {
                    self.out.push(diagnostic);
                    failed = true;
                }
            }
        }
        if failed { Err(Failed) } else { Ok(Operand::Literal(Value::set(values))) }
    }

    fn kind_literal(&mut self, written: &Literal) -> Typed<KindId> {
        let text = match &written.body {
            LiteralBody::Word(word) => word.clone(),
            LiteralBody::Text(text) => text.text.clone(),
            _ => {
                let message = format!("expected a kind, found {}", shown(written));
                return self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, written.span, message));
            }
        };
        self.scope.kind(&Name { text, span: written.span, quoted: false }, self.out).ok_or(Failed)
    }

    fn operand(&mut self, operand: &tree::Operand) -> Typed<(Operand, Type)> {
        match &operand.body {
            OperandBody::Today(today) => Ok((Operand::Today(today.days), Type::single(Scalar::Date))),
            OperandBody::Member(member) => self.member(member),
            OperandBody::Literal(written) => {
                let message = format!("expected an attribute, found {}", shown(written));
                self.fail(Diagnostic::at(&codes::TYPE_MISMATCH, operand.span, message))
            }
        }
    }

    fn member(&mut self, member: &Member) -> Typed<(Operand, Type)> {
        let schema = self.scope.schema;
        let name = member.attribute.text.as_str();
        let of = |a: &Attribute| Type { scalar: a.scalar, set: a.set, caseless: a.caseless };
        match member.domain {
            Domain::User => {
                let built_in = match name {
                    "id" => Some((UserField::Id, Scalar::Text)),
                    "name" => Some((UserField::Name, Scalar::Text)),
                    "kind" => Some((UserField::Kind, Scalar::UserKind)),
                    "active" => Some((UserField::Active, Scalar::Flag)),
                    "realm" => Some((UserField::Realm, Scalar::Text)),
                    _ => None,
                };
                if let Some((field, scalar)) = built_in {
                    return Ok((Operand::User(field), Type::single(scalar)));
                }
                let Some(id) = schema.user_attribute(name) else {
                    return self.unknown_attribute(
                        member,
                        "users",
                        &schema.user_attributes,
                        &bastide_model::schema::PEOPLE_COLUMNS,
                    );
                };
                Ok((Operand::User(UserField::Attribute(id)), of(&schema.user_attributes[id.index()])))
            }
            Domain::Session => {
                let Some(id) = schema.session_attribute(name) else {
                    return self.unknown_attribute(member, "the session", &schema.session_attributes, &[]);
                };
                let by_user = schema.sign_ins.contains(&id);
                let operand = if by_user { Operand::User(UserField::SignIn(id)) } else { Operand::Session(id) };
                Ok((operand, of(&schema.session_attributes[id.index()])))
            }
            Domain::Resource => {
                let step = match &member.step {
                    None => Step::Own,
                    Some(step) if step.text == "parent" && !step.quoted => Step::Parent,
                    Some(step) => Step::Kind(self.scope.kind(step, self.out).ok_or(Failed)?),
                };
                let built_in = match name {
                    "id" => Some((ResourceField::Id, Scalar::Text)),
                    "name" => Some((ResourceField::Name, Scalar::Text)),
                    "path" => Some((ResourceField::Path, Scalar::Text)),
                    "kind" => Some((ResourceField::Kind, Scalar::Kind)),
                    "owner" => Some((ResourceField::Owner, Scalar::Text)),
                    "state" => Some((ResourceField::State, schema.state_type())),
                    _ => None,
                };
                if let Some((field, scalar)) = built_in {
                    return Ok((Operand::Resource(step, field), Type::single(scalar)));
                }
                let Some(id) = schema.resource_attribute(name) else {
                    let fixed = ["id", "name", "path", "kind", "owner", "state"];
                    return self.unknown_attribute(member, "resources", &schema.resource_attributes, &fixed);
                };
                let field = ResourceField::Attribute(id);
                Ok((Operand::Resource(step, field), of(&schema.resource_attributes[id.index()])))
            }
        }
    }

    fn unknown_attribute<T>(&mut self, member: &Member, whose: &str, known: &[Attribute], fixed: &[&str]) -> Typed<T> {
        let name = &member.attribute;
        let schema = self.scope.schema;
        let message =
            format!("{whose} have no attribute `{}`", name.text).replace("the session have", "the session has");
        let near = nearest(&name.text, known.iter().map(|a| a.name.as_str()).chain(fixed.iter().copied()));
        let mut diagnostic = Diagnostic::at(&codes::UNKNOWN_ATTRIBUTE, name.span, message).suggest(near);
        for (domain, table) in [
            ("users", &schema.user_attributes),
            ("resources", &schema.resource_attributes),
            ("the session", &schema.session_attributes),
        ] {
            if domain != whose && table.iter().any(|a| a.name == name.text) {
                diagnostic = diagnostic.note(format!("`{}` is an attribute of {domain}", name.text));
            }
        }
        self.fail(diagnostic)
    }

    fn describe(&self, of: Type) -> String {
        let name = self.scope.schema.type_name(of.scalar);
        if of.set { format!("a set of {name}") } else { format!("a value of type {name}") }
    }
}
