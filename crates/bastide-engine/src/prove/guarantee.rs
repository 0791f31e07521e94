//! Guarantees.

use super::expectation::{decision, fail, plain};
use super::{MOST_BREACHES, Proof, Sort};
use crate::decide::Judge;
use crate::sets::SetEngine;
use crate::sets::store::SetId;
use bastide_model::proof::Guarantee;
use bastide_model::*;

pub(super) fn ask<'e>(judge: &Judge<'e>, engine: &mut SetEngine<'e>, of: &'e Guarantee) -> Proof {
    let estate = judge.estate();
    let mut proof = Proof {
        name: of.name.clone(),
        sort: Sort::Guarantee,
        place: estate.place(of.origin),
        because: of.because.clone(),
        date: judge.moment().date.to_string(),
        holds: true,
        checked: 0,
        broken: 0,
        breaches: Vec::new(),
    };
    for lost in &of.lost {
        proof.checked += 1;
        fail(&mut proof, plain(lost));
    }
    for resource in estate.catalog.all() {
        let Some((_, open)) = engine.spoken_of(&of.what, resource) else { continue };
        let (yes, maybe) = engine.meant(&of.who, resource);
        let actions: Vec<ActionId> = of.actions.ones().map(ActionId::new).collect();
        engine.row(resource);
        for action in actions {
            let allowed = engine.allowed(resource, action);
            let allowed = engine.both(allowed, open);
            let wrong = if of.only { engine.but(allowed, yes) } else { engine.both(allowed, maybe) };
            proof.checked += estate.people.len() as u64;
            if wrong == SetId::NONE {
                continue;
            }
            proof.holds = false;
            proof.broken += u64::from(engine.sets().count(wrong));
            let rest = MOST_BREACHES.saturating_sub(proof.breaches.len());
            let users: Vec<usize> = engine.sets().users(wrong).take(rest).collect();
            for user in users {
                proof.breaches.push(decision(judge, UserId::new(user), action, resource, "nobody else can"));
            }
        }
    }
    if !of.only {
        proof.breaches.iter_mut().for_each(|b| b.claim = b.claim.replacen("nobody else can", "none of them can", 1));
    }
    proof
}
