//! What is announced of a change is what happens: on random estates with random changes, gains and
//! losses equal the difference of two full evaluations by the specification evaluator.

use bastide_engine::Snapshot;
use bastide_engine::change::{Change, ResourceCell, UserCell, UserCopies, UserSubset, apply, narrowed};
use bastide_engine::difference::{Blocks, Difference, How, Radius, apart, blocks, by_part, difference, fold, radius};
use bastide_engine::evaluate::{Alone, Tuning};
use bastide_engine::{ReferenceEvaluator, change};
use bastide_model::groups::{Groups, Member};
use bastide_model::schema::Travel;
use bastide_model::statement::Sort;
use bastide_model::*;
use bastide_resolve::lay_over;
use bastide_syntax::Sources;
use bastide_testkit::random::{Shape, further_rule, plan};
use std::collections::BTreeSet;

/// User, action, resource, and whether it is gained.
type Turns = BTreeSet<(String, String, String, bool)>;

fn day() -> jiff::civil::Date {
    "2026-11-24".parse().unwrap()
}

fn load(seed: u64) -> Estate {
    plan(seed, Shape::ALL).case().estate()
}

/// With so many resources that many of them are alike.
fn load_much(seed: u64) -> Estate {
    plan(seed, Shape::ALL).with_more(seed, 200).case().estate()
}

/// Every allowed triple, by the specification evaluator.
fn allowed(estate: &Estate) -> Option<BTreeSet<(String, String, String)>> {
    let moment = Moment::on(day(), estate.schema());
    let reference = ReferenceEvaluator::new(estate, &moment).ok()?;
    let mut all = BTreeSet::new();
    for user in estate.people().all() {
        for resource in estate.catalog().all() {
            for action in ActionId::all(estate.schema().actions.len()) {
                if reference.decide(user, action, resource).is_allowed() {
                    all.insert((
                        estate.people().id(user).to_string(),
                        estate.schema().actions[action.index()].name.clone(),
                        estate.catalog().id(resource).to_string(),
                    ));
                }
            }
        }
    }
    Some(all)
}

fn expected(before: &Estate, after: &Estate) -> Option<Turns> {
    let (a, b) = (allowed(before)?, allowed(after)?);
    let with = |gained: bool| move |(u, x, r): &(String, String, String)| (u.clone(), x.clone(), r.clone(), gained);
    Some(b.difference(&a).map(with(true)).chain(a.difference(&b).map(with(false))).collect())
}

/// Numbers that tell narrow from broad, so that everything is met in small estates.
fn tuning(rng: &mut fastrand::Rng) -> Tuning {
    let (narrow, classes) = (rng.usize(..4), [0, 0, 2, 100][rng.usize(..4)]);
    Tuning {
        narrow,
        classes,
        own: [0, 3, 1000][rng.usize(..3)],
        once: [0, 500, usize::MAX][rng.usize(..3)],
        most: [0, 40, 500, usize::MAX][rng.usize(..4)],
        often: if narrow % 2 == 0 { 1 } else { 1000 },
        texts: [0, 2, usize::MAX][narrow % 3],
        told: [0, 0, 9, 1 << 20][rng.usize(..4)],
    }
}

/// What the sets say, in names; and that numbers and blocks say the same.
fn announced(before: &Estate, after: &Estate) -> Turns {
    let (was, is) = (Moment::on(day(), before.schema()), Moment::on(day(), after.schema()));
    let mut rng = fastrand::Rng::with_seed(before.statements().len() as u64 * 31 + after.statements().len() as u64);
    let old = Snapshot::tuned(before, &was, tuning(&mut rng)).expect("no circles");
    // The same where what the changes leave alone is worked out anew.
    let (beside, anew) = (old.beside(after, &is).expect("no circles"), Snapshot::new(after, &is).expect("no circles"));
    let (whole, difference) = (difference(&old, &anew, None), difference(&old, &beside, None));
    let turns = names(&difference, before, after);
    assert_eq!(names(&whole, before, after), turns);
    let radius = radius(&difference);
    assert_eq!(radius.triples(), turns.len() as u64);
    assert_eq!(radius.users, turns.iter().map(|t| &t.0).collect::<BTreeSet<_>>().len());
    assert_eq!(radius.resources, turns.iter().map(|t| &t.2).collect::<BTreeSet<_>>().len());
    let blocks = blocks(&difference, before, after, after.groups(), &["read".to_string()], usize::MAX).list;
    assert_eq!(blocks.iter().map(|b| b.triples).sum::<u64>(), turns.len() as u64);
    let apart: BTreeSet<_> = blocks.iter().map(|b| (b.side, &b.users, &b.actions)).collect();
    assert_eq!(apart.len(), blocks.len(), "what the same users gain or lose is one block");
    for block in &blocks {
        assert_eq!(block.triples, (block.users.len() * block.actions.len() * block.resources) as u64);
        assert_eq!(block.places.iter().map(|p| p.resources).sum::<usize>(), block.resources);
    }
    turns
}

fn names(difference: &Difference, before: &Estate, after: &Estate) -> Turns {
    let mut turns = Turns::new();
    let joint = &difference.joint;
    difference.triples(|user, action, resource, gained| {
        let pick = |a: Option<String>, b: Option<String>| b.or(a).expect("it is on one side");
        turns.insert((
            pick(
                joint.users.before(user).map(|u| before.people().id(UserId(u)).to_string()),
                joint.users.after(user).map(|u| after.people().id(UserId(u)).to_string()),
            ),
            pick(
                joint.actions.before(action).map(|a| before.schema().actions[a as usize].name.clone()),
                joint.actions.after(action).map(|a| after.schema().actions[a as usize].name.clone()),
            ),
            pick(
                joint.resources.before(resource).map(|r| before.catalog().id(ResourceId(r)).to_string()),
                joint.resources.after(resource).map(|r| after.catalog().id(ResourceId(r)).to_string()),
            ),
            gained,
        ));
    });
    turns
}

/// A change at random; it may turn out impossible.
fn random_change(estate: &Estate, rng: &mut fastrand::Rng) -> Change {
    let user = UserId::new(rng.usize(..estate.people().len()));
    let resource = ResourceId::new(rng.usize(..estate.catalog().len()));
    let statement = |rng: &mut fastrand::Rng| StatementId::new(rng.usize(..estate.statements().len()));
    let group = |rng: &mut fastrand::Rng| GroupId::new(rng.usize(..estate.groups().len()));
    match rng.usize(..13) {
        0 | 1 => Change::Off(statement(rng)),
        12 => {
            let all = 0..estate.schema().actions.len();
            let some: Vec<ActionId> = all.filter(|_| rng.bool()).map(ActionId::new).collect();
            Change::Actions(statement(rng), some)
        }
        2 => {
            let off = StatementId::all(estate.statements().len()).find(|id| estate.statement(*id).off);
            off.map_or_else(|| Change::Off(statement(rng)), Change::On)
        }
        3 => Change::Join(Member::User(user), group(rng)),
        4 => Change::Join(Member::Group(group(rng)), group(rng)),
        5 => {
            let group = group(rng);
            let first = estate.groups().members(group).first().map(|m| m.member);
            Change::Leave(first.unwrap_or(Member::User(user)), group)
        }
        6 | 7 if !estate.schema().user_attributes.is_empty() => {
            let at = rng.usize(..estate.schema().user_attributes.len());
            let other = rng.usize(..estate.people().len());
            let value = estate.people().attributes()[at].get(other).cloned();
            Change::User(user, UserCell::Attribute(UserAttributeId::new(at)), value.filter(|_| rng.u8(..4) > 0))
        }
        8 => Change::User(user, UserCell::Active, Some(Value::Flag(rng.bool()))),
        9 => {
            let at = rng.usize(..estate.schema().resource_attributes.len());
            let column = estate.catalog().own[at].as_ref().unwrap_or(&estate.catalog().attributes[at]);
            assert_eq!(
                estate.catalog().own[at].is_some(),
                estate.schema().resource_attributes[at].travel != Travel::Stays
            );
            let value = column.get(rng.usize(..estate.catalog().len())).cloned();
            Change::Resource(resource, ResourceCell::Attribute(ResourceAttributeId::new(at)), value)
        }
        10 => match rng.usize(..3) {
            0 => Change::Resource(resource, ResourceCell::Inherits, Some(Value::Flag(rng.bool()))),
            1 => Change::Resource(resource, ResourceCell::Owner, Some(Value::Text(estate.people().id(user).into()))),
            _ => {
                let state = estate.catalog().states.get(rng.usize(..estate.catalog().len())).cloned();
                Change::Resource(resource, ResourceCell::State, state)
            }
        },
        _ => {
            let rules: Vec<StatementId> = StatementId::all(estate.statements().len())
                .filter(|id| estate.statement(*id).sort == Sort::Rule)
                .collect();
            if rules.is_empty() || rng.bool() {
                let action = &estate.schema().actions[rng.usize(..estate.schema().actions.len())].name;
                let (who, place) = (estate.people().id(user), estate.catalog().id(resource));
                let modality = ["may", "may not", "may only", "may always", "may never"][rng.usize(..5)];
                let reach = ["under", "at", "below"][rng.usize(..3)];
                return change::give(estate, &format!("user:{who},{modality},{action},{place},{reach}"))
                    .expect("every name is known");
            }
            Change::Except(rules[rng.usize(..rules.len())], user)
        }
    }
}

#[test]
fn of_random_changes() {
    let count: u64 = std::env::var("BASTIDE_ESTATES").ok().and_then(|n| n.parse().ok()).unwrap_or(2000);
    changed(count, load);
}

/// Where many resources are alike, what is decided on them is looked up for both sides at once.
#[test]
fn of_random_changes_where_there_is_much() {
    let count: u64 = std::env::var("BASTIDE_ESTATES").ok().and_then(|n| n.parse().ok()).unwrap_or(2000);
    changed(count / 4, load_much);
}

fn changed(count: u64, load: fn(u64) -> Estate) {
    let (mut made, mut refused, mut moved) = (0, 0, 0);
    for seed in 0..count {
        let before = load(seed);
        let mut rng = fastrand::Rng::with_seed(seed);
        let changes: Vec<Change> = (0..1 + rng.usize(..3)).map(|_| random_change(&before, &mut rng)).collect();
        let Ok(after) = apply(&before, &changes) else {
            refused += 1;
            continue;
        };
        // A change may make decisions depend on themselves; then nothing may be announced.
        let Some(expected) = expected(&before, &after) else {
            assert!(Snapshot::new(&after, &Moment::on(day(), after.schema())).is_err());
            continue;
        };
        made += 1;
        moved += usize::from(!expected.is_empty());
        let told: Vec<String> = changes.iter().map(|c| change::describe(&before, c).words).collect();
        assert_eq!(announced(&before, &after), expected, "estate {seed}: {told:#?}");
        // And the other way round: what was gained is lost.
        let back: Turns = expected.into_iter().map(|(user, action, at, gained)| (user, action, at, !gained)).collect();
        assert_eq!(announced(&after, &before), back, "estate {seed}, back: {told:#?}");
    }
    assert!(made > count as usize / 2, "{made} made, {refused} refused");
    assert!(moved > count as usize / 8, "of {made} changes only {moved} changed anything");
}

/// Changes of resources' data that are tried together come to what each comes to alone.
#[test]
fn of_resources_apart() {
    let (mut tried, mut moved, mut refused) = (0, 0, 0);
    for seed in 0..600 {
        let estate = if seed % 3 == 0 { load_much(seed) } else { load(seed) };
        let mut rng = fastrand::Rng::with_seed(seed);
        let moment = Moment::on(day(), estate.schema());
        let snapshot = Snapshot::tuned(&estate, &moment, tuning(&mut rng)).expect("no circles");
        let mut lists: Vec<Vec<Change>> = Vec::new();
        while lists.len() < 12 {
            let list: Vec<Change> = (0..1 + rng.usize(..2)).map(|_| random_change(&estate, &mut rng)).collect();
            // Now and then one that is about something else.
            if list.iter().all(|change| matches!(change, Change::Resource(..))) || rng.u8(..40) == 0 {
                lists.push(list);
            }
        }
        let together = apart(&snapshot, &lists.iter().map(Vec::as_slice).collect::<Vec<_>>());
        for (list, together) in lists.iter().zip(together) {
            let alone = || {
                let after = apply(&estate, list).ok()?;
                let after = snapshot.beside(&after, &moment).ok()?;
                Some(radius(&difference(&snapshot, &after, None)))
            };
            if !list.iter().all(|change| matches!(change, Change::Resource(..))) {
                assert_eq!(together, None, "estate {seed}");
                continue;
            }
            let told: Vec<String> = list.iter().map(|c| change::describe(&estate, c).words).collect();
            let alone = alone();
            // What would close a circle takes those along that are tried with it: they are left to be tried alone.
            refused += usize::from(together.is_none());
            if together.is_some() {
                assert_eq!(together, alone, "estate {seed}: {told:#?}");
                tried += 1;
                moved += usize::from(alone.is_some_and(|radius| radius.triples() > 0));
            }
        }
    }
    assert!(tried > 5000 && moved > 100 && refused < 300, "{tried} tried, {moved} changed anything, {refused} refused");
}

/// A snapshot that came about by ten changes, one after the other, is the one of the estate after all of them.
#[test]
fn ten_in_a_row() {
    let (mut rows, mut moved) = (0, 0);
    for seed in 0..150 {
        let estate = load(seed);
        let moment = Moment::on(day(), estate.schema());
        let mut rng = fastrand::Rng::with_seed(seed);
        let first = Snapshot::tuned(&estate, &moment, tuning(&mut rng)).expect("no circles");
        let mut last = first.clone();
        let mut made = 0;
        for _ in 0..100 {
            let change = random_change(last.estate(), &mut rng);
            if let Ok(after) = last.after(&[change]) {
                last = after;
                made += 1;
            }
            if made == 10 {
                break;
            }
        }
        rows += usize::from(made == 10);
        let anew = Snapshot::new(last.estate(), &moment).expect("no circles");
        let of = |difference: &Difference| names(difference, &estate, last.estate());
        let turns = of(&first.difference(&last));
        assert_eq!(turns, of(&first.difference(&anew)), "estate {seed}");
        assert_eq!(turns, expected(&estate, last.estate()).expect("no circles"), "estate {seed}");
        assert!(last.difference(&anew).is_empty(), "estate {seed}");
        moved += usize::from(!turns.is_empty());
    }
    assert!(rows > 120 && moved > 80, "{rows} rows of ten, {moved} changed anything");
}

/// An estate with few users left decides for them what the whole one decides.
#[test]
fn of_few_users_alone() {
    for seed in 0..150 {
        let estate = load(seed);
        let user = |at: u64| UserId::new(at as usize % estate.people().len());
        let group = GroupId::new(seed as usize % estate.groups().len());
        let changes = [user(seed), user(7 * seed + 1)].map(|user| Change::Join(Member::User(user), group));
        let Some(few) = UserSubset::of(&estate, &changes, &Moment::on(day(), estate.schema())) else { continue };
        let small = few.estate(&estate);
        let moment = Moment::on(day(), estate.schema());
        let (whole, alone) =
            (ReferenceEvaluator::new(&estate, &moment).unwrap(), ReferenceEvaluator::new(&small, &moment).unwrap());
        for &user in few.users() {
            let own = few.number(user).expect("one of them");
            for resource in estate.catalog().all() {
                for action in ActionId::all(estate.schema().actions.len()) {
                    let (a, b) = (whole.decide(user, action, resource), alone.decide(own, action, resource));
                    assert_eq!((a.reason, a.by), (b.reason, b.by), "estate {seed}");
                }
            }
        }
    }
}

/// Trials that touch the same users come to the same on copies of them, all at once, as each by itself; before, each copy may
/// do what the user may.
#[test]
fn on_copies_of_users() {
    let (mut trials, mut shared, mut owned, mut given, mut moved) = (0, 0, 0, 0, 0);
    for seed in 0..1500 {
        let estate = load(seed);
        let mut rng = fastrand::Rng::with_seed(seed);
        let moment = Moment::on(day(), estate.schema());
        let Ok(reference) = ReferenceEvaluator::new(&estate, &moment) else { continue };
        let mut lists: Vec<(Vec<Change>, Radius)> = Vec::new();
        let mut touched: Vec<(usize, UserSubset)> = Vec::new();
        for _ in 0..40 {
            let list: Vec<Change> = (0..1 + rng.usize(..2)).map(|_| random_change(&estate, &mut rng)).collect();
            let Ok(after) = apply(&estate, &list) else { continue };
            let Ok(new) = Snapshot::new(&after, &moment) else { continue };
            if let Some(few) = UserCopies::can(&list).then(|| UserSubset::by_reference(&reference, &list)).flatten() {
                touched.push((lists.len(), few));
                let old = Snapshot::new(&estate, &moment).expect("no circles");
                given += usize::from(matches!(list[0], Change::Give(_)));
                lists.push((list, radius(&old.difference(&new))));
            }
        }
        let copies = UserCopies::of(&touched);
        let all = lists.iter().enumerate().map(|(trial, (list, _))| (trial, &list[..]));
        let Some((before, after)) = copies.both(&reference, all) else { continue };
        let old = ReferenceEvaluator::new(&before, &moment).expect("no circles");
        for copy in before.people().all() {
            let user = estate.people().find(before.people().id(copy)).expect("a copy of somebody");
            shared += usize::from(before.people().copies(copy).len() > 1);
            for resource in estate.catalog().all() {
                owned += usize::from(estate.catalog().owner(resource) == Some(Some(user)));
                for action in ActionId::all(estate.schema().actions.len()) {
                    let (a, b) = (reference.decide(user, action, resource), old.decide(copy, action, resource));
                    assert_eq!((a.reason, a.by), (b.reason, b.by), "estate {seed}");
                }
            }
        }
        let old = Snapshot::new(&before, &moment).expect("no circles");
        let Ok(new) = old.beside(&after, &moment) else { continue };
        let mut radii = by_part(&old.difference(&new), |copy| copies.trial(copy));
        for (trial, (list, wanted)) in lists.iter().enumerate() {
            let told: Vec<String> = list.iter().map(|c| change::describe(&estate, c).words).collect();
            assert_eq!(radii.remove(&trial).unwrap_or_default(), *wanted, "estate {seed}: {told:#?}");
            moved += usize::from(wanted.triples() > 0);
        }
        trials += lists.len();
    }
    let counts =
        format!("{trials} trials, {shared} copies of the same, {owned} own, {given} given, {moved} change anything");
    assert!(trials > 2000 && shared > 2000 && owned > 500 && given > 200 && moved > 500, "{counts}");
}

/// A change that touches few users comes to the same where they are alone, and is told in the same blocks.
#[test]
fn that_touch_few_users() {
    let (mut alone, mut several, mut named, mut asked) = (0, 0, 0, 0);
    for seed in 0..6000 {
        let estate = load(seed);
        let mut rng = fastrand::Rng::with_seed(seed);
        let changes: Vec<Change> = (0..1 + rng.usize(..2)).map(|_| random_change(&estate, &mut rng)).collect();
        let Ok(after) = apply(&estate, &changes) else { continue };
        let Some((small, small_after)) = narrowed(&estate, &changes, &Moment::on(day(), estate.schema())) else {
            continue;
        };
        let Some(whole) = expected(&estate, &after) else { continue };
        let told: Vec<String> = changes.iter().map(|c| change::describe(&estate, c).words).collect();
        assert_eq!(expected(&small, &small_after), Some(whole), "estate {seed}: {told:#?}");
        let all = told_in_blocks(&estate, &after, after.groups());
        assert_eq!(told_in_blocks(&small, &small_after, after.groups()), all, "estate {seed}: {told:#?}");
        // Not named, but told by conditions.
        let few = UserSubset::of(&estate, &changes, &Moment::on(day(), estate.schema())).expect("just so");
        asked += usize::from(few.changes(&estate, &changes).is_none());
        alone += 1;
        several += usize::from(small.people().len() > 1);
        named += usize::from(all.list.iter().any(|block| block.group.is_some()));
    }
    assert!(alone > 500 && several > 20 && named > 5, "{alone} alone, {several} of them several users, {named} groups");
    assert!(asked > 10, "{asked} told by conditions");
}

fn told_in_blocks(before: &Estate, after: &Estate, groups: &Groups) -> Blocks {
    let (was, is) = (Moment::on(day(), before.schema()), Moment::on(day(), after.schema()));
    let (old, new) = (Snapshot::new(before, &was).unwrap(), Snapshot::new(after, &is).unwrap());
    blocks(&difference(&old, &new, None), before, after, groups, &["read".to_string()], usize::MAX)
}

#[test]
fn of_rules_laid_over() {
    laid_over(200, load);
}

#[test]
fn of_rules_laid_over_where_there_is_much() {
    laid_over(200, load_much);
}

fn laid_over(count: u64, load: fn(u64) -> Estate) {
    let mut moved = 0;
    for seed in 0..count {
        let before = load(seed);
        let layers = plan(seed, Shape::ALL).layers;
        let modality = ["may", "may not", "may always", "may never", "may only"][seed as usize % 5];
        let text = further_rule(seed + 5000, Shape::ALL, modality, &layers);
        let mut sources = Sources::new();
        for file in before.files() {
            sources.add(file.clone(), String::new());
        }
        let file = sources.add("draft".to_string(), text.clone());
        let parsed = bastide_syntax::parse(file, &text);
        let files: Vec<String> = before.files().iter().cloned().chain(["draft".to_string()]).collect();
        let Ok(after) = lay_over(&before, &parsed.tree, &files, &|_| 1) else { continue };
        let Some(expected) = expected(&before, &after) else { continue };
        moved += usize::from(!expected.is_empty());
        assert_eq!(announced(&before, &after), expected, "estate {seed}: {text}");
    }
    assert!(moved > 20, "{moved}");
}

/// Estates that have nothing to do with each other but some of their names.
#[test]
fn between_two_estates() {
    for seed in 0..60 {
        let (before, after) = (load(seed), load(seed + 1000));
        let expected = expected(&before, &after).expect("no circles");
        assert_eq!(announced(&before, &after), expected, "estates {seed} and {}", seed + 1000);
    }
}

/// What is solely the doing of each statement, told of all in one pass, is what the comparison with an estate without it says;
/// however the resources are shared out.
#[test]
fn what_goes_with_a_statement_is_counted_rightly() {
    let (mut estates, mut statements, mut some, mut by_needs) = (0, 0, 0, 0);
    // Where conditions look at decisions, and where there are layers, nothing is told so.
    for seed in 0..900 {
        let shape = Shape { holds: seed % 9 == 0, layers: seed % 10 == 0, combining: true };
        let estate = plan(seed, shape).case().estate();
        let moment = Moment::on(day(), estate.schema());
        let mut rng = fastrand::Rng::with_seed(seed);
        let Ok(before) = Snapshot::tuned(&estate, &moment, tuning(&mut rng)) else { continue };
        let all = estate.catalog().len() as u32;
        let cut = (seed as u32 * 7) % (all + 1);
        let Some(found) = before.alone(vec![0..cut, cut..all], None) else { continue };
        estates += 1;
        for id in StatementId::all(estate.statements().len()) {
            let statement = estate.statement(id);
            if !statement.is_on() || !statement.in_date(day()) {
                continue;
            }
            let without = apply(&estate, &[Change::Off(id)]).unwrap();
            let after = before.without(&without);
            let expected = radius(&difference(&before, &after, None));
            let Alone { gained, lost, resources, users } = &found[id.index()];
            let found = (*gained, *lost, *resources, users.count());
            let expected = (expected.gained, expected.lost, expected.resources, expected.users);
            assert_eq!(found, expected, "estate {seed}, statement {} {}", statement.name, id.index());
            statements += 1;
            some += usize::from(found.0 + found.1 > 0);
            let needed = estate.schema().actions.iter().flat_map(|action| &action.needs);
            by_needs += usize::from(found.0 + found.1 > 0 && needed.count() > 0);
        }
    }
    assert!(
        estates > 600 && statements > 4000 && some > 1000 && by_needs > 500,
        "{estates} {statements} {some} {by_needs}"
    );
}

/// Resources are told by whole subtrees, and where those are too many, neighbours go together whose common holder lies
/// deepest, level by level until they are few enough.
#[test]
fn many_places_are_told_by_few_names() {
    let mut joined = 0;
    for seed in 0..200 {
        let estate = load(seed);
        let catalog = estate.catalog();
        let mut rng = fastrand::Rng::with_seed(seed);
        let (share, most) = (rng.usize(1..5), rng.usize(1..5));
        let chosen: Vec<ResourceId> = catalog.all().filter(|_| rng.usize(..5) < share).collect();
        let mut plain: Vec<(ResourceId, usize, How)> = Vec::new();
        let mut left = &chosen[..];
        while let Some(first) = left.first() {
            let size = catalog.subtree(*first).len();
            let whole = size > 1 && left.len() >= size && catalog.contains(*first, left[size - 1]);
            let (taken, how) = if whole { (size, How::Whole) } else { (1, How::One) };
            plain.push((*first, taken, how));
            left = &left[taken..];
        }
        let holder = |a: ResourceId, b: ResourceId| catalog.upward(a).find(|above| catalog.contains(*above, b));
        let depth = |a: ResourceId, b: ResourceId| holder(a, b).map_or(0, |above| catalog.depth(above));
        while plain.len() > most {
            let deepest = plain.windows(2).map(|pair| depth(pair[0].0, pair[1].0)).max().unwrap_or(0);
            if deepest == 0 {
                break;
            }
            joined += 1;
            let mut next: Vec<(ResourceId, usize, How)> = Vec::new();
            for place in plain {
                match next.last_mut() {
                    Some(last) if depth(last.0, place.0) == deepest => {
                        *last = (holder(last.0, place.0).unwrap(), last.1 + place.1, How::Within);
                    }
                    _ => next.push(place),
                }
            }
            plain = next;
        }
        let found = fold(catalog, &chosen, most);
        let found: Vec<_> = found.iter().map(|fold| (fold.path.clone(), fold.resources, fold.how)).collect();
        let plain: Vec<_> = plain.iter().map(|(place, count, how)| (catalog.path(*place), *count, *how)).collect();
        assert_eq!(found, plain, "estate {seed}");
    }
    assert!(joined > 100, "{joined}");
}
