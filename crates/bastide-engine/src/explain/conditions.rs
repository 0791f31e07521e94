//! Why a condition is false or unknown: the comparisons that make it so, with the values they met.

use crate::decide::Judge;
use crate::show;
use bastide_model::condition::*;
use bastide_model::*;

/// The comparisons because of which a condition is `wanted` (false or unknown), as sentences.
pub(super) fn causes(
    judge: &Judge,
    condition: &Condition,
    user: UserId,
    resource: ResourceId,
    wanted: Truth,
) -> Vec<String> {
    let mut found = Vec::new();
    gather(judge, condition, user, resource, wanted, &mut found);
    found.dedup();
    found
}

fn gather(judge: &Judge, of: &Condition, user: UserId, resource: ResourceId, wanted: Truth, found: &mut Vec<String>) {
    if judge.condition(of, Some(user), Some(resource)) != wanted {
        return;
    }
    match &of.test {
        Test::And(parts) | Test::Or(parts) => {
            parts.iter().for_each(|part| gather(judge, part, user, resource, wanted, found));
        }
        Test::Not(inner) if wanted == Truth::Unknown => gather(judge, inner, user, resource, wanted, found),
        Test::Not(_) => found.push(format!("`{}` does not hold", show::condition(judge.estate(), of))),
        leaf => found.push(sentence(judge, of, leaf, user, resource, wanted)),
    }
}

fn sentence(judge: &Judge, of: &Condition, leaf: &Test, user: UserId, resource: ResourceId, wanted: Truth) -> String {
    let estate = judge.estate();
    let text = show::condition(estate, of);
    let mut values = Vec::new();
    let mut missing = Vec::new();
    for operand in operands(leaf) {
        if matches!(operand, Operand::Literal(_) | Operand::Kinds(_)) {
            continue;
        }
        let name = show::operand(estate, operand, false);
        match judge.operand(operand, Some(user), Some(resource)) {
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

fn operands(leaf: &Test) -> Vec<&Operand> {
    match leaf {
        Test::Flag(o) | Test::IsSet(o) | Test::IsMissing(o) | Test::IsEmpty(o) => vec![o],
        Test::Like { operand, .. } => vec![operand],
        Test::Compare { left, right, .. } | Test::Sets { left, right, .. } => vec![left, right],
        _ => Vec::new(),
    }
}
