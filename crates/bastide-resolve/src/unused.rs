//! Declarations that nothing uses: what is written and never meant is often a misspelling elsewhere.

use bastide_model::inside::Inside;
use bastide_model::rows::{EntryRow, GroupRows, MemberRow};
use bastide_model::schema::split_set;
use bastide_model::{Catalog, Schema};
use bastide_syntax::tree::*;
use bastide_syntax::{Diagnostic, Diagnostics, codes};
use hashbrown::HashSet;

/// Names in use, by what they name.
#[derive(Clone, Default)]
pub(crate) struct Used {
    kinds: HashSet<String>,
    items: HashSet<String>,
    types: HashSet<String>,
    groups: HashSet<String>,
    attributes: HashSet<(Domain, String)>,
}

pub(crate) fn report(trees: &[File], data: &Used, out: &mut Diagnostics) {
    let mut used = data.clone();
    let declarations = || trees.iter().flat_map(|t| &t.declarations);
    declarations().for_each(|d| used.declaration(d));
    let mut tell = |what: &str, name: &Name, used: bool, note: &str| {
        if !used {
            let message = format!("{what} `{}` is declared and never used", name.text);
            let diagnostic = Diagnostic::at(&codes::UNUSED, name.span, message);
            out.push(if note.is_empty() { diagnostic } else { diagnostic.note(note) });
        }
    };
    for declaration in declarations() {
        match declaration {
            Declaration::Kind(k) => {
                tell(
                    "kind",
                    &k.name,
                    used.kinds.contains(&k.name.text),
                    "no resource is of this kind, and nothing speaks of it",
                );
            }
            Declaration::Action(a) => {
                let note = "no rule or entry gives or takes it, so it is refused to everybody";
                tell("action", &a.name, used.items.contains(&a.name.text) || used.items.contains(EVERYTHING), note);
            }
            Declaration::Type(t) => {
                tell("type", &t.name, used.types.contains(&t.name.text) || t.name.text == "state", "")
            }
            Declaration::Role(r) => tell("role", &r.name, used.items.contains(&r.name.text), ""),
            Declaration::Group(g) => tell("group", &g.name, used.groups.contains(&g.name.text), ""),
            Declaration::Attribute(a) => {
                let has = |d: Domain| used.attributes.contains(&(d, a.name.text.clone()));
                let domain = |d: &Name| match d.text.as_str() {
                    "user" if !d.quoted => Domain::User,
                    "session" if !d.quoted => Domain::Session,
                    _ => Domain::Resource,
                };
                let used = a.domains.iter().any(|d| has(domain(d)));
                tell("attribute", &a.name, used, "no condition asks for it");
            }
            _ => {}
        }
    }
}

/// Stands among the used items for the word `everything`; no name is empty.
const EVERYTHING: &str = "";

impl Used {
    /// What data uses.
    pub fn of_data(
        schema: &Schema,
        rows: &GroupRows,
        entries: &[EntryRow],
        catalog: &Catalog,
        insides: &[Inside],
    ) -> Used {
        let mut used = Used::default();
        // What is told of the inside of datasets is there to be asked for, and need not be.
        for inside in insides.iter().filter(|inside| !inside.by.is_empty()) {
            let names = inside.by.iter().map(|by| by.attribute.clone()).chain(["rows".to_string()]);
            used.attributes.extend(names.map(|name| (Domain::Resource, name)));
        }
        let mut lists: HashSet<&str> = HashSet::new();
        for entry in entries {
            // Entries are many, and their lists of actions few.
            if lists.insert(&entry.actions.text) {
                used.items.extend(split_set(&entry.actions.text));
            }
            used.groups.extend(entry.subject.text.strip_prefix("group:").map(str::to_string));
        }
        used.groups.extend(rows.members.iter().filter_map(|(_, m, _)| match m {
            MemberRow::Group(group) => Some(group.clone()),
            _ => None,
        }));
        let mut of_resources = vec![false; schema.kinds.len()];
        catalog.kinds.iter().for_each(|kind| of_resources[kind.index()] = true);
        let kinds = schema.kinds.iter().zip(of_resources).filter(|(_, is)| *is).map(|(kind, _)| kind.name.clone());
        used.kinds.extend(kinds);
        used
    }

    fn names(into: &mut HashSet<String>, names: &[Name]) {
        into.extend(names.iter().map(|n| n.text.clone()));
    }

    fn declaration(&mut self, declaration: &Declaration) {
        match declaration {
            Declaration::Kind(k) => {
                Self::names(&mut self.kinds, &k.containers);
                self.kinds.extend(k.base.as_ref().map(|b| b.text.clone()));
            }
            Declaration::Action(a) => {
                Self::names(&mut self.kinds, &a.on);
                for need in &a.needs {
                    self.items.insert(need.action.text.clone());
                    need.target.iter().for_each(|t| self.target(t));
                }
            }
            Declaration::Type(_) => {}
            Declaration::Attribute(a) => {
                self.types.insert(a.value_type.text.clone());
                Self::names(&mut self.kinds, &a.domains);
            }
            Declaration::Role(r) => self.items(&r.items),
            Declaration::Group(g) => match &g.body {
                GroupBody::Who(who) => self.who(who),
                GroupBody::Holders(action, _) => drop(self.items.insert(action.text.clone())),
            },
            Declaration::Rule(rule) => rule.clauses.iter().for_each(|c| match &c.body {
                ClauseBody::Who(who) => self.who(who),
                ClauseBody::May(_, items) => self.items(items),
                ClauseBody::What(what) => self.what(what),
                ClauseBody::While(expr) => self.expr(expr),
                _ => {}
            }),
            Declaration::Apart(a) => Self::names(&mut self.kinds, &a.on),
            Declaration::Alike(_) => {}
            Declaration::Expect(e) => e.clauses.iter().for_each(|c| match &c.body {
                ExpectClauseBody::Session(pairs) => {
                    self.attributes.extend(pairs.iter().map(|(n, _)| (Domain::Session, n.text.clone())));
                }
                ExpectClauseBody::Reaches { what, .. } => self.what(what),
                _ => {}
            }),
            Declaration::Waive(_) => {}
            Declaration::Persona(p) => p.clauses.iter().for_each(|c| match &c.body {
                PersonaClauseBody::Member(groups) => self.groups.extend(groups.iter().map(|g| g.text.clone())),
                PersonaClauseBody::Has(pairs) => {
                    self.attributes.extend(pairs.iter().map(|(n, _)| (Domain::User, n.text.clone())));
                }
                PersonaClauseBody::Because(_) => {}
            }),
            Declaration::Guarantee(g) => g.clauses.iter().for_each(|c| match &c.body {
                GuaranteeClauseBody::Only(who) | GuaranteeClauseBody::NoneOf(who) => self.who(who),
                GuaranteeClauseBody::What(what) => self.what(what),
                _ => {}
            }),
        }
    }

    fn items(&mut self, items: &Items) {
        match items {
            Items::Everything(_) => drop(self.items.insert(EVERYTHING.to_string())),
            Items::Names(names) => Self::names(&mut self.items, names),
        }
    }

    fn who(&mut self, who: &Who) {
        for term in &who.terms {
            if let Term::Members(group) = term {
                self.groups.insert(group.text.clone());
            }
        }
        who.condition.iter().for_each(|c| self.expr(c));
    }

    fn what(&mut self, what: &What) {
        what.kinds.iter().for_each(|kinds| Self::names(&mut self.kinds, kinds));
        what.condition.iter().for_each(|c| self.expr(c));
    }

    fn target(&mut self, target: &Target) {
        if let Target::Kind(kind) = target {
            self.kinds.insert(kind.text.clone());
        }
    }

    fn expr(&mut self, expr: &Expr) {
        match &expr.body {
            ExprBody::Or(parts) | ExprBody::And(parts) => parts.iter().for_each(|p| self.expr(p)),
            ExprBody::Not(inner) | ExprBody::Group(inner) => self.expr(inner),
            ExprBody::Holds(holds) => {
                self.items.insert(holds.0.text.clone());
                self.target(&holds.1);
            }
            ExprBody::MemberOf(group) => drop(self.groups.insert(group.text.clone())),
            ExprBody::IsOwner => {}
            ExprBody::Flag(o) | ExprBody::Is(o, _) | ExprBody::Like(o, _) => self.operand(o),
            ExprBody::Compare(a, _, b) => {
                self.operand(a);
                self.operand(b);
            }
            ExprBody::Sets(a, _, b) => {
                self.operand(a);
                if let SetOperand::Operand(b) = &**b {
                    self.operand(b);
                }
            }
        }
    }

    fn operand(&mut self, operand: &Operand) {
        match &operand.body {
            OperandBody::Member(member) => {
                self.attributes.insert((member.domain, member.attribute.text.clone()));
                self.kinds.extend(member.step.iter().map(|s| s.text.clone()));
            }
            // A bare word may be a kind, as in `resource.kind = item`.
            OperandBody::Literal(literal) => {
                if let LiteralBody::Word(word) = &literal.body {
                    self.kinds.insert(word.clone());
                }
            }
            OperandBody::Today(_) => {}
        }
    }
}
