//! What barriers keep from the users of a permission is what they would have if nothing were shut, and have by nothing
//! else: counted by asking for every triple.

mod common;

use bastide_audit::{Case, Limits, audit};
use bastide_engine::{Reason, ReferenceEvaluator};
use bastide_model::statement::Place;
use bastide_model::*;
use bastide_testkit::random::{Shape, plan};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

type Triple = (UserId, ActionId, ResourceId);

/// What a statement permits where nothing else is said, needs aside; with barriers, or as if there were none.
fn permitted(estate: &Estate, moment: &Moment, id: StatementId, open: bool) -> BTreeSet<Triple> {
    let mut alone = estate.clone();
    for other in StatementId::all(estate.statements().len()).filter(|other| *other != id) {
        alone.statement_mut(other).off = true;
    }
    if open {
        let catalog = alone.catalog_mut();
        catalog.barriers.clear();
        catalog.barrier_depths = Arc::new(vec![0; catalog.len()]);
    }
    let reference = ReferenceEvaluator::new(&alone, moment).expect("no circles");
    let mut found = BTreeSet::new();
    for resource in alone.catalog().all() {
        for action in ActionId::all(alone.schema().actions.len()) {
            let permits = |user: &UserId| {
                matches!(
                    reference.decide(*user, action, resource).reason,
                    Reason::Granted | Reason::Assured | Reason::Blocked
                )
            };
            found.extend(alone.people().all().filter(permits).map(|user| (user, action, resource)));
        }
    }
    found
}

/// Whether a barrier has a label above the lowest step, or a state that only barriers have, and a statement's words ask
/// for neither.
fn speaks_for_itself(estate: &Estate, statement: &Statement, barrier: ResourceId) -> bool {
    let words: String = statement.conditions().map(|c| format!("{c:?}")).collect();
    let (catalog, row) = (estate.catalog(), barrier.index());
    let attributes = estate.schema().resource_attributes.iter().enumerate();
    let mut labels = attributes.filter(|(_, a)| a.travel == schema::Travel::Highest);
    let labelled = labels.any(|(at, _)| {
        let own = catalog.own[at].as_ref().and_then(|own| own.get(row));
        let asked = words.contains(&format!("Attribute({:?})", ResourceAttributeId::new(at)));
        matches!(own, Some(Value::Step(_, 1..))) && !asked
    });
    let state = catalog.states.get(row);
    let open = |r: &ResourceId| catalog.states.get(r.index()) == state && !catalog.barriers.contains(r.index());
    let told_by_state = state.is_some() && !catalog.all().any(|r| open(&r)) && !words.contains("State");
    labelled || told_by_state
}

#[test]
fn the_numbers_are_those_of_every_triple() {
    let mut told = 0;
    for seed in 0..220 {
        let estate = plan(seed, Shape::PLAIN).case().estate();
        if estate.catalog().barriers.is_clear() {
            continue;
        }
        let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
        let case = Case {
            estate: &estate,
            moment: &moment,
            harmless: vec!["read".to_string()],
            limits: Limits { cut_off: 0.0, ..Limits::default() },
            levels: Vec::new(),
            diagnostics: &[],
            lines: Vec::new(),
            used: None,
        };
        let findings = audit(&case, &|name| name == "cut-off", &|_| {}).expect("no circles");
        let found: BTreeMap<String, &Vec<String>> = findings.iter().map(|f| (f.about.clone(), &f.evidence)).collect();
        assert_eq!(found.len(), findings.len());
        let reference = ReferenceEvaluator::new(&estate, &moment).expect("no circles");
        let mut expected: BTreeMap<String, [String; 2]> = BTreeMap::new();
        for (id, statement) in case.live() {
            if statement.modality != Modality::May || statement.what.places.is_none() {
                continue;
            }
            let (now, open) = (permitted(&estate, &moment, id, false), permitted(&estate, &moment, id, true));
            let spoken: BTreeSet<&Triple> = open.difference(&now).collect();
            let kept: Vec<&&Triple> = spoken.iter().filter(|(u, a, r)| !reference.allows(*u, *a, *r)).collect();
            // What is shut by a label or by a state of its own is meant to be, unless it is asked for.
            let places = statement.what.places.as_ref().expect("asked before");
            let catalog = estate.catalog();
            let shut = |r: &ResourceId| catalog.barriers.contains(r.index());
            let between = |r: ResourceId| {
                let inside = move |p: &&Place| {
                    let below = p.resource != r && catalog.contains(p.resource, r);
                    match p.reach {
                        Reach::Under => below || p.resource == r,
                        Reach::Below => below,
                        Reach::At => p.resource == r,
                    }
                };
                let deepest = places.iter().filter(inside).max_by_key(|p| catalog.depth(p.resource));
                let top = deepest.expect("it lies in one").resource;
                catalog.upward(r).take_while(move |r| *r != top).filter(shut).collect::<Vec<_>>()
            };
            let barriers: BTreeSet<ResourceId> = kept.iter().flat_map(|(_, _, r)| between(*r)).collect();
            if !kept.is_empty() && !barriers.iter().all(|b| speaks_for_itself(&estate, statement, *b)) {
                let all = now.len() + spoken.len();
                let behind: BTreeSet<ResourceId> = kept.iter().map(|(_, _, r)| *r).collect();
                let whole = open.union(&now).map(|(_, _, r)| *r).collect::<BTreeSet<ResourceId>>().len();
                let plural = |n: usize, noun: &str| format!("{n} {noun}{}", if n == 1 { "" } else { "s" });
                expected.insert(
                    case.stable_name(id),
                    [
                        format!(
                            "{} of the {} it speaks of are closed by that",
                            behind.len(),
                            plural(whole, "resource")
                        ),
                        format!(
                            "of the {} it speaks of, {} lie there, and nothing else allows them",
                            plural(all, "decision"),
                            kept.len()
                        ),
                    ],
                );
            }
        }
        assert_eq!(found.keys().collect::<Vec<_>>(), expected.keys().collect::<Vec<_>>(), "estate {seed}");
        for (about, evidence) in &expected {
            assert_eq!(&found[about][..], evidence, "estate {seed}, {about}");
            told += 1;
        }
    }
    assert!(told > 20, "{told}");
}

/// An entry would last longer than what it mends: where that ends some day, the place is opened instead.
#[test]
fn what_ends_is_not_mended_for_ever() {
    let advice = |until: &str| {
        let mut case = common::clean();
        common::append(&mut case, "catalog.csv", "v2,v,item,Shut,dee,released,no,,north,,2027-01-01");
        common::append(&mut case, "entries.csv", &format!("user:fay,may,update,v,under,,{until},For the vault"));
        let found = common::findings_of(&case);
        let told: Vec<_> = found.into_iter().filter(|f| f.name == "cut-off").collect();
        assert_eq!(told.len(), 1, "{told:#?}");
        let suggestion = told[0].suggestion.clone().expect("it has advice");
        assert!(suggestion.radius.is_some());
        suggestion.changes[0].words.clone()
    };
    assert_eq!(advice(""), "add an entry: user fay may update under `Papers/Vault/Shut`");
    assert_eq!(advice("2027-06-30"), "let `Papers/Vault/Shut` inherit again what is given above it");
}
