//! Properties of decisions over random estates with every form of the language in them.

use bastide_engine::{Reason, ReferenceEvaluator, session};
use bastide_model::condition::Condition;
use bastide_model::show;
use bastide_model::{ActionId, Estate, Moment, Statement};
use bastide_testkit::Case;
use bastide_testkit::random::{Plan, Shape, further_rule, plan};
use proptest::prelude::*;
use std::collections::BTreeMap;

/// User, action and resource by name, with the reason.
type Decisions = BTreeMap<(String, String, String), Reason>;

fn load(case: &Case) -> Estate {
    case.estate()
}

fn moment(estate: &Estate, seed: u64) -> Moment {
    let given: &[(&str, &str)] = match seed % 3 {
        0 => &[],
        1 => &[("net", "office")],
        _ => &[("net", "home"), ("badge", "x")],
    };
    let given: Vec<(String, String)> = given.iter().map(|(n, v)| (n.to_string(), v.to_string())).collect();
    session::moment(estate.schema(), "2026-11-24".parse().unwrap(), &given).unwrap()
}

fn decisions(case: &Case, seed: u64) -> Decisions {
    let estate = load(case);
    let moment = moment(&estate, seed);
    let reference = ReferenceEvaluator::new(&estate, &moment).expect("no circles are made");
    let mut decisions = Decisions::new();
    for user in estate.people().all() {
        for resource in estate.catalog().all() {
            for action in ActionId::all(estate.schema().actions.len()) {
                let key = (
                    estate.people().id(user).to_string(),
                    estate.schema().actions[action.index()].name.clone(),
                    estate.catalog().id(resource).to_string(),
                );
                decisions.insert(key, reference.decide(user, action, resource).reason);
            }
        }
    }
    decisions
}

/// The triples allowed in one and not in the other.
fn lost(before: &Decisions, after: &Decisions) -> Vec<(String, String, String)> {
    before
        .iter()
        .filter(|(key, reason)| reason.is_allowed() && !after[*key].is_allowed())
        .map(|(key, _)| key.clone())
        .collect()
}

fn shuffled(rows: &[String], seed: u64) -> Vec<String> {
    let mut rows = rows.to_vec();
    fastrand::Rng::with_seed(seed).shuffle(&mut rows);
    rows
}

/// The plan with every user, group and resource under another id, and the way back.
fn renamed(plan: &Plan) -> Plan {
    // Turned round, so that byte order changes too: u0 becomes x9-u0, u5 becomes x4-u5.
    let rename = |text: &str| {
        let mut out = String::new();
        let mut rest = text;
        while let Some(at) = rest.find(|c: char| c.is_ascii_alphanumeric() || c == '-') {
            out.push_str(&rest[..at]);
            let word = rest[at..].split(|c: char| !(c.is_ascii_alphanumeric() || c == '-')).next().unwrap();
            let id =
                word.len() >= 2 && word.starts_with(['u', 'g', 'r']) && word[1..].bytes().all(|b| b.is_ascii_digit());
            match id {
                true => out.push_str(&format!("x{}-{word}", 99 - word[1..].parse::<u32>().unwrap())),
                false => out.push_str(word),
            }
            rest = &rest[at + word.len()..];
        }
        out + rest
    };
    let all = |rows: &[String]| rows.iter().map(|r| rename(r)).collect();
    Plan {
        groups: all(&plan.groups),
        rules: all(&plan.rules),
        people: all(&plan.people),
        members: all(&plan.members),
        catalog: all(&plan.catalog),
        entries: all(&plan.entries),
        sign_ins: plan.sign_ins.as_ref().map(|(columns, rows)| (*columns, all(rows))),
        ..plan.clone()
    }
}

fn back(id: &str) -> String {
    id.split_once('-').filter(|_| id.starts_with('x')).map_or(id, |(_, old)| old).to_string()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn prohibitions_and_ceilings_only_take_away(seed: u64, further: u64, ceiling: bool) {
        let before = plan(seed, Shape::PLAIN);
        let mut after = before.clone();
        after.rules.push(further_rule(further, Shape::PLAIN, if ceiling { "may only" } else { "may never" }, &[]));
        let gained = lost(&decisions(&after.case(), seed), &decisions(&before.case(), seed));
        prop_assert_eq!(gained, vec![]);
    }

    #[test]
    fn removing_a_restriction_never_takes_away(seed: u64, pick: prop::sample::Index) {
        let before = plan(seed, Shape::PLAIN);
        let restricts = |rule: &String| ["may not ", "may never ", "may only "].iter().any(|m| rule.contains(m));
        let restrictions: Vec<usize> = (0..before.rules.len()).filter(|i| restricts(&before.rules[*i])).collect();
        prop_assume!(!restrictions.is_empty());
        let mut after = before.clone();
        after.rules.remove(*pick.get(&restrictions));
        prop_assert_eq!(lost(&decisions(&before.case(), seed), &decisions(&after.case(), seed)), vec![]);
    }

    #[test]
    fn ids_mean_nothing(seed: u64) {
        let before = plan(seed, Shape::ALL);
        // A name that is not given is the id: no condition may ask for it here.
        let nameless = |list: &[String]| list.iter().map(|text| text.replace("like \"*3\"", "like \"*\"")).collect();
        let before = Plan { rules: nameless(&before.rules), groups: nameless(&before.groups), ..before };
        let after = decisions(&renamed(&before).case(), seed);
        let after: Decisions = after.into_iter().map(|((u, a, r), reason)| ((back(&u), a, back(&r)), reason)).collect();
        prop_assert_eq!(decisions(&before.case(), seed), after);
    }

    #[test]
    fn the_order_of_rows_means_nothing(seed: u64, order: u64) {
        let before = plan(seed, Shape::ALL);
        let mut after = before.clone();
        after.people = shuffled(&before.people, order);
        after.members = shuffled(&before.members, order);
        after.catalog = shuffled(&before.catalog, order);
        // Under first-applicable the order of entries is policy order.
        if before.combining != "first-applicable" {
            after.entries = shuffled(&before.entries, order);
            after.rules = shuffled(&before.rules, order);
        }
        prop_assert_eq!(decisions(&before.case(), seed), decisions(&after.case(), seed));
    }

    #[test]
    fn formatting_changes_no_decision(seed: u64) {
        let before = plan(seed, Shape::ALL).case();
        let mut after = before.clone();
        for (name, text) in before.files() {
            if name.ends_with(".bastide") {
                let once = bastide_syntax::format::format(bastide_syntax::FileId(0), text).expect("a readable policy");
                let twice = bastide_syntax::format::format(bastide_syntax::FileId(0), &once).expect("a readable policy");
                prop_assert_eq!(&once, &twice);
                after.set(name, once);
            }
        }
        prop_assert_eq!(decisions(&before, seed), decisions(&after, seed));
        prop_assert_eq!(typed(&before), typed(&after));
    }
}

/// Every statement as it was typed, places of the text left aside.
fn typed(case: &Case) -> Vec<String> {
    let estate = load(case);
    let condition = |c: &Option<Condition>| c.as_ref().map(|c| show::condition(&estate, c));
    let statement = |s: &Statement| {
        let places = s.what.places.as_ref().map(|all| all.iter().map(|p| (p.resource, p.reach)).collect::<Vec<_>>());
        let actions: Vec<usize> = s.actions.ones().collect();
        let what = (&s.what.kinds, places, condition(&s.what.condition), condition(&s.condition));
        format!(
            "{} {:?} {actions:?} {} {what:?} {:?} {:?} {} {:?}",
            s.name,
            s.modality,
            show::who(&estate, &s.who),
            s.from,
            s.until,
            s.off,
            s.layer
        )
    };
    estate.statements().iter().map(|s| statement(s)).collect()
}

/// Estates that refuse everything, or the same to everybody, would prove nothing.
#[test]
fn random_estates_are_worth_their_name() {
    let mut seen = std::collections::BTreeMap::<Reason, usize>::new();
    for seed in 0..60 {
        for reason in decisions(&plan(seed, Shape::ALL).case(), seed).into_values() {
            *seen.entry(reason).or_default() += 1;
        }
    }
    for reason in Reason::ALL {
        assert!(seen.get(&reason).copied().unwrap_or(0) > 100, "{seen:?}");
    }
}

/// Whoever signs in somehow is decided on as if that was given for everybody and nothing was known of sign-ins; and what is
/// given is above all sign-ins.
#[test]
fn a_sign_in_is_what_is_given_of_one_user() {
    let (mut compared, mut others) = (0, 0);
    for seed in 0..200 {
        let mut plan = plan(seed, Shape::ALL);
        let Some((columns, rows)) = plan.sign_ins.take() else { continue };
        let without = load(&plan.case());
        plan.sign_ins = Some((columns, rows.clone()));
        let with = load(&plan.case());
        let day = "2026-11-24".parse().unwrap();
        let plain = Moment::on(day, with.schema());
        let signed = ReferenceEvaluator::new(&with, &plain).expect("no circles are made");
        let alike = Moment::on(day, without.schema());
        let same = ReferenceEvaluator::new(&without, &alike).expect("no circles are made");
        let columns: Vec<&str> = columns.split(',').collect();
        for user in with.people().all() {
            let id = format!("{},", with.people().id(user));
            let row = rows.iter().find(|row| row.starts_with(&id)).cloned().unwrap_or_default();
            let cells = row.split(',').skip(1).zip(&columns).filter(|(cell, _)| !cell.is_empty());
            let given: Vec<(String, String)> = cells
                .flat_map(|(cell, column)| cell.split(';').map(|one| (column.to_string(), one.to_string())))
                .collect();
            let moment = session::moment(without.schema(), day, &given).unwrap();
            let given_to_all = ReferenceEvaluator::new(&without, &moment).expect("no circles are made");
            let over = moment_over(&with, day, &given, &columns);
            let above = ReferenceEvaluator::new(&with, &over).expect("no circles are made");
            for resource in with.catalog().all() {
                for action in ActionId::all(with.schema().actions.len()) {
                    let expected = given_to_all.decide(user, action, resource).reason;
                    assert_eq!(signed.decide(user, action, resource).reason, expected, "estate {seed}, {id}");
                    compared += 1;
                    others += usize::from(expected != same.decide(user, action, resource).reason);
                    for other in with.people().all() {
                        let expected = given_to_all.decide(other, action, resource).reason;
                        assert_eq!(above.decide(other, action, resource).reason, expected, "estate {seed}, {id}");
                    }
                }
            }
        }
    }
    assert!(compared > 10_000 && others > 100, "{compared}, {others}");
}

/// A moment in which all of these attributes are given: those without a value as missing.
fn moment_over(estate: &Estate, day: jiff::civil::Date, given: &[(String, String)], all: &[&str]) -> Moment {
    let mut moment = session::moment(estate.schema(), day, given).unwrap();
    for name in all.iter().filter(|name| !given.iter().any(|(given, _)| given == *name)) {
        moment.give(estate.schema().session_attribute(name).unwrap(), None);
    }
    moment
}
