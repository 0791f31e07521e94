//! What brought a difference about: where one rule goes, or comes back, everything that differs is its doing where a statement
//! that decides says so, triple by triple, by the specification evaluator.

use bastide_engine::change::{Change, apply};
use bastide_engine::difference::{CauseHow, difference, effects};
use bastide_engine::evaluate::Tuning;
use bastide_engine::{Reason, ReferenceEvaluator, Snapshot};
use bastide_model::schema::{Need, Target};
use bastide_model::statement::Sort;
use bastide_model::*;
use bastide_testkit::random::{Shape, plan};

/// The resources on which a need is to be met.
fn targets(estate: &Estate, resource: ResourceId, need: Need) -> Vec<ResourceId> {
    let catalog = estate.catalog();
    match need.target {
        Target::Own => vec![resource],
        Target::Parent => catalog.parent(resource).into_iter().collect(),
        Target::Kind(kind) => {
            let is = |above: &ResourceId| estate.schema().is_kind(catalog.kind(*above), kind);
            catalog.upward(resource).skip(1).find(is).into_iter().collect()
        }
        Target::Source => {
            let there = |source: &Source| if let Source::Resource(found) = source { Some(*found) } else { None };
            catalog.sources(resource).iter().filter_map(there).collect()
        }
    }
}

/// The statement that decides; where a need is not met, the one that decides on the need.
fn decider(of: &ReferenceEvaluator, (user, action, resource): (UserId, ActionId, ResourceId)) -> Option<StatementId> {
    let decision = of.decide(user, action, resource);
    if decision.reason == Reason::Blocked {
        for need in &of.estate().schema().actions[action.index()].needs {
            for target in targets(of.estate(), resource, *need) {
                if !of.allows(user, need.action, target) {
                    return decider(of, (user, need.action, target));
                }
            }
        }
    }
    decision.by
}

/// The statements that decide on what is needed, and on what that needs.
fn needed(of: &ReferenceEvaluator, (user, action, resource): (UserId, ActionId, ResourceId)) -> Vec<StatementId> {
    let mut found = Vec::new();
    for need in &of.estate().schema().actions[action.index()].needs {
        for target in targets(of.estate(), resource, *need) {
            found.extend(decider(of, (user, need.action, target)));
            found.extend(needed(of, (user, need.action, target)));
        }
    }
    found
}

/// How many triples differ, and how many of them the rule accounts for, gained and lost; and how many of these by a need alone.
#[derive(Default, PartialEq, Eq, Debug)]
struct Sums {
    all: [u64; 2],
    by_rule: [u64; 2],
    by_need: u64,
}

fn expected(before: &Estate, after: &Estate, rule: StatementId) -> Option<Sums> {
    let moments = [before, after].map(|estate| Moment::on("2026-11-24".parse().unwrap(), estate.schema()));
    let old = ReferenceEvaluator::new(before, &moments[0]).ok()?;
    let new = ReferenceEvaluator::new(after, &moments[1]).ok()?;
    let mut sums = Sums::default();
    for user in before.people().all() {
        for resource in before.catalog().all() {
            for action in ActionId::all(before.schema().actions.len()) {
                let triple = (user, action, resource);
                let [was, is] = [&old, &new].map(|of| of.allows(user, action, resource));
                if was == is {
                    continue;
                }
                let side = usize::from(was);
                sums.all[side] += 1;
                let decides = [&new, &old].iter().any(|of| decider(of, triple) == Some(rule));
                let needs = needed(if is { &new } else { &old }, triple).contains(&rule);
                sums.by_rule[side] += u64::from(decides || needs);
                sums.by_need += u64::from(!decides && needs);
            }
        }
    }
    Some(sums)
}

#[test]
fn every_triple_has_the_cause_that_the_statements_give_it() {
    let count: u64 = std::env::var("BASTIDE_ESTATES").ok().and_then(|n| n.parse().ok()).unwrap_or(900);
    let (mut moved, mut by_need, mut elsewhere) = (0, 0, 0);
    for seed in 0..count {
        let mut rng = fastrand::Rng::with_seed(seed);
        let plan = plan(seed, Shape::ALL);
        let plan = if seed % 5 == 0 { plan.with_more(seed, 100) } else { plan };
        let with = plan.case().estate();
        let is_rule = |id: &StatementId| with.statement(*id).sort == Sort::Rule && with.statement(*id).is_on();
        let rules: Vec<StatementId> = StatementId::all(with.statements().len()).filter(is_rule).collect();
        let Some(rule) = rng.choice(&rules).copied() else { continue };
        let without = apply(&with, &[Change::Off(rule)]).expect("a rule can be switched off");
        let tuning = Tuning {
            narrow: rng.usize(..4),
            classes: [0, 2, 100][rng.usize(..3)],
            told: [0, 9, 1 << 20][rng.usize(..3)],
            ..Tuning::of(&with)
        };
        for (before, after) in [(&with, &without), (&without, &with)] {
            let Some(expected) = expected(before, after, rule) else { continue };
            let moments = [before, after].map(|estate| Moment::on("2026-11-24".parse().unwrap(), estate.schema()));
            let old = Snapshot::tuned(before, &moments[0], tuning).expect("no circles");
            let new = Snapshot::tuned(after, &moments[1], tuning).expect("no circles");
            let mut found = Sums { by_need: expected.by_need, ..Sums::default() };
            for effect in effects(&difference(&old, &new, None)) {
                let sums = [effect.gained, effect.lost];
                (0..2).for_each(|side| found.all[side] += sums[side]);
                if effect.cause.how != CauseHow::Data {
                    assert_eq!(effect.cause.statement, with.statement(rule).name, "estate {seed}");
                    (0..2).for_each(|side| found.by_rule[side] += sums[side]);
                }
            }
            assert_eq!(found, expected, "estate {seed}, rule `{}`", with.statement(rule).name);
            moved += expected.all.iter().sum::<u64>();
            by_need += expected.by_need;
            elsewhere += expected.all.iter().sum::<u64>() - expected.by_rule.iter().sum::<u64>();
        }
    }
    assert!(
        moved > 10 * count && by_need > count / 8 && elsewhere > 0,
        "{moved}, {by_need} by a need, {elsewhere} else"
    );
}
