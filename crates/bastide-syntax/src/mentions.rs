//! Every name in a policy file, with what it names: for whoever goes from a name to its declaration, or renames.

use crate::source::Span;
use crate::tree::*;

/// What a name names.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Sort {
    /// A kind.
    Kind,
    /// An action.
    Action,
    /// An action or a role; which one, the declarations say.
    Item,
    /// A role.
    Role,
    /// A type.
    Type,
    /// A value of a choice or a scale, where it is declared.
    TypeValue,
    /// An attribute.
    Attribute(Domain),
    /// A value that is compared with an attribute.
    Value,
    /// A group.
    Group,
    /// A user, or a persona.
    User,
    /// A persona.
    Persona,
    /// A rule.
    Rule,
    /// An expectation.
    Expectation,
    /// A guarantee.
    Guarantee,
    /// A finding of the audit.
    Finding,
    /// A layer.
    Layer,
    /// A place by its path.
    Path,
    /// A place by its id.
    Id,
}

/// A name where it stands.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Mention<'t> {
    /// What it names.
    pub sort: Sort,
    /// The name; of a path as it is written, with its backslashes.
    pub name: &'t str,
    /// Where, quotes included.
    pub span: Span,
    /// Whether it is declared here.
    pub declares: bool,
    /// Of a value the attribute that it is compared with.
    pub of: Option<(Domain, &'t str)>,
}

/// All of them, in the order of the text within each declaration. Cost: linear in the tree.
pub fn mentions(file: &File) -> Vec<Mention<'_>> {
    let mut all = All(Vec::new());
    file.declarations.iter().for_each(|declaration| all.declaration(declaration));
    all.0
}

struct All<'t>(Vec<Mention<'t>>);

impl<'t> All<'t> {
    fn push(&mut self, sort: Sort, name: &'t Name) {
        self.0.push(Mention { sort, name: &name.text, span: name.span, declares: false, of: None });
    }

    fn declares(&mut self, sort: Sort, name: &'t Name) {
        self.0.push(Mention { sort, name: &name.text, span: name.span, declares: true, of: None });
    }

    fn all(&mut self, sort: Sort, names: &'t [Name]) {
        names.iter().for_each(|name| self.push(sort, name));
    }

    fn declaration(&mut self, declaration: &'t Declaration) {
        match declaration {
            Declaration::Kind(d) => {
                self.declares(Sort::Kind, &d.name);
                self.all(Sort::Kind, &d.containers);
                d.base.iter().for_each(|base| self.push(Sort::Kind, base));
            }
            Declaration::Action(d) => {
                self.declares(Sort::Action, &d.name);
                self.all(Sort::Kind, &d.on);
                for need in &d.needs {
                    self.push(Sort::Action, &need.action);
                    need.target.iter().for_each(|target| self.target(target));
                }
            }
            Declaration::Type(d) => {
                self.declares(Sort::Type, &d.name);
                d.values.iter().for_each(|value| self.declares(Sort::TypeValue, value));
            }
            Declaration::Attribute(d) => {
                for domain in &d.domains {
                    let is = match domain.text.as_str() {
                        "user" if !domain.quoted => Domain::User,
                        "session" if !domain.quoted => Domain::Session,
                        "resource" if !domain.quoted => Domain::Resource,
                        _ => {
                            self.push(Sort::Kind, domain);
                            Domain::Resource
                        }
                    };
                    self.declares(Sort::Attribute(is), &d.name);
                }
                self.push(Sort::Type, &d.value_type);
                let of = d.domains.first().map(|domain| match domain.text.as_str() {
                    "user" if !domain.quoted => (Domain::User, d.name.text.as_str()),
                    "session" if !domain.quoted => (Domain::Session, d.name.text.as_str()),
                    _ => (Domain::Resource, d.name.text.as_str()),
                });
                d.default.iter().for_each(|value| self.literal(value, of));
            }
            Declaration::Role(d) => {
                self.declares(Sort::Role, &d.name);
                self.items(&d.items);
            }
            Declaration::Group(d) => {
                self.declares(Sort::Group, &d.name);
                match &d.body {
                    GroupBody::Who(who) => self.who(who),
                    GroupBody::Holders(action, place) => {
                        self.push(Sort::Action, action);
                        self.place(place);
                    }
                }
            }
            Declaration::Rule(d) => {
                self.declares(Sort::Rule, &d.name);
                d.clauses.iter().for_each(|clause| self.clause(&clause.body));
            }
            Declaration::Apart(d) => {
                self.all(Sort::Action, &d.actions);
                self.all(Sort::Kind, &d.on);
            }
            Declaration::Alike(d) => self.all(Sort::Action, &d.actions),
            Declaration::Expect(d) => {
                self.declares(Sort::Expectation, &d.name);
                d.clauses.iter().for_each(|clause| self.expected(&clause.body));
            }
            Declaration::Persona(d) => {
                self.declares(Sort::Persona, &d.name);
                for clause in &d.clauses {
                    match &clause.body {
                        PersonaClauseBody::Because(_) => {}
                        PersonaClauseBody::Member(groups) => self.all(Sort::Group, groups),
                        PersonaClauseBody::Has(pairs) => self.pairs(Domain::User, pairs),
                    }
                }
            }
            Declaration::Waive(d) => self.push(Sort::Finding, &d.name),
            Declaration::Guarantee(d) => {
                self.declares(Sort::Guarantee, &d.name);
                for clause in &d.clauses {
                    match &clause.body {
                        GuaranteeClauseBody::Because(_) => {}
                        GuaranteeClauseBody::Only(who) | GuaranteeClauseBody::NoneOf(who) => self.who(who),
                        GuaranteeClauseBody::Can(items) => self.items(items),
                        GuaranteeClauseBody::What(what) => self.what(what),
                    }
                }
            }
        }
    }

    fn clause(&mut self, clause: &'t ClauseBody) {
        match clause {
            ClauseBody::Because(_) | ClauseBody::From(_) | ClauseBody::Until(_) => {}
            ClauseBody::Layer(layer) => self.push(Sort::Layer, layer),
            ClauseBody::Who(who) => self.who(who),
            ClauseBody::May(_, items) => self.items(items),
            ClauseBody::What(what) => self.what(what),
            ClauseBody::While(condition) => self.expr(condition),
        }
    }

    fn expected(&mut self, clause: &'t ExpectClauseBody) {
        match clause {
            ExpectClauseBody::Because(_) | ExpectClauseBody::On(_) => {}
            ExpectClauseBody::User(user) => self.push(Sort::User, user),
            ExpectClauseBody::Session(pairs) => self.pairs(Domain::Session, pairs),
            ExpectClauseBody::Can(_, items, places) => {
                self.items(items);
                places.iter().for_each(|place| self.place(place));
            }
            ExpectClauseBody::Reaches { what, by, .. } => {
                self.what(what);
                self.items(by);
            }
        }
    }

    fn pairs(&mut self, domain: Domain, pairs: &'t [(Name, Values)]) {
        for (name, values) in pairs {
            self.push(Sort::Attribute(domain), name);
            values.literals.iter().for_each(|value| self.literal(value, Some((domain, &name.text))));
        }
    }

    fn items(&mut self, items: &'t Items) {
        match items {
            Items::Everything(_) => {}
            Items::Names(names) => self.all(Sort::Item, names),
        }
    }

    fn who(&mut self, who: &'t Who) {
        for term in &who.terms {
            match term {
                Term::Anyone(_) | Term::Owner(_) => {}
                Term::User(user) => self.push(Sort::User, user),
                Term::Members(group) => self.push(Sort::Group, group),
            }
        }
        who.condition.iter().for_each(|condition| self.expr(condition));
    }

    fn what(&mut self, what: &'t What) {
        what.kinds.iter().for_each(|kinds| self.all(Sort::Kind, kinds));
        if let Some((_, places)) = &what.places {
            places.iter().for_each(|place| self.place(place));
        }
        what.condition.iter().for_each(|condition| self.expr(condition));
    }

    fn place(&mut self, place: &'t Place) {
        let (sort, name, span) = match place {
            Place::Path(text) => (Sort::Path, &text.raw, text.span),
            Place::Id(text) => (Sort::Id, &text.text, text.span),
        };
        self.0.push(Mention { sort, name, span, declares: false, of: None });
    }

    fn target(&mut self, target: &'t Target) {
        match target {
            Target::Own(_) | Target::Parent(_) | Target::Source(_) => {}
            Target::Kind(kind) => self.push(Sort::Kind, kind),
            Target::Path(text) => {
                let (sort, name, span) = (Sort::Path, &text.raw, text.span);
                self.0.push(Mention { sort, name, span, declares: false, of: None });
            }
        }
    }

    fn expr(&mut self, expr: &'t Expr) {
        match &expr.body {
            ExprBody::Or(parts) | ExprBody::And(parts) => parts.iter().for_each(|part| self.expr(part)),
            ExprBody::Not(inner) | ExprBody::Group(inner) => self.expr(inner),
            ExprBody::Holds(holds) => {
                self.push(Sort::Action, &holds.0);
                self.target(&holds.1);
            }
            ExprBody::MemberOf(group) => self.push(Sort::Group, group),
            ExprBody::IsOwner => {}
            ExprBody::Flag(operand) | ExprBody::Is(operand, _) => self.operand(operand, None),
            ExprBody::Like(operand, _) => self.operand(operand, None),
            ExprBody::Compare(left, _, right) => {
                self.operand(left, member(right));
                self.operand(right, member(left));
            }
            ExprBody::Sets(left, _, right) => {
                let other = match &**right {
                    SetOperand::Operand(right) => member(right),
                    SetOperand::Values(_) => None,
                };
                self.operand(left, other);
                match &**right {
                    SetOperand::Operand(right) => self.operand(right, member(left)),
                    SetOperand::Values(values) => {
                        values.literals.iter().for_each(|value| self.literal(value, member(left)));
                    }
                }
            }
        }
    }

    fn operand(&mut self, operand: &'t Operand, of: Option<(Domain, &'t str)>) {
        match &operand.body {
            OperandBody::Member(member) => {
                member.step.iter().filter(|step| step.text != "parent").for_each(|step| self.push(Sort::Kind, step));
                self.push(Sort::Attribute(member.domain), &member.attribute);
            }
            OperandBody::Today(_) => {}
            OperandBody::Literal(literal) => self.literal(literal, of),
        }
    }

    fn literal(&mut self, literal: &'t Literal, of: Option<(Domain, &'t str)>) {
        let name = match &literal.body {
            LiteralBody::Text(text) => &text.text,
            LiteralBody::Number(text) | LiteralBody::Date(text) | LiteralBody::Word(text) => text,
        };
        self.0.push(Mention { sort: Sort::Value, name, span: literal.span, declares: false, of });
    }
}

/// The attribute that an operand is.
fn member(operand: &Operand) -> Option<(Domain, &str)> {
    match &operand.body {
        OperandBody::Member(member) => Some((member.domain, &member.attribute.text)),
        OperandBody::Today(_) | OperandBody::Literal(_) => None,
    }
}
