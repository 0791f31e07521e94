//! The summary counts what asking for every triple counts: on random estates with every form of the language.

use bastide_engine::{ReferenceEvaluator, access};
use bastide_model::{ActionId, Estate, Moment};
use bastide_testkit::random::{Shape, plan};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// The totals, asked for one by one.
fn plainly(estate: &Estate, moment: &Moment) -> Value {
    let reference = ReferenceEvaluator::new(estate, moment).expect("no circles");
    let actions: Vec<ActionId> = ActionId::all(estate.schema().actions.len()).collect();
    let mut allowed: BTreeMap<String, u64> = BTreeMap::new();
    let (mut by_reason, mut by_kind): (BTreeMap<String, u64>, BTreeMap<String, u64>) = Default::default();
    // Rows of the matrix by resource, and columns by user.
    let mut rows: BTreeSet<Vec<bool>> = BTreeSet::new();
    let mut columns: Vec<Vec<bool>> = vec![Vec::new(); estate.people().len()];
    for resource in estate.catalog().all() {
        let mut row = Vec::new();
        for &action in &actions {
            let name = &estate.schema().actions[action.index()].name;
            for user in estate.people().all() {
                let decision = reference.decide(user, action, resource);
                *by_reason.entry(decision.reason.word().to_string()).or_default() += 1;
                if decision.is_allowed() {
                    *allowed.entry(name.clone()).or_default() += 1;
                    let kind = &estate.schema().kinds[estate.catalog().kind(resource).index()].name;
                    *by_kind.entry(format!("{kind} {name}")).or_default() += 1;
                }
                row.push(decision.is_allowed());
                columns[user.index()].push(decision.is_allowed());
            }
        }
        rows.insert(row);
    }
    let profiles: BTreeSet<Vec<bool>> = columns.into_iter().collect();
    serde_json::json!({
        "allowed": allowed, "reasons": by_reason, "kinds": by_kind, "rows": rows.len(), "profiles": profiles.len(),
    })
}

/// The same from the summary, sums of nothing left out.
fn summed_up(estate: &Estate, moment: &Moment) -> Value {
    let snapshot = bastide_engine::Snapshot::new(estate, moment).expect("no circles");
    let summary = access::summary(&snapshot, &|_| {});
    let mut allowed: BTreeMap<String, u64> = summary.allowed.into_iter().collect();
    allowed.retain(|_, count| *count != 0);
    let mut reasons = summary.allowed_by_reason;
    reasons.extend(summary.refused);
    reasons.retain(|_, count| *count != 0);
    let kinds: BTreeMap<String, u64> = summary
        .allowed_by_kind
        .iter()
        .flat_map(|(kind, counts)| counts.iter().map(move |(action, count)| (format!("{kind} {action}"), *count)))
        .filter(|(_, count)| *count != 0)
        .collect();
    serde_json::json!({
        "allowed": allowed, "reasons": reasons, "kinds": kinds, "rows": summary.distinct_outcomes,
        "profiles": summary.profiles,
    })
}

#[test]
fn every_triple_is_counted_once() {
    let mut turned = 0;
    for seed in 0..250 {
        let estate = plan(seed, Shape::ALL).case().estate();
        let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
        assert_eq!(summed_up(&estate, &moment), plainly(&estate, &moment), "estate {seed}");
        let snapshot = bastide_engine::Snapshot::new(&estate, &moment).expect("no circles");
        let mut engine = snapshot.evaluator();
        for resource in estate.catalog().all() {
            let work = engine.decide(resource);
            let mut actions = bastide_model::ActionId::all(estate.schema().actions.len());
            turned += usize::from(actions.any(|action| !work.cells(action).is_empty()));
            engine.done(work);
        }
    }
    assert!(turned > 100, "resources with users who are decided one by one: {turned}");
}
