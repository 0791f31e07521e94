//! What a front end holds: a snapshot is asked by several threads, stopped, and asked on a small stack.

use bastide_engine::difference::difference_while;
use bastide_engine::{Cancel, Cancelled, ReferenceEvaluator, Snapshot};
use bastide_model::{ActionId, Estate, Moment};
use bastide_testkit::Case;
use bastide_testkit::random::{Shape, plan};
use std::fmt::Write;
use std::path::Path;

fn moment(estate: &Estate) -> Moment {
    Moment::on("2026-11-24".parse().unwrap(), estate.schema())
}

fn load(case: &Case) -> Estate {
    case.estate()
}

/// An estate of some folders within each other, and of papers of which each comes from the one before.
fn nested(levels: usize, papers: usize) -> Estate {
    let mut case = Case::parse("An estate.\n", Path::new("."));
    let manifest = "name = \"Deep\"\npolicy = [\"p.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n";
    case.set("bastide.toml", manifest.to_string());
    // Two actions that take turns on the way up, one that goes up by itself, and one along the links.
    let policy = "kind room\nkind box in room, box\nkind paper in box\n\
        action see needs touch on parent\naction touch needs see on parent\naction read needs read on parent\n\
        action copy on paper needs copy on source\n\
        rule all { because \"All.\" who anyone may everything what anything }\n\
        rule cat { because \"Not Cat.\" who user cat may not see, read, touch what anything at \"Room/Box 0\" }\n\
        rule dan { because \"Not Dan.\" who user dan may not copy what anything at \"Room/Box 0/Paper 0\" }\n";
    case.set("p.bastide", policy.to_string());
    case.set("people.csv", "id,name\nann,Ann\ncat,Cat\ndan,Dan\n".to_string());
    let mut rows = "id,parent,kind,name,sources\nroom,,room,Room,\n".to_string();
    for at in 0..levels {
        let parent = at.checked_sub(1).map_or("room".to_string(), |above| format!("b{above}"));
        let _ = writeln!(rows, "b{at},{parent},box,Box {at},");
    }
    for at in 0..papers {
        let source = at.checked_sub(1).map_or(String::new(), |before| format!("p{before}"));
        let _ = writeln!(rows, "p{at},b0,paper,Paper {at},{source}");
    }
    case.set("catalog.csv", rows);
    load(&case)
}

/// What happens on a stack as small as a library's caller may have.
fn on_a_small_stack<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new().stack_size(2 << 20).spawn_scoped(scope, work).expect("a thread");
        thread.join().expect("the stack was enough")
    })
}

#[test]
fn a_deep_tree_and_a_long_chain_are_decided_on_a_small_stack() {
    let estate = nested(998, 20_000);
    let moment = moment(&estate);
    let action = |name: &str| {
        let at = estate.schema().actions.iter().position(|action| action.name == name);
        ActionId::new(at.expect("it is declared"))
    };
    let user = |id: &str| estate.people().find(id).expect("a user");
    let resource = |id: &str| estate.catalog().find(id).expect("a resource");
    let asked = [("see", "b997"), ("touch", "b996"), ("read", "b997"), ("copy", "p19999")];
    on_a_small_stack(|| {
        for (name, at) in asked {
            for who in ["ann", "cat", "dan"] {
                let expected = match (name, who) {
                    ("copy", _) => who != "dan",
                    _ => who != "cat",
                };
                // Anew for each, so that nothing is known from before.
                let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
                let triple = (user(who), action(name), resource(at));
                let decision = snapshot.decide(triple.0, triple.1, triple.2);
                assert_eq!(decision.is_allowed(), expected, "{who} {name} {at}");
                let mut evaluator = snapshot.evaluator();
                let (reason, by) = evaluator.cause_on(triple.0, triple.1, triple.2);
                assert_eq!((reason, by), (decision.reason, decision.by), "{who} {name} {at}");
                if name != "copy" {
                    assert_eq!(snapshot.explain(triple.0, triple.1, triple.2).allowed, expected, "{who} {name} {at}");
                }
            }
        }
    });
}

#[test]
fn several_threads_ask_one_snapshot() {
    fn shared<T: Send + Sync + Clone + 'static>(_: &T) {}
    for seed in 0..60 {
        let estate = load(&plan(seed, Shape::ALL).with_more(seed, 40).case());
        let moment = moment(&estate);
        let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
        shared(&snapshot);
        let reference = ReferenceEvaluator::new(&estate, &moment).expect("no circles");
        let actions = || ActionId::all(estate.schema().actions.len());
        let triples = || {
            let pairs = estate.people().all().flat_map(|user| actions().map(move |action| (user, action)));
            pairs.flat_map(|(user, action)| estate.catalog().all().map(move |at| (user, action, at)))
        };
        let expected: Vec<bool> =
            triples().map(|(user, action, at)| reference.decide(user, action, at).is_allowed()).collect();
        std::thread::scope(|scope| {
            let one = scope.spawn(|| {
                let reference = snapshot.reference();
                triples()
                    .map(|(user, action, at)| reference.decide(user, action, at).is_allowed())
                    .collect::<Vec<bool>>()
            });
            let other = scope.spawn(|| {
                let mut evaluator = snapshot.evaluator();
                triples().map(|(user, action, at)| evaluator.cause_on(user, action, at).0.is_allowed()).collect()
            });
            assert_eq!(one.join().expect("no panic"), expected, "estate {seed}");
            let other: Vec<bool> = other.join().expect("no panic");
            assert_eq!(other, expected, "estate {seed}");
        });
    }
}

#[test]
fn a_question_is_stopped_half_way_and_the_snapshot_stays() {
    let estate = nested(40, 400);
    let moment = moment(&estate);
    let other = estate.with_statements(estate.statements()[..1].to_vec());
    let cancel = Cancel::default();
    let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
    let after = snapshot.beside(&other, &moment).expect("no circles");
    let whole = snapshot.difference(&after).changed.len();
    assert!(whole > 10, "{whole}");
    let mut seen = 0;
    let stopped = cancel.ask(|question| {
        difference_while(&snapshot.clone().cancellable(question), &after, None, |_, _| {
            seen += 1;
            if seen == 3 {
                cancel.cancel();
            }
            true
        })
        .map(|difference| difference.changed.len())
    });
    assert_eq!((stopped, seen), (Err(Cancelled), 3));
    // Whatever is asked with it from now on has no answer; without it, everything is as it was.
    assert_eq!(cancel.ask(|_| ()), Err(Cancelled));
    let again = Cancel::default().ask(|question| {
        snapshot.clone().cancellable(question).difference(&after.clone().cancellable(question)).changed.len()
    });
    assert_eq!(again, Ok(whole));
}

#[test]
fn a_question_on_several_cores_is_stopped_from_another_thread() {
    let estate = nested(3, 30_000);
    let moment = moment(&estate);
    let cancel = Cancel::default();
    let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
    let shares = || bastide_engine::access::shares(estate.catalog().len(), 1);
    let once = |now: &Snapshot| now.alone(shares(), None).expect("it is plain").iter().map(|of| of.resources).sum();
    let whole: usize = once(&snapshot);
    assert_eq!(cancel.ask(|question| once(&snapshot.clone().cancellable(question))), Ok(whole));
    // It would go on for ever.
    let answer = std::thread::scope(|scope| {
        let asking = scope.spawn(|| {
            cancel.ask(|question| {
                let now = snapshot.clone().cancellable(question);
                while once(&now) == whole {}
            })
        });
        std::thread::sleep(std::time::Duration::from_millis(30));
        cancel.cancel();
        asking.join().expect("no panic")
    });
    let answer: Result<(), Cancelled> = answer;
    assert_eq!(answer, Err(Cancelled));
}
