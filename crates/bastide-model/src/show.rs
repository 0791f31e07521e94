//! Typed things back to text, as the language writes them, for explanations.

use crate::condition::*;
use crate::schema::Target;
use crate::*;
use bastide_syntax::quote;

/// A condition as the language writes it; parentheses only where they are needed.
pub fn condition(estate: &Estate, of: &Condition) -> String {
    write(estate, of, 0)
}

/// `level`: 0 inside nothing, 1 inside `or`, 2 inside `and`, 3 inside `not`.
fn write(estate: &Estate, of: &Condition, level: u8) -> String {
    let (own, text) = match &of.test {
        Test::Or(parts) => (1, join(estate, parts, " or ", 1)),
        Test::And(parts) => (2, join(estate, parts, " and ", 2)),
        Test::Not(inner) => (3, format!("not {}", write(estate, inner, 3))),
        leaf => (9, test(estate, leaf)),
    };
    if own <= level && own < 3 { format!("({text})") } else { text }
}

fn join(estate: &Estate, parts: &[Condition], word: &str, level: u8) -> String {
    parts.iter().map(|p| write(estate, p, level)).collect::<Vec<_>>().join(word)
}

fn test(estate: &Estate, test: &Test) -> String {
    match test {
        Test::Or(_) | Test::And(_) | Test::Not(_) => String::new(),
        Test::Holds(action, target) => {
            let action = quote::name(&estate.schema().actions[action.index()].name);
            format!("holds {action} on {}", holds_target(estate, *target))
        }
        Test::MemberOf(Some(group)) => format!("user member of {}", quote::name(estate.groups().id(*group))),
        Test::MemberOf(None) => "user member of a group that does not exist".to_string(),
        Test::IsOwner => "user is owner".to_string(),
        Test::Flag(of) => operand(estate, of, false),
        Test::IsSet(of) => format!("{} is set", operand(estate, of, false)),
        Test::IsMissing(of) => format!("{} is missing", operand(estate, of, false)),
        Test::IsEmpty(of) => format!("{} is empty", operand(estate, of, false)),
        Test::Like { operand: of, pattern, .. } => {
            format!("{} like {}", operand(estate, of, false), quote::text(&pattern.to_string()))
        }
        Test::Compare { left, comparison, right, .. } => {
            let bare = is_word(left) || is_word(right);
            format!("{} {} {}", operand(estate, left, bare), comparison.sign(), operand(estate, right, bare))
        }
        Test::Sets { left, relation, right, .. } => {
            let bare = is_word(left) || is_word(right);
            format!("{} {} {}", operand(estate, left, bare), relation.word(), operand(estate, right, bare))
        }
    }
}

/// Whether a side's values are bare words although they are kept as text.
fn is_word(of: &Operand) -> bool {
    matches!(of, Operand::User(UserField::Kind) | Operand::Resource(_, ResourceField::State))
}

/// One side of a comparison. `bare`: texts are words.
pub fn operand(estate: &Estate, of: &Operand, bare: bool) -> String {
    match of {
        Operand::Session(id) | Operand::User(UserField::SignIn(id)) => {
            format!("session.{}", part(&estate.schema().session_attributes[id.index()].name))
        }
        Operand::User(field) => format!("user.{}", user_field(estate, *field)),
        Operand::Resource(step, field) => {
            let step = match step {
                Step::Own => String::new(),
                Step::Parent => "parent.".to_string(),
                Step::Kind(kind) => format!("{}.", part(&estate.schema().kinds[kind.index()].name)),
            };
            format!("resource.{step}{}", resource_field(estate, *field))
        }
        Operand::Literal(value) => literal(estate, value, bare),
        Operand::Kinds(kinds) => {
            let names: Vec<String> =
                kinds.iter().map(|k| quote::name(&estate.schema().kinds[k.index()].name)).collect();
            if names.len() == 1 { names[0].clone() } else { format!("({})", names.join(", ")) }
        }
        Operand::Today(0) => "today".to_string(),
        Operand::Today(days) if *days < 0 => format!("today - {}", self::days(-days)),
        Operand::Today(days) => format!("today + {}", self::days(*days)),
    }
}

fn days(days: i64) -> String {
    if days == 1 { "1 day".to_string() } else { format!("{days} days") }
}

fn user_field(estate: &Estate, field: UserField) -> String {
    match field {
        UserField::Id => "id".into(),
        UserField::Name => "name".into(),
        UserField::Kind => "kind".into(),
        UserField::Active => "active".into(),
        UserField::Realm => "realm".into(),
        UserField::Attribute(id) => part(&estate.schema().user_attributes[id.index()].name),
        UserField::SignIn(id) => part(&estate.schema().session_attributes[id.index()].name),
    }
}

fn resource_field(estate: &Estate, field: ResourceField) -> String {
    match field {
        ResourceField::Id => "id".into(),
        ResourceField::Name => "name".into(),
        ResourceField::Path => "path".into(),
        ResourceField::Kind => "kind".into(),
        ResourceField::Owner => "owner".into(),
        ResourceField::State => "state".into(),
        ResourceField::Attribute(id) => part(&estate.schema().resource_attributes[id.index()].name),
    }
}

/// A part of a member: a dot inside it must be quoted too.
fn part(name: &str) -> String {
    if quote::is_bare(name) && !name.contains('.') { name.to_string() } else { quote::text(name) }
}

/// A value as the language writes it. `bare`: texts are words.
pub fn literal(estate: &Estate, value: &Value, bare: bool) -> String {
    match value {
        Value::Text(text) if !bare => quote::text(text),
        Value::Text(text) => quote::name(text),
        Value::Step(..) => quote::name(&estate.schema().show(value)),
        Value::Set(elements) => {
            let elements: Vec<String> = elements.iter().map(|e| literal(estate, e, bare)).collect();
            format!("({})", elements.join(", "))
        }
        Value::Number(_) | Value::Date(_) | Value::Flag(_) => estate.schema().show(value),
    }
}

/// A value that is looked at, for people.
pub fn datum(estate: &Estate, of: &Datum) -> String {
    match of {
        Datum::Text(text) => format!("\"{text}\""),
        Datum::Number(number) => number.normalize().to_string(),
        Datum::Date(date) => date.to_string(),
        Datum::Flag(flag) => if *flag { "yes" } else { "no" }.to_string(),
        Datum::Step(id, step) => estate.schema().types[id.index()].values[*step as usize].clone(),
        Datum::Kind(kind) => estate.schema().kinds[kind.index()].name.clone(),
        Datum::Set([]) => "empty".to_string(),
        Datum::Set(elements) => elements.iter().map(|e| estate.schema().show(e)).collect::<Vec<_>>().join(", "),
    }
}

/// A target of a need, as the language writes it.
pub fn target(estate: &Estate, of: Target) -> String {
    match of {
        Target::Own => "self".into(),
        Target::Parent => "parent".into(),
        Target::Source => "source".into(),
        Target::Kind(kind) => quote::name(&estate.schema().kinds[kind.index()].name),
    }
}

fn holds_target(estate: &Estate, of: HoldsTarget) -> String {
    match of {
        HoldsTarget::Relative(of) => target(estate, of),
        HoldsTarget::Place(place) => quote::text(&estate.catalog().path(place)),
        HoldsTarget::Nowhere => "a place that does not exist".into(),
    }
}

/// A term of a who-clause, as the language writes it.
pub fn term(estate: &Estate, of: &Term) -> String {
    match of {
        Term::Anyone => "anyone".into(),
        Term::Owner => "owner".into(),
        Term::User(user) => format!("user {}", quote::name(estate.people().id(*user))),
        Term::Members(group) => format!("members of {}", quote::name(estate.groups().id(*group))),
        Term::Nobody(name) => format!("{name} (does not exist)"),
    }
}

/// A who-clause, as the language writes it.
pub fn who(estate: &Estate, of: &Who) -> String {
    let terms: Vec<String> = of.terms.iter().map(|t| term(estate, t)).collect();
    match &of.condition {
        Some(c) => format!("{} where {}", terms.join(", "), condition(estate, c)),
        None => terms.join(", "),
    }
}

/// A number with its noun: `1 user`, `12 users`.
pub fn count(number: usize, noun: &str) -> String {
    let plural = match noun {
        "memory" => noun.to_string(),
        "pair of action and resource" => "pairs of action and resource".to_string(),
        "group of changes" => "groups of changes".to_string(),
        "entry of exports" => "entries of exports".to_string(),
        noun if noun.ends_with('y') && !noun.ends_with("ay") => format!("{}ies", &noun[..noun.len() - 1]),
        noun => format!("{noun}s"),
    };
    format!("{} {}", grouped(number as u64), if number == 1 { noun } else { &plural })
}

/// A number with its thousands apart.
pub fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}
