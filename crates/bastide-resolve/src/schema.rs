//! Kinds, actions, types, attributes and roles.

use crate::literal::literal;
use bastide_model::schema::*;
use bastide_model::*;
use bastide_syntax::codes::{self, Code};
use bastide_syntax::nearest::nearest;
use bastide_syntax::tree::{self, Declaration, Items, Name};
use bastide_syntax::{Diagnostic, Span};
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;

/// The declarations of all files.
pub struct Declarations {
    /// What is declared, as far as it could be resolved.
    pub schema: Schema,
    /// Every mistake.
    pub diagnostics: Vec<Diagnostic>,
}

/// Collects the declarations of all files, given in byte order of their relative paths.
pub fn declarations(trees: &[tree::File]) -> Declarations {
    let mut build = Build { schema: Schema::default(), diagnostics: Vec::new() };
    let all: Vec<&Declaration> = trees.iter().flat_map(|t| &t.declarations).collect();
    build.kinds(&all);
    build.types(&all);
    build.actions(&all);
    build.attributes(&all);
    build.roles(&all);
    build.rule_names(&all);
    Declarations { schema: build.schema, diagnostics: build.diagnostics }
}

struct Build {
    schema: Schema,
    diagnostics: Vec<Diagnostic>,
}

/// Types every estate has.
const BUILT_IN: [(&str, Scalar); 4] =
    [("text", Scalar::Text), ("number", Scalar::Number), ("date", Scalar::Date), ("flag", Scalar::Flag)];

impl Build {
    fn report(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    fn twice(&mut self, what: &str, name: &Name, first: Span) {
        let message = format!("{what} `{}` is declared twice", name.text);
        self.report(Diagnostic::at(&codes::DECLARED_TWICE, name.span, message).other(first, "the first"));
    }

    /// The first declaration of each name; the others are reported.
    fn unique<'t>(&mut self, what: &str, names: impl Iterator<Item = &'t Name>) -> Vec<Span> {
        let mut first: HashMap<&str, Span> = HashMap::new();
        let mut kept = Vec::new();
        for name in names {
            match first.get(name.text.as_str()) {
                Some(span) => self.twice(what, name, *span),
                None => {
                    first.insert(&name.text, name.span);
                    kept.push(name.span);
                }
            }
        }
        kept
    }

    fn unknown<'k>(&mut self, code: &'static Code, what: &str, name: &Name, known: impl Iterator<Item = &'k str>) {
        let message = format!("unknown {what} `{}`", name.text);
        self.diagnostics.push(Diagnostic::at(code, name.span, message).suggest(nearest(&name.text, known)));
    }

    fn kind(&mut self, name: &Name) -> Option<KindId> {
        let found = self.schema.kind(&name.text);
        if found.is_none() {
            let known: Vec<String> = self.schema.kinds.iter().map(|k| k.name.clone()).collect();
            self.unknown(&codes::UNKNOWN_KIND, "kind", name, known.iter().map(String::as_str));
        }
        found
    }

    fn kind_list(&mut self, names: &[Name]) -> Option<Vec<KindId>> {
        if names.is_empty() { None } else { Some(names.iter().filter_map(|n| self.kind(n)).collect()) }
    }

    fn kinds(&mut self, all: &[&Declaration]) {
        let declared = || all.iter().filter_map(|d| if let Declaration::Kind(k) = d { Some(k) } else { None });
        let kept = self.unique("kind", declared().map(|k| &k.name));
        let declared: Vec<&tree::Kind> = declared().filter(|k| kept.contains(&k.name.span)).collect();
        for kind in &declared {
            let (name, span) = (kind.name.text.clone(), kind.name.span);
            self.schema.kinds.push(Kind { name, containers: Vec::new(), is: Vec::new(), span });
        }
        let bases: Vec<Option<KindId>> = declared.iter().map(|k| k.base.as_ref().and_then(|b| self.kind(b))).collect();
        let own: Vec<Option<Vec<KindId>>> = declared.iter().map(|k| self.kind_list(&k.containers)).collect();
        for (i, kind) in declared.iter().enumerate() {
            let mut is = vec![KindId::new(i)];
            while let Some(base) = bases[is[is.len() - 1].index()] {
                if is.contains(&base) {
                    // A cycle is told once, at its first kind.
                    if base == is[0] && is.iter().all(|k| is[0] <= *k) {
                        let names: Vec<&str> = is.iter().map(|k| declared[k.index()].name.text.as_str()).collect();
                        let message =
                            format!("kind `{0}` is a sub-kind of itself: {1} is {0}", names[0], names.join(" is "));
                        self.report(Diagnostic::at(&codes::KIND_CYCLE, kind.span, message));
                    }
                    break;
                }
                is.push(base);
            }
            let containers = is.iter().find_map(|k| own[k.index()].clone()).unwrap_or_default();
            self.schema.kinds[i].is = is;
            self.schema.kinds[i].containers = containers;
        }
    }

    fn types(&mut self, all: &[&Declaration]) {
        let declared = || all.iter().filter_map(|d| if let Declaration::Type(t) = d { Some(t) } else { None });
        let kept = self.unique("type", declared().map(|t| &t.name));
        for declared in declared().filter(|t| kept.contains(&t.name.span)) {
            if BUILT_IN.iter().any(|(name, _)| *name == declared.name.text) {
                let message = format!("type `{}` is built in and cannot be declared", declared.name.text);
                self.report(Diagnostic::at(&codes::CONTRADICTORY, declared.name.span, message));
                continue;
            }
            self.unique("value", declared.values.iter());
            self.schema.types.push(NamedType {
                name: declared.name.text.clone(),
                scale: declared.scale,
                values: declared.values.iter().map(|v| v.text.clone()).collect(),
                span: declared.name.span,
            });
        }
    }

    fn actions(&mut self, all: &[&Declaration]) {
        let declared = || all.iter().filter_map(|d| if let Declaration::Action(a) = d { Some(a) } else { None });
        let kept = self.unique("action", declared().map(|a| &a.name));
        let declared: Vec<&tree::Action> = declared().filter(|a| kept.contains(&a.name.span)).collect();
        for action in &declared {
            let on = self.kind_list(&action.on);
            let (name, span) = (action.name.text.clone(), action.name.span);
            self.schema.actions.push(Action { name, on, needs: Vec::new(), span });
        }
        for (i, action) in declared.iter().enumerate() {
            let mut needs = Vec::new();
            for need in &action.needs {
                let target = match &need.target {
                    None | Some(tree::Target::Own(_)) => Some(Target::Own),
                    Some(tree::Target::Parent(_)) => Some(Target::Parent),
                    Some(tree::Target::Source(_)) => Some(Target::Source),
                    Some(tree::Target::Kind(name)) => self.kind(name).map(Target::Kind),
                    Some(tree::Target::Path(_)) => None,
                };
                let Some(needed) = self.schema.action(&need.action.text) else {
                    let known: Vec<String> = self.schema.actions.iter().map(|a| a.name.clone()).collect();
                    self.unknown(&codes::UNKNOWN_ACTION, "action", &need.action, known.iter().map(String::as_str));
                    continue;
                };
                needs.extend(target.map(|target| Need { action: needed, target }));
            }
            self.schema.actions[i].needs = needs;
        }
    }

    fn attributes(&mut self, all: &[&Declaration]) {
        let declared = all.iter().filter_map(|d| if let Declaration::Attribute(a) = d { Some(a) } else { None });
        for declared in declared {
            let name = &declared.name;
            let is_kind = |d: &&Name| d.quoted || !matches!(d.text.as_str(), "user" | "resource" | "session");
            let of = |domain: &str| declared.domains.iter().any(|d| !d.quoted && d.text == domain);
            let kinds: Vec<Name> = declared.domains.iter().filter(is_kind).cloned().collect();
            let kinds = if of("resource") { None } else { self.kind_list(&kinds) };
            let on_resources = of("resource") || kinds.is_some();
            let Some(attribute) = self.attribute(declared, kinds, on_resources) else { continue };
            let parts = [
                (of("user"), "user", &PEOPLE_COLUMNS[..]),
                (on_resources, "resource", &CATALOG_COLUMNS[..]),
                (of("session"), "session", &[][..]),
            ];
            for (wanted, domain, fixed) in parts {
                if !wanted {
                    continue;
                }
                if fixed.contains(&name.text.as_str()) || (domain == "resource" && name.text == "path") {
                    let message = format!("`{}` is built in on every {domain} and cannot be declared", name.text);
                    self.report(Diagnostic::at(&codes::CONTRADICTORY, name.span, message));
                    continue;
                }
                let table = match domain {
                    "user" => &mut self.schema.user_attributes,
                    "resource" => &mut self.schema.resource_attributes,
                    _ => &mut self.schema.session_attributes,
                };
                if let Some(first) = table.iter().find(|a| a.name == name.text).map(|a| a.span) {
                    self.twice(&format!("{domain} attribute"), name, first);
                    continue;
                }
                let on = domain == "resource";
                table.push(Attribute {
                    name: name.text.clone(),
                    scalar: attribute.scalar,
                    set: declared.set,
                    kinds: if on { attribute.kinds.clone() } else { None },
                    default: attribute.default.clone(),
                    travel: if on { attribute.travel } else { Travel::Stays },
                    required: attribute.required,
                    caseless: attribute.caseless,
                    span: name.span,
                });
            }
        }
    }

    /// The part of an attribute that is the same in every domain. None where its type is unknown.
    fn attribute(
        &mut self,
        declared: &tree::Attribute,
        kinds: Option<Vec<KindId>>,
        on_resources: bool,
    ) -> Option<Attribute> {
        let type_name = &declared.value_type;
        let built_in = BUILT_IN.iter().find(|(name, _)| *name == type_name.text).map(|(_, scalar)| *scalar);
        let Some(scalar) = built_in.or_else(|| self.schema.named_type(&type_name.text).map(Scalar::Named)) else {
            let known: Vec<String> = self.schema.types.iter().map(|t| t.name.clone()).collect();
            let known = known.iter().map(String::as_str).chain(BUILT_IN.map(|(name, _)| name));
            self.unknown(&codes::UNKNOWN_TYPE, "type", type_name, known);
            return None;
        };
        let scale = matches!(scalar, Scalar::Named(id) if self.schema.types[id.index()].scale) && !declared.set;
        if let (Some(span), false) = (declared.highest, scale) {
            let message = "`highest` needs a scale";
            let label = "has no order to be highest in";
            self.report(Diagnostic::at(&codes::CONTRADICTORY, span, message).other(declared.value_type.span, label));
        }
        if let (Some(span), true) = (declared.caseless, scalar != Scalar::Text) {
            self.report(Diagnostic::at(&codes::CONTRADICTORY, span, "`caseless` needs text"));
        }
        for (span, word) in [(declared.inherit, "inherit"), (declared.highest, "highest")] {
            if let (Some(span), false) = (span, on_resources) {
                let message = format!("`{word}` is for attributes of resources: nothing else has a parent");
                self.report(Diagnostic::at(&codes::CONTRADICTORY, span, message));
            }
        }
        let default = declared.default.as_ref().and_then(|written| match literal(&self.schema, scalar, written) {
            Ok(value) if declared.set => Some(Value::set([value])),
            Ok(value) => Some(value),
            Err(diagnostic) => {
                self.report(diagnostic);
                None
            }
        });
        Some(Attribute {
            name: declared.name.text.clone(),
            scalar,
            set: declared.set,
            kinds,
            default,
            travel: match (declared.inherit, declared.highest) {
                (_, Some(_)) => Travel::Highest,
                (Some(_), None) => Travel::Inherit,
                (None, None) => Travel::Stays,
            },
            required: declared.required.is_some(),
            caseless: declared.caseless.is_some(),
            span: declared.name.span,
        })
    }

    fn roles(&mut self, all: &[&Declaration]) {
        let declared = || all.iter().filter_map(|d| if let Declaration::Role(r) = d { Some(r) } else { None });
        let kept = self.unique("role", declared().map(|r| &r.name));
        let declared: Vec<&tree::Role> = declared().filter(|r| kept.contains(&r.name.span)).collect();
        for role in &declared {
            if let Some(action) = self.schema.action(&role.name.text) {
                let first = self.schema.actions[action.index()].span;
                self.twice("the name", &role.name, first);
            }
            self.schema.roles.push(Role {
                name: role.name.text.clone(),
                actions: FixedBitSet::with_capacity(self.schema.actions.len()),
                locked: role.locked.is_some(),
                off: role.off.is_some(),
                span: role.name.span,
            });
        }
        // Names are checked once; then each role gathers what it reaches through roles that are on.
        for role in &declared {
            if let Items::Names(names) = &role.items {
                for name in names {
                    self.known_item(name);
                }
            }
        }
        for (i, role) in declared.iter().enumerate() {
            if let Some(cycle) = cycle_from(&declared, i) {
                let names: Vec<&str> = cycle.iter().map(|r| declared[*r].name.text.as_str()).collect();
                let message = format!("role `{0}` is built from itself: {1} > {0}", names[0], names.join(" > "));
                // A cycle is told once, at its first role.
                if cycle.iter().min() == Some(&i) {
                    self.report(Diagnostic::at(&codes::ROLE_CYCLE, role.span, message));
                }
            }
            let mut actions = FixedBitSet::with_capacity(self.schema.actions.len());
            self.gather(&declared, i, &mut actions, &mut FixedBitSet::with_capacity(declared.len()));
            self.schema.roles[i].actions = actions;
        }
    }

    /// Adds the actions of a role and of the roles it lists, as far as they are on.
    fn gather(&self, declared: &[&tree::Role], role: usize, into: &mut FixedBitSet, seen: &mut FixedBitSet) {
        if declared[role].off.is_some() || seen.put(role) {
            return;
        }
        match &declared[role].items {
            Items::Everything(_) => into.insert_range(..),
            Items::Names(names) => {
                for name in names {
                    match self.schema.action(&name.text) {
                        Some(action) => into.insert(action.index()),
                        None => inner_roles(declared, name).for_each(|inner| self.gather(declared, inner, into, seen)),
                    }
                }
            }
        }
    }

    fn known_item(&mut self, name: &Name) {
        if self.schema.action(&name.text).is_none() && self.schema.role(&name.text).is_none() {
            let diagnostic = unknown_item(&self.schema, name);
            self.report(diagnostic);
        }
    }

    /// Rules, expectations and guarantees are told apart by name.
    fn rule_names(&mut self, all: &[&Declaration]) {
        self.unique("rule", all.iter().filter_map(|d| if let Declaration::Rule(r) = d { Some(&r.name) } else { None }));
        let tests = all.iter().filter_map(|d| match d {
            Declaration::Expect(e) => Some(&e.name),
            Declaration::Guarantee(g) => Some(&g.name),
            _ => None,
        });
        self.unique("test", tests);
        let personas = all.iter().filter_map(|d| if let Declaration::Persona(p) = d { Some(&p.name) } else { None });
        self.unique("persona", personas);
    }
}

fn inner_roles<'t>(declared: &'t [&tree::Role], name: &'t Name) -> impl Iterator<Item = usize> + 't {
    declared.iter().enumerate().filter(|(_, r)| r.name.text == name.text).map(|(i, _)| i)
}

/// A way from a role back to itself through the roles it lists.
fn cycle_from(declared: &[&tree::Role], start: usize) -> Option<Vec<usize>> {
    let mut seen = vec![false; declared.len()];
    let mut paths = vec![vec![start]];
    while let Some(path) = paths.pop() {
        let Items::Names(names) = &declared[path[path.len() - 1]].items else { continue };
        for inner in names.iter().flat_map(|name| inner_roles(declared, name)) {
            if inner == start {
                return Some(path);
            }
            if !std::mem::replace(&mut seen[inner], true) {
                paths.push(path.iter().copied().chain([inner]).collect());
            }
        }
    }
    None
}

/// The diagnostic of a name that is neither action nor role.
pub(crate) fn unknown_item(schema: &Schema, name: &Name) -> Diagnostic {
    let known = schema.actions.iter().map(|a| a.name.as_str()).chain(schema.roles.iter().map(|r| r.name.as_str()));
    let near = nearest(&name.text, known);
    let diagnostic =
        Diagnostic::at(&codes::UNKNOWN_ACTION, name.span, format!("unknown action or role `{}`", name.text));
    match near {
        Some(_) => diagnostic.suggest(near),
        None => diagnostic.help(format!("to declare it, write `action {}`", bastide_syntax::quote::name(&name.text))),
    }
}
