//! Advice that needs a moment to evaluate: restrictions that catch people or resources only because
//! a value is missing.

use crate::decide::ReferenceEvaluator;
use crate::decide::place::covers;
use bastide_model::condition::{Condition, Operand, Test, UserField};
use bastide_model::show;
use bastide_model::*;
use bastide_syntax::{Diagnostic, codes};
use fixedbitset::FixedBitSet;

/// Reports, for each restriction in force and each attribute it compares, how many of those it
/// speaks of lack the value. Cost: restrictions times (users plus resources).
pub fn missing_in_restrictions(reference: &ReferenceEvaluator) -> Vec<Diagnostic> {
    let estate = reference.estate();
    let mut out = Vec::new();
    for id in &reference.live {
        let statement = estate.statement(*id);
        if statement.modality.permits() {
            continue;
        }
        let mut told: Vec<String> = Vec::new();
        for condition in statement.conditions() {
            condition.visit(&mut |inner| {
                for operand in compared(inner) {
                    let name = show::operand(estate, operand, false);
                    if told.contains(&name) {
                        continue;
                    }
                    if let Some(caught) = caught(reference, statement, operand) {
                        out.push(tell(statement, inner, &name, &caught));
                        told.push(name);
                    }
                }
            });
        }
    }
    out
}

/// The attributes of users and resources that a comparison cannot do without.
fn compared(condition: &Condition) -> Vec<&Operand> {
    let can_do_without = match &condition.test {
        Test::IsSet(_) | Test::IsMissing(_) | Test::IsEmpty(_) => true,
        Test::Or(_) | Test::And(_) | Test::Not(_) | Test::Holds(..) | Test::MemberOf(_) | Test::IsOwner => true,
        Test::Flag(_) | Test::Like { .. } | Test::Compare { .. } | Test::Sets { .. } => false,
    };
    let all = if can_do_without { Vec::new() } else { condition.test.operands() };
    // What a session lacks cannot be filled in.
    let is_filled_in = |o: &&Operand| match o {
        Operand::User(UserField::SignIn(_)) | Operand::Session(_) => false,
        Operand::User(_) | Operand::Resource(..) => true,
        Operand::Literal(_) | Operand::Kinds(_) | Operand::Today(_) => false,
    };
    all.into_iter().filter(is_filled_in).collect()
}

/// Those a statement speaks of that lack a value.
struct Caught {
    count: usize,
    what: &'static str,
    example: String,
}

fn caught(reference: &ReferenceEvaluator, statement: &Statement, operand: &Operand) -> Option<Caught> {
    let estate = reference.estate();
    let missing = |user, resource| reference.operand(operand, user, resource) == Some(None);
    if let Operand::User(_) = operand {
        let meant = |user: &UserId| {
            let terms = statement.who.terms.iter().map(|t| reference.term(t, *user, None));
            terms.fold(Truth::False, Truth::or) != Truth::False
        };
        // Where the who-clause speaks of users alone, one it is false for is not caught.
        let open = |user: &UserId| {
            statement.who.mentions_resource() || reference.who(&statement.who, *user, None) != Truth::False
        };
        let found: FixedBitSet = estate
            .people()
            .all()
            .filter(|u| estate.people().is_active(*u) && missing(Some(*u), None) && meant(u) && open(u))
            .map(UserId::index)
            .collect();
        let first = found.ones().next()?;
        let example = estate.people().id(UserId::new(first)).to_string();
        return Some(Caught { count: found.count_ones(..), what: "user", example });
    }
    let open = |resource: ResourceId| match &statement.what.condition {
        Some(c) if !c.mentions().user => reference.condition(c, None, Some(resource)) != Truth::False,
        _ => true,
    };
    let mut found = estate
        .catalog()
        .all()
        .filter(|r| missing(None, Some(*r)) && covers(estate, statement, *r).is_some() && open(*r));
    let first = found.next()?;
    Some(Caught { count: 1 + found.count(), what: "resource", example: estate.catalog().path(first) })
}

fn tell(statement: &Statement, at: &Condition, name: &str, caught: &Caught) -> Diagnostic {
    let Caught { count, what, example } = caught;
    let (them, have) = if *count == 1 { (format!("1 {what}"), "has") } else { (format!("{count} {what}s"), "have") };
    let message = format!("`{}` also restricts where `{name}` is missing: {them} {have} no value", statement.name);
    Diagnostic::at(&codes::MISSING_IN_RESTRICTION, at.span, message)
        .note(format!("one of them: `{example}`"))
        .note("a comparison that cannot be made never gives access and may take it away")
        .help(format!(
            "to leave them out, write `{name} is set and ...`; to give them a value, fill it in or declare a `default`"
        ))
}
