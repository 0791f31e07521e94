//! Expectations, guarantees, and declarations of duties and doors, typed.

use crate::literal::literal;
use crate::scope::Scope;
use crate::statements::day;
use bastide_model::condition::Who;
use bastide_model::proof::*;
use bastide_model::schema::{Attribute, Scalar, USER_KINDS};
use bastide_model::statement::What;
use bastide_model::value::Pattern;
use bastide_model::*;
use bastide_syntax::nearest::nearest;
use bastide_syntax::tree::{
    self, Declaration, ExpectClauseBody, GuaranteeClauseBody, Name, PersonaClauseBody, WaiveClauseBody,
};
use bastide_syntax::{Diagnostic, Diagnostics, Span, codes};
use fixedbitset::FixedBitSet;

pub(crate) fn proofs(
    scope: &Scope,
    trees: &[tree::File],
    known: &[Persona],
    line: &dyn Fn(Span) -> u32,
    out: &mut Diagnostics,
) -> Proofs {
    let mut proofs = Proofs { personas: known.to_vec(), ..Proofs::default() };
    let origin = |span: Span| Origin { file: span.file, line: line(span) };
    // Expectations speak of personas, wherever those stand.
    for declaration in trees.iter().flat_map(|t| &t.declarations) {
        if let Declaration::Persona(p) = declaration {
            proofs.personas.push(scope.persona(p, origin(p.span), out));
        }
    }
    for declaration in trees.iter().flat_map(|t| &t.declarations) {
        match declaration {
            Declaration::Expect(e) => {
                let expectation = scope.expectation(e, &proofs.personas, origin(e.span), out);
                proofs.expectations.push(expectation);
            }
            Declaration::Waive(w) => proofs.waivers.push(waiver(w, origin(w.span), out)),
            Declaration::Guarantee(g) => proofs.guarantees.push(scope.guarantee(g, origin(g.span), out)),
            Declaration::Apart(a) => {
                let kinds = (!a.on.is_empty()).then(|| scope.kinds(&a.on, out));
                proofs.apart.push(Apart {
                    actions: scope.only_actions(&a.actions, out),
                    kinds,
                    origin: origin(a.span),
                });
            }
            Declaration::Alike(a) => {
                proofs.alike.push(Alike { actions: scope.only_actions(&a.actions, out), origin: origin(a.span) });
            }
            _ => {}
        }
    }
    proofs
}

fn waiver(declared: &tree::Waive, origin: Origin, out: &mut Diagnostics) -> Waiver {
    let mut waiver =
        Waiver { finding: declared.name.text.clone(), about: Vec::new(), because: String::new(), until: None, origin };
    for clause in &declared.clauses {
        match &clause.body {
            WaiveClauseBody::Because(text) => waiver.because = text.text.clone(),
            WaiveClauseBody::Of(names) => waiver.about = names.iter().map(|n| Pattern::new(&n.text, false)).collect(),
            WaiveClauseBody::Until(date) => waiver.until = day(date, out),
        }
    }
    waiver
}

/// What these diagnostics say does not exist (any more), in a few words.
fn lost(diagnostics: &[Diagnostic]) -> Vec<String> {
    let about_names = |d: &&Diagnostic| [&codes::STALE_PLACE, &codes::UNKNOWN_SUBJECT].contains(&d.code);
    // What follows the colon says what it means in a rule.
    let fact = |d: &Diagnostic| d.message.rsplit_once(": ").map_or(d.message.as_str(), |(fact, _)| fact).to_string();
    diagnostics.iter().filter(about_names).map(fact).collect()
}

impl Scope<'_> {
    /// The actions of a list that something is claimed of. One that is empty, since its roles are off, is lost.
    fn claimed(&self, items: &tree::Items, lost: &mut Vec<String>, out: &mut Diagnostics) -> FixedBitSet {
        let actions = self.actions(items, out);
        if actions.is_clear() {
            lost.push("no action is left of the list, since its roles are off".to_string());
        }
        actions
    }

    fn only_actions(&self, names: &[Name], out: &mut Diagnostics) -> FixedBitSet {
        let mut actions = FixedBitSet::with_capacity(self.schema.actions.len());
        for name in names {
            if let Some(action) = self.action(name, out) {
                actions.insert(action.index());
            }
        }
        actions
    }

    fn persona(&self, declared: &tree::Persona, origin: Origin, out: &mut Diagnostics) -> Persona {
        let name = &declared.name;
        let mut persona = Persona {
            name: name.text.clone(),
            origin,
            because: None,
            kind: 0,
            realm: None,
            groups: Vec::new(),
            values: Vec::new(),
            lost: Vec::new(),
        };
        let first = out.len();
        if self.people.find(&name.text).is_some() {
            let message = format!("there is a user `{}` already: a persona is somebody else", name.text);
            out.push(Diagnostic::at(&codes::DECLARED_TWICE, name.span, message));
        }
        for clause in &declared.clauses {
            match &clause.body {
                PersonaClauseBody::Because(text) => persona.because = Some(text.text.clone()),
                PersonaClauseBody::Member(groups) => {
                    for name in groups {
                        let Some(group) = self.group(&name.text, name.span, out) else { continue };
                        if self.groups.declared(group).is_some() {
                            let message = format!("the members of group `{}` are computed", name.text);
                            let help = "give the persona what the group asks for, and it is a member";
                            out.push(Diagnostic::at(&codes::OUT_OF_PLACE, name.span, message).help(help));
                        } else if !persona.groups.contains(&group) {
                            persona.groups.push(group);
                        }
                    }
                }
                PersonaClauseBody::Has(pairs) => {
                    pairs.iter().for_each(|(name, values)| self.persona_value(&mut persona, name, values, out));
                }
            }
        }
        persona.lost = lost(&out[first..]);
        persona
    }

    fn persona_value(&self, persona: &mut Persona, name: &Name, values: &tree::Values, out: &mut Diagnostics) {
        let single = |scalar: Scalar, out: &mut Diagnostics| {
            let read = values.literals.first().map(|written| literal(self.schema, scalar, written))?;
            read.map_err(|diagnostic| out.push(diagnostic)).ok()
        };
        match name.text.as_str() {
            "kind" => {
                if let Some(Value::Text(kind)) = single(Scalar::UserKind, out) {
                    persona.kind = USER_KINDS.iter().position(|k| *k == &*kind).unwrap_or_default() as u8;
                }
            }
            "realm" => persona.realm = single(Scalar::Text, out),
            _ => {
                let Some(id) = self.schema.user_attribute(&name.text) else {
                    let known = self.schema.user_attributes.iter().map(|a| a.name.as_str());
                    let near = nearest(&name.text, known.chain(["kind", "realm"]));
                    let message = format!("users have no attribute `{}`", name.text);
                    out.push(Diagnostic::at(&codes::UNKNOWN_ATTRIBUTE, name.span, message).suggest(near));
                    return;
                };
                let attribute = &self.schema.user_attributes[id.index()];
                persona.values.extend(self.values(attribute, name, values, out).map(|value| (id, value)));
            }
        }
    }

    /// The value or values written for an attribute.
    fn values(
        &self,
        attribute: &Attribute,
        name: &Name,
        values: &tree::Values,
        out: &mut Diagnostics,
    ) -> Option<Value> {
        if values.list && !attribute.set {
            let message = format!("`{}` holds one value, found a list", name.text);
            out.push(Diagnostic::at(&codes::TYPE_MISMATCH, values.span, message));
            return None;
        }
        let mut read = Vec::new();
        for written in &values.literals {
            match literal(self.schema, attribute.scalar, written) {
                Ok(value) => read.push(value),
                Err(diagnostic) => out.push(diagnostic),
            }
        }
        if attribute.set { Some(Value::set(read)) } else { read.into_iter().next() }
    }

    fn expectation(
        &self,
        declared: &tree::Expect,
        personas: &[Persona],
        origin: Origin,
        out: &mut Diagnostics,
    ) -> Expectation {
        let mut expectation = Expectation {
            name: declared.name.text.clone(),
            origin,
            because: None,
            user: None,
            on: None,
            session: Vec::new(),
            claims: Vec::new(),
            lost: Vec::new(),
        };
        let first = out.len();
        let mut empty = Vec::new();
        for clause in &declared.clauses {
            let body = match &clause.body {
                ExpectClauseBody::Because(text) => {
                    expectation.because = Some(text.text.clone());
                    continue;
                }
                ExpectClauseBody::User(name) => {
                    let persona = personas.iter().position(|p| p.name == name.text);
                    expectation.user = match persona {
                        Some(at) => {
                            expectation.lost.extend(personas[at].lost.iter().cloned());
                            Some(UserId::new(self.people.len() + at))
                        }
                        None => self.user(&name.text, name.span, out),
                    };
                    continue;
                }
                ExpectClauseBody::On(date) => {
                    expectation.on = day(date, out);
                    continue;
                }
                ExpectClauseBody::Session(pairs) => {
                    expectation.session.extend(pairs.iter().filter_map(|(n, v)| self.session_value(n, v, out)));
                    continue;
                }
                ExpectClauseBody::Can(allowed, items, places) => ClaimBody::Can {
                    allowed: *allowed,
                    actions: self.claimed(items, &mut empty, out),
                    places: places.iter().flat_map(|p| self.place(p, out)).collect(),
                },
                ExpectClauseBody::Reaches { bound, count, at, what, by } => {
                    let (what, actions) = (self.what(what, out), self.claimed(by, &mut empty, out));
                    let Ok(count) = count.parse() else {
                        let message = format!("expected a whole number, found `{count}`");
                        out.push(Diagnostic::at(&codes::BAD_VALUE, *at, message));
                        continue;
                    };
                    ClaimBody::Reaches { bound: *bound, count, what, actions }
                }
            };
            expectation.claims.push(Claim { body, span: clause.span });
        }
        expectation.lost.extend(lost(&out[first..]));
        expectation.lost.extend(empty);
        expectation
    }

    fn session_value(
        &self,
        name: &Name,
        values: &tree::Values,
        out: &mut Diagnostics,
    ) -> Option<(SessionAttributeId, Value)> {
        let Some(id) = self.schema.session_attribute(&name.text) else {
            let near = nearest(&name.text, self.schema.session_attributes.iter().map(|a| a.name.as_str()));
            let message = format!("the session has no attribute `{}`", name.text);
            out.push(Diagnostic::at(&codes::UNKNOWN_ATTRIBUTE, name.span, message).suggest(near));
            return None;
        };
        let attribute = &self.schema.session_attributes[id.index()];
        let value = self.values(attribute, name, values, out)?;
        Some((id, value))
    }

    fn guarantee(&self, declared: &tree::Guarantee, origin: Origin, out: &mut Diagnostics) -> Guarantee {
        let mut guarantee = Guarantee {
            name: declared.name.text.clone(),
            origin,
            because: None,
            only: true,
            who: Who::default(),
            actions: FixedBitSet::with_capacity(self.schema.actions.len()),
            what: What::default(),
            lost: Vec::new(),
        };
        let first = out.len();
        let mut empty = Vec::new();
        for clause in &declared.clauses {
            match &clause.body {
                GuaranteeClauseBody::Because(text) => guarantee.because = Some(text.text.clone()),
                GuaranteeClauseBody::Only(who) => guarantee.who = self.who(who, out),
                GuaranteeClauseBody::NoneOf(who) => {
                    guarantee.only = false;
                    guarantee.who = self.who(who, out);
                }
                GuaranteeClauseBody::Can(items) => guarantee.actions = self.claimed(items, &mut empty, out),
                GuaranteeClauseBody::What(what) => guarantee.what = self.what(what, out),
            }
        }
        guarantee.lost = lost(&out[first..]);
        guarantee.lost.extend(empty);
        guarantee
    }
}
