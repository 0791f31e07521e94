//! The days on which answers may change by themselves: a statement begins or ends, or a comparison
//! with `today` turns.

use bastide_model::column::Column;
use bastide_model::condition::*;
use bastide_model::groups::Computed;
use bastide_model::*;
use jiff::ToSpan;
use jiff::civil::Date;
use std::collections::BTreeSet;

/// The days after the moment's, up to and including `through`, on which any answer in its session may differ from the day
/// before, guarantees among them. There may be days among them on which none does.
pub fn turning_days(estate: &Estate, moment: &Moment, through: Date) -> Vec<Date> {
    let from = moment.date;
    let mut days: BTreeSet<Date> = BTreeSet::new();
    let next = |day: Date| day.checked_add(1.day()).ok();
    for statement in estate.statements().iter().filter(|s| s.is_on()) {
        days.extend(statement.from);
        days.extend(statement.until.and_then(next));
        statement.conditions().for_each(|c| of_condition(estate, moment, c, &mut days));
    }
    for guarantee in &estate.proofs().guarantees {
        let conditions = [&guarantee.who.condition, &guarantee.what.condition];
        conditions.into_iter().flatten().for_each(|c| of_condition(estate, moment, c, &mut days));
    }
    for computed in estate.groups().bodies() {
        if let Computed::Who(who) = computed {
            who.condition.iter().for_each(|c| of_condition(estate, moment, c, &mut days));
        }
    }
    days.into_iter().filter(|day| *day > from && *day <= through).collect()
}

fn of_condition(estate: &Estate, moment: &Moment, condition: &Condition, days: &mut BTreeSet<Date>) {
    condition.visit(&mut |inner| {
        let sides = inner.test.operands();
        let &[left, right] = &sides[..] else { return };
        for (today, other) in [(left, right), (right, left)] {
            let Operand::Today(offset) = today else { continue };
            for date in dates(estate, moment, other) {
                // On the day on which today plus the offset is the date, and on the day after.
                let turns = date.checked_sub(offset.days()).ok();
                days.extend(turns);
                days.extend(turns.and_then(|day| day.checked_add(1.day()).ok()));
            }
        }
    });
}

/// Every date an operand can have.
fn dates(estate: &Estate, moment: &Moment, operand: &Operand) -> Vec<Date> {
    let of = |column: &Column| column.distinct().iter().flat_map(in_value).collect();
    match operand {
        Operand::Literal(value) => in_value(value),
        Operand::User(UserField::Attribute(id)) => of(estate.people().attribute(*id)),
        Operand::User(UserField::SignIn(id)) if !moment.is_given(*id) => {
            of(estate.people().sign_in(*id).expect("it is told by sign-ins"))
        }
        Operand::User(UserField::SignIn(id)) => moment.value(*id).into_iter().flat_map(in_value).collect(),
        Operand::Resource(_, ResourceField::Attribute(id)) => of(&estate.catalog().attributes[id.index()]),
        Operand::Session(id) => moment.value(*id).into_iter().flat_map(in_value).collect(),
        // No other field of users and resources is a date, and what is counted from today moves along.
        Operand::User(_) | Operand::Resource(..) | Operand::Kinds(_) | Operand::Today(_) => Vec::new(),
    }
}

fn in_value(value: &Value) -> Vec<Date> {
    match value {
        Value::Date(date) => vec![*date],
        Value::Set(elements) => elements.iter().flat_map(in_value).collect(),
        _ => Vec::new(),
    }
}
