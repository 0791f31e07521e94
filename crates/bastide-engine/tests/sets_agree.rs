//! The set engine and the specification evaluator are one meaning: on random estates with every
//! form of the language, and on every estate of the conformance suite, they agree on every triple,
//! its reason and its statement included.

use bastide_engine::sets::SetEngine;
use bastide_engine::{Judge, session};
use bastide_model::{ActionId, Estate, Moment};
use bastide_testkit::Case;
use bastide_testkit::random::{Plan, Shape, plan};
use std::path::Path;

fn load(case: &Case) -> Option<Estate> {
    let dir = case.lay_out();
    bastide_formats::load(dir.path()).estate
}

/// Everything they do not agree on.
fn differences(estate: &Estate, moment: &Moment, backwards: bool) -> Vec<String> {
    let judge = Judge::new(estate, moment).expect("no circles");
    let mut engine = SetEngine::new(estate, moment).expect("no circles");
    let mut wrong = Vec::new();
    // In whatever order rows are asked for, they are the same.
    let resources: Vec<_> =
        if backwards { estate.catalog.all().rev().collect() } else { estate.catalog.all().collect() };
    for resource in resources {
        let decided = engine.row(resource);
        for action in ActionId::all(estate.schema.actions.len()) {
            let outcome = engine.outcome(decided.others, action);
            let total: u32 = outcome.parts.iter().map(|p| engine.sets().count(p.users)).sum();
            assert_eq!(total as usize, estate.people.len(), "the parts are everybody, each once");
            let everybody = engine.allowed(resource, action);
            for user in estate.people.all() {
                let plain = judge.decide(user, action, resource);
                let part = engine.part(decided, user, action);
                let allowed = engine.allows(decided, user, action);
                assert_eq!(allowed, engine.sets().contains(everybody, user.index()));
                if (part.reason, part.by, allowed) != (plain.reason, plain.by, plain.is_allowed()) {
                    wrong.push(format!(
                        "{} {} {}: {:?} by {:?}, not {:?} by {:?}",
                        estate.people.id(user),
                        estate.schema.actions[action.index()].name,
                        estate.catalog.id(resource),
                        plain.reason,
                        plain.by,
                        part.reason,
                        part.by
                    ));
                }
            }
        }
    }
    wrong
}

#[test]
fn on_random_estates() {
    let count: u64 = std::env::var("BASTIDE_ESTATES").ok().and_then(|n| n.parse().ok()).unwrap_or(600);
    for seed in 0..count {
        agree(seed, &plan(seed, Shape::ALL));
    }
}

/// Where many resources are alike, they are looked up by other ways than where there are few.
#[test]
fn on_random_estates_in_which_there_is_much() {
    let count: u64 = std::env::var("BASTIDE_ESTATES").ok().and_then(|n| n.parse().ok()).unwrap_or(600);
    for seed in 0..count / 6 {
        agree(seed, &plan(seed, Shape::ALL).with_more(seed, 150));
    }
}

fn agree(seed: u64, plan: &Plan) {
    let estate = load(&plan.case()).unwrap_or_else(|| panic!("estate {seed} has errors"));
    let given: &[(&str, &str)] = match seed % 3 {
        0 => &[],
        1 => &[("net", "office")],
        _ => &[("net", "home"), ("badge", "x")],
    };
    let given: Vec<(String, String)> = given.iter().map(|(n, v)| (n.to_string(), v.to_string())).collect();
    let moment = session::moment(&estate.schema, "2026-11-24".parse().unwrap(), &given).unwrap();
    let wrong = differences(&estate, &moment, seed % 2 == 1);
    assert!(wrong.is_empty(), "estate {seed}: {:#?}\n{}", &wrong[..wrong.len().min(10)], plan.rules.join("\n"));
}

#[test]
fn on_every_estate_of_the_conformance_suite() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/decisions");
    let mut estates = 0;
    for (name, _, text) in bastide_testkit::texts(&folder, ".txt") {
        let Some(estate) = load(&Case::parse(&text, &folder)) else { continue };
        for date in ["2026-11-23", "2026-11-24", "2026-12-24"] {
            let moment = Moment::on(date.parse().unwrap(), &estate.schema);
            let wrong = differences(&estate, &moment, false);
            assert!(wrong.is_empty(), "{name}: {:#?}", &wrong[..wrong.len().min(10)]);
        }
        estates += 1;
    }
    assert!(estates > 20, "{estates}");
}

#[test]
fn on_the_demo() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../bastide/demo");
    let estate = bastide_formats::load(&demo).estate.expect("the demo has no errors");
    let given = [("ticket".to_string(), "TL-020".to_string()), ("network".to_string(), "gallery".to_string())];
    for (date, given) in [("2026-11-24", &[][..]), ("2026-12-05", &given), ("2027-07-01", &[])] {
        let moment = session::moment(&estate.schema, date.parse().unwrap(), given).unwrap();
        let wrong = differences(&estate, &moment, false);
        assert!(wrong.is_empty(), "{date}: {:#?}", &wrong[..wrong.len().min(10)]);
    }
}
