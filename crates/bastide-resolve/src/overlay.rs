//! Policy text laid over an estate that is linked already. Rules, expectations and guarantees need
//! nothing but what is there, so they are typed against it; anything else that a text declares
//! changes what names mean and needs a whole new reading.

use crate::proofs::proofs;
use crate::scope::{Scope, Suggested, suggest};
use bastide_model::Estate;
use bastide_model::statement::Sort;
use bastide_syntax::tree::{self, Declaration};
use bastide_syntax::{Diagnostic, Diagnostics, Span};
use std::sync::Arc;

/// Whether a text can be laid over an estate without reading everything anew.
pub fn is_light(text: &tree::File) -> bool {
    text.declarations
        .iter()
        .all(|d| matches!(d, Declaration::Rule(_) | Declaration::Expect(_) | Declaration::Guarantee(_)))
}

/// The estate with a light text laid over it: a declaration of a name that is there takes its place,
/// a new rule stands after the last rule. `files` are the names of all files, those of the text included.
///
/// # Errors
/// Every mistake in the text.
pub fn lay_over(
    estate: &Estate,
    text: &tree::File,
    files: &[String],
    lines: &dyn Fn(Span) -> u32,
) -> Result<Estate, Vec<Diagnostic>> {
    let mut out = Diagnostics::new();
    let scope = Scope::of(estate, None, &[]);
    let mut statements = estate.statements().to_vec();
    for declaration in &text.declarations {
        let Declaration::Rule(rule) = declaration else { continue };
        let Some(statement) = scope.rule(rule, lines, &mut out).map(Arc::new) else { continue };
        let rules = statements.iter().take_while(|s| s.sort == Sort::Rule).count();
        match statements[..rules].iter_mut().find(|s| s.name == statement.name) {
            Some(there) => *there = statement,
            None => statements.insert(rules, statement),
        }
    }
    let new = proofs(&scope, std::slice::from_ref(text), &estate.proofs().personas, lines, &mut out);
    let mut after = estate.with_statements(statements);
    after.set_files(files.to_vec());
    let all = after.proofs_mut();
    for expectation in new.expectations {
        match all.expectations.iter_mut().find(|e| e.name == expectation.name) {
            Some(there) => *there = expectation,
            None => all.expectations.push(expectation),
        }
    }
    for guarantee in new.guarantees {
        match all.guarantees.iter_mut().find(|g| g.name == guarantee.name) {
            Some(there) => *there = guarantee,
            None => all.guarantees.push(guarantee),
        }
    }
    if out.iter().any(Diagnostic::is_error) {
        suggest(&mut out, &scope, &mut Suggested::new());
        Err(out.finish())
    } else {
        Ok(after)
    }
}
