//! The numbers of the survey are those that one gets by asking for every triple.

use bastide_audit::{Case, Level, Limits, Survey};
use bastide_engine::{Reason, ReferenceEvaluator};
use bastide_model::*;
use bastide_testkit::random::{Shape, plan};
use std::collections::BTreeSet;

type Triple = (UserId, ActionId, ResourceId);

fn load(seed: u64) -> Estate {
    plan(seed, Shape::PLAIN).case().estate()
}

fn everything(estate: &Estate) -> Vec<Triple> {
    let mut all = Vec::new();
    for resource in estate.catalog().all() {
        for action in ActionId::all(estate.schema().actions.len()) {
            if estate.schema().fits(action, estate.catalog().kind(resource)) {
                all.extend(estate.people().all().map(|user| (user, action, resource)));
            }
        }
    }
    all
}

/// The triples of active users that a statement speaks of where it applies: those that it alone decides.
fn spoken_of(estate: &Estate, moment: &Moment, id: StatementId) -> BTreeSet<Triple> {
    let mut alone = estate.clone();
    for other in StatementId::all(estate.statements().len()).filter(|other| *other != id) {
        alone.statement_mut(other).off = true;
    }
    let reference = ReferenceEvaluator::new(&alone, moment).expect("no circles");
    let speaks = |reason: Reason| !matches!(reason, Reason::Silent | Reason::Inactive);
    let all = everything(&alone).into_iter();
    all.filter(|(user, action, resource)| speaks(reference.decide(*user, *action, *resource).reason)).collect()
}

fn case<'e>(estate: &'e Estate, moment: &'e Moment) -> Case<'e> {
    Case {
        estate,
        moment,
        harmless: vec!["read".to_string()],
        limits: Limits::default(),
        levels: vec![("no-reason".to_string(), Level::None)],
        diagnostics: &[],
        lines: Vec::new(),
        used: None,
    }
}

#[test]
fn every_number_is_right() {
    let mut meetings = 0;
    for seed in 0..120 {
        let estate = load(seed);
        let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
        let case = case(&estate, &moment);
        let survey = Survey::new(&case).expect("no circles");
        let reference = ReferenceEvaluator::new(&estate, &moment).expect("no circles");
        let live: Vec<StatementId> = case.live().map(|(id, _)| id).collect();
        let spoken: Vec<BTreeSet<Triple>> = live.iter().map(|id| spoken_of(&estate, &moment, *id)).collect();
        let permitted: BTreeSet<Triple> = live
            .iter()
            .zip(&spoken)
            .filter(|(id, _)| estate.statement(**id).modality.permits())
            .flat_map(|(_, triples)| triples.iter().copied())
            .collect();
        for (id, triples) in live.iter().zip(&spoken) {
            let (statement, numbers) = (estate.statement(*id), survey.of(*id));
            let name = format!("estate {seed}, {}", statement.name);
            if statement.modality == Modality::MayOnly {
                // A ceiling by itself refuses what it does not list even where nothing would permit it.
                continue;
            }
            let count = |of: &dyn Fn(&Triple) -> bool| triples.iter().filter(|t| of(t)).count() as u64;
            let allowed = |(user, action, resource): &Triple| reference.allows(*user, *action, *resource);
            assert_eq!(numbers.triples, triples.len() as u64, "{name}");
            let pairs: BTreeSet<(UserId, ResourceId)> = triples.iter().map(|(u, _, r)| (*u, *r)).collect();
            let resources: BTreeSet<ResourceId> = triples.iter().map(|(_, _, r)| *r).collect();
            assert!(numbers.pairs >= pairs.len() as u64 && numbers.resources >= resources.len(), "{name}");
            if statement.modality.permits() {
                assert_eq!(numbers.agree, count(&allowed), "{name}");
                let blocked = |(u, a, r): &Triple| reference.decide(*u, *a, *r).reason == Reason::Blocked;
                assert_eq!(numbers.blocked, count(&blocked), "{name}");
            } else {
                assert_eq!(numbers.agree, count(&|t| !allowed(t)), "{name}");
                assert_eq!(numbers.idle, count(&|t| !permitted.contains(t)), "{name}");
            }
            for (example, agrees) in [(numbers.example, true), (numbers.against, false)] {
                if let Some(triple) = example {
                    assert!(triples.contains(&triple), "{name}");
                    assert_eq!(allowed(&triple) == statement.modality.permits(), agrees, "{name}");
                }
            }
        }
        for ((permission, restriction), meeting) in &survey.meetings {
            let of = |id: &StatementId| &spoken[live.iter().position(|l| l == id).expect("in force")];
            let both: Vec<&Triple> = of(permission).intersection(of(restriction)).collect();
            let allowed = both.iter().filter(|(u, a, r)| reference.allows(*u, *a, *r)).count();
            assert_eq!((meeting.triples, meeting.allowed), (both.len() as u64, allowed as u64), "estate {seed}");
            assert!(meeting.example.is_none_or(|e| both.contains(&&e)), "estate {seed}");
            meetings += 1;
        }
    }
    assert!(meetings > 80, "{meetings}");
}

/// A restriction and a permission that name the same users: what is known of the one is not taken for what is known of the other.
#[test]
fn a_restriction_of_the_same_users_hides_no_need() {
    let text = r#"
=== bastide.toml
name = "Small"
policy = ["rules.bastide"]
[decide]
combining = "permit-overrides"
[[people]]
file = "people.csv"
[[catalog]]
file = "catalog.csv"
=== rules.bastide
kind room
action read
action open needs read
rule no { because "No." who anyone may not open what room }
rule yes { because "Yes." who anyone may open what room }
=== people.csv
id,name
ann,Ann
bo,Bo
=== catalog.csv
id,parent,kind,name
r,,room,Quay
"#;
    let estate = bastide_testkit::Case::parse(text, std::path::Path::new(".")).estate();
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let survey = Survey::new(&case(&estate, &moment)).expect("no circles");
    let of = |name: &str| {
        let id = StatementId::all(estate.statements().len()).find(|id| estate.statement(*id).name == name);
        survey.of(id.expect("it is there"))
    };
    assert_eq!((of("yes").agree, of("yes").blocked), (0, 2));
    assert_eq!((of("no").agree, of("no").blocked), (2, 0));
}
