//! Questions that are stopped, before whatever resource: each comes to its end without a fault, has no answer, and leaves the
//! snapshot as it was.

use bastide_engine::access::{self, Asked, Beside, Keys};
use bastide_engine::change::{Change, ResourceCell, apply};
use bastide_engine::difference::{apart, blocks, difference, effects, is_same, radius};
use bastide_engine::remedy::{Wish, remedies};
use bastide_engine::review::{Part, sheets};
use bastide_engine::{Cancel, Cancelled, Snapshot};
use bastide_model::{ActionId, Estate, Moment, ResourceId, StatementId, UserId, Value};
use bastide_testkit::random::{Shape, plan};
use std::convert::Infallible;
use std::fmt::Debug;

/// What is asked, and the answer as a text.
type Ask = fn(&Snapshot) -> String;

const ASKS: [(&str, Ask); 21] =
    [
        ("decide", |now| {
            let all = triples(now).map(|(user, action, resource)| now.decide(user, action, resource).reason);
            text(&all.collect::<Vec<_>>())
        }),
        ("explain", |now| {
            let some = triples(now).step_by(17);
            text(&some.map(|(user, action, resource)| now.explain(user, action, resource)).collect::<Vec<_>>())
        }),
        ("matrix", |now| {
            let estate = now.estate();
            let (users, resources): (Vec<UserId>, Vec<ResourceId>) =
                (estate.people().all().collect(), estate.catalog().all().collect());
            let actions: Vec<ActionId> = ActionId::all(estate.schema().actions.len()).collect();
            text(&access::matrix(now, &users, &resources, &actions, usize::MAX))
        }),
        ("summary", |now| text(&access::summary(now, &|_| ()))),
        ("rows", |now| {
            let mut all = Vec::new();
            let Ok(()) = access::rows(now, &Asked::default(), 0..now.estate().catalog().len() as u32, true, |row| {
                all.push(text(&row));
                Ok::<(), Infallible>(())
            });
            all.concat()
        }),
        ("counts", |now| {
            let keys = Keys { user: true, reason: true, statement: true, ..Keys::default() };
            let mut all = Vec::new();
            let Ok(()) =
                access::counts(now, &Asked::default(), keys, 0..now.estate().catalog().len() as u32, |alike, count| {
                    all.push(text(&(alike, count)));
                    Ok::<(), Infallible>(())
                });
            all.sort();
            all.concat()
        }),
        ("statements", |now| text(&access::statements(now))),
        ("reaches", |now| text(&access::reaches(now))),
        ("alone", |now| {
            let all = now.alone(access::shares(now.estate().catalog().len(), 4), None);
            text(&all.map(|all| {
                all.into_iter().map(|a| (a.gained, a.lost, a.resources, a.users.count())).collect::<Vec<_>>()
            }))
        }),
        ("narrowed", |now| text(&each(now).map(|id| access::narrowed(now, id)).collect::<Vec<_>>())),
        ("reach", |now| {
            text(&each(now).map(|id| access::reach(now, id, false, &[], 8).map_err(|_| ())).collect::<Vec<_>>())
        }),
        ("hanging", |now| text(&access::hanging(now))),
        ("person", |now| {
            text(
                &now.estate()
                    .people()
                    .all()
                    .map(|user| access::person(now, user, None, access::Extent::WHOLE))
                    .collect::<Vec<_>>(),
            )
        }),
        ("holders", |now| {
            let actions: Vec<ActionId> = ActionId::all(now.estate().schema().actions.len()).collect();
            let of = |resource| access::holders(now, &actions, resource, true);
            text(&now.estate().catalog().all().map(of).collect::<Vec<_>>())
        }),
        ("compare", |now| text(&access::compare(now, UserId(0), Beside::User(UserId(1))))),
        ("ledger", |now| {
            let ledger = access::ledger(now, &|resource| resource.0 % 3, true);
            text(&(ledger.lines, ledger.sets))
        }),
        ("sheets", |now| text(&sheets(now, Part::Root))),
        ("remedies", |now| {
            let wish = |(user, action, resource)| {
                let wanted = !now.decide(user, action, resource).is_allowed();
                remedies(now, Wish { user, action, resource, wanted }, &[], 4)
            };
            // Which of those that cost more is given up early hangs on which core was first.
            let list =
                |mut found: bastide_engine::remedy::Remedies| (found.wanted, found.tried, found.list.drain(..).next());
            text(&triples(now).step_by(101).take(2).map(wish).map(list).collect::<Vec<_>>())
        }),
        ("apart", |now| {
            let shut = |at| vec![Change::Resource(at, ResourceCell::Inherits, Some(Value::Flag(false)))];
            let lists: Vec<Vec<Change>> = now.estate().catalog().all().map(shut).collect();
            text(&apart(now, &lists.iter().map(|list| &list[..]).collect::<Vec<_>>()))
        }),
        ("difference", |now| {
            let gone = without(now, StatementId::new(0));
            let then = now.without(&gone);
            let found = difference(now, &then, None);
            let groups = now.estate().groups();
            text(&(radius(&found), effects(&found).len(), blocks(&found, now.estate(), &gone, groups, &[], 8)))
        }),
        ("is_same", |now| text(&each(now).map(|id| is_same(now, &now.without(&without(now, id)))).collect::<Vec<_>>())),
    ];

fn text(of: &impl Debug) -> String {
    format!("{of:?}")
}

/// The estate without a statement; the same where it is off already.
fn without(now: &Snapshot, id: StatementId) -> Estate {
    apply(now.estate(), &[Change::Off(id)]).unwrap_or_else(|_| now.estate().clone())
}

fn each(now: &Snapshot) -> impl Iterator<Item = StatementId> {
    StatementId::all(now.estate().statements().len())
}

fn triples(now: &Snapshot) -> impl Iterator<Item = (UserId, ActionId, ResourceId)> {
    let estate = now.estate();
    let actions = estate.schema().actions.len();
    let pairs = estate.people().all().flat_map(|user| estate.catalog().all().map(move |resource| (user, resource)));
    pairs.flat_map(move |(user, resource)| ActionId::all(actions).map(move |action| (user, action, resource)))
}

#[test]
fn whatever_is_asked_may_be_stopped_anywhere() {
    let mut stopped = [0usize; ASKS.len()];
    for seed in 0..8 {
        let estate = plan(seed, Shape::ALL).case().estate();
        let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
        let Ok(snapshot) = Snapshot::new(&estate, &moment) else { continue };
        if snapshot.estate().statements().is_empty() {
            continue;
        }
        for (at, (name, ask)) in ASKS.iter().enumerate() {
            let whole = ask(&snapshot);
            let told = |cancel: Cancel| cancel.ask(|question| ask(&snapshot.clone().cancellable(question)));
            // At each of the first looks, and then ever more rarely.
            let mut looks = 0;
            loop {
                match told(Cancel::after(looks)) {
                    Err(Cancelled) => stopped[at] += 1,
                    Ok(answer) => {
                        assert!(answer == whole, "estate {seed}, {name}, after {looks} looks: {answer}\n{whole}");
                        break;
                    }
                }
                looks += 1 + looks / 16;
            }
            assert!(ask(&snapshot) == whole, "estate {seed}, {name}: the snapshot is as it was");
        }
    }
    for ((name, _), times) in ASKS.iter().zip(stopped) {
        assert!(times >= 20, "{name} was stopped {times} times");
    }
}
