//! The sessions that conditions can tell apart: what has to be tried before something is said of every session.
//!
//! Of each session attribute that a condition mentions, values are chosen so that every comparison comes out in every way
//! it can: each value it is compared with, one beside all of them, those between and beyond where order matters, and none.
//! Where that would be too many, or where a comparison is with a pattern, the attribute is *open*: some of its values are
//! tried (of a set the empty one, the one of all values and a few of single ones), not every session could be, and whoever
//! asks must say so or leave aside what hangs on it.

use bastide_model::column::Column;
use bastide_model::condition::*;
use bastide_model::groups::Computed;
use bastide_model::schema::Scalar;
use bastide_model::statement::Comparison;
use bastide_model::*;
use jiff::ToSpan;
use rust_decimal::Decimal;
use std::collections::{BTreeMap, BTreeSet};

/// Values of one attribute that are tried at most; and sessions.
const MOST_VALUES: usize = 12;
const MOST_SESSIONS: usize = 64;
/// Of so many elements, every set is tried; of more, so many sets of a single one.
const MOST_ELEMENTS: usize = 3;

/// Sessions to try.
#[derive(Clone, Debug)]
pub struct Sessions {
    /// The moments, the one asked about first.
    pub moments: Vec<Moment>,
    /// Attributes of which not every value that matters is tried.
    pub open: Vec<SessionAttributeId>,
}

/// What a session attribute is compared with.
#[derive(Default)]
struct ComparedWith {
    values: BTreeSet<Value>,
    ordered: bool,
    /// There are values that are not listed, as in a pattern or too long a column.
    more: bool,
}

/// The attributes of the session that a condition mentions.
pub fn mentioned(condition: &Condition) -> BTreeSet<SessionAttributeId> {
    condition.operands().into_iter().filter_map(of_session).collect()
}

/// The attribute of the session that an operand is.
fn of_session(operand: &Operand) -> Option<SessionAttributeId> {
    match operand {
        Operand::Session(id) | Operand::User(UserField::SignIn(id)) => Some(*id),
        Operand::User(_) | Operand::Resource(..) | Operand::Literal(_) => None,
        Operand::Kinds(_) | Operand::Today(_) => None,
    }
}

/// The attributes of the session on which it hangs whether a statement applies, through the groups that it names.
pub fn mentioned_by(estate: &Estate, statement: &Statement) -> BTreeSet<SessionAttributeId> {
    let (mut conditions, mut groups) = (statement.conditions().collect::<Vec<_>>(), Vec::new());
    let members = |term: &Term| if let Term::Members(group) = term { Some(*group) } else { None };
    let mut open: Vec<GroupId> = statement.who.terms.iter().filter_map(members).collect();
    let mut found = BTreeSet::new();
    loop {
        for condition in std::mem::take(&mut conditions) {
            found.extend(mentioned(condition));
            open.extend(condition.groups());
        }
        let Some(group) = open.pop() else { return found };
        for inner in estate.groups().through(group).iter().filter(|g| !groups.contains(*g)).copied().collect::<Vec<_>>()
        {
            groups.push(inner);
            if let Some(Computed::Who(who)) = estate.groups().computed(inner) {
                conditions.extend(&who.condition);
                open.extend(who.terms.iter().filter_map(members));
            }
        }
    }
}

/// The sessions that conditions in force can tell apart at a moment, as far as they can be tried. `only`: these attributes
/// vary, the others stay as they are asked about; none: all of them.
pub fn sessions(estate: &Estate, moment: &Moment, only: Option<&BTreeSet<SessionAttributeId>>) -> Sessions {
    let schema = estate.schema();
    let mut compared: BTreeMap<SessionAttributeId, ComparedWith> = BTreeMap::new();
    let live = estate.statements().iter().filter(|s| s.is_on() && s.in_date(moment.date));
    let computed = estate.groups().bodies().filter_map(|body| match body {
        Computed::Who(who) => who.condition.as_ref(),
        Computed::Holders(..) => None,
    });
    for condition in live.flat_map(|s| s.conditions()).chain(computed) {
        condition.visit(&mut |inner| note(estate, moment, &inner.test, &mut compared));
    }
    let mut sessions = Sessions { moments: vec![moment.clone()], open: Vec::new() };
    for (id, compared) in compared.into_iter().filter(|(id, _)| only.is_none_or(|only| only.contains(id))) {
        let (values, whole) = values(schema, id, &compared);
        let fits = sessions.moments.len() * (values.len() + 1) <= MOST_SESSIONS;
        if !fits || !whole {
            sessions.open.push(id);
        }
        if !fits {
            continue;
        }
        let mut more = Vec::new();
        for moment in &sessions.moments {
            // Where everybody signs in differently, each value for all of them is another session.
            let by_user = schema.sign_ins.contains(&id) && !moment.is_given(id);
            for value in values.iter().filter(|value| by_user || value.as_ref() != moment.value(id)) {
                let mut other = moment.clone();
                other.give(id, value.clone());
                more.push(other);
            }
        }
        sessions.moments.extend(more);
    }
    sessions
}

fn note(estate: &Estate, moment: &Moment, test: &Test, compared: &mut BTreeMap<SessionAttributeId, ComparedWith>) {
    let operands = test.operands();
    for (at, operand) in operands.iter().enumerate() {
        let Some(id) = of_session(operand) else { continue };
        let known = compared.entry(id).or_default();
        known.more |= matches!(test, Test::Like { .. });
        known.ordered |= matches!(
            test,
            Test::Compare {
                comparison: Comparison::Less | Comparison::LessEqual | Comparison::Greater | Comparison::GreaterEqual,
                ..
            }
        );
        for (_, other) in operands.iter().enumerate().filter(|(other, _)| *other != at) {
            match other {
                Operand::Literal(value) => elements(value, &mut known.values),
                Operand::Today(offset) => {
                    known.values.extend(moment.date.checked_add(offset.days()).ok().map(Value::Date));
                }
                Operand::User(UserField::Attribute(id)) => of_column(estate.people().attribute(*id), known),
                Operand::Resource(_, ResourceField::Attribute(id)) => {
                    of_column(&estate.catalog().attributes[id.index()], known);
                }
                Operand::User(_) | Operand::Resource(..) | Operand::Session(_) | Operand::Kinds(_) => known.more = true,
            }
        }
    }
}

fn elements(value: &Value, into: &mut BTreeSet<Value>) {
    match value {
        Value::Set(elements) => into.extend(elements.iter().cloned()),
        Value::Text(_) | Value::Number(_) | Value::Date(_) | Value::Flag(_) | Value::Step(..) => {
            into.insert(value.clone());
        }
    }
}

fn of_column(column: &Column, known: &mut ComparedWith) {
    known.more |= column.distinct().len() > MOST_VALUES;
    column.distinct().iter().for_each(|value| elements(value, &mut known.values));
}

/// The values to try, none among them, and whether they are all that matter.
fn values(schema: &Schema, id: SessionAttributeId, compared: &ComparedWith) -> (Vec<Option<Value>>, bool) {
    let attribute = &schema.session_attributes[id.index()];
    let mut values: Vec<Value> = match attribute.scalar {
        Scalar::Flag => vec![Value::Flag(true), Value::Flag(false)],
        Scalar::Named(of) => {
            (0..schema.types[of.index()].values.len()).map(|step| Value::Step(of, step as u16)).collect()
        }
        _ => compared.values.iter().cloned().collect(),
    };
    let mut whole = !compared.more;
    let beside = |values: &[Value]| match attribute.scalar {
        Scalar::Text => {
            let longest = values.iter().map(|v| if let Value::Text(t) = v { t.len() } else { 0 }).max().unwrap_or(0);
            vec![Value::Text("x".repeat(longest + 1).into())]
        }
        Scalar::Number => between(values, |v| if let Value::Number(n) = v { Some(*n) } else { None }),
        Scalar::Date => days(values),
        _ => Vec::new(),
    };
    if attribute.set {
        values.extend(beside(&values));
        values.sort();
        if values.len() > MOST_ELEMENTS {
            let all = Value::set(values.iter().cloned());
            let step = values.len().div_ceil(MOST_ELEMENTS);
            let single = values.iter().step_by(step).map(|value| Value::set([value.clone()]));
            let sets = [Value::set([]), all].into_iter().chain(single);
            return (sets.map(Some).collect(), false);
        }
        let sets = (0..1u32 << values.len()).map(|bits| {
            Value::set(values.iter().enumerate().filter(|(at, _)| bits >> at & 1 == 1).map(|(_, v)| v.clone()))
        });
        // A set without a value is the empty set.
        return (sets.map(Some).collect(), whole);
    }
    if compared.ordered || !matches!(attribute.scalar, Scalar::Number | Scalar::Date) {
        values.extend(beside(&values));
    } else {
        values.extend(beside(&values).into_iter().next_back());
    }
    values.sort();
    values.dedup();
    if values.len() > MOST_VALUES {
        let step = values.len().div_ceil(MOST_VALUES);
        values = values.into_iter().step_by(step).collect();
        whole = false;
    }
    (std::iter::once(None).chain(values.into_iter().map(Some)).collect(), whole)
}

/// Numbers between these, one less than all and one more.
fn between(values: &[Value], number: impl Fn(&Value) -> Option<Decimal>) -> Vec<Value> {
    let mut numbers: Vec<Decimal> = values.iter().filter_map(number).collect();
    numbers.sort();
    let one = Decimal::ONE;
    let ends = [numbers.first().and_then(|n| n.checked_sub(one)), numbers.last().and_then(|n| n.checked_add(one))];
    let middles = numbers.windows(2).filter_map(|pair| Some(pair[0].checked_add(pair[1])? / Decimal::TWO));
    middles.chain(ends.into_iter().flatten()).map(Value::Number).collect()
}

/// The days before and after these.
fn days(values: &[Value]) -> Vec<Value> {
    let days = values.iter().filter_map(|v| if let Value::Date(d) = v { Some(*d) } else { None });
    let near = days.flat_map(|d| [d.checked_sub(1.day()).ok(), d.checked_add(1.day()).ok()]);
    near.flatten().map(Value::Date).collect()
}

/// The attributes of the session that each user has as signed in, since nothing else is given.
pub fn signed_in(schema: &Schema, moment: &Moment) -> Vec<String> {
    let own = schema.sign_ins.iter().filter(|id| !moment.is_given(**id));
    own.map(|id| schema.session_attributes[id.index()].name.clone()).collect()
}

/// The values of a session as options give them: `NAME=VALUE`, one for each value of a set; what is missing is left out.
pub fn told(schema: &Schema, moment: &Moment) -> Vec<String> {
    let mut told = Vec::new();
    for (at, attribute) in schema.session_attributes.iter().enumerate() {
        let id = SessionAttributeId::new(at);
        // What everybody signs in with is no value that an option could give.
        let by_user = schema.sign_ins.contains(&id) && !moment.is_given(id);
        match moment.value(id).filter(|_| !by_user) {
            Some(Value::Set(elements)) => {
                told.extend(elements.iter().map(|element| format!("{}={}", attribute.name, schema.show(element))));
            }
            Some(value) => told.push(format!("{}={}", attribute.name, schema.show(value))),
            None => {}
        }
    }
    told
}
