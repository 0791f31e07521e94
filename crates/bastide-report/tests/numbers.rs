//! The numbers of the page are those that one gets by asking for every triple of the demo.

use bastide_audit::{Case, Limits, Survey, audit_by};
use bastide_engine::{ReferenceEvaluator, Snapshot};
use bastide_model::*;
use bastide_report::{Access, Report, Sources};
use bastide_testkit::random::{Shape, plan};

const HARMLESS: [&str; 2] = ["read", "comment"];

struct Demo {
    estate: Estate,
    moment: Moment,
}

fn demo() -> Demo {
    let estate = bastide_testkit::demo().estate.expect("the demo has no errors");
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    Demo { estate, moment }
}

impl Demo {
    fn report(&self, depth: Option<u16>) -> Report {
        let case = Case {
            estate: &self.estate,
            moment: &self.moment,
            harmless: HARMLESS.map(str::to_string).to_vec(),
            limits: Limits::default(),
            levels: Vec::new(),
            diagnostics: &[],
            lines: Vec::new(),
            used: None,
        };
        let survey = Survey::new(&case).expect("no circles");
        let findings = audit_by(&case, &survey, &|_| true, &|_| {});
        let sources = Sources {
            case: &case,
            access: Access::new(&case, &survey, depth),
            findings,
            proofs: Vec::new(),
            changes: None,
            version: "0.0.0".to_string(),
            about: Vec::new(),
        };
        Report::new(sources)
    }

    fn action(&self, name: &str) -> ActionId {
        self.estate.schema().action(name).expect("it is declared")
    }

    fn active(&self) -> impl Iterator<Item = UserId> + '_ {
        self.estate.people().all().filter(|u| self.estate.people().is_active(*u))
    }
}

#[test]
fn exposure_counts_who_can_read() {
    let demo = demo();
    let (estate, read) = (&demo.estate, demo.action("read"));
    let reference = ReferenceEvaluator::new(estate, &demo.moment).expect("no circles");
    let exposure = demo.report(None).exposure.expect("the demo has labels");
    assert_eq!(exposure.action, "read");
    let names: Vec<&str> = exposure.steps.iter().map(|s| s.step.as_str()).collect();
    assert_eq!(names, ["sealed", "restricted", "internal", "open"]);
    let label = estate.schema().resource_attribute("label").unwrap();
    for step in &exposure.steps {
        let has = |r: &ResourceId| match estate.catalog().attributes[label.index()].get(r.index()) {
            Some(Value::Step(of, at)) => estate.schema().types[of.index()].values[*at as usize] == step.step,
            _ => false,
        };
        let (mut readers, mut to_guests) = (Vec::new(), 0);
        for resource in estate.catalog().all().filter(has) {
            let can: Vec<UserId> = demo.active().filter(|u| reference.allows(*u, read, resource)).collect();
            to_guests += usize::from(can.iter().any(|u| estate.people().kind(*u) == "guest"));
            readers.push(can.len() as u32);
        }
        readers.sort_unstable();
        assert_eq!((step.resources, step.open_to_guests), (readers.len(), to_guests), "{}", step.step);
        assert_eq!((Some(&step.least), Some(&step.most)), (readers.first(), readers.last()), "{}", step.step);
        let as_few = readers.iter().filter(|n| **n <= step.middle).count();
        assert!(2 * as_few >= readers.len() && readers.contains(&step.middle), "{}", step.step);
    }
    // The most exposed come first, those a guest can read before the others.
    let of_sealed = exposure.most.iter().filter(|(_, step, ..)| step == "sealed");
    let ranks: Vec<(bool, u32)> = of_sealed.map(|(_, _, readers, guests)| (*guests > 0, *readers)).collect();
    assert!(!ranks.is_empty() && ranks.is_sorted_by(|a, b| a >= b), "{ranks:?}");
}

#[test]
fn shares_are_of_members_and_places() {
    let demo = demo();
    let estate = &demo.estate;
    let reference = ReferenceEvaluator::new(estate, &demo.moment).expect("no circles");
    let heat = demo.report(Some(1)).heat;
    assert_eq!(heat.places.iter().map(|p| p.resources).sum::<usize>(), estate.catalog().len());
    let question = heat.questions.iter().position(|q| q == "read").expect("every action is a question");
    let read = demo.action("read");
    // Owners are looked at as everybody else: without owners it is exact.
    let mut ownerless = estate.clone();
    ownerless.catalog_mut().owner_users.iter_mut().for_each(|owner| *owner = None);
    let plain = ReferenceEvaluator::new(&ownerless, &demo.moment).expect("no circles");
    let mut compared = 0;
    for row in heat.rows.iter().take(6) {
        let group = estate.groups().find(&row.group).expect("a group");
        let members: Vec<UserId> = demo.active().filter(|u| reference.member(*u, group).is_true()).collect();
        assert_eq!(row.members, members.len(), "{}", row.group);
        for (place, share) in heat.places.iter().zip(&row.shares[question]) {
            let root = estate.catalog().roots().find(|r| estate.catalog().path(*r) == place.path).expect("a root");
            let inside: Vec<ResourceId> = estate.catalog().subtree(root).map(ResourceId).collect();
            let fits = |r: &&ResourceId| estate.schema().fits(read, estate.catalog().kind(**r));
            let resources: Vec<&ResourceId> = inside.iter().filter(fits).collect();
            let can = |r: &&ResourceId| members.iter().filter(|u| plain.allows(**u, read, **r)).count();
            let yes: usize = resources.iter().map(can).sum();
            let expected = yes as f32 * 100.0 / (members.len() * resources.len()) as f32;
            let share = share.expect("everything can be read");
            assert!((share - expected).abs() < 0.01, "{} in {}: {share} {expected}", row.group, place.path);
            compared += 1;
        }
    }
    assert!(compared >= 24, "{compared}");
}

/// Every share of every question, owners and whoever else is decided on one by one among them, in the demo and in estates drawn
/// by chance.
#[test]
fn shares_are_what_is_decided() {
    let moment = |estate: &Estate| Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let random = (0..60).map(|seed| plan(seed, Shape::ALL).case().estate());
    let random = random.map(|estate| Demo { moment: moment(&estate), estate });
    let (mut compared, mut partly, mut owned) = (0, 0, 0);
    for demo in std::iter::once(demo()).chain(random) {
        let (estate, schema) = (&demo.estate, demo.estate.schema());
        let Ok(snapshot) = Snapshot::new(estate, &demo.moment) else { continue };
        let (mut engine, reference) = (snapshot.evaluator(), snapshot.reference());
        let heat = demo.report(Some(1)).heat;
        let harmless = |action: &ActionId| HARMLESS.contains(&schema.actions[action.index()].name.as_str());
        let all: Vec<ActionId> = ActionId::all(schema.actions.len()).collect();
        let mut questions: Vec<Vec<ActionId>> = vec![all.iter().copied().filter(|action| !harmless(action)).collect()];
        questions.extend(all.iter().map(|action| vec![*action]));
        assert_eq!(heat.questions.len(), questions.len());
        let groups: Vec<Vec<UserId>> = heat
            .rows
            .iter()
            .map(|row| {
                let group = estate.groups().find(&row.group).expect("a group");
                demo.active().filter(|user| reference.member(*user, group).is_true()).collect()
            })
            .collect();
        for (at, place) in heat.places.iter().enumerate() {
            let root = estate.catalog().roots().find(|root| estate.catalog().path(*root) == place.path);
            for (q, actions) in questions.iter().enumerate() {
                let mut counts = vec![(0u64, 0u64); groups.len()];
                for resource in estate.catalog().subtree(root.expect("a root")).map(ResourceId) {
                    let kind = estate.catalog().kind(resource);
                    let fitting: Vec<ActionId> = actions.iter().copied().filter(|a| schema.fits(*a, kind)).collect();
                    if fitting.is_empty() {
                        continue;
                    }
                    let (mut any, mut allowed) = (engine.nobody(), engine.nobody());
                    for action in fitting {
                        engine.allowed(resource, action, &mut allowed);
                        any.union_with(&allowed);
                    }
                    owned += usize::from(estate.catalog().owner(resource).flatten().is_some());
                    for (members, (yes, of)) in groups.iter().zip(&mut counts) {
                        *yes += members.iter().filter(|user| any.contains(user.index())).count() as u64;
                        *of += members.len() as u64;
                    }
                }
                for (row, (yes, of)) in heat.rows.iter().zip(counts) {
                    let expected = (of > 0).then(|| yes as f32 * 100.0 / of as f32);
                    assert_eq!(row.shares[q][at], expected, "{} on {}: {}", row.group, place.path, heat.questions[q]);
                    compared += 1;
                    partly += usize::from(yes > 0 && yes < of);
                }
            }
        }
    }
    assert!(compared > 2_000 && partly > 500 && owned > 2_000, "{compared} shares, {partly} between, {owned} owned");
}

#[test]
fn the_first_lines_count_what_there_is() {
    let demo = demo();
    let report = demo.report(None);
    let active = demo.active().count();
    let guests = demo.active().filter(|u| demo.estate.people().kind(*u) == "guest").count();
    let first = &report.overview.words[0];
    assert!(first.starts_with(&format!("{active} active users, {guests} guests among them")), "{first}");
    let tile = |label: &str| report.overview.tiles.iter().find(|t| t.label == label).map(|t| t.number);
    let level = |word: &str| report.findings.iter().filter(|g| g.level == word).map(|g| g.count).sum::<usize>();
    assert_eq!(tile("findings that are errors"), Some(level("error")));
    assert_eq!(tile("warnings"), Some(level("warning")));
    assert_eq!(tile("with full power"), Some(report.full_power.len()));
    // Whoever has full power may do every action on every root.
    let reference = ReferenceEvaluator::new(&demo.estate, &demo.moment).expect("no circles");
    for full in &report.full_power {
        let user = demo.estate.people().find(&full.id).expect("a user");
        for root in demo.estate.catalog().roots() {
            for action in ActionId::all(demo.estate.schema().actions.len()) {
                let kind = demo.estate.catalog().kind(root);
                assert!(
                    !demo.estate.schema().fits(action, kind) || reference.allows(user, action, root),
                    "{}",
                    full.id
                );
            }
        }
    }
}
