//! Conditions that contradict themselves: two comparisons of one attribute with fixed values that no
//! value satisfies together.
//!
//! A condition is brought to its alternatives (`or` of `and`s, with `not` pushed inward). It can
//! never be true where every alternative asks two things of one attribute that no value gives. That
//! is sound, not complete: comparisons of two attributes with each other are not looked into.

use bastide_model::condition::{Condition, Form, Operand, Step, Test};
use bastide_model::show;
use bastide_model::statement::{Comparison, SetRelation};
use bastide_model::value::{compares, is_element};
use bastide_model::*;
use bastide_syntax::{Diagnostic, Diagnostics, codes};

/// Alternatives beyond this are not looked into.
const MOST_ALTERNATIVES: usize = 64;

/// A comparison, and whether it is asked for or its opposite.
type Literal<'c> = (&'c Condition, bool);

pub(crate) fn report(estate: &Estate, out: &mut Diagnostics) {
    for statement in estate.statements() {
        let parts: Vec<&Condition> = statement.conditions().collect();
        let mut whole = vec![Vec::new()];
        for part in &parts {
            whole = product(whole, alternatives(part, true));
        }
        let clashes: Vec<Option<(Literal, Literal)>> = whole.iter().map(|all| clash(estate, all)).collect();
        let (Some(Some((first, second))), true) = (clashes.first(), clashes.iter().all(Option::is_some)) else {
            continue;
        };
        let shown = |(of, wanted): Literal| {
            let text = show::condition(estate, of);
            if wanted { format!("`{text}`") } else { format!("`not {text}`") }
        };
        let both = format!("{} and {} contradict each other", shown(*first), shown(*second));
        let name = &statement.name;
        let diagnostic = if statement.modality.permits() {
            Diagnostic::at(&codes::NEVER_APPLIES, second.0.span, format!("`{name}` can never apply: {both}"))
        } else {
            // A restriction applies unless it is known not to, and of a missing value nothing is known.
            let message = format!("`{name}` applies only where a value is missing: {both}");
            Diagnostic::at(&codes::NEVER_APPLIES, second.0.span, message)
        };
        let diagnostic = diagnostic.other(first.0.span, "and this");
        out.push(diagnostic);
    }
}

/// The alternatives of a condition (or of its opposite), each a list of what it asks for.
fn alternatives(of: &Condition, wanted: bool) -> Vec<Vec<Literal<'_>>> {
    match (of.test.form(), wanted) {
        (Form::Not(inner), _) => alternatives(inner, !wanted),
        (Form::All(parts), true) | (Form::Any(parts), false) => {
            parts.iter().fold(vec![Vec::new()], |all, part| product(all, alternatives(part, wanted)))
        }
        (Form::Any(parts), true) | (Form::All(parts), false) => {
            let all: Vec<_> = parts.iter().flat_map(|part| alternatives(part, wanted)).collect();
            if all.len() > MOST_ALTERNATIVES { vec![Vec::new()] } else { all }
        }
        (Form::Leaf, _) => vec![vec![(of, wanted)]],
    }
}

/// Every alternative of one with every one of the other; none is asked for where there are too many.
fn product<'c>(a: Vec<Vec<Literal<'c>>>, b: Vec<Vec<Literal<'c>>>) -> Vec<Vec<Literal<'c>>> {
    if a.len() * b.len() > MOST_ALTERNATIVES {
        return vec![Vec::new()];
    }
    a.iter().flat_map(|x| b.iter().map(move |y| x.iter().chain(y).copied().collect())).collect()
}

/// Two comparisons of one attribute that no value satisfies together.
fn clash<'c>(estate: &Estate, all: &[Literal<'c>]) -> Option<(Literal<'c>, Literal<'c>)> {
    for (i, one) in all.iter().enumerate() {
        for other in &all[..i] {
            if let (Some(a), Some(b)) = (asks(one), asks(other))
                && a.attribute == b.attribute
                && !together(estate, &a, &b)
            {
                return Some((*other, *one));
            }
        }
    }
    None
}

/// What a comparison asks of an attribute.
struct Asks<'c> {
    attribute: Key,
    of: Of<'c>,
}

#[derive(PartialEq, Eq, Clone, Copy)]
enum Key {
    User(bastide_model::condition::UserField),
    Resource(Step, bastide_model::condition::ResourceField),
    Session(SessionAttributeId),
}

enum Of<'c> {
    Set(bool),
    Flag(bool),
    Compare(Comparison, &'c Value, bool),
    In(&'c [Value], bool, bool),
}

fn asks<'c>(literal: &Literal<'c>) -> Option<Asks<'c>> {
    let (condition, wanted) = *literal;
    let key = |operand: &Operand| match operand {
        Operand::User(field) => Some(Key::User(*field)),
        Operand::Resource(step, field) => Some(Key::Resource(*step, *field)),
        Operand::Session(id) => Some(Key::Session(*id)),
        Operand::Literal(_) | Operand::Kinds(_) | Operand::Today(_) => None,
    };
    let (attribute, of) = match &condition.test {
        Test::IsSet(o) => (key(o)?, Of::Set(wanted)),
        Test::IsMissing(o) => (key(o)?, Of::Set(!wanted)),
        Test::Flag(o) => (key(o)?, Of::Flag(wanted)),
        Test::Compare { left, comparison, right: Operand::Literal(value), caseless } => {
            (key(left)?, Of::Compare(if wanted { *comparison } else { opposite(*comparison) }, value, *caseless))
        }
        Test::Compare { left: Operand::Literal(value), comparison, right, caseless } => {
            let turned = comparison.turned();
            (key(right)?, Of::Compare(if wanted { turned } else { opposite(turned) }, value, *caseless))
        }
        Test::Sets { left, relation: SetRelation::In, right: Operand::Literal(Value::Set(values)), caseless } => {
            (key(left)?, Of::In(values, wanted, *caseless))
        }
        // Two attributes beside each other, and other relations of sets, contradict nothing that is looked for.
        Test::Compare { .. } | Test::Sets { .. } | Test::Like { .. } | Test::IsEmpty(_) => return None,
        Test::Holds(..) | Test::MemberOf(_) | Test::IsOwner => return None,
        Test::Or(_) | Test::And(_) | Test::Not(_) => return None,
    };
    Some(Asks { attribute, of })
}

fn opposite(comparison: Comparison) -> Comparison {
    match comparison {
        Comparison::Equal => Comparison::NotEqual,
        Comparison::NotEqual => Comparison::Equal,
        Comparison::Less => Comparison::GreaterEqual,
        Comparison::GreaterEqual => Comparison::Less,
        Comparison::Greater => Comparison::LessEqual,
        Comparison::LessEqual => Comparison::Greater,
    }
}

/// Whether some value satisfies both.
fn together(estate: &Estate, a: &Asks, b: &Asks) -> bool {
    use Of::{Compare, Flag, In, Set};
    match (&a.of, &b.of) {
        (Set(x), Set(y)) => x == y,
        // Whatever compares needs a value.
        (Set(set), _) | (_, Set(set)) => *set,
        (Flag(x), Flag(y)) => x == y,
        (Flag(flag), Compare(comparison, value, _)) | (Compare(comparison, value, _), Flag(flag)) => {
            compares(&Datum::Flag(*flag), *comparison, &value.datum(), false)
        }
        (In(values, true, fold), other) | (other, In(values, true, fold)) => {
            values.iter().any(|value| satisfies(value, other, *fold))
        }
        (In(..), _) | (_, In(..)) => true,
        (Compare(x, v, fold), Compare(y, w, _)) => ordered(estate, (*x, v), (*y, w), *fold),
    }
}

fn satisfies(value: &Value, of: &Of, fold: bool) -> bool {
    match of {
        Of::Set(set) => *set,
        Of::Flag(flag) => *value == Value::Flag(*flag),
        Of::Compare(comparison, other, caseless) => {
            compares(&value.datum(), *comparison, &other.datum(), fold || *caseless)
        }
        Of::In(values, wanted, caseless) => is_element(&value.datum(), values, fold || *caseless) == *wanted,
    }
}

/// Whether some value lies on the right side of both. Steps of a scale and whole days are discrete;
/// between two numbers there is always another.
fn ordered(estate: &Estate, (x, v): (Comparison, &Value), (y, w): (Comparison, &Value), fold: bool) -> bool {
    let fits = |value: &Datum| compares(value, x, &v.datum(), fold) && compares(value, y, &w.datum(), fold);
    match v {
        Value::Step(of, _) => {
            let steps = estate.schema().types[of.index()].values.len() as u16;
            (0..steps).any(|step| fits(&Datum::Step(*of, step)))
        }
        Value::Flag(_) => fits(&Datum::Flag(true)) || fits(&Datum::Flag(false)),
        Value::Number(a) => {
            let b = if let Value::Number(b) = w { *b } else { *a };
            let one = rust_decimal::Decimal::ONE;
            let between = (*a + b) / (one + one);
            let near = [*a, b, between, a.min(&b).saturating_sub(one), a.max(&b).saturating_add(one)];
            near.iter().any(|n| fits(&Datum::Number(*n)))
        }
        Value::Date(a) => {
            let b = if let Value::Date(b) = w { *b } else { *a };
            let around = |d: jiff::civil::Date| [d.yesterday().unwrap_or(d), d, d.tomorrow().unwrap_or(d)];
            around(*a).into_iter().chain(around(b)).any(|d| fits(&Datum::Date(d)))
        }
        Value::Text(_) => {
            // Text is compared for equality alone: two different texts, or the one that both name.
            let equal = |c: Comparison| c == Comparison::Equal;
            if equal(x) {
                fits(&v.datum())
            } else if equal(y) {
                fits(&w.datum())
            } else {
                true
            }
        }
        Value::Set(_) => true,
    }
}
