//! Many rules that vary by a few values, and rules that tell every resource apart: rows that are looked up by values
//! are those that one gets by asking for each triple.

use bastide_engine::ReferenceEvaluator;
use bastide_engine::Snapshot;
use bastide_model::{ActionId, Estate, Moment};
use bastide_testkit::Case;
use std::fmt::Write;
use std::path::Path;

const VOCABULARY: &str = r#"
kind room
kind box in room, box
kind paper in room, box
action see needs see on parent
action read needs see
action write on paper needs read
action seal on paper needs write, read on source
type label = scale open < inner < secret
type house = choice north, south, west
attribute label of resource: label default open highest
attribute house of user, resource: house inherit
attribute rank of user: number default 1
attribute pages of paper: number
attribute teams of user, resource: set of text
"#;

/// Forty rules, of which each looks at some of the few values that resources have.
fn rules(rng: &mut fastrand::Rng, apart: bool) -> String {
    let mut text = String::new();
    let who = [
        "anyone where user.house = resource.house",
        "anyone where user.rank >= 3",
        "owner",
        "members of readers",
        "anyone where user.teams overlaps resource.teams",
        "members of writers where user.house = resource.house",
        "anyone where user.house != resource.house and user.kind = guest",
    ];
    let what = [
        "anything where resource.label <= inner",
        "paper where resource.label = secret",
        "anything under \"Room 0\" where resource.house = north",
        "paper where resource.pages > 50",
        "anything where resource.house = south",
        "box, paper where resource.teams is set",
        "room, box where resource.house is missing",
    ];
    let modality = ["may", "may", "may", "may not", "may always", "may never"];
    for i in 0..40 {
        let actions = ["see", "read", "see, read", "write", "read, write", "seal", "everything"][rng.usize(0..7)];
        let (who, what) = (who[rng.usize(0..who.len())], what[rng.usize(0..what.len())]);
        let modality = modality[rng.usize(0..modality.len())];
        let _ = writeln!(text, "rule r{i} {{ because \"Rule.\" who {who} {modality} {actions} what {what} }}");
    }
    text.push_str("rule way { because \"The way.\" who anyone may see what anything }\n");
    if apart {
        // No two resources have the same values for these.
        for i in 0..8 {
            let _ = writeln!(
                text,
                "rule apart{i} {{ because \"One.\" who members of readers may write what paper where resource.name like \"*{i}\" \
                 and resource.pages > {i} and resource.label <= inner }}"
            );
        }
    }
    text
}

fn estate(seed: u64, papers: usize, apart: bool) -> Estate {
    estate_with(seed, papers, apart, "")
}

/// The same with more rules.
fn estate_with(seed: u64, papers: usize, apart: bool, more: &str) -> Estate {
    let mut rng = fastrand::Rng::with_seed(seed);
    let mut case = Case::parse("An estate.\n", Path::new("."));
    let manifest = "name = \"Rooms\"\npolicy = [\"p.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[groups]]\nfile = \"groups.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n";
    case.set("bastide.toml", manifest.to_string());
    case.set("p.bastide", format!("{VOCABULARY}{}{more}", rules(&mut rng, apart)));
    let mut people = "id,name,kind,active,house,rank,teams\n".to_string();
    let mut groups = "group,member\n".to_string();
    for i in 0..14 {
        let kind = ["person", "person", "guest"][i % 3];
        let active = if i == 5 { "no" } else { "yes" };
        let house = ["north", "south", "west", ""][rng.usize(0..4)];
        let teams = ["a", "b", "a;b", ""][rng.usize(0..4)];
        let _ = writeln!(people, "u{i},User {i},{kind},{active},{house},{},{teams}", rng.usize(1..5));
        let _ = writeln!(groups, "{},u{i}", ["readers", "writers"][rng.usize(0..2)]);
    }
    case.set("people.csv", people);
    case.set("groups.csv", groups);
    let mut rows = "id,parent,kind,name,owner,inherits,sources,label,house,pages,teams\n".to_string();
    let mut holders: Vec<String> = Vec::new();
    for i in 0..papers / 60 + 2 {
        let kind = if i < 2 { "room" } else { "box" };
        let parent = if i < 2 { String::new() } else { holders[rng.usize(0..holders.len())].clone() };
        let name = if i < 2 { format!("Room {i}") } else { format!("Box {i}") };
        let shut = if rng.u8(0..9) == 0 { "no" } else { "" };
        let house = ["", "", "north", "south"][rng.usize(0..4)];
        let _ = writeln!(rows, "b{i},{parent},{kind},{name},,{shut},,,{house},,");
        holders.push(format!("b{i}"));
    }
    for i in 0..papers {
        let owner = if rng.bool() { format!("u{}", rng.usize(0..14)) } else { String::new() };
        let label = ["", "open", "inner", "secret"][rng.usize(0..4)];
        let pages = if rng.u8(0..4) == 0 { String::new() } else { rng.usize(0..100).to_string() };
        let teams = ["", "a", "b;c"][rng.usize(0..3)];
        let source = if i > 0 && rng.u8(0..8) == 0 { format!("p{}", rng.usize(0..i)) } else { String::new() };
        let holder = &holders[rng.usize(0..holders.len())];
        let _ = writeln!(rows, "p{i},{holder},paper,Paper {i},{owner},,{source},{label},,{pages},{teams}");
    }
    case.set("catalog.csv", rows);
    case.estate()
}

/// Every decision of some resources, compared; the engine is asked for all of them first.
fn agree(estate: &Estate, every: usize) -> (usize, usize) {
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let reference = ReferenceEvaluator::new(estate, &moment).expect("no circles");
    let snapshot = Snapshot::new(estate, &moment).expect("no circles");
    let mut engine = snapshot.evaluator();
    for resource in estate.catalog().all() {
        let work = engine.decide(resource);
        engine.done(work);
    }
    let (mut allowed, mut refused) = (0, 0);
    for resource in estate.catalog().all().step_by(every) {
        let mut work = engine.decide(resource);
        for action in ActionId::all(estate.schema().actions.len()) {
            for user in estate.people().all() {
                let plain = reference.decide(user, action, resource);
                let part = engine.cause_in(&mut work, action, user);
                let (id, name) = (estate.people().id(user), &estate.schema().actions[action.index()].name);
                let what = format!("{id} {name} {}", estate.catalog().path(resource));
                assert_eq!(part, (plain.reason, plain.by), "{what}");
                *(if plain.is_allowed() { &mut allowed } else { &mut refused }) += 1;
            }
        }
        engine.done(work);
    }
    (allowed, refused)
}

/// Of several estates, some allow much and some nearly nothing.
fn all_agree(seeds: std::ops::Range<u64>, papers: usize, apart: bool, every: usize) {
    let counts = seeds.map(|seed| agree(&estate(seed, papers, apart), every));
    let (allowed, refused) = counts.fold((0, 0), |sum, one| (sum.0 + one.0, sum.1 + one.1));
    assert!(allowed > 1000 && refused > 1000, "{allowed} {refused}");
}

#[test]
fn where_few_values_say_everything() {
    all_agree(0..6, 300, false, 1);
}

#[test]
fn where_every_resource_has_values_of_its_own() {
    all_agree(10..14, 240, true, 1);
}

/// So many that the shorter way is given up, and what was found by it until then stays right.
#[test]
fn where_it_is_given_up() {
    all_agree(20..22, 6_000, true, 23);
}

/// So many rules with places come or go at a time that lists are worked out anew, and fewer, which are put into those that are there.
#[test]
fn rules_that_come_and_go_reach_what_they_do_in_an_estate_that_has_them() {
    let rule = |at: usize| {
        let modality = ["may", "may not", "may always", "may never"][at % 4];
        let who = ["members of readers", "members of writers", "owner", "anyone where user.rank >= 3"][at / 4 % 4];
        let place = ["Room 0", "Room 1"][at / 16 % 2];
        format!(
            "rule at{at} {{ because \"Here.\" who {who} {modality} read, write what anything under \"{place}\" }}\n"
        )
    };
    let placed: String = (0..90).map(rule).collect();
    let whole = estate_with(30, 400, false, &placed);
    let moment = Moment::on("2026-11-24".parse().unwrap(), whole.schema());
    let mut compared = 0;
    let all = whole.statements().len();
    // Of the rules with places none is there, some, half and nearly all of them.
    for kept in [0, all - 76, all - 40, all - 5] {
        let few = whole.with_statements(whole.statements()[..kept].to_vec());
        let [small, large] = [&few, &whole].map(|estate| Snapshot::new(estate, &moment).expect("no circles"));
        let came = small.beside(&whole, &moment).expect("no circles");
        let went = large.without(&few);
        for (built, anew) in [(came, large), (went, small)] {
            let mut engines = [&built, &anew].map(Snapshot::evaluator);
            for resource in whole.catalog().all() {
                let mut works = engines.each_mut().map(|engine| engine.decide(resource));
                for action in ActionId::all(whole.schema().actions.len()) {
                    for user in whole.people().all() {
                        let mut cause = |side: usize| engines[side].cause_in(&mut works[side], action, user);
                        assert_eq!(cause(0), cause(1), "{kept} {}", whole.catalog().path(resource));
                        compared += 1;
                    }
                }
                engines.iter_mut().zip(works).for_each(|(engine, work)| engine.done(work));
            }
        }
    }
    assert!(compared > 100_000, "{compared}");
}
