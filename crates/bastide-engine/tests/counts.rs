//! Decisions as rows and as counts of rows are what asking for every triple gives, whatever is asked for.

use bastide_engine::access::{Alike, Asked, Keys, counts, rows};
use bastide_engine::evaluate::Tuning;
use bastide_engine::{Reason, ReferenceEvaluator, Snapshot};
use bastide_model::{ActionId, Estate, Moment, StatementId, UserId};
use bastide_testkit::random::{Shape, plan};
use fastrand::Rng;
use fixedbitset::FixedBitSet;
use std::collections::HashMap;
use std::convert::Infallible;

/// Some of so many, or all of them.
fn some(rng: &mut Rng, of: usize) -> Option<FixedBitSet> {
    match rng.u8(..3) {
        0 => None,
        1 => Some((0..of).filter(|_| rng.u8(..4) == 0).collect::<FixedBitSet>()),
        _ => Some((0..of).filter(|_| rng.bool()).collect()),
    }
    .map(|mut set| {
        set.grow(of);
        set
    })
}

fn asked(rng: &mut Rng, estate: &Estate) -> Asked {
    let allowed = |wanted: bool| {
        let mut set = FixedBitSet::with_capacity(Reason::ALL.len());
        Reason::ALL.iter().filter(|r| r.is_allowed() == wanted).for_each(|r| set.insert(*r as usize));
        set
    };
    let reasons = match rng.u8(..4) {
        0 => Some(allowed(true)),
        1 => Some(allowed(false)),
        _ => some(rng, Reason::ALL.len()),
    };
    let statements = if rng.u8(..3) == 0 { some(rng, estate.statements().len() + 1) } else { None };
    Asked {
        users: some(rng, estate.people().len()),
        resources: some(rng, estate.catalog().len()),
        actions: some(rng, estate.schema().actions.len()),
        reasons,
        statements,
    }
}

fn keys(rng: &mut Rng) -> Keys {
    let mut flag = || rng.u8(..3) == 0;
    Keys {
        user: flag(),
        resource: flag(),
        kind: flag(),
        action: flag(),
        decision: flag(),
        reason: flag(),
        statement: flag(),
    }
}

/// The same, triple by triple.
fn plainly(estate: &Estate, reference: &ReferenceEvaluator, asked: &Asked, keys: Keys) -> HashMap<Alike, u64> {
    let has = |set: &Option<FixedBitSet>, at: usize| set.as_ref().is_none_or(|set| set.contains(at));
    let mut found = HashMap::new();
    for resource in estate.catalog().all().filter(|r| has(&asked.resources, r.index())) {
        for action in ActionId::all(estate.schema().actions.len()).filter(|a| has(&asked.actions, a.index())) {
            for user in estate.people().all().filter(|u| has(&asked.users, u.index())) {
                let decision = reference.decide(user, action, resource);
                let by = decision.by.map_or(estate.statements().len(), |by: StatementId| by.0 as usize);
                if !has(&asked.reasons, decision.reason as usize) || !has(&asked.statements, by) {
                    continue;
                }
                let alike = Alike {
                    user: keys.user.then_some(user),
                    resource: keys.resource.then_some(resource),
                    kind: keys.kind.then(|| estate.catalog().kind(resource)),
                    action: keys.action.then_some(action),
                    decision: keys.decision.then(|| decision.is_allowed()),
                    reason: keys.reason.then_some(decision.reason),
                    statement: keys.statement.then_some(decision.by),
                };
                *found.entry(alike).or_default() += 1;
            }
        }
    }
    found
}

#[test]
fn counts_and_rows_agree_with_every_triple() {
    let (mut compared, mut wide) = (0, 0);
    for seed in 0..300 {
        let mut rng = Rng::with_seed(seed);
        let estate = plan(seed, Shape::ALL).with_more(seed, 20).case().estate();
        let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
        let Ok(snapshot) = Snapshot::new(&estate, &moment) else { continue };
        // Every other time, outcomes are worked out in words as soon as they differ.
        let snapshot = match seed % 2 {
            0 => snapshot,
            _ => {
                wide += 1;
                snapshot.retuned(Tuning { narrow: 0, classes: 0, own: 0, once: 0, most: 0, ..Tuning::of(&estate) })
            }
        };
        let reference = ReferenceEvaluator::new(&estate, &moment).expect("no circles");
        for _ in 0..8 {
            let (asked, keys) = (asked(&mut rng, &estate), keys(&mut rng));
            let wanted = plainly(&estate, &reference, &asked, keys);
            let mut found: HashMap<Alike, u64> = HashMap::new();
            let all = estate.catalog().len() as u32;
            let cut = rng.u32(..=all);
            for range in [0..cut, cut..all] {
                let Ok(()) = counts(&snapshot, &asked, keys, range, |alike, count| {
                    *found.entry(alike).or_default() += count;
                    Ok::<(), Infallible>(())
                });
            }
            assert_eq!(found, wanted, "seed {seed}: {asked:?} {keys:?}");
            let causes = rng.bool();
            let mut count = 0;
            let Ok(()) = rows(&snapshot, &asked, 0..all, causes, |row| {
                let decision = reference.decide(row.user, row.action, row.resource);
                assert_eq!(row.allowed, decision.is_allowed());
                assert!(row.cause.is_some() || !causes);
                assert!(row.cause.is_none_or(|cause| cause == (decision.reason, decision.by)));
                count += 1;
                Ok::<(), Infallible>(())
            });
            assert_eq!(count, wanted.values().sum::<u64>(), "seed {seed}: {asked:?}");
            compared += 1;
        }
    }
    assert!(compared > 1500 && wide > 100, "{compared} {wide}");
}

/// Of nobody there is nothing, and it does no harm.
#[test]
fn nobody_is_asked_for() {
    let estate = plan(1, Shape::PLAIN).case().estate();
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
    let asked = Asked { users: Some(FixedBitSet::with_capacity(estate.people().len())), ..Asked::default() };
    let keys = Keys { user: true, ..Keys::default() };
    let found = counts(&snapshot, &asked, keys, 0..estate.catalog().len() as u32, |alike, _| Err(alike.user));
    assert_eq!(found, Ok::<(), Option<UserId>>(()));
}
