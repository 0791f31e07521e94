//! Every command, on random estates of every form of the language, against the specification evaluator.
//!
//! The built program answers; the evaluator, asked triple by triple, says what is right. How many estates are tried is in
//! `BASTIDE_ESTATES` (a few dozen otherwise), from which seed on in `BASTIDE_SEED`; `docs/security.md` tells what is
//! compared for each command, and that list is held against the commands there are.

mod common;

use bastide_engine::change::{self, Change, apply};
use bastide_engine::{Reason, ReferenceEvaluator};
use bastide_model::*;
use bastide_testkit::random::{Shape, plan};
use fastrand::Rng;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};

const DAY: &str = "2026-11-24";

/// What each command is compared in. A command that is not here fails the test below.
const COVERED: &[&str] = &[
    "matrix", "what", "who", "why", "try", "diff", "reach", "test", "audit", "review", "report", "compare", "rules",
    "about", "check", "verify", "filter",
];
/// Commands that say nothing of anybody's access; `import`, which is compared with the systems themselves (`directory`,
/// `database`, `tree`); and `sql`, a program with tests of its own.
const ASIDE: &[&str] = &["demo", "new", "fmt", "import", "schema", "setup", "editor", "explore", "sql", "help"];

type Triple = (String, String, String);

/// The evaluator's answers, asked once: by user, resource and action.
struct Truth<'e> {
    estate: &'e Estate,
    reference: ReferenceEvaluator<'e>,
    decisions: BTreeMap<(UserId, ResourceId, ActionId), bastide_engine::Decision>,
}

impl<'e> Truth<'e> {
    fn of(estate: &'e Estate, moment: &'e Moment) -> Option<Truth<'e>> {
        let reference = ReferenceEvaluator::new(estate, moment).ok()?;
        let mut decisions = BTreeMap::new();
        for user in estate.people().all() {
            for resource in estate.catalog().all() {
                for action in ActionId::all(estate.schema().actions.len()) {
                    decisions.insert((user, resource, action), reference.decide(user, action, resource));
                }
            }
        }
        Some(Truth { estate, reference, decisions })
    }

    fn allows(&self, user: UserId, action: ActionId, resource: ResourceId) -> bool {
        self.decisions[&(user, resource, action)].is_allowed()
    }

    fn named(&self, user: UserId, resource: ResourceId, action: ActionId) -> Triple {
        (
            self.estate.people().id(user).to_string(),
            self.estate.catalog().id(resource).to_string(),
            self.action(action).to_string(),
        )
    }

    fn action(&self, action: ActionId) -> &str {
        &self.estate.schema().actions[action.index()].name
    }

    fn allowed(&self) -> BTreeSet<Triple> {
        let allowed = self.decisions.iter().filter(|(_, d)| d.is_allowed());
        allowed.map(|((user, resource, action), _)| self.named(*user, *resource, *action)).collect()
    }
}

struct Asked<'t, 'e> {
    dir: &'t Path,
    truth: &'t Truth<'e>,
    about: String,
}

impl Asked<'_, '_> {
    fn run(&self, args: &[&str]) -> common::Run {
        common::run_in(self.dir, &[args, &["--on", DAY]].concat())
    }

    #[track_caller]
    fn json(&self, args: &[&str]) -> Value {
        let run = self.run(&[args, &["--format", "json"]].concat());
        assert!(run.status <= 1, "{}: {args:?}: {}", self.about, run.whole());
        serde_json::from_str(&run.out).unwrap_or_else(|e| panic!("{}: {args:?}: {e}", self.about))
    }

    fn rows(&self, args: &[&str]) -> Vec<Vec<String>> {
        let run = self.run(args);
        assert_eq!(run.status, 0, "{}: {args:?}: {}", self.about, run.whole());
        let mut reader = csv::ReaderBuilder::new().has_headers(true).from_reader(run.out.as_bytes());
        reader.records().map(|row| row.unwrap().iter().map(str::to_string).collect()).collect()
    }

    fn estate(&self) -> &Estate {
        self.truth.estate
    }
}

fn list(value: &Value) -> impl Iterator<Item = &Value> {
    value.as_array().into_iter().flatten()
}

fn text(value: &Value) -> String {
    value.as_str().unwrap_or_default().to_string()
}

/// Every format of the matrix, its totals and its summary.
fn matrix(asked: &Asked) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let triples = asked.rows(&["matrix", "--all", "--reasons", "--format", "csv"]);
    assert_eq!(triples.len(), truth.decisions.len(), "{about}");
    for row in &triples {
        let key = (
            estate.people().find(&row[0]).unwrap(),
            estate.catalog().find(&row[1]).unwrap(),
            estate.schema().action(&row[2]).unwrap(),
        );
        let decision = truth.decisions[&key];
        let by = decision.by.map_or("", |by| estate.statement(by).name.as_str());
        let word = if decision.is_allowed() { "allowed" } else { "refused" };
        assert_eq!([&row[3], &row[4], &row[5]], [word, decision.reason.word(), by], "{about}: {row:?}");
    }
    let expected = truth.allowed();
    let of_rows = |rows: Vec<Vec<String>>| -> BTreeSet<Triple> {
        let each = |row: Vec<String>| {
            let actions: Vec<String> = row[2].split(';').filter(|a| !a.is_empty()).map(str::to_string).collect();
            actions.into_iter().map(move |action| (row[0].clone(), row[1].clone(), action))
        };
        rows.into_iter().flat_map(each).collect()
    };
    assert_eq!(of_rows(asked.rows(&["matrix", "--format", "csv", "--inactive"])), expected, "{about}: csv");
    let lines = asked.run(&["matrix", "--format", "jsonl", "--inactive"]).ok();
    let of_lines: BTreeSet<Triple> = lines
        .lines()
        .map(|line| serde_json::from_str::<Value>(line).unwrap())
        .flat_map(|v| {
            list(&v["actions"]).map(|a| (text(&v["user"]), text(&v["resource"]), text(a))).collect::<Vec<_>>()
        })
        .collect();
    assert_eq!(of_lines, expected, "{about}: jsonl");
    let table = asked.json(&["matrix", "--all"]);
    let mut of_table = BTreeSet::new();
    for row in list(&table["rows"]) {
        for (profile, cell) in list(&table["profiles"]).zip(list(&row["cells"])) {
            for user in list(&profile["users"]) {
                let names = list(cell).map(|a| text(&table["actions"][a.as_u64().unwrap() as usize]));
                of_table.extend(names.map(|action| (text(user), text(&row["resource"]), action)));
            }
        }
    }
    assert_eq!(of_table, expected, "{about}: table");
    let summary = asked.json(&["matrix", "--summary"]);
    for (at, action) in estate.schema().actions.iter().enumerate() {
        let number = truth.decisions.iter().filter(|((.., a), d)| a.index() == at && d.is_allowed()).count();
        assert_eq!(summary["allowed"][&action.name], number, "{about}: {}", action.name);
    }
    for reason in Reason::ALL.into_iter().filter(|r| !r.is_allowed()) {
        let number = truth.decisions.values().filter(|d| d.reason == reason).count();
        let told = summary["refused"].get(reason.word()).and_then(Value::as_u64).unwrap_or(0);
        assert_eq!(told, number as u64, "{about}: {reason:?}");
    }
    let mut profiles: BTreeSet<Vec<bool>> = BTreeSet::new();
    for user in estate.people().all() {
        let own = truth.decisions.iter().filter(|((u, ..), _)| *u == user);
        profiles.insert(own.map(|(_, d)| d.is_allowed()).collect());
    }
    assert_eq!(summary["profiles"], profiles.len(), "{about}");
    for (by, at) in [("users", 0), ("resources", 1)] {
        for row in asked.rows(&["matrix", "--totals", by]) {
            for (action, told) in estate.schema().actions.iter().zip(&row[1..]) {
                let own = |t: &&Triple| [&t.0, &t.1][at] == &row[0] && t.2 == action.name;
                assert_eq!(told.parse(), Ok(expected.iter().filter(own).count()), "{about}: {row:?}");
            }
        }
    }
}

/// One user: counts by kind, what is touched, groups, and by which statements.
fn what(asked: &Asked, user: UserId) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let answer = asked.json(&["what", estate.people().id(user)]);
    let own: Vec<(&(UserId, ResourceId, ActionId), &bastide_engine::Decision)> =
        truth.decisions.iter().filter(|((u, ..), d)| *u == user && d.is_allowed()).collect();
    for count in list(&answer["counts"]) {
        let kind = estate.schema().kind(count["kind"].as_str().unwrap()).unwrap();
        for pair in list(&count["allowed"]) {
            let action = estate.schema().action(pair[0].as_str().unwrap()).unwrap();
            let number = own.iter().filter(|((_, r, a), _)| *a == action && estate.catalog().kind(*r) == kind).count();
            assert_eq!(pair[1], number, "{about}: {count}");
        }
    }
    let touched: BTreeSet<ResourceId> = own.iter().map(|((_, r, _), _)| *r).collect();
    assert_eq!(answer["touched"], touched.len(), "{about}");
    let mut by: BTreeMap<&str, usize> = BTreeMap::new();
    own.iter().filter_map(|(_, d)| d.by).for_each(|id| *by.entry(&estate.statement(id).name).or_default() += 1);
    let told: BTreeMap<&str, usize> = list(&answer["through"])
        .map(|t| (t["statement"]["name"].as_str().unwrap(), t["pairs"].as_u64().unwrap() as usize))
        .collect();
    assert_eq!(told, by, "{about}: {}", estate.people().id(user));
    let groups: BTreeSet<(String, bool)> =
        list(&answer["groups"]).map(|g| (text(&g["group"]), g["certain"].as_bool().unwrap())).collect();
    let expected = estate.groups().all().map(|g| (g, truth.reference.member(user, g)));
    let expected =
        expected.filter(|(_, t)| t.not_false()).map(|(g, t)| (estate.groups().id(g).to_string(), t.is_true()));
    assert_eq!(groups, expected.collect(), "{about}");
}

fn who(asked: &Asked, action: ActionId, resource: ResourceId) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let answer = asked.json(&["who", truth.action(action), estate.catalog().id(resource), "--inactive"]);
    let mut told = BTreeSet::new();
    for group in list(&answer["by"]).chain(list(&answer["not"])) {
        for user in list(&group["users"]) {
            told.insert((text(&user["user"]), text(&group["reason"]), text(&group["statement"]["name"])));
        }
    }
    let expected = estate.people().all().map(|user| {
        let decision = truth.decisions[&(user, resource, action)];
        let by = decision.by.map_or(String::new(), |id| estate.statement(id).name.clone());
        (estate.people().id(user).to_string(), decision.reason.word().to_string(), by)
    });
    assert_eq!(told, expected.collect(), "{about}: {} {}", truth.action(action), estate.catalog().id(resource));
    let csv = asked.rows(&[
        "who",
        truth.action(action),
        estate.catalog().id(resource),
        "--inactive",
        "--not",
        "--format",
        "csv",
    ]);
    let of_csv: BTreeSet<(String, String, String)> =
        csv.into_iter().map(|row| (row[0].clone(), row[3].clone(), row[4].clone())).collect();
    assert_eq!(of_csv, told, "{about}: csv");
}

/// Who can do two things at once.
fn who_can_both(asked: &Asked, actions: [ActionId; 2], resource: ResourceId) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let words = actions.map(|a| truth.action(a)).join(",");
    let answer = asked.json(&["who", &words, estate.catalog().id(resource), "--inactive"]);
    let told: BTreeSet<String> =
        list(&answer["by"]).flat_map(|by| list(&by["users"]).map(|u| text(&u["user"])).collect::<Vec<_>>()).collect();
    let both = |u: &UserId| actions.iter().all(|a| truth.allows(*u, *a, resource));
    let expected = estate.people().all().filter(both).map(|u| estate.people().id(u).to_string());
    assert_eq!(told, expected.collect(), "{about}: {words} {}", estate.catalog().id(resource));
}

/// The triples that differ by changes, asked one by one.
fn differing(before: &Truth, after: &Estate, moment: &Moment) -> Option<BTreeSet<(Triple, bool)>> {
    let after = Truth::of(after, moment)?;
    let (old, new) = (before.allowed(), after.allowed());
    let gained = new.difference(&old).map(|t| (t.clone(), true));
    Some(gained.chain(old.difference(&new).map(|t| (t.clone(), false))).collect())
}

fn counted(turns: &BTreeSet<(Triple, bool)>) -> [usize; 4] {
    let users: BTreeSet<&String> = turns.iter().map(|(t, _)| &t.0).collect();
    let resources: BTreeSet<&String> = turns.iter().map(|(t, _)| &t.1).collect();
    let gained = turns.iter().filter(|(_, gained)| *gained).count();
    [gained, turns.len() - gained, users.len(), resources.len()]
}

fn radius(value: &Value) -> [usize; 4] {
    ["gained", "lost", "users", "resources"].map(|name| value[name].as_u64().unwrap() as usize)
}

fn read_option(estate: &Estate, option: &str, text: &str) -> Change {
    let read = match option {
        "--off" | "--drop" => |e: &Estate, t: &str| Ok(Change::Off(change::statement(e, t)?)),
        "--on-rule" => |e: &Estate, t: &str| Ok(Change::On(change::statement(e, t)?)),
        "--window" => change::window,
        "--actions" => change::actions,
        "--join" => change::join,
        "--leave" => change::leave,
        "--set" => change::set,
        "--entry" => change::give,
        "--except" => change::except,
        other => panic!("{other}"),
    };
    read(estate, text).unwrap_or_else(|e| panic!("{option} {text}: {e}"))
}

/// One decision, what is said of it, and every remedy: each turns it, and changes what it says and no more.
fn why(
    asked: &Asked,
    moment: &Moment,
    (user, action, resource): (UserId, ActionId, ResourceId),
    remedies: &AtomicUsize,
) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let names = [estate.people().id(user), truth.action(action), estate.catalog().id(resource)];
    let answer = asked.json(&["why", names[0], names[1], names[2]]);
    let decision = truth.decisions[&(user, resource, action)];
    assert_eq!(
        (&answer["allowed"], text(&answer["reason"])),
        (&Value::from(decision.is_allowed()), decision.reason.word().into()),
        "{about}: {names:?}"
    );
    let decides = list(&answer["applying"]).find(|a| a["fate"]["is"] == "decides");
    let by = decision.by.map(|id| estate.statement(id).name.as_str());
    assert_eq!(decides.map(|d| d["statement"]["name"].as_str().unwrap()), by, "{about}: {names:?}");
    let favourable = truth.reference.favourable().decide(user, action, resource).is_allowed();
    assert_eq!(answer["undecided"], favourable != decision.is_allowed(), "{about}: {names:?}");
    for remedy in list(&answer["remedies"]["list"]) {
        let options: Vec<String> = list(&remedy["changes"]).flat_map(|c| list(&c["option"]).map(text)).collect();
        let changes: Vec<Change> = options.chunks(2).map(|o| read_option(estate, &o[0], &o[1])).collect();
        let after = apply(estate, &changes).unwrap_or_else(|e| panic!("{about}: {options:?}: {e:?}"));
        let Some(turns) = differing(truth, &after, moment) else { continue };
        assert_eq!(radius(&remedy["radius"]), counted(&turns), "{about}: {names:?} {options:?}");
        let wished = turns.iter().any(|(t, gained)| {
            (t.0.as_str(), t.2.as_str(), t.1.as_str()) == (names[0], names[1], names[2])
                && *gained != decision.is_allowed()
        });
        assert!(wished, "{about}: {names:?} {options:?} does not turn it");
        let words: Vec<&str> = ["try"].into_iter().chain(options.iter().map(String::as_str)).collect();
        let tried = asked.json(&words);
        assert_eq!(radius(&tried["radius"]), counted(&turns), "{about}: try {options:?}");
        remedies.fetch_add(1, Ordering::Relaxed);
    }
}

/// A change that is tried, written into a copy, and compared with what was there.
fn try_and_diff(asked: &Asked, moment: &Moment, rng: &mut Rng) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let id = StatementId::new(rng.usize(..estate.statements().len()));
    let changes = [
        Change::Off(id),
        Change::User(
            UserId::new(rng.usize(..estate.people().len())),
            change::UserCell::Active,
            Some(Value_::Flag(rng.bool())),
        ),
        Change::Resource(
            ResourceId::new(rng.usize(..estate.catalog().len())),
            change::ResourceCell::Inherits,
            Some(Value_::Flag(rng.bool())),
        ),
    ];
    // What lies inside a dataset follows from its rows.
    let outside = |c: &Change| !matches!(c, Change::Resource(at, ..) if estate.dataset_around(*at).is_some());
    let changes: Vec<Change> = changes
        .into_iter()
        .filter(|c| !matches!(c, Change::Off(id) if estate.statement(*id).off))
        .filter(outside)
        .collect();
    let options: Vec<String> = changes.iter().flat_map(|c| change::describe(estate, c).option).collect();
    let after = apply(estate, &changes).unwrap_or_else(|e| panic!("{about}: {options:?}: {e:?}"));
    let Some(turns) = differing(truth, &after, moment) else { return };
    let words: Vec<&str> = ["try"].into_iter().chain(options.iter().map(String::as_str)).collect();
    assert_eq!(radius(&asked.json(&words)["radius"]), counted(&turns), "{about}: {options:?}");
    // The same, written into the files of a copy.
    let copy = tempfile::tempdir().unwrap();
    let old = copy.path().join("old");
    copied(asked.dir, &old);
    let written = asked.run(&[&words[..], &["--write", "--far", "--anyway"]].concat());
    assert!(written.status <= 1, "{about}: {options:?}: {}", written.whole());
    let rows = asked.rows(&["diff", old.to_str().unwrap(), ".", "--format", "csv"]);
    let told: BTreeSet<(Triple, bool)> =
        rows.into_iter().map(|r| ((r[0].clone(), r[1].clone(), r[2].clone()), r[3] == "gained")).collect();
    assert_eq!(told, turns, "{about}: diff after {options:?}");
    std::fs::remove_dir_all(asked.dir).unwrap();
    copied(&old, asked.dir);
}

use bastide_model::Value as Value_;

fn copied(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).unwrap();
    for entry in std::fs::read_dir(from).unwrap() {
        let path = entry.unwrap().path();
        let new = to.join(path.file_name().unwrap());
        if path.is_dir() { copied(&path, &new) } else { std::fs::copy(&path, &new).map(|_| ()).unwrap() }
    }
}

/// Whom a statement reaches: in an estate in which it stands alone and everybody is active, where it decides.
fn reach(asked: &Asked, moment: &Moment, id: StatementId) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let s = estate.statement(id);
    let looks = |c: &condition::Condition| {
        let mut found = false;
        c.visit(&mut |inner| found |= matches!(inner.test, condition::Test::Holds(..) | condition::Test::MemberOf(_)));
        found
    };
    let grouped =
        s.who.terms.iter().any(|t| matches!(t, condition::Term::Members(g) if !estate.groups().through(*g).is_empty()));
    let answer = asked.json(&["reach", &s.name]);
    // What changes by it is the same question as a change that is tried.
    if s.is_on() && s.in_date(moment.date) {
        let after = apply(estate, &[Change::Off(id)]).unwrap();
        if let Some(turns) = differing(truth, &after, moment) {
            assert_eq!(radius(&answer["sole"]), counted(&turns), "{about}: {}", s.name);
        }
    }
    if s.conditions().any(looks) || grouped || s.actions.is_clear() {
        return;
    }
    let mut parts = estate.clone().into_parts();
    parts.combining = Combining::DenyOverrides;
    parts.layers.clear();
    parts.statements.iter_mut().for_each(|statement| std::sync::Arc::make_mut(statement).layer = None);
    let mut alone = Estate::new(parts);
    let people = alone.people_mut();
    UserId::all(people.len()).for_each(|user| people.set_active(user, true));
    for other in StatementId::all(alone.statements().len()) {
        let statement = alone.statement_mut(other);
        statement.off = other != id;
        if other == id {
            (statement.from, statement.until) = (None, None);
        }
    }
    let restricts = !s.modality.permits();
    if restricts {
        let mut all = fixedbitset::FixedBitSet::with_capacity(alone.schema().actions.len());
        all.insert_range(..);
        let entry = change::entry(condition::Term::Anyone, Modality::May, all, None, Reach::Under);
        alone = apply(&alone, &[Change::Give(std::sync::Arc::new(entry))]).unwrap();
    }
    let Ok(reference) = ReferenceEvaluator::new(&alone, moment) else { return };
    let favourable = reference.favourable();
    let applies = |reference: &ReferenceEvaluator, user: UserId, action: ActionId, resource: ResourceId| {
        let reason = reference.decide(user, action, resource).reason;
        match restricts {
            true => matches!(reason, Reason::Denied | Reason::Capped),
            false => matches!(reason, Reason::Granted | Reason::Assured | Reason::Blocked),
        }
    };
    let (mut triples, mut open, mut users, mut resources) = (0, 0, BTreeSet::new(), BTreeSet::new());
    for user in alone.people().all() {
        for resource in alone.catalog().all() {
            for action in ActionId::all(alone.schema().actions.len()) {
                let (now, other) =
                    (applies(&reference, user, action, resource), applies(&favourable, user, action, resource));
                triples += usize::from(now);
                open += usize::from(now != other);
                if now {
                    users.insert(alone.people().id(user).to_string());
                    resources.insert(resource);
                }
            }
        }
    }
    let told: BTreeSet<String> = list(&answer["users"]).map(text).collect();
    assert_eq!(answer["triples"], triples, "{about}: {}", s.name);
    assert_eq!((told, &answer["resources"]), (users, &Value::from(resources.len())), "{about}: {}", s.name);
    assert_eq!(answer["undecided"], open, "{about}: {}", s.name);
    let rules = asked.json(&["rules"]);
    let row = list(&rules["statements"])
        .find(|r| r["name"] == s.name.as_str())
        .unwrap_or_else(|| panic!("{about}: {}", s.name));
    if s.is_on() && s.in_date(moment.date) {
        assert_eq!(row["triples"], triples, "{about}: rules {}", s.name);
        assert_eq!(row["undecided"], open, "{about}: rules {}", s.name);
    }
}

/// Expectations and guarantees that are right, and such as are not.
fn proofs(asked: &Asked, rng: &mut Rng) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let mut policy = String::new();
    let mut expected: BTreeMap<String, bool> = BTreeMap::new();
    let keys: Vec<&(UserId, ResourceId, ActionId)> = truth.decisions.keys().collect();
    for at in 0..6 {
        let (user, resource, action) = *keys[rng.usize(..keys.len())];
        let (holds, allowed) = (rng.bool(), truth.allows(user, action, resource));
        let word = if allowed == holds { "can" } else { "cannot" };
        let (user, place) = (estate.people().id(user), estate.catalog().id(resource));
        policy
            .push_str(&format!("expect claim-{at} {{ user {user} {word} {} id \"{place}\" }}\n", truth.action(action)));
        expected.insert(format!("claim-{at}"), holds);
    }
    for at in 0..3 {
        let (user, _, action) = *keys[rng.usize(..keys.len())];
        let number = estate.catalog().all().filter(|r| truth.allows(user, action, *r)).count();
        let (holds, user) = (rng.bool(), estate.people().id(user));
        let told = if holds { number } else { number + 1 };
        policy.push_str(&format!(
            "expect count-{at} {{ user {user} reaches exactly {told} anything by {} }}\n",
            truth.action(action)
        ));
        expected.insert(format!("count-{at}"), holds);
        let nobody = truth
            .decisions
            .iter()
            .any(|((u, _, a), d)| *a == action && estate.people().id(*u) == user && d.is_allowed());
        policy.push_str(&format!(
            "guarantee none-{at} {{ none of user {user} can {} what anything }}\n",
            truth.action(action)
        ));
        expected.insert(format!("none-{at}"), !nobody);
        let others = truth
            .decisions
            .iter()
            .any(|((u, _, a), d)| *a == action && estate.people().id(*u) != user && d.is_allowed());
        policy.push_str(&format!(
            "guarantee only-{at} {{ only user {user} can {} what anything }}\n",
            truth.action(action)
        ));
        expected.insert(format!("only-{at}"), !others);
    }
    let file = asked.dir.join("policy/zz-proofs.bastide");
    std::fs::write(&file, policy).unwrap();
    let answer = asked.json(&["test"]);
    let told: BTreeMap<String, bool> =
        list(&answer["proofs"]).map(|p| (text(&p["name"]), p["holds"].as_bool().unwrap())).collect();
    assert_eq!(told, expected, "{about}");
    std::fs::remove_file(&file).unwrap();
}

/// The numbers of the audit that can be counted triple by triple.
fn audit(asked: &Asked, moment: &Moment) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let answer = asked.json(&["audit"]);
    let findings =
        |name: &str| list(&answer["findings"]).filter(|f| f["name"] == name).cloned().collect::<Vec<Value>>();
    let guests = truth
        .decisions
        .iter()
        .filter(|((u, _, a), d)| estate.people().kind(*u) == "guest" && truth.action(*a) != "read" && d.is_allowed());
    let mut by: BTreeMap<String, (BTreeSet<UserId>, u64)> = BTreeMap::new();
    for ((user, ..), decision) in guests {
        let entry = by.entry(estate.statement(decision.by.unwrap()).name.clone()).or_default();
        entry.0.insert(*user);
        entry.1 += 1;
    }
    let many = |n: u64, noun: &str| format!("{n} {noun}{}", if n == 1 { "" } else { "s" });
    let expected: BTreeSet<String> = by
        .values()
        .map(|(users, triples)| format!("{}, {}", many(users.len() as u64, "guest"), many(*triples, "triple")))
        .collect();
    let told: BTreeSet<String> = findings("guest-power").iter().map(|f| text(&f["evidence"][0])).collect();
    assert_eq!(told, expected, "{about}: guest-power");
    let all = |user: &UserId| {
        let fits = |r: ResourceId, a: ActionId| estate.schema().fits(a, estate.catalog().kind(r));
        estate.people().is_active(*user)
            && estate.catalog().roots().all(|r| {
                ActionId::all(estate.schema().actions.len()).filter(|a| fits(r, *a)).all(|a| truth.allows(*user, a, r))
            })
    };
    let powerful = estate.people().all().filter(all).count();
    let any = estate.catalog().roots().next().is_some_and(|r| {
        ActionId::all(estate.schema().actions.len()).any(|a| estate.schema().fits(a, estate.catalog().kind(r)))
    });
    let told = findings("full-power").first().map_or(0, |f| f["evidence"].as_array().unwrap().len());
    assert_eq!(told, if any { powerful } else { 0 }, "{about}: full-power");
    let Some(read) = estate.schema().action("read") else { return };
    let mut leaks = BTreeSet::new();
    for resource in estate.catalog().all() {
        for source in estate.catalog().sources(resource) {
            let Source::Resource(source) = source else { continue };
            let leak = |u: &UserId| truth.allows(*u, read, resource) && !truth.allows(*u, read, *source);
            let number = estate.people().all().filter(|u| estate.people().is_active(*u)).filter(leak).count();
            if number > 0 {
                leaks.insert((
                    format!("{} from {}", estate.catalog().id(resource), estate.catalog().id(*source)),
                    many(number as u64, "user"),
                ));
            }
        }
    }
    let told: BTreeSet<(String, String)> = findings("source-leak")
        .iter()
        .map(|f| (text(&f["about"]), text(&f["message"]).split(" can read").next().unwrap().to_string()))
        .collect();
    assert_eq!(told, leaks, "{about}: source-leak");
    let mut tried: BTreeMap<String, usize> = BTreeMap::new();
    for finding in list(&answer["findings"]) {
        let example = &finding["example"];
        if !example.is_null() {
            let key = (
                estate.people().find(example["user"].as_str().unwrap()).unwrap(),
                estate.catalog().find(example["resource"].as_str().unwrap()).unwrap(),
                estate.schema().action(example["action"].as_str().unwrap()).unwrap(),
            );
            let word = if truth.decisions[&key].is_allowed() { " can " } else { " cannot " };
            assert!(text(&example["sentence"]).contains(word), "{about}: {finding}");
        }
        // What a suggestion says that it changes, it changes.
        let suggestion = &finding["suggestion"];
        let options: Vec<String> = list(&suggestion["changes"]).flat_map(|c| list(&c["option"]).map(text)).collect();
        let seen = tried.entry(text(&finding["name"])).or_default();
        if options.is_empty() || suggestion["radius"].is_null() || *seen == 2 {
            continue;
        }
        *seen += 1;
        let changes: Vec<Change> = options.chunks(2).map(|o| read_option(estate, &o[0], &o[1])).collect();
        let after = apply(estate, &changes).unwrap_or_else(|e| panic!("{about}: {options:?}: {e:?}"));
        if let Some(turns) = differing(truth, &after, moment) {
            assert_eq!(radius(&suggestion["radius"]), counted(&turns), "{about}: {finding}");
        }
    }
}

/// The rows of the review: each person may do all of it, on as many resources; and nobody with access is left out.
fn review(asked: &Asked) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let folder = asked.dir.join("sheets");
    let run = asked.run(&["review", "sheets", "sheets", "--by", "root"]);
    assert_eq!(run.status, 0, "{about}: {}", run.whole());
    let mut listed = BTreeSet::new();
    for file in std::fs::read_dir(&folder).unwrap() {
        let mut reader = csv::Reader::from_path(file.unwrap().path()).unwrap();
        let headers = reader.headers().unwrap().clone();
        for row in reader.records() {
            let row = row.unwrap();
            let cell = |name: &str| row[headers.iter().position(|h| h == name).unwrap()].to_string();
            let actions: Vec<ActionId> = cell("may").split("; ").map(|a| estate.schema().action(a).unwrap()).collect();
            let number: usize = cell("resources").parse().unwrap();
            for person in cell("people").split("; ") {
                let user = estate.people().find(person).unwrap();
                let fits = |r: ResourceId, a: &ActionId| estate.schema().fits(*a, estate.catalog().kind(r));
                let inside = |r: &ResourceId| {
                    estate.catalog().upward(*r).last().map(|root| estate.catalog().path(root)) == Some(cell("sheet"))
                };
                let may = |r: &ResourceId| {
                    let mut own = actions.iter().filter(|a| fits(*r, a)).peekable();
                    own.peek().is_some() && own.all(|a| truth.allows(user, *a, *r))
                };
                let on = estate.catalog().all().filter(inside).filter(may).count();
                assert!(on >= number || cell("on").contains("each of them"), "{about}: {row:?} {person}: {on}");
                listed.extend(actions.iter().map(|a| (person.to_string(), cell("sheet"), *a)));
            }
        }
    }
    for ((user, resource, action), _) in truth.decisions.iter().filter(|(_, d)| d.is_allowed()) {
        let root = estate.catalog().path(estate.catalog().upward(*resource).last().unwrap());
        let key = (estate.people().id(*user).to_string(), root, *action);
        assert!(listed.contains(&key), "{about}: {key:?} is on no sheet");
    }
    std::fs::remove_dir_all(&folder).unwrap();
}

/// The lines of the report's table, added up.
fn report(asked: &Asked) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let page = asked.run(&["report"]).ok();
    let from = page.find("id=\"data\">").unwrap() + "id=\"data\">".len();
    let data: Value = serde_json::from_str(&page[from..from + page[from..].find("</script>").unwrap()]).unwrap();
    let data = &data["folded"];
    let mut told: BTreeMap<(String, String), i64> = BTreeMap::new();
    for line in list(&data["lines"]) {
        let number = line["n"].as_i64().unwrap();
        let users = match (line["o"] == true, line["x"] == true) {
            (true, _) => 1,
            (_, x) => data["sets"][line["s"].as_u64().unwrap() as usize][1].as_i64().unwrap() - i64::from(x),
        };
        for action in list(&line["a"]) {
            let action = text(&data["actions"][action.as_u64().unwrap() as usize]);
            *told.entry((action, text(&line["r"]))).or_default() += number * users;
        }
    }
    let mut expected: BTreeMap<(String, String), i64> = BTreeMap::new();
    for ((user, _, action), decision) in &truth.decisions {
        if estate.people().is_active(*user) && decision.reason != Reason::Silent {
            let key = (truth.action(*action).to_string(), decision.reason.word().to_string());
            *expected.entry(key).or_default() += 1;
        }
    }
    assert_eq!(told, expected, "{about}: report");
}

fn compare(asked: &Asked, left: UserId, right: UserId) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let answer = asked.json(&["compare", estate.people().id(left), estate.people().id(right)]);
    let (mut same, mut only) = (0, [0u64, 0]);
    for resource in estate.catalog().all() {
        for action in ActionId::all(estate.schema().actions.len()) {
            match (truth.allows(left, action, resource), truth.allows(right, action, resource)) {
                (true, true) => same += 1,
                (true, false) => only[0] += 1,
                (false, true) => only[1] += 1,
                (false, false) => {}
            }
        }
    }
    let sum = |side: &str| list(&answer[side]).map(|a| a["pairs"].as_u64().unwrap()).sum::<u64>();
    assert_eq!(answer["same"], same, "{about}");
    assert_eq!([sum("only_left"), sum("only_right")], only, "{about}");
    for (side, user) in [("left", left), ("right", right)] {
        for count in list(&answer[side]["counts"]) {
            let kind = estate.schema().kind(count["kind"].as_str().unwrap()).unwrap();
            let of_kind = || estate.catalog().all().filter(|r| estate.catalog().kind(*r) == kind);
            assert_eq!(count["resources"], of_kind().count(), "{about}: {count}");
            for pair in list(&count["allowed"]) {
                let action = estate.schema().action(pair[0].as_str().unwrap()).unwrap();
                let number = of_kind().filter(|r| truth.allows(user, action, *r)).count();
                assert_eq!(pair[1], number, "{about}: {count}");
            }
        }
    }
}

/// Which rows and columns everybody gets of a dataset: those of the slices and columns that are allowed, no more and no less.
fn filter(asked: &Asked, rng: &mut Rng) {
    let (truth, estate, about) = (asked.truth, asked.estate(), &asked.about);
    let Some(inside) = estate.insides().first() else { return };
    let text = std::fs::read_to_string(asked.dir.join(&inside.file)).unwrap();
    let mut reader = csv::Reader::from_reader(text.as_bytes());
    let rows: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
    let value = |text: &str| Some(text.to_string()).filter(|text| !text.is_empty());
    let slice = |row: &csv::StringRecord| {
        let values = [value(&row[0]), value(&row[1])];
        let values: Vec<Option<&str>> = values.iter().map(Option::as_deref).collect();
        estate.catalog().find(&inside.slice_id(&values)).expect("each combination is a slice")
    };
    let action = ActionId::new(rng.usize(..estate.schema().actions.len()));
    let name = truth.action(action).to_string();
    let everybody = asked.run(&["filter", "--everybody", &name, &inside.dataset, "--format", "csv"]).ok();
    for user in estate.people().all() {
        let open: Vec<usize> = (0..3)
            .filter(|at| {
                let column = estate.catalog().find(&inside.column_id(&inside.columns[*at])).expect("a column");
                truth.allows(user, action, column)
            })
            .collect();
        let mut given: Vec<&csv::StringRecord> =
            rows.iter().filter(|row| truth.allows(user, action, slice(row))).collect();
        let open = if given.is_empty() { Vec::new() } else { open };
        given.retain(|_| !open.is_empty());
        let id = estate.people().id(user);
        let answer = asked.json(&["filter", id, &name, &inside.dataset]);
        assert_eq!(answer["seen"]["rows"], given.len(), "{about}: {id} {name}");
        let columns: Vec<&str> = open.iter().map(|at| inside.columns[*at].as_str()).collect();
        assert_eq!(list(&answer["columns"]).map(|c| c.as_str().unwrap()).collect::<Vec<_>>(), columns, "{about}: {id}");
        let told = asked.run(&["filter", id, &name, &inside.dataset, "--format", "csv"]).ok();
        let mut told = csv::Reader::from_reader(told.as_bytes());
        let told: Vec<csv::StringRecord> = told.records().map(Result::unwrap).collect();
        let wanted: Vec<csv::StringRecord> =
            given.iter().map(|row| open.iter().map(|at| &row[*at]).collect::<csv::StringRecord>()).collect();
        assert_eq!(told, wanted, "{about}: {id} {name}");
        if estate.people().is_active(user) {
            let line = everybody.lines().find(|line| line.starts_with(&format!("{id},"))).expect("everybody is there");
            assert!(line.starts_with(&format!("{id},{},", given.len())), "{about}: {line}");
        }
    }
}

/// What is known of a place: who can do what there.
fn about(asked: &Asked, resource: ResourceId) {
    let (truth, estate, told_of) = (asked.truth, asked.estate(), &asked.about);
    let answer = asked.json(&["about", &format!("resource:{}", estate.catalog().id(resource))]);
    for row in list(&answer["allowed"]) {
        let action = estate.schema().action(row[0].as_str().unwrap()).unwrap();
        let number = estate.people().all().filter(|u| truth.allows(*u, action, resource)).count();
        assert_eq!(row[1], number, "{told_of}: {row}");
    }
}

/// Every decision of the specification, some of them turned: which ones is found, and nothing else.
fn verify(asked: &Asked, rng: &mut Rng) {
    let (truth, about) = (asked.truth, &asked.about);
    let file = asked.dir.join("decided.csv");
    let mut writer = csv::Writer::from_path(&file).unwrap();
    writer.write_record(["user", "resource", "action", "decision"]).unwrap();
    let mut turned: BTreeSet<(String, String, String, bool)> = BTreeSet::new();
    for ((user, resource, action), decision) in &truth.decisions {
        let (user, resource, action) = truth.named(*user, *resource, *action);
        let turns = rng.u8(..50) == 0;
        let word = if decision.is_allowed() == turns { "refused" } else { "allowed" };
        writer.write_record([&user, &resource, &action, word]).unwrap();
        if turns {
            turned.insert((user, resource, action, decision.is_allowed()));
        }
    }
    drop(writer);
    let answer = asked.json(&["verify", &file.display().to_string()]);
    let (all, agreement) = (truth.decisions.len(), &answer["agreement"]);
    assert_eq!(
        (agreement["asked"].as_u64(), agreement["agree"].as_u64()),
        (Some(all as u64), Some((all - turned.len()) as u64)),
        "{about}"
    );
    let found = list(&agreement["differences"]).flat_map(|cause| {
        let here = cause["allowed_here"].as_bool().unwrap();
        list(&cause["some"]).map(move |one| (text(&one["user"]), text(&one["resource"]), text(&one["action"]), here))
    });
    assert_eq!(found.collect::<BTreeSet<_>>(), turned, "{about}");
    std::fs::remove_file(file).unwrap();
}

#[test]
#[allow(clippy::print_stdout, reason = "how much was compared")]
fn every_answer_is_the_specifications() {
    let number =
        |name: &str, otherwise: u64| std::env::var(name).ok().and_then(|v| v.parse().ok()).unwrap_or(otherwise);
    let (estates, first) = (number("BASTIDE_ESTATES", 24), number("BASTIDE_SEED", 0));
    let (next, done, remedies) = (AtomicUsize::new(0), AtomicUsize::new(0), AtomicUsize::new(0));
    let one = |seed: u64| {
        let plan = plan(seed, Shape::ALL);
        let plan = if seed.is_multiple_of(2) { plan.with_inside(seed) } else { plan };
        let dir = plan.case().lay_out();
        let estate = bastide_formats::load(dir.path()).estate.unwrap_or_else(|| panic!("estate {seed} has errors"));
        let moment = Moment::on(DAY.parse().unwrap(), estate.schema());
        let Some(truth) = Truth::of(&estate, &moment) else { return };
        let asked = Asked { dir: dir.path(), truth: &truth, about: format!("estate {seed}") };
        let mut rng = Rng::with_seed(seed);
        assert_eq!(asked.run(&["check"]).status, 0, "estate {seed}");
        matrix(&asked);
        audit(&asked, &moment);
        review(&asked);
        report(&asked);
        proofs(&asked, &mut rng);
        verify(&asked, &mut rng);
        filter(&asked, &mut rng);
        let keys: Vec<(UserId, ResourceId, ActionId)> = truth.decisions.keys().copied().collect();
        for _ in 0..2 {
            let (user, resource, action) = keys[rng.usize(..keys.len())];
            what(&asked, user);
            who(&asked, action, resource);
            who_can_both(&asked, [action, keys[rng.usize(..keys.len())].2], resource);
            about(&asked, resource);
            compare(&asked, user, keys[rng.usize(..keys.len())].0);
            reach(&asked, &moment, StatementId::new(rng.usize(..estate.statements().len())));
            if estate.schema().fits(action, estate.catalog().kind(resource)) {
                why(&asked, &moment, (user, action, resource), &remedies);
            }
        }
        try_and_diff(&asked, &moment, &mut rng);
        done.fetch_add(1, Ordering::Relaxed);
    };
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed) as u64;
                    if at >= estates {
                        break;
                    }
                    one(first + at);
                }
            });
        }
    });
    let (done, remedies) = (done.into_inner() as u64, remedies.into_inner());
    println!("{done} estates, {remedies} remedies applied");
    assert!(done * 3 > estates && remedies as u64 > estates / 2, "{done} of {estates}, {remedies}");
}

/// Every command is compared or said to be left aside, in the test and in the docs.
#[test]
fn no_command_is_left_out() {
    let help = common::run_in(Path::new("."), &["--help"]).ok();
    let commands = help.lines().skip_while(|l| !l.starts_with("Commands:")).skip(1).take_while(|l| !l.is_empty());
    let names: BTreeSet<String> = commands
        .filter(|l| l.starts_with("  ") && !l.starts_with("   "))
        .filter_map(|l| l.split_whitespace().next())
        .map(str::to_string)
        .collect();
    let known: BTreeSet<String> = COVERED.iter().chain(ASIDE).map(|n| n.to_string()).collect();
    assert_eq!(names, known);
    let page = std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/security.md")).unwrap();
    for name in COVERED {
        assert!(page.contains(&format!("| `{name}` |")), "{name} is not in the list of docs/security.md");
    }
}
