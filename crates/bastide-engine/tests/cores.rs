//! However many cores there are, and whichever way a file is read, an estate is the same, and so is what is counted.

use bastide_engine::Snapshot;
use bastide_engine::access;
use bastide_engine::change::{Change, ResourceCell, apply};
use bastide_engine::difference::difference;
use bastide_model::{ActionId, Catalog, Estate, GroupId, Moment, ResourceId, Source, StatementId, UserId, Value};
use bastide_testkit::Case;
use fixedbitset::FixedBitSet;
use rayon::{ThreadPool, ThreadPoolBuilder};
use std::collections::BTreeSet;
use std::fmt::Write;
use std::path::Path;

const VOCABULARY: &str = r#"
kind hall
kind shelf in hall, shelf
kind paper in hall, shelf
action read
action write needs read
type label = scale open < inner < secret
attribute label of resource: label default open highest
attribute house of user, resource: text inherit
attribute weight of paper: number

rule read { because "Colleagues read." who anyone where user.house = resource.house may read what anything }
rule write { because "Owners write." who owner may write what paper }
rule late { because "Heavy ones stay." who anyone may never write what paper where resource.weight > 700 }
rule secret { because "Secret." who anyone may only read what anything where resource.label = secret }
"#;

/// Shelves in shelves, papers on them in no order, some of them links, some shut.
fn estate(papers: usize) -> Case {
    let mut rng = fastrand::Rng::with_seed(2026);
    let shelves = papers / 40;
    let mut rows: Vec<String> = Vec::new();
    for i in 0..shelves {
        let parent = if i < 5 { String::new() } else { format!("s{}", rng.usize(0..i)) };
        let kind = if i < 5 { "hall" } else { "shelf" };
        let house = ["", "north", "south"][rng.usize(0..3)];
        let shut = if rng.u8(0..20) == 0 { "no" } else { "" };
        rows.push(format!("s{i},{parent},{kind},Shelf number {},,,{shut},,{house},,", i % 97));
    }
    for i in 0..papers {
        let owner = match rng.u8(0..4) {
            0 => String::new(),
            1 => "somebody who left".to_string(),
            _ => format!("u{}", rng.usize(0..50)),
        };
        let label = ["", "", "open", "inner", "secret"][rng.usize(0..5)];
        let source = if rng.u8(0..50) == 0 { format!("p{}", rng.usize(0..papers)) } else { String::new() };
        let source = if source == format!("p{i}") { String::new() } else { source };
        let weight = if rng.bool() { rng.usize(0..1000).to_string() } else { String::new() };
        rows.push(format!(
            "p{i},s{},paper,Paper about number {},{owner},,,{source},,{label},{weight}",
            rng.usize(0..shelves),
            rng.usize(0..papers)
        ));
    }
    // Links must not lead in a circle.
    let linked = |row: &String| row.split(',').nth(7).is_some_and(|s| !s.is_empty());
    for row in rows.iter_mut().filter(|row| linked(row)) {
        let number = |id: &str| id[1..].parse::<usize>().unwrap_or_default();
        let cells: Vec<&str> = row.split(',').collect();
        if number(cells[7]) > number(cells[0]) {
            let mut cells: Vec<String> = cells.into_iter().map(str::to_string).collect();
            cells[7].clear();
            *row = cells.join(",");
        }
    }
    rng.shuffle(&mut rows);
    let mut people = "id,name,house\n".to_string();
    for i in 0..70 {
        let _ = writeln!(people, "u{i},User {i},{}", ["north", "south", "", "west"][i % 4]);
    }
    let mut case = Case::parse("An estate.\n", Path::new("."));
    let manifest = "name = \"Shelves\"\npolicy = [\"p.bastide\"]\n[[people]]\nfile = \"people.csv\"\n[[catalog]]\nfile = \"catalog.csv\"\n";
    case.set("bastide.toml", manifest.into());
    case.set("p.bastide", VOCABULARY.into());
    case.set("people.csv", people);
    case.set("catalog.csv", format!("{HEADER}\n{}\n", rows.join("\n")));
    case
}

const HEADER: &str = "id,parent,kind,name,owner,state,inherits,sources,house,label,weight";

fn cores(count: usize) -> ThreadPool {
    ThreadPoolBuilder::new().num_threads(count).build().expect("threads start")
}

/// The estate as it is loaded on so many cores, and what was said.
fn load(case: &Case, count: usize) -> (Option<Estate>, Vec<String>) {
    let loaded = cores(count).install(|| case.load());
    let said = loaded.diagnostics.iter().map(|d| {
        let place = d.place.map(|p| loaded.sources.position(p));
        format!("{} {} {:?}", d.code.name, d.message, place.map(|p| (p.line, p.column)))
    });
    (loaded.estate, said.collect())
}

/// Everything of a catalog, row by row.
fn rows(catalog: &Catalog) -> Vec<String> {
    let row = |r: ResourceId| {
        let i = r.index();
        let sources: Vec<String> = catalog
            .sources(r)
            .iter()
            .map(|s| match s {
                Source::Resource(r) => catalog.id(*r).to_string(),
                Source::Missing(id) => format!("?{id}"),
            })
            .collect();
        let values: Vec<String> = catalog.attributes.iter().map(|c| format!("{:?}", c.get(i))).collect();
        let own: Vec<String> = catalog.own.iter().flatten().map(|c| format!("{:?}", c.get(i))).collect();
        assert_eq!(catalog.find(catalog.id(r)), Some(r));
        format!(
            "{} {} {:?} {} {} {:?} {:?} {:?} {} {} {sources:?} {values:?} {own:?} {:?}",
            catalog.id(r),
            catalog.name(r),
            catalog.parent(r).map(|p| catalog.id(p)),
            catalog.ends[i],
            catalog.depth(r),
            catalog.kind(r),
            catalog.owner(r),
            catalog.owners.get(i),
            catalog.barriers.contains(i),
            catalog.barrier_depths[i],
            catalog.origins[i].line,
        )
    };
    catalog.all().map(row).collect()
}

#[test]
fn a_catalog_is_the_same_in_parts() {
    // Large enough to be read in parts.
    let case = estate(30_000);
    let (one, said) = load(&case, 1);
    let one = rows(one.unwrap_or_else(|| panic!("{said:#?}")).catalog());
    assert_eq!(one.len(), 30_750);
    assert!(said.iter().any(|s| s.contains("owner `somebody who left` does not exist")), "{said:?}");
    for count in [2, 3, 7] {
        let (several, same) = load(&case, count);
        assert_eq!((rows(several.expect("no errors").catalog()), &same), (one.clone(), &said), "{count} cores");
    }
    // With quotes here and there, or everywhere.
    let text = case.files().iter().find(|(name, _)| name == "catalog.csv").unwrap().1.clone();
    let mut quoted = case.clone();
    let some = text.lines().map(|line| match line.split_once(',') {
        Some((id, rest)) if id.starts_with("p17") => format!("\"{id}\",{rest}\r\n"),
        _ => format!("{line}\r\n"),
    });
    quoted.set("catalog.csv", some.collect());
    let (here_and_there, same) = load(&quoted, 3);
    assert_eq!((rows(here_and_there.expect("no errors").catalog()), &same), (one.clone(), &said));
    let (header, body) = text.split_once('\n').unwrap();
    let all = body.lines().map(|line| format!("\"{}\"\n", line.replace(',', "\",\""))).collect::<String>();
    quoted.set("catalog.csv", format!("{header}\n{all}"));
    let (everywhere, same) = load(&quoted, 3);
    assert_eq!((rows(everywhere.expect("no errors").catalog()), &same), (one.clone(), &said));
    // A quoted cell that goes on from one part into others: then all of it is read from front to back.
    let lines = "a line\n".repeat(200_000);
    quoted.set("catalog.csv", format!("{text}huge,,hall,~Huge,,,,,\"~{lines}\",,\n"));
    let (whole, same) = load(&quoted, 3);
    let whole = rows(whole.expect("no errors").catalog());
    assert!((&whole[..one.len()], &same) == (&one[..], &said), "the others are what they were");
    assert!(whole.len() == one.len() + 1 && whole[one.len()].contains("~a line"), "{:.200}", whole[one.len()]);
}

/// Whatever is wrong is told the same, at the same place.
#[test]
fn mistakes_are_told_the_same_in_parts() {
    let case = estate(30_000);
    assert!(load(&case, 2).0.is_some());
    let text = case.files().iter().find(|(name, _)| name == "catalog.csv").unwrap().1.clone();
    let lines: Vec<&str> = text.lines().collect();
    let (first, last) = (lines[100], lines[lines.len() - 50]);
    let id = |line: &str| line.split(',').next().unwrap().to_string();
    for (what, text) in [
        ("duplicate-id", format!("{text}{first}\n{first}\n")),
        ("unknown-parent", text.replace(last, &last.replacen(",s", ",nowhere", 1))),
        ("bad-row", text.replace(last, &format!("{last},one too many"))),
        ("unknown-kind", text.replace(last, &last.replace(",paper,", ",parchment,"))),
        (
            "misplaced",
            format!(
                "{text}p-inside,{},paper,Inside a paper,,,,,,,\n",
                id(lines.iter().rfind(|l| l.starts_with('p')).unwrap())
            ),
        ),
        (
            "parent-cycle",
            format!(
                "{text}c1,c3,shelf,One,,,,,,,\nc2,c1,shelf,Two,,,,,,,\nc3,c2,shelf,Three,,,,,,,\nc4,c2,paper,On it,,,,,,,\n"
            ),
        ),
        (
            "too-deep",
            (0..1200).fold(text.clone(), |text, i| {
                let parent = if i == 0 { "s0".to_string() } else { format!("d{}", i - 1) };
                text + &format!("d{i},{parent},shelf,Deep,,,,,,,\n")
            }),
        ),
    ] {
        let mut broken = case.clone();
        broken.set("catalog.csv", text);
        let (none, said) = load(&broken, 1);
        assert!(none.is_none() && said.iter().any(|s| s.starts_with(what)), "{what}: {said:?}");
        let (_, same) = load(&broken, 4);
        assert_eq!(said, same, "{what}");
    }
}

#[test]
fn totals_are_the_same_in_shares() {
    let case = estate(45_000);
    let (estate, said) = load(&case, 2);
    let estate = estate.unwrap_or_else(|| panic!("{said:#?}"));
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
    let summary = |count: usize| cores(count).install(|| access::summary(&snapshot, &|_| {}));
    let one = summary(1);
    assert_eq!(one, summary(2));
    assert_eq!(one, summary(4));
    // Totals by resource and by user are the same sums; a part of a catalog and the rest make the whole.
    let half = estate.catalog().all().filter(|resource| resource.0 % 3 == 0).map(|resource| resource.index()).collect();
    let mut rest: FixedBitSet = estate.catalog().all().map(|resource| resource.index()).collect();
    rest.difference_with(&half);
    for by_user in [false, true] {
        let totals = |count: usize, own: Option<&FixedBitSet>| {
            let part = access::Portion { number: 0, own };
            cores(count).install(|| access::totals(&snapshot, &part, by_user, &|_| {}))
        };
        let whole = totals(1, None);
        assert_eq!(whole, totals(2, None));
        assert_eq!(whole, totals(4, None));
        assert_eq!(whole.rows.len(), if by_user { estate.people().len() } else { estate.catalog().len() });
        let parts = [totals(2, Some(&half)), totals(2, Some(&rest))];
        for (at, action) in ["read", "write"].into_iter().enumerate() {
            let sum = |totals: &access::Totals| -> u64 { totals.rows.iter().map(|(_, counts)| counts[at]).sum() };
            assert_eq!(one.allowed[at], (action.to_string(), sum(&whole)));
            assert_eq!(sum(&whole), parts.iter().map(sum).sum::<u64>());
        }
        for (id, counts) in &whole.rows {
            let of = |part: &access::Totals| {
                let at = part.rows.binary_search_by(|(row, _)| row.cmp(id));
                at.map_or(vec![0; counts.len()], |at| part.rows[at].1.clone())
            };
            let [half, rest] = [of(&parts[0]), of(&parts[1])];
            let both: Vec<u64> = half.iter().zip(&rest).map(|(a, b)| a + b).collect();
            assert_eq!(*counts, both, "{id}");
        }
    }
}

/// What each statement reaches is the same sum, however many cores count it, and as listing everybody on each resource.
#[test]
fn what_statements_reach_is_the_same_in_shares() {
    let case = estate(30_000);
    let (estate, said) = load(&case, 2);
    let estate = estate.unwrap_or_else(|| panic!("{said:#?}"));
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
    let reaches = |count: usize| cores(count).install(|| access::reaches(&snapshot));
    let one = reaches(1);
    assert_eq!(one, reaches(2));
    assert_eq!(one, reaches(4));
    let mut engine = snapshot.evaluator();
    let mut whom = engine.nobody();
    let mut plainly = vec![(BTreeSet::new(), 0, 0); estate.statements().len()];
    for resource in estate.catalog().all() {
        let mut work = engine.look(resource);
        for rule in engine.rules(&work) {
            let id = engine.statement_of(rule);
            let fits = |action: &ActionId| {
                estate.statement(id).speaks_of(*action)
                    && estate.schema().fits(*action, estate.catalog().kind(resource))
            };
            let actions = ActionId::all(estate.schema().actions.len()).filter(fits).count() as u64;
            engine.applies_to(&mut work, rule, &mut whom);
            let (users, resources, triples) = &mut plainly[id.index()];
            if actions > 0 && !whom.is_clear() {
                users.extend(whom.ones());
                *resources += 1;
                *triples += whom.count_ones(..) as u64 * actions;
            }
        }
        engine.done(work);
    }
    for (reaches, (users, resources, triples)) in one.iter().zip(plainly) {
        assert!(triples > 0, "every statement reaches somebody");
        assert_eq!((reaches.users, reaches.resources, reaches.triples), (users.len(), resources, triples));
    }
}

/// Both sides of a change are evaluated at once, and what differs is what two evaluations made by themselves say.
#[test]
fn a_change_is_the_same_on_any_number_of_cores() {
    let case = estate(12_000);
    let (before, said) = load(&case, 2);
    let before = before.unwrap_or_else(|| panic!("{said:#?}"));
    let moment = Moment::on("2026-11-24".parse().unwrap(), before.schema());
    let rule = |name: &str| {
        let at = before.statements().iter().position(|s| s.name == name).unwrap();
        Change::Off(StatementId::new(at))
    };
    let cell = |id: &str, cell, value| Change::Resource(before.catalog().find(id).unwrap(), cell, Some(value));
    let house = before.schema().resource_attribute("house").unwrap();
    let house = ResourceCell::Attribute(house);
    for (change, differs) in [
        (rule("secret"), true),
        (rule("late"), true),
        (cell("s1", house, Value::Text("west".into())), true),
        (cell("s2", ResourceCell::Inherits, Value::Flag(false)), false),
    ] {
        let after = apply(&before, std::slice::from_ref(&change)).unwrap_or_else(|(_, error)| panic!("{error}"));
        let found = |count: usize| {
            let was = Snapshot::new(&before, &moment).unwrap();
            let is = was.beside(&after, &moment).unwrap();
            let found = cores(count).install(|| difference(&was, &is, None));
            let mut triples = Vec::new();
            found.triples(|user, action, resource, gained| triples.push((resource, action, user, gained)));
            triples.sort_unstable();
            triples
        };
        let mut plainly = Vec::new();
        let (was, is) = (Snapshot::new(&before, &moment).unwrap(), Snapshot::new(&after, &moment).unwrap());
        let (mut was, mut is) = (was.evaluator(), is.evaluator());
        let (mut had, mut has) = (was.nobody(), is.nobody());
        for resource in before.catalog().all() {
            for action in ActionId::all(before.schema().actions.len()) {
                was.allowed(resource, action, &mut had);
                is.allowed(resource, action, &mut has);
                for user in 0..before.people().len() {
                    let (had, has) = (had.contains(user), has.contains(user));
                    if had != has {
                        plainly.push((resource.0, action.0, user as u32, has));
                    }
                }
            }
        }
        assert_eq!(!plainly.is_empty(), differs, "{change:?}");
        assert!(found(1) == plainly && found(3) == plainly, "{change:?}");
    }
}

/// What one statement reaches, what one user may do and how two differ are told the same by any number of cores.
#[test]
fn one_statement_and_one_user_are_told_the_same_in_shares() {
    let case = estate(30_000);
    let (estate, said) = load(&case, 2);
    let estate = estate.unwrap_or_else(|| panic!("{said:#?}"));
    let moment = Moment::on("2026-11-24".parse().unwrap(), estate.schema());
    let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
    let users: Vec<UserId> = estate.people().all().step_by(estate.people().len() / 4).collect();
    let groups: Vec<GroupId> = estate.groups().all().take(2).collect();
    let told = |count: usize| {
        cores(count).install(|| {
            let mut told = Vec::new();
            for id in StatementId::all(estate.statements().len()) {
                told.push(format!("{:?}", access::reach(&snapshot, id, false, &[], 4).expect("no circles")));
            }
            for user in &users {
                told.push(format!("{:?}", access::person(&snapshot, *user, None, access::Extent::WHOLE)));
                told.push(format!("{:?}", access::compare(&snapshot, users[0], access::Beside::User(*user))));
            }
            for group in &groups {
                told.push(format!("{:?}", access::compare(&snapshot, users[0], access::Beside::Group(*group))));
            }
            told
        })
    };
    let one = told(1);
    assert!(one.len() > 12 && one.iter().map(String::len).sum::<usize>() > 20_000);
    assert_eq!(one, told(2));
    assert_eq!(one, told(4));
    // What the user may do is what is decided, on every resource.
    let reference = snapshot.reference();
    for user in &users[1..] {
        let (person, _) = access::person(&snapshot, *user, None, access::Extent::WHOLE);
        let may = |resource: ResourceId| {
            ActionId::all(estate.schema().actions.len()).any(|action| reference.allows(*user, action, resource))
        };
        assert_eq!(person.touched, estate.catalog().all().filter(|resource| may(*resource)).count());
    }
}
