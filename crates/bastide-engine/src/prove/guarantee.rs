//! Guarantees.

use super::expectation::{decision, fail, plain};
use super::{MOST_BREACHES, Proof, Sort};
use crate::decide::ReferenceEvaluator;
use crate::decide::place::reaches;
use crate::evaluate::Probe;
use crate::snapshot::Snapshot;
use bastide_model::proof::Guarantee;
use bastide_model::*;

/// Of each guarantee, so many clauses are asked by themselves: for whom the who-clause is true, for whom it is not false, and
/// where the what-clause is not false.
const PROBES: usize = 3;

/// Asks guarantees, all in one sweep. Cost: every resource once, and words of a set for each guarantee that speaks of it.
pub(super) fn ask(snapshot: &Snapshot, all: &[&Guarantee]) -> Vec<Proof> {
    let (estate, reference) = (snapshot.estate(), snapshot.reference());
    let anything = condition::Who { terms: vec![condition::Term::Anyone], condition: None };
    let probes = all.iter().flat_map(|of| {
        let what = of.what.condition.as_ref();
        let open = what.map_or(Probe::Who(&anything, true), |condition| Probe::Condition(condition, true));
        [Probe::Who(&of.who, false), Probe::Who(&of.who, true), open]
    });
    let snapshot = snapshot.asking(&probes.collect::<Vec<Probe>>());
    let mut engine = snapshot.evaluator();
    let mut proofs: Vec<Proof> = all.iter().map(|of| begun(&reference, of)).collect();
    let [mut yes, mut maybe, mut open, mut allowed] = std::array::from_fn(|_| engine.nobody());
    for resource in estate.catalog().all() {
        let kind = estate.catalog().kind(resource);
        let speaks = |of: &Guarantee| {
            let places = of.what.places.as_ref();
            // Barriers do not matter to what must always hold.
            let within = || places.is_none_or(|p| p.iter().any(|p| reaches(estate.catalog(), p, resource)));
            estate.schema().is_any(kind, of.what.kinds.as_deref()) && within()
        };
        let mut work = engine.look(resource);
        for (at, (of, proof)) in all.iter().zip(&mut proofs).enumerate().filter(|(_, (of, _))| speaks(of)) {
            engine.probe(&mut work, PROBES * at + 2, &mut open);
            if open.is_clear() {
                continue;
            }
            engine.probe(&mut work, PROBES * at, &mut yes);
            engine.probe(&mut work, PROBES * at + 1, &mut maybe);
            for action in of.actions.ones().map(ActionId::new) {
                engine.decide_on(&mut work, action);
                engine.allowed_users(&work, action, &mut allowed);
                allowed.intersect_with(&open);
                if of.only {
                    allowed.difference_with(&yes)
                } else {
                    allowed.intersect_with(&maybe)
                };
                proof.checked += estate.people().len() as u64;
                let wrong = allowed.count_ones(..);
                if wrong == 0 {
                    continue;
                }
                proof.holds = false;
                proof.broken += wrong as u64;
                let claim = if of.only { "nobody else can" } else { "none of them can" };
                let rest = MOST_BREACHES.saturating_sub(proof.breaches.len());
                for user in allowed.ones().take(rest).map(UserId::new) {
                    proof.breaches.push(decision(&reference, user, action, resource, claim));
                }
            }
        }
        engine.done(work);
    }
    proofs
}

fn begun(reference: &ReferenceEvaluator, of: &Guarantee) -> Proof {
    let mut proof = Proof {
        name: of.name.clone(),
        sort: Sort::Guarantee,
        place: reference.estate().place(of.origin),
        because: of.because.clone(),
        date: reference.moment().date.to_string(),
        holds: true,
        checked: 0,
        broken: 0,
        breaches: Vec::new(),
    };
    for lost in &of.lost {
        proof.checked += 1;
        fail(&mut proof, plain(lost));
    }
    proof
}
