//! A catalog in parts that are decided on one by one is decided on as the whole catalog is.

use bastide_engine::access::{self, Portion, Running};
use bastide_engine::{ReferenceEvaluator, Snapshot};
use bastide_formats::distinct::Distinct;
use bastide_formats::parted::{Parted, Unfit};
use bastide_formats::write::Texts;
use bastide_formats::{load_as_of, parted};
use bastide_model::{ActionId, Estate, Moment, ResourceId};
use bastide_testkit::Case;
use bastide_testkit::random::{Shape, plan};
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

fn day() -> jiff::civil::Date {
    "2026-11-24".parse().unwrap()
}

fn cell(row: &str, at: usize) -> &str {
    row.split(',').nth(at).unwrap_or_default()
}

/// Some of the rows of a random estate in three parts. Rows that others lie in or are made of
/// stay, and so do those that rules name, but for a few.
fn cut(case: &mut Case, rows: &[String], policy: &str, rng: &mut fastrand::Rng) {
    let holders: BTreeSet<&str> = rows.iter().map(|row| cell(row, 1)).collect();
    let sources: BTreeSet<&str> = rows.iter().flat_map(|row| cell(row, 7).split(';')).collect();
    let catalog = case.take("catalog.csv").unwrap();
    let header = catalog.lines().next().unwrap().to_string();
    let mut tables = vec![vec![header]; 4];
    for row in rows {
        let id = cell(row, 0);
        let rash = rng.u16(..1000) < 25;
        let named = policy.contains(&format!("{id}\"")) || policy.contains(&format!("{}\"", cell(row, 3)));
        let hangs = holders.contains(id) || sources.contains(id) || cell(row, 7) == "nowhere";
        let stays = !rash && (hangs || named);
        tables[if stays { 0 } else { rng.usize(..4) }].push(row.clone());
    }
    for (at, table) in tables.into_iter().enumerate() {
        let name = if at == 0 { "catalog.csv".to_string() } else { format!("part-{at}.csv") };
        case.set(&name, table.join("\n") + "\n");
    }
    let manifest = case.take("bastide.toml").unwrap();
    case.set("bastide.toml", format!("{manifest}[[catalog]]\nfile = \"part-*.csv\"\nparts = true\n"));
}

/// Decisions of everybody on everything: reason and statement by user, resource and action.
type Decisions = BTreeMap<(String, String, usize), (&'static str, Option<String>)>;

fn decide(estate: &Estate, own: impl Fn(ResourceId) -> bool, decisions: &mut Decisions) {
    let moment = Moment::on(day(), estate.schema());
    let reference = ReferenceEvaluator::new(estate, &moment).expect("no circles");
    let snapshot = Snapshot::new(estate, &moment).expect("no circles");
    for resource in estate.catalog().all().filter(|resource| own(*resource)) {
        for user in estate.people().all() {
            for action in ActionId::all(estate.schema().actions.len()) {
                let decision = reference.decide(user, action, resource);
                let by = |decision: bastide_engine::Decision| {
                    // Lines of entries are their names, and stay what they are.
                    decision.by.map(|by| estate.statement(by).name.to_string())
                };
                assert_eq!(snapshot.decide(user, action, resource).reason, decision.reason);
                let (user, resource) =
                    (estate.people().id(user).to_string(), estate.catalog().id(resource).to_string());
                let found = (decision.reason.word(), by(decision));
                assert!(decisions.insert((user, resource, action.index()), found).is_none());
            }
        }
    }
}

fn told(unfit: Unfit) -> String {
    match unfit {
        Unfit::Estate(_, told) => told.iter().map(|d| format!("{} {}\n", d.code.name, d.message)).collect(),
        Unfit::Outside(message) => message,
    }
}

fn open(dir: &Path) -> Result<Parted, String> {
    let (loaded, parted) = parted(dir, day()).map_err(|refused| refused.to_string())?;
    parted.ok_or_else(|| loaded.diagnostics.iter().map(|d| format!("{} {}\n", d.code.name, d.message)).collect())
}

#[test]
fn parts_are_decided_on_as_the_whole_is() {
    let (mut answered, mut refused, mut entries) = (0, 0, 0);
    for seed in 0..240 {
        let mut rng = fastrand::Rng::with_seed(seed);
        let mut plan = plan(seed, Shape::ALL).with_more(seed, 24);
        for _ in 0..6 {
            let modality = ["may", "may not", "may always", "may never"][rng.usize(..4)];
            let (user, place) = (rng.usize(..6), rng.usize(..26));
            plan.entries.push(format!("user:u{user},{modality},read,x{place},at,,,"));
        }
        let mut case = plan.case();
        let policy = [plan.groups.concat(), plan.rules.concat()].concat();
        cut(&mut case, &plan.catalog, &policy, &mut rng);
        let dir = case.lay_out();
        let Ok(whole) = load_as_of(dir.path(), &Texts::new(), day()) else { panic!("it can be read") };
        let found =
            open(dir.path()).and_then(|parted| parted.survey().map_err(told).map(|surveyed| (parted, surveyed)));
        let Some(estate) = &whole.estate else {
            assert!(found.is_err(), "seed {seed}: {:?}", whole.diagnostics);
            refused += 1;
            continue;
        };
        let (parted, surveyed) = found.unwrap_or_else(|told| panic!("seed {seed}: {told}"));
        assert_eq!(surveyed.resources, estate.catalog().len());
        let moment = Moment::on(day(), estate.schema());
        let Ok(snapshot) = Snapshot::new(estate, &moment) else { continue };
        let (mut wanted, mut decided) = (Decisions::new(), Decisions::new());
        decide(estate, |_| true, &mut wanted);
        let shared = parted.shared();
        decide(shared, |_| true, &mut decided);
        let (mut running, mut rows) = (Running::new(shared), Distinct::default());
        let shared_snapshot = Snapshot::new(shared, &moment).expect("as the whole");
        rows.add(running.add(&shared_snapshot, &Portion::default(), &|_| {}).into_iter().flatten()).unwrap();
        for at in 0..parted.len() {
            let part = parted.part(at).unwrap_or_else(|unfit| panic!("{}", told(unfit)));
            decide(&part.estate, |resource| part.own.contains(resource.index()), &mut decided);
            let snapshot = Snapshot::new(&part.estate, &moment).expect("as the whole");
            let portion = Portion { number: at as u32 + 1, own: Some(&part.own) };
            rows.add(running.add(&snapshot, &portion, &|_| {}).into_iter().flatten()).unwrap();
            running.add_entries(shared, &snapshot);
            entries += part.estate.statements().len() - shared.statements().len();
        }
        assert!(wanted == decided, "seed {seed}");
        running.add_nowhere(&surveyed.nowhere, &moment);
        let (distinct, _) = rows.finish().unwrap();
        let totals = running.finish(shared, &moment, distinct);
        let wanted = access::summary(&snapshot, &|_| {});
        assert_eq!(totals, wanted, "seed {seed}");
        parted.unchanged().unwrap_or_else(|unfit| panic!("{}", told(unfit)));
        answered += 1;
    }
    assert!(
        answered > 100 && refused > 25 && entries > 300,
        "{answered} answered, {refused} refused, {entries} entries"
    );
}

const SMALL: &str = "=== bastide.toml
name = \"Small\"
policy = [\"rules.bastide\"]
[[people]]
file = \"people.csv\"
[[catalog]]
file = \"catalog.csv\"
[[catalog]]
file = \"part-*.csv\"
parts = true
at_least = 2
[[entries]]
file = \"entries.csv\"
=== rules.bastide
kind room
kind box in room
action read
rule all { because \"Open.\" who anyone may read what anything }
=== people.csv
id,name
ann,Ann
=== catalog.csv
id,parent,kind,name,state,sources
r1,,room,Quay,,
=== part-1.csv
id,parent,kind,name,state,sources
b1,r1,box,One,x,
=== part-2.csv
id,parent,kind,name,state,sources
b2,r1,box,Two,y,
=== entries.csv
subject,modality,actions,place,reach
user:ann,may not,read,b2,at
";

/// What the whole says is wrong, and what is said where parts are looked at one by one.
fn wrong(change: impl Fn(&mut Case)) -> (String, String) {
    let mut case = Case::parse(SMALL, Path::new("."));
    change(&mut case);
    let dir = case.lay_out();
    let loaded = load_as_of(dir.path(), &Texts::new(), day()).unwrap_or_else(|refused| panic!("{refused}"));
    let errors = loaded.diagnostics.iter().filter(|d| d.is_error());
    let whole = errors.map(|d| format!("{} {}\n", d.code.name, d.message)).collect();
    let parts = match open(dir.path()) {
        Ok(parted) => parted.survey().map_or_else(told, |_| String::new()),
        Err(told) => told,
    };
    (whole, parts)
}

#[test]
fn mistakes_are_told_either_way() {
    let add = |case: &mut Case, name: &str, more: &str| {
        let text = case.take(name).unwrap();
        case.set(name, text + more);
    };
    let same = |change: &dyn Fn(&mut Case), wanted: &str| {
        let (whole, parts) = wrong(change);
        assert!(whole.contains(wanted), "{whole}");
        assert!(parts.contains(wanted), "{parts}");
    };
    assert_eq!(wrong(|_| ()), Default::default());
    // One id in two parts; one in a part and in what all share.
    same(&|case| add(case, "part-2.csv", "b1,r1,box,Again,,\n"), "duplicate-id resource `b1` stands twice");
    same(&|case| add(case, "part-2.csv", "r1,,room,Again,,\n"), "duplicate-id resource `r1` stands twice");
    // What hangs on another part.
    let (whole, parts) = wrong(|case| add(case, "part-2.csv", "b3,r1,box,Three,,b1\n"));
    assert!(whole.starts_with("out-of-part `b3` has the source `b1`, in another part"), "{whole}");
    assert!(parts.starts_with("out-of-part `b3` has the source `b1`, which is neither"), "{parts}");
    same(&|case| add(case, "part-2.csv", "b3,r1,box,Three,,gone\n"), "out-of-part `b3` has the source `gone`");
    let (whole, parts) = wrong(|case| {
        add(case, "rules.bastide", "kind lid in box\n");
        add(case, "part-2.csv", "l1,b1,lid,Lid,,\n");
    });
    assert!(whole.contains("out-of-part `l1` lies in `b1`, in another part"), "{whole}");
    assert!(parts.contains("unknown-parent resource `l1` has the parent `b1`"), "{parts}");
    // Rules speak of what all parts share.
    let rule = "rule one { because \"x\" who anyone may read what box under id \"b1\" }\n";
    let (whole, parts) = wrong(|case| add(case, "rules.bastide", rule));
    assert!(whole.contains("out-of-part rule `one` names `b1`"), "{whole}");
    assert!(parts.contains("out-of-part rule `one` names `b1`"), "{parts}");
    // An entry about what is in no part; a restriction of what nothing has, and of what only one part has.
    same(
        &|case| add(case, "entries.csv", "user:ann,may never,read,b9,at\n"),
        "lost-restriction an entry (may never) has lost a place",
    );
    let never = |value: &str| {
        format!("rule nobody {{ because \"x\" who anyone may never read what box where resource.state = {value} }}\n")
    };
    same(
        &|case| add(case, "rules.bastide", &never("z")),
        "lost-restriction `nobody` (may never) has lost what it speaks of",
    );
    assert_eq!(wrong(|case| add(case, "rules.bastide", &never("y"))), Default::default());
    // Fewer rows than there should be.
    let (whole, parts) = wrong(|case| {
        case.take("part-2.csv");
        case.take("entries.csv");
        case.set("entries.csv", "subject,modality,actions,place,reach\n".to_string());
    });
    assert_eq!(whole, parts);
    assert!(whole.contains("cut-off"), "{whole}");
}

/// What restrictions have lost is no secret where the manifest says that it is no error.
#[test]
fn what_restrictions_have_lost_is_repeated() {
    let mut case = Case::parse(SMALL, Path::new("."));
    let add = |case: &mut Case, name: &str, more: &str| {
        let text = case.take(name).unwrap();
        case.set(name, text + more);
    };
    add(&mut case, "bastide.toml", "[check.levels]\nlost-restriction = \"warning\"\n");
    add(&mut case, "entries.csv", "user:gone,may never,read,b2,at\nuser:ann,may never,read,b9,at\n");
    let rule = "rule nobody { because \"x\" who anyone may never read what box where resource.state = z }\n";
    add(&mut case, "rules.bastide", rule);
    let dir = case.lay_out();
    let whole = load_as_of(dir.path(), &Texts::new(), day()).unwrap_or_else(|refused| panic!("{refused}"));
    assert!(whole.estate.is_some());
    let lost = |told: &[bastide_syntax::Diagnostic]| {
        let mut lost: Vec<String> =
            told.iter().filter(|d| d.code.name == "lost-restriction").map(|d| d.message.clone()).collect();
        lost.sort();
        lost
    };
    let surveyed = open(dir.path()).unwrap().survey().unwrap_or_else(|unfit| panic!("{}", told(unfit)));
    assert_eq!(lost(&surveyed.lost).len(), 3, "{:?}", surveyed.lost);
    assert_eq!(lost(&surveyed.lost), lost(&whole.diagnostics));
}

/// A part that is written over after it was looked at is not answered from.
#[test]
fn what_changes_meanwhile_is_seen() {
    let dir = Case::parse(SMALL, Path::new(".")).lay_out();
    let parted = open(dir.path()).unwrap();
    parted.survey().unwrap_or_else(|unfit| panic!("{}", told(unfit)));
    std::fs::write(dir.path().join("part-2.csv"), "id,parent,kind,name,state,sources\nb2,r1,box,Two,z,\n").unwrap();
    parted.part(1).unwrap_or_else(|unfit| panic!("{}", told(unfit)));
    let Err(unfit) = parted.unchanged() else { panic!("it has changed") };
    assert!(told(unfit).contains("`part-2.csv`"));
}
