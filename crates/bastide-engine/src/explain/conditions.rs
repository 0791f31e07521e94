//! Why a condition is false or unknown: the comparisons that make it so, with the values they met.

use super::origin::origin;
use super::{Holds, Met};
use crate::decide::ReferenceEvaluator;
use bastide_model::condition::*;
use bastide_model::show;
use bastide_model::*;

/// The comparisons because of which a condition is `wanted` (false or unknown), as sentences.
pub(super) fn causes(
    reference: &ReferenceEvaluator,
    condition: &Condition,
    user: UserId,
    resource: ResourceId,
    wanted: Truth,
) -> Vec<String> {
    let mut found = Vec::new();
    gather(reference, condition, user, resource, wanted, &mut found);
    found.dedup();
    found
}

fn gather(
    reference: &ReferenceEvaluator,
    of: &Condition,
    user: UserId,
    resource: ResourceId,
    wanted: Truth,
    found: &mut Vec<String>,
) {
    if reference.condition(of, Some(user), Some(resource)) != wanted {
        return;
    }
    match &of.test {
        Test::And(parts) | Test::Or(parts) => {
            parts.iter().for_each(|part| gather(reference, part, user, resource, wanted, found));
        }
        Test::Not(inner) if wanted == Truth::Unknown => gather(reference, inner, user, resource, wanted, found),
        Test::Not(_) => found.push(format!("`{}` does not hold", show::condition(reference.estate(), of))),
        leaf => found.push(sentence(reference, of, leaf, user, resource, wanted)),
    }
}

/// The comparisons that make a condition true, each with the values it met: all of an `and`, the first that holds of an
/// `or`.
pub(super) fn holds(reference: &ReferenceEvaluator, of: &Condition, user: UserId, resource: ResourceId) -> Vec<Holds> {
    let mut found = Vec::new();
    hold(reference, of, user, resource, true, &mut found);
    found
}

fn hold(
    reference: &ReferenceEvaluator,
    of: &Condition,
    user: UserId,
    resource: ResourceId,
    wanted: bool,
    found: &mut Vec<Holds>,
) {
    let estate = reference.estate();
    let is = |part: &&Condition| {
        let truth = reference.condition(part, Some(user), Some(resource));
        if wanted { truth.is_true() } else { truth == Truth::False }
    };
    // What makes an `and` true makes an `or` false.
    match (of.test.form(), wanted) {
        (Form::All(parts), true) | (Form::Any(parts), false) => {
            parts.iter().for_each(|part| hold(reference, part, user, resource, wanted, found));
        }
        (Form::Any(parts), true) | (Form::All(parts), false) => {
            if let Some(first) = parts.iter().find(is) {
                hold(reference, first, user, resource, wanted, found);
            }
        }
        (Form::Not(inner), _) => hold(reference, inner, user, resource, !wanted, found),
        (Form::Leaf, _) if !is(&of) => {}
        (Form::Leaf, _) => {
            let text = show::condition(estate, of);
            let condition = if wanted { text } else { format!("not {text}") };
            let looked_up = of.test.operands().into_iter();
            let looked_up = looked_up.filter(|o| !matches!(o, Operand::Literal(_) | Operand::Kinds(_)));
            let values = looked_up.map(|operand| Met {
                name: show::operand(estate, operand, false),
                value: match reference.operand(operand, Some(user), Some(resource)) {
                    Some(Some(value)) => Some(show::datum(estate, &value)),
                    _ => None,
                },
                from: origin(reference, operand, user, resource),
            });
            found.push(Holds { condition, values: values.collect() });
        }
    }
}

fn sentence(
    reference: &ReferenceEvaluator,
    of: &Condition,
    leaf: &Test,
    user: UserId,
    resource: ResourceId,
    wanted: Truth,
) -> String {
    let estate = reference.estate();
    let text = show::condition(estate, of);
    let mut values = Vec::new();
    let mut missing = Vec::new();
    for operand in leaf.operands() {
        if matches!(operand, Operand::Literal(_) | Operand::Kinds(_)) {
            continue;
        }
        let name = show::operand(estate, operand, false);
        match reference.operand(operand, Some(user), Some(resource)) {
            Some(Some(value)) => values.push(format!("`{name}` is {}", show::datum(estate, &value))),
            _ => missing.push(format!("`{name}` has no value")),
        }
    }
    if wanted == Truth::Unknown {
        if matches!(leaf, Test::IsOwner) {
            missing.push("the resource has no owner".to_string());
        }
        if let Test::MemberOf(Some(_)) = leaf {
            missing.push("whether the user is a member cannot be said".to_string());
        }
        return format!("`{text}`: {}", missing.join(", "));
    }
    if values.is_empty() {
        format!("`{text}` does not hold")
    } else {
        format!("`{text}` does not hold: {}", values.join(", "))
    }
}
