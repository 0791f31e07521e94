//! Restrictions that have lost whom, where or what they speak of.
//!
//! Of a permission, a name that leads nowhere gives nothing, which is safe. Of a restriction it takes nothing away, and
//! whoever relied on it is not told by any decision. So a `may never` or `may only` that lost something is an error, and a
//! `may not` is a warning, unless the manifest sets another level.

use crate::scope::Scope;
use bastide_model::condition::{Compared, Condition, Operand, ResourceField, UserField};
use bastide_model::schema::Scalar;
use bastide_model::show;
use bastide_model::statement::{Comparison, Sort};
use bastide_model::*;
use bastide_syntax::tree::{Items, Name};
use bastide_syntax::{Diagnostic, Diagnostics, Severity, Span, codes};
use hashbrown::HashSet;

impl Scope<'_> {
    /// Whether it matters what a statement has lost: it restricts, is not switched off, and has not ended.
    fn matters(&self, statement: &Statement) -> bool {
        let ended = matches!((statement.until, self.today), (Some(until), Some(today)) if until < today);
        !statement.modality.permits() && !statement.off && !ended
    }

    fn level(&self, modality: Modality) -> Option<Severity> {
        self.lost.or((modality == Modality::MayNot).then_some(Severity::Warning))
    }

    fn lost(&self, statement: &Statement, span: Span, what: String) -> Diagnostic {
        // The name of an entry is its line, which its place says already.
        let name = match statement.sort {
            Sort::Rule => format!("`{}`", statement.name),
            Sort::Entry => "an entry".to_string(),
        };
        let message = format!("{name} ({}) has lost {what}", statement.modality.words());
        let diagnostic = Diagnostic::at(&codes::LOST_RESTRICTION, span, message);
        Diagnostic { level: self.level(statement.modality), ..diagnostic }
            .help("to restrict again, correct it; to be rid of it, take it out or switch it off")
    }

    /// Turns what was said of the names in a statement into what the restriction has lost by them.
    pub fn tell_lost(&self, statement: &Statement, said: &mut [Diagnostic]) {
        if !self.matters(statement) {
            return;
        }
        for one in said {
            let what = if *one.code == codes::UNKNOWN_SUBJECT {
                "whom it speaks of"
            } else if *one.code == codes::STALE_PLACE {
                "a place"
            } else if *one.code == codes::NO_EFFECT && statement.from > statement.until {
                "its days"
            } else {
                continue;
            };
            let (helps, message) = (std::mem::take(&mut one.helps), std::mem::take(&mut one.message));
            let span = one.place.unwrap_or(Span::new(statement.origin.file, 0, 0));
            let mut lost = self.lost(statement, span, format!("{what}: {message}"));
            lost.helps.splice(0..0, helps);
            (lost.was, lost.seek) = (Some(one.code), one.seek.take());
            (lost.label, lost.notes, lost.others) =
                (std::mem::take(&mut one.label), std::mem::take(&mut one.notes), std::mem::take(&mut one.others));
            *one = lost;
        }
    }

    /// Reports roles that are off in the list of a restriction. Of a ceiling, only an empty list restricts nothing.
    pub fn tell_lost_roles(&self, statement: &Statement, items: &[(&str, Span)], out: &mut Diagnostics) {
        if !self.matters(statement) || (statement.modality == Modality::MayOnly && !statement.actions.is_clear()) {
            return;
        }
        let off = |name: &str| {
            self.schema.action(name).is_none()
                && self.schema.role(name).is_some_and(|role| self.schema.roles[role.index()].off)
        };
        for (name, span) in items.iter().filter(|(name, _)| off(name)) {
            out.push(self.lost(statement, *span, format!("actions: role `{name}` is off")));
        }
    }

    /// Reports computed groups that a restriction speaks of and that have lost a part of their own rule.
    pub fn tell_lost_groups(&self, statement: &Statement, out: &mut Diagnostics, span: Span) {
        if self.hurt.is_empty() || !self.matters(statement) {
            return;
        }
        let mut named: Vec<GroupId> = statement.groups();
        let mut seen: HashSet<GroupId> = HashSet::new();
        while let Some(group) = named.pop() {
            if !seen.insert(group) {
                continue;
            }
            if self.hurt.contains(&group) {
                let what =
                    format!("people: group `{}`, which it speaks of, names what does not exist", self.groups.id(group));
                out.push(self.lost(statement, span, what));
            }
            let inner = self.groups.members(group).iter();
            named.extend(
                inner.filter_map(|m| if let groups::Member::Group(inner) = m.member { Some(inner) } else { None }),
            );
        }
    }
}

/// Names of a list of actions with their places.
pub(crate) fn names(items: &Items) -> Vec<(&str, Span)> {
    let place = |name: &'_ Name| name.span;
    match items {
        Items::Everything(_) => Vec::new(),
        Items::Names(names) => names.iter().map(|name| (name.text.as_str(), place(name))).collect(),
    }
}

/// Reports words that a restriction compares with and that nothing carries, where no type says which words there are. What
/// is free text may have been renamed, and may yet come: that is a warning in any case.
pub(crate) fn values(estate: &Estate, scope: &Scope, out: &mut Diagnostics) {
    for statement in estate.statements().iter().filter(|s| scope.matters(s)) {
        for condition in statement.conditions() {
            condition.visit(&mut |inner| {
                for (operand, value) in compared(inner) {
                    let Some((is_word, carried)) = carried(estate, operand, value) else { continue };
                    if carried {
                        continue;
                    }
                    let text = show::condition(estate, inner);
                    let lost = scope.lost(
                        statement,
                        inner.span,
                        format!("what it speaks of: in `{text}`, nothing has that value"),
                    );
                    let level = if is_word { lost.level } else { scope.lost.or(Some(Severity::Warning)) };
                    out.push(Diagnostic { level, ..lost });
                }
            });
        }
    }
}

/// What a condition asks to be equal to a fixed value.
fn compared(condition: &Condition) -> Vec<(&Operand, &Value)> {
    let equal = |of: &Compared| of.comparison == Comparison::Equal && !of.caseless;
    let Some(Compared { left, right, .. }) = condition.test.compared().filter(equal) else { return Vec::new() };
    match (left, right) {
        (operand, Operand::Literal(value)) | (Operand::Literal(value), operand) => vec![(operand, value)],
        _ => Vec::new(),
    }
}

/// Whether a word of no declared type is carried by anything: whether it is a state, and whether something has it. None for
/// what a type declares.
fn carried(estate: &Estate, operand: &Operand, value: &Value) -> Option<(bool, bool)> {
    let in_column = |column: &column::Column, rows: usize| {
        column.distinct().iter().any(|known| known == value) && (0..rows).any(|row| column.get(row) == Some(value))
    };
    let (people, catalog) = (estate.people(), estate.catalog());
    Some(match operand {
        Operand::Resource(_, ResourceField::State) if estate.schema().state_type() == Scalar::State => {
            (true, in_column(&catalog.states, catalog.len()))
        }
        Operand::Resource(_, ResourceField::Attribute(at)) => {
            let attribute = &estate.schema().resource_attributes[at.index()];
            if attribute.scalar != Scalar::Text || attribute.set {
                return None;
            }
            (false, in_column(&catalog.attributes[at.index()], catalog.len()))
        }
        Operand::User(UserField::Realm) => (false, in_column(people.realms(), people.len())),
        Operand::User(UserField::Attribute(at)) => {
            let attribute = &estate.schema().user_attributes[at.index()];
            if attribute.scalar != Scalar::Text || attribute.set {
                return None;
            }
            (false, in_column(people.attribute(*at), people.len()))
        }
        _ => return None,
    })
}
