//! The set engine and the specification evaluator are one meaning: on random estates with every
//! form of the language, and on every estate of the conformance suite, they agree on every triple,
//! its reason and its statement included, whatever counts as narrow and whatever as broad.

use bastide_engine::Snapshot;
use bastide_engine::evaluate::{Decided, Evaluator, Tuning, Work};
use bastide_engine::{ReferenceEvaluator, session};
use bastide_model::schema::{Need, Target};
use bastide_model::{ActionId, Estate, Moment, ResourceId};
use bastide_testkit::Case;
use bastide_testkit::random::{OF_RESOURCES, Plan, Shape, plan};
use std::path::Path;

fn load(case: &Case) -> Option<Estate> {
    case.load().estate
}

/// How often each way was taken.
#[derive(Default, Debug)]
struct Ways {
    based: usize,
    patched: usize,
    wide: usize,
    /// Looked up, where a need was worked out in words: few are kept from the action, or few are not.
    beside_words: usize,
}

/// What tells narrow from broad, by a seed.
fn tuning(seed: u64, estate: &Estate) -> Tuning {
    let mut random = fastrand::Rng::with_seed(seed ^ 0x7a11);
    if random.u32(..6) == 0 {
        return Tuning::of(estate);
    }
    let mut one = |of: &[usize]| of[random.usize(..of.len())];
    Tuning {
        narrow: one(&[0, 1, 2, 3, 1000]),
        classes: one(&[0, 3, 1000]),
        own: one(&[0, 1, 3, 1000]),
        once: one(&[0, 500, usize::MAX]),
        most: one(&[0, 40, 500, usize::MAX]),
        often: one(&[1, 2, 1000]) as u32,
        texts: one(&[0, 1, 3, usize::MAX]),
        told: 1 << 20,
    }
}

/// Everything they do not agree on.
fn differences(estate: &Estate, moment: &Moment, seed: u64, ways: &mut Ways) -> Vec<String> {
    let reference = ReferenceEvaluator::new(estate, moment).expect("no circles");
    let snapshot = Snapshot::tuned(estate, moment, tuning(seed, estate)).expect("no circles");
    let mut engine = snapshot.evaluator();
    let mut wrong = Vec::new();
    // In whatever order resources are asked for, they are the same.
    let mut resources: Vec<ResourceId> = estate.catalog().all().collect();
    match seed % 3 {
        0 => {}
        1 => resources.reverse(),
        _ => fastrand::Rng::with_seed(seed).shuffle(&mut resources),
    }
    for resource in resources {
        let mut work = engine.decide(resource);
        for action in ActionId::all(estate.schema().actions.len()) {
            compare(estate, &reference, (&mut engine, &mut work), (resource, action), &mut wrong, ways);
        }
        engine.done(work);
    }
    wrong
}

fn compare<'s>(
    estate: &Estate,
    reference: &ReferenceEvaluator,
    (engine, work): (&mut Evaluator<'s>, &mut Work<'s>),
    (resource, action): (ResourceId, ActionId),
    wrong: &mut Vec<String>,
    ways: &mut Ways,
) {
    let parts = engine.parts_in(work, action);
    let allowed = engine.allowed_in(work, action);
    let total: u32 = parts.iter().map(|part| engine.sets().count(part.users)).sum();
    assert_eq!(total as usize, estate.people().len(), "the parts are everybody, each once");
    let needs = &estate.schema().actions[action.index()].needs;
    let is_wide = |need: &Need| need.target == Target::Own && matches!(work.decided(need.action), Decided::Wide(_));
    let beside_words = matches!(work.decided(action), Decided::Base(_)) && needs.iter().any(is_wide);
    ways.beside_words += usize::from(beside_words);
    match work.decided(action) {
        Decided::Open => {}
        Decided::Base(_) if work.cells(action).is_empty() => ways.based += 1,
        Decided::Base(_) => ways.patched += 1,
        Decided::Wide(wide) => {
            ways.wide += 1;
            let (counts, words) = work.wide(wide);
            assert_eq!(words, engine.sets().row(allowed));
            for reason in bastide_engine::Reason::ALL {
                let of = parts.iter().filter(|part| part.reason == reason);
                let count: u32 = of.map(|part| engine.sets().count(part.users)).sum();
                assert_eq!(counts[reason as usize], count, "{reason:?}");
            }
        }
    }
    for user in estate.people().all() {
        let plain = reference.decide(user, action, resource);
        let is_in = |set| engine.sets().contains(set, user.index());
        let part = parts.iter().find(|part| is_in(part.users)).expect("the parts are everybody");
        if (part.reason, part.by, is_in(allowed)) != (plain.reason, plain.by, plain.is_allowed()) {
            wrong.push(format!(
                "{} {} {}: {:?} by {:?}, not {:?} by {:?}, {:?}",
                estate.people().id(user),
                estate.schema().actions[action.index()].name,
                estate.catalog().id(resource),
                plain.reason,
                plain.by,
                part.reason,
                part.by,
                work.decided(action),
            ));
        }
    }
}

fn estates() -> u64 {
    std::env::var("BASTIDE_ESTATES").ok().and_then(|n| n.parse().ok()).unwrap_or(600)
}

#[test]
#[allow(clippy::print_stdout, reason = "how often each way was taken")]
fn on_random_estates() {
    let mut ways = Ways::default();
    let mut met = [0; OF_RESOURCES.len()];
    for seed in 0..estates() {
        let plan = plan(seed, Shape::ALL);
        agree(seed, &plan, &mut ways);
        let rules = plan.rules.join("\n");
        met.iter_mut().zip(OF_RESOURCES).for_each(|(met, condition)| *met += u64::from(rules.contains(condition)));
    }
    println!("{ways:?}; conditions, and in how many estates: {:?}", OF_RESOURCES.iter().zip(met).collect::<Vec<_>>());
    for (condition, met) in OF_RESOURCES.iter().zip(met) {
        assert!(met * 50 > estates(), "`{condition}` is met in {met} estates");
    }
    let all = ways.based + ways.patched + ways.wide;
    let often = ways.patched * 20 > all && ways.wide * 50 > all && ways.beside_words * 1000 > all;
    assert!(often, "every way is met often: {ways:?}");
}

/// Where many resources are alike, there are other sets than where there are few.
#[test]
fn on_random_estates_in_which_there_is_much() {
    let mut ways = Ways::default();
    for seed in 0..estates() / 6 {
        agree(seed, &plan(seed, Shape::ALL).with_more(seed, 150), &mut ways);
    }
}

fn agree(seed: u64, plan: &Plan, ways: &mut Ways) {
    let estate = load(&plan.case()).unwrap_or_else(|| panic!("estate {seed} has errors"));
    let given: &[(&str, &str)] = match seed % 3 {
        0 => &[],
        1 => &[("net", "office")],
        _ => &[("net", "home"), ("badge", "x")],
    };
    let given: Vec<(String, String)> = given.iter().map(|(n, v)| (n.to_string(), v.to_string())).collect();
    let moment = session::moment(estate.schema(), "2026-11-24".parse().unwrap(), &given).unwrap();
    let wrong = differences(&estate, &moment, seed, ways);
    assert!(wrong.is_empty(), "estate {seed}: {:#?}\n{}", &wrong[..wrong.len().min(10)], plan.rules.join("\n"));
}

#[test]
fn on_every_estate_of_the_conformance_suite() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/decisions");
    let mut count = 0;
    for (name, _, text) in bastide_testkit::texts(&folder, ".txt") {
        let Some(estate) = load(&Case::parse(&text, &folder)) else { continue };
        for (seed, date) in ["2026-11-23", "2026-11-24", "2026-12-24"].into_iter().enumerate() {
            let moment = Moment::on(date.parse().unwrap(), estate.schema());
            let wrong = differences(&estate, &moment, seed as u64, &mut Ways::default());
            assert!(wrong.is_empty(), "{name}: {:#?}", &wrong[..wrong.len().min(10)]);
        }
        count += 1;
    }
    assert!(count > 20, "{count}");
}

#[test]
fn on_the_demo() {
    let estate = bastide_testkit::demo().estate.expect("the demo has no errors");
    let given = [("ticket".to_string(), "TL-020".to_string()), ("network".to_string(), "gallery".to_string())];
    for (seed, (date, given)) in
        [("2026-11-24", &[][..]), ("2026-12-05", &given), ("2027-07-01", &[])].into_iter().enumerate()
    {
        let moment = session::moment(estate.schema(), date.parse().unwrap(), given).unwrap();
        let wrong = differences(&estate, &moment, seed as u64, &mut Ways::default());
        assert!(wrong.is_empty(), "{date}: {:#?}", &wrong[..wrong.len().min(10)]);
    }
}
