//! Expectations.

use super::{Breach, MOST_BREACHES, Proof, Sort};
use crate::decide::ReferenceEvaluator;
use crate::decide::place::reaches;
use crate::explain::explain;
use bastide_model::proof::{Bound, ClaimBody, Expectation};
use bastide_model::statement::What;
use bastide_model::*;
use bastide_syntax::Diagnostic;

/// The moment an expectation speaks of: its own day and session where it names them.
pub fn moment(estate: &Estate, run: &Moment, of: &Expectation) -> Moment {
    let date = of.on.unwrap_or(run.date);
    if of.session.is_empty() {
        return run.on_day(date);
    }
    let mut moment = Moment::on(date, estate.schema());
    for (id, value) in &of.session {
        moment.give(*id, Some(value.clone()));
    }
    moment
}

pub(super) fn ask(estate: &Estate, run: &Moment, of: &Expectation) -> Result<Proof, Vec<Diagnostic>> {
    let moment = moment(estate, run, of);
    let reference = ReferenceEvaluator::new(estate, &moment)?;
    let mut proof = Proof {
        name: of.name.clone(),
        sort: Sort::Expectation,
        place: estate.place(of.origin),
        because: of.because.clone(),
        date: moment.date.to_string(),
        holds: true,
        checked: 0,
        broken: 0,
        breaches: Vec::new(),
    };
    // A claim about what is gone holds of nothing: none of them counts as kept.
    for lost in &of.lost {
        proof.checked += 1;
        fail(&mut proof, plain(lost));
    }
    let Some(user) = of.user else {
        // Who is gone is among what is lost.
        return Ok(proof);
    };
    for claim in &of.claims {
        match &claim.body {
            ClaimBody::Can { allowed, actions, places } => {
                for &resource in places {
                    for action in actions.ones().map(ActionId::new) {
                        proof.checked += 1;
                        if reference.decide(user, action, resource).is_allowed() != *allowed {
                            let word = if *allowed { "can" } else { "cannot" };
                            let breach = decision(&reference, user, action, resource, word);
                            fail(&mut proof, breach);
                        }
                    }
                }
            }
            ClaimBody::Reaches { bound, count, what, actions } => {
                proof.checked += 1;
                let found = reached(&reference, user, what, actions);
                let (fits, words) = match bound {
                    Bound::Exactly => (found == *count, "exactly"),
                    Bound::AtLeast => (found >= *count, "at least"),
                    Bound::AtMost => (found <= *count, "at most"),
                };
                if !fits {
                    fail(&mut proof, plain(&format!("reaches {found}, not {words} {count}")));
                }
            }
        }
    }
    Ok(proof)
}

/// On how many resources of a what-clause the user may do any of the actions. A resource counts
/// where the clause is true for it.
fn reached(reference: &ReferenceEvaluator, user: UserId, what: &What, actions: &fixedbitset::FixedBitSet) -> u64 {
    let estate = reference.estate();
    let catalog = estate.catalog();
    let covered = |resource: ResourceId| {
        estate.schema().is_any(catalog.kind(resource), what.kinds.as_deref())
            && what.places.as_ref().is_none_or(|p| p.iter().any(|p| reaches(catalog, p, resource)))
            && what.condition.as_ref().is_none_or(|c| reference.condition(c, Some(user), Some(resource)).is_true())
    };
    let may = |resource: ResourceId| actions.ones().any(|a| reference.allows(user, ActionId::new(a), resource));
    catalog.all().filter(|r| covered(*r) && may(*r)).count() as u64
}

pub(super) fn fail(proof: &mut Proof, breach: Breach) {
    proof.holds = false;
    proof.broken += 1;
    if proof.breaches.len() < MOST_BREACHES {
        proof.breaches.push(breach);
    }
}

pub(super) fn plain(claim: &str) -> Breach {
    Breach { claim: claim.to_string(), why: None, user: None, action: None, resource: None, undecided: false }
}

/// A breach about one decision. `word`: what was claimed.
pub(super) fn decision(
    reference: &ReferenceEvaluator,
    user: UserId,
    action: ActionId,
    resource: ResourceId,
    word: &str,
) -> Breach {
    let explanation = explain(reference, user, action, resource);
    Breach {
        claim: format!("{word} {} `{}`", explanation.action, explanation.resource.path),
        why: Some(explanation.sentence),
        user: Some(explanation.user.id),
        action: Some(explanation.action),
        resource: Some(explanation.resource.id),
        undecided: explanation.undecided,
    }
}
