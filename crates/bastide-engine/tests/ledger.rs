//! The folded lines of everybody's access, and the sheets of a review, say what the specification evaluator
//! says, on random estates.

use bastide_engine::Snapshot;
use bastide_engine::access::{ledger, ledger_of};
use bastide_engine::evaluate::Tuning;
use bastide_engine::review::{Part, sheets};
use bastide_engine::{Reason, ReferenceEvaluator};
use bastide_model::*;
use bastide_testkit::random::{Shape, plan};
use std::collections::{BTreeMap, BTreeSet};

fn load(seed: u64) -> Estate {
    plan(seed, Shape::ALL).case().estate()
}

/// The section of a resource: its root.
fn root(estate: &Estate, resource: ResourceId) -> u32 {
    estate.catalog().upward(resource).last().unwrap_or(resource).0
}

/// By section, kind, user, action, reason and statement: on how many resources.
type Counts = BTreeMap<(u32, KindId, UserId, ActionId, Reason, Option<StatementId>), usize>;

/// The same, users added up.
type Totals = BTreeMap<(u32, KindId, ActionId, Reason, Option<StatementId>), usize>;

#[test]
fn the_lines_say_what_the_evaluator_says() {
    let day = "2026-11-24".parse().unwrap();
    let (mut estates, mut owned, mut but_owner) = (0, 0, 0);
    for seed in 0..1500 {
        let estate = load(seed);
        let moment = Moment::on(day, estate.schema());
        let Ok(reference) = ReferenceEvaluator::new(&estate, &moment) else { continue };
        let ledger = if seed % 2 == 0 {
            ledger(&Snapshot::new(&estate, &moment).expect("no circles"), &|r| root(&estate, r), true)
        } else {
            // Whatever is decided one by one, or in words.
            let mut rng = fastrand::Rng::with_seed(seed);
            let narrow = rng.usize(..3);
            let (classes, own, once) = (rng.usize(..3), [0, 1000][rng.usize(..2)], [0, usize::MAX][rng.usize(..2)]);
            let most = [0, usize::MAX][rng.usize(..2)];
            let tuning = Tuning { narrow, classes, own, once, most, ..Tuning::of(&estate) };
            let snapshot = Snapshot::tuned(&estate, &moment, tuning).expect("no circles");
            ledger_of(&snapshot, &|r| root(&estate, r), true)
        };
        estates += 1;
        let owners: BTreeSet<UserId> =
            estate.catalog().all().filter_map(|r| estate.catalog().owner(r).flatten()).collect();
        let told = |reason: Reason| !matches!(reason, Reason::Inactive | Reason::Silent);
        let (mut expected, mut all) = (Counts::new(), Totals::new());
        for user in estate.people().all().filter(|u| estate.people().is_active(*u)) {
            for resource in estate.catalog().all() {
                let kind = estate.catalog().kind(resource);
                for action in ActionId::all(estate.schema().actions.len()).filter(|a| estate.schema().fits(*a, kind)) {
                    let decision = reference.decide(user, action, resource);
                    if told(decision.reason) {
                        let key = (root(&estate, resource), kind, user, action, decision.reason, decision.by);
                        *expected.entry(key).or_default() += 1;
                        *all.entry((key.0, kind, action, decision.reason, decision.by)).or_default() += 1;
                    }
                }
            }
        }
        let (mut found, mut total) = (Counts::new(), Totals::new());
        for line in &ledger.lines {
            assert!(line.resources <= ledger.sizes[&(line.section, line.kind)], "estate {seed}");
            let decision = reference.decide(line.user, line.actions[0], line.resource);
            if line.owners {
                owned += 1;
                let owner = estate.catalog().owner(line.resource).flatten();
                assert_eq!(owner, Some(line.user), "estate {seed}");
            }
            assert_eq!((decision.reason, decision.by), (line.reason, line.by), "estate {seed}: {line:?}");
            but_owner += usize::from(line.others);
            // What is said of all but the owner is said of one less on each resource.
            let users = ledger.sets[line.set].len() - usize::from(line.others);
            let said = if line.owners { line.resources } else { line.resources * users };
            for action in &line.actions {
                *total.entry((line.section, line.kind, *action, line.reason, line.by)).or_default() += said;
            }
            if line.owners {
                continue;
            }
            for user in ledger.sets[line.set].iter().filter(|u| !line.others || !owners.contains(u)) {
                for action in &line.actions {
                    let key = (line.section, line.kind, *user, *action, line.reason, line.by);
                    *found.entry(key).or_default() += line.resources;
                }
            }
        }
        assert_eq!(total, all, "estate {seed}");
        // Of an owner the lines may say a part; of everybody else they say all.
        for (key, count) in &found {
            let known = expected.get(key).copied().unwrap_or_default();
            assert!(*count <= known, "estate {seed}: {key:?} {count} {known}");
        }
        found.retain(|key, _| !owners.contains(&key.2));
        expected.retain(|key, _| !owners.contains(&key.2));
        assert_eq!(found, expected, "estate {seed}");
    }
    assert!(estates > 1000 && owned > 100 && but_owner > 100, "{estates} {owned} {but_owner}");
}

/// Whoever may do anything by a permission that applies is on a sheet, with that permission; and nobody else.
#[test]
fn the_sheets_name_everybody_who_has_access() {
    let day = "2026-11-24".parse().unwrap();
    let (mut rows, mut parted) = (0, 0);
    for seed in 0..600 {
        let estate = load(seed);
        let moment = Moment::on(day, estate.schema());
        let Ok(reference) = ReferenceEvaluator::new(&estate, &moment) else { continue };
        let sheets = sheets(&Snapshot::new(&estate, &moment).expect("no circles"), Part::Root);
        let mut allowed: BTreeMap<(String, String), BTreeSet<String>> = BTreeMap::new();
        for resource in estate.catalog().all() {
            let sheet = estate.catalog().path(ResourceId(root(&estate, resource)));
            for user in estate.people().all() {
                for action in ActionId::all(estate.schema().actions.len()) {
                    if reference.decide(user, action, resource).is_allowed() {
                        let name = estate.schema().actions[action.index()].name.clone();
                        let key = (sheet.clone(), name);
                        allowed.entry(key).or_default().insert(estate.people().id(user).to_string());
                    }
                }
            }
        }
        let mut found: BTreeMap<(String, String), BTreeSet<String>> = BTreeMap::new();
        for sheet in &sheets {
            for row in &sheet.rows {
                rows += 1;
                assert!(estate.statement(row.statement).modality.permits());
                // What it says is so for each person: all of the actions, on as many resources.
                let actions: Vec<ActionId> = row.actions.iter().map(|a| estate.schema().action(a).unwrap()).collect();
                let own = estate.statement(row.statement);
                for person in &row.people {
                    let user = estate.people().find(person).unwrap();
                    let may = |r: &ResourceId| {
                        let fits = |a: &&ActionId| estate.schema().fits(**a, estate.catalog().kind(*r));
                        estate.catalog().path(ResourceId(root(&estate, *r))) == sheet.name
                            && actions.iter().any(|a| reference.decide(user, *a, *r).is_allowed())
                            && actions.iter().filter(fits).all(|a| reference.decide(user, *a, *r).is_allowed())
                    };
                    let on: Vec<ResourceId> = estate.catalog().all().filter(may).collect();
                    let least = row.each.map_or(row.resources, |(least, _)| least);
                    assert!(on.len() >= least, "estate {seed}: {row:?} {person} {}", on.len());
                    parted += usize::from(sheet.rows.iter().filter(|r| r.statement == row.statement).count() > 1);
                    // In an estate with layers, it stands in the one that decides somewhere.
                    let decides = |r: &ResourceId| {
                        let by = actions.iter().filter_map(|a| reference.decide(user, *a, *r).by);
                        let mut by = by.map(|id| estate.statement(id));
                        by.any(|by| by.layer == own.layer || by.modality == Modality::MayAlways)
                    };
                    assert!(on.iter().any(decides), "estate {seed}: {row:?} {person}");
                }
                for action in &row.actions {
                    let key = (sheet.name.clone(), action.clone());
                    found.entry(key).or_default().extend(row.people.iter().cloned());
                }
            }
        }
        for (key, users) in &allowed {
            let listed = found.get(key).cloned().unwrap_or_default();
            assert!(users.is_subset(&listed), "estate {seed}, {key:?}: {users:?} {listed:?}");
        }
        assert!(found.keys().all(|key| allowed.contains_key(key)), "estate {seed}");
    }
    assert!(rows > 1000 && parted > 100, "{rows} {parted}");
}
