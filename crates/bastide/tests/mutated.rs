//! Estates that are broken somewhere: each gives the answer it gave before, an error, or the answer that follows from what
//! stands in it now. Nothing ends in a fault, takes long, or disappears on the way.
//!
//! What follows is told by two that do not know the program's readers: a count of the rows of each table and of the rules in
//! the policy, which must all have come; and for changes that no reader sees (ends of lines, a byte-order mark, characters
//! without a width), that the answer is the one from before. What is decided is told by the specification evaluator. How many
//! are tried is in `BASTIDE_MUTANTS`, from which on in `BASTIDE_SEED`.
#![cfg(unix)]

mod common;

use bastide_engine::ReferenceEvaluator;
use bastide_model::*;
use bastide_testkit::random::{Shape, plan};
use fastrand::Rng;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

const DAY: &str = "2026-11-24";
/// No run may take longer, or more memory than this many KiB.
const LONGEST: Duration = Duration::from_secs(10);
const MOST_MEMORY: u64 = 2 << 20;

type Files = BTreeMap<String, Vec<u8>>;
type Answer = BTreeSet<String>;

/// What was done to the files.
struct Mutation {
    about: String,
    /// Whether nobody who reads the files sees it, so that the answer may not be another one.
    unseen: bool,
    /// Something that is no plain file, made in the folder afterwards.
    strange: Option<(String, &'static str)>,
}

fn files_of(dir: &Path, inside: &str, into: &mut Files) {
    for entry in fs::read_dir(dir.join(inside)).unwrap() {
        let entry = entry.unwrap();
        let name = entry.file_name().into_string().unwrap();
        let path = if inside.is_empty() { name } else { format!("{inside}/{name}") };
        if entry.file_type().unwrap().is_dir() {
            files_of(dir, &path, into);
        } else {
            into.insert(path.clone(), fs::read(dir.join(&path)).unwrap());
        }
    }
}

/// Characters that do not show, that turn text, that end lines for some, that mean something somewhere.
const ODD: [&str; 30] = [
    "\r",
    "\u{b}",
    "\u{c}",
    "\u{85}",
    "\u{2028}",
    "\u{2029}",
    "\u{200b}",
    "\u{200d}",
    "\u{feff}",
    "\u{202e}",
    "\u{2066}",
    "\u{61c}",
    "\u{e0041}",
    "\0",
    "\u{7f}",
    "\u{301}",
    "\u{a0}",
    "\t",
    "\"",
    "'",
    "#",
    ",",
    ";",
    ":",
    "*",
    "/",
    "{",
    "}",
    "\\",
    "=",
];
/// The first so many of them do not show.
const UNSEEN: usize = 14;

fn at_letter(text: &[u8], rng: &mut Rng) -> usize {
    let mut at = rng.usize(..=text.len());
    while at < text.len() && text[at] & 0xc0 == 0x80 {
        at += 1;
    }
    at
}

fn lines(text: &[u8]) -> Vec<Vec<u8>> {
    text.split_inclusive(|b| *b == b'\n').map(<[u8]>::to_vec).collect()
}

fn mutate(files: &mut Files, rng: &mut Rng) -> Mutation {
    let names: Vec<String> = files.keys().cloned().collect();
    let name = names[rng.usize(..names.len())].clone();
    let other = names[rng.usize(..names.len())].clone();
    let mut text = files[&name].clone();
    let (mut unseen, mut strange) = (false, None);
    let which = rng.usize(..24);
    let what = match which {
        0 if !text.is_empty() => {
            let at = rng.usize(..text.len());
            text[at] ^= 1 << rng.u8(..8);
            format!("a bit of byte {at}")
        }
        1 => {
            let at = rng.usize(..=text.len());
            text.insert(at, rng.u8(..));
            format!("a byte at {at}")
        }
        2 if !text.is_empty() => {
            let at = rng.usize(..text.len());
            text.remove(at);
            format!("byte {at} out")
        }
        3..=6 => {
            let odd = rng.usize(..ODD.len());
            let at = at_letter(&text, rng);
            text.splice(at..at, ODD[odd].bytes());
            unseen = odd < UNSEEN;
            format!("{:?} at {at}", ODD[odd])
        }
        7 => {
            text.truncate(rng.usize(..=text.len()));
            format!("cut to {} bytes", text.len())
        }
        8 | 9 => {
            let mut all = lines(&text);
            if !all.is_empty() {
                all.remove(rng.usize(..all.len()));
            }
            text = all.concat();
            "a line out".to_string()
        }
        10 | 11 => {
            let mut all = lines(&text);
            if !all.is_empty() {
                let line = all[rng.usize(..all.len())].clone();
                all.insert(rng.usize(..=all.len()), line);
            }
            text = all.concat();
            "a line twice".to_string()
        }
        12 => {
            let mut all = lines(&text);
            if all.len() > 1 {
                let (a, b) = (rng.usize(..all.len()), rng.usize(..all.len()));
                all.swap(a, b);
            }
            text = all.concat();
            "two lines swapped".to_string()
        }
        13 => {
            text = String::from_utf8_lossy(&text).replace('\n', "\r\n").into_bytes();
            unseen = true;
            "ends of lines of another system".to_string()
        }
        14 => {
            text = String::from_utf8_lossy(&text).replace('\n', "\r").into_bytes();
            unseen = true;
            "ends of lines of an old system".to_string()
        }
        15 => {
            text.splice(0..0, "\u{feff}".bytes());
            unseen = true;
            "a byte-order mark".to_string()
        }
        16 => {
            let letters: Vec<usize> = (0..text.len()).filter(|at| text[*at].is_ascii_alphabetic()).collect();
            if !letters.is_empty() {
                text[letters[rng.usize(..letters.len())]] ^= 0x20;
            }
            "a capital".to_string()
        }
        17 => {
            let mut rows: Vec<Vec<String>> =
                String::from_utf8_lossy(&text).lines().map(|l| l.split(',').map(str::to_string).collect()).collect();
            let width = rows.first().map_or(1, Vec::len);
            let (a, b) = (rng.usize(..width), rng.usize(..width));
            for row in rows.iter_mut().filter(|row| row.len() == width) {
                row.swap(a, b);
            }
            unseen = name.ends_with(".csv");
            text = rows.iter().map(|row| row.join(",") + "\n").collect::<String>().into_bytes();
            format!("columns {a} and {b} swapped")
        }
        18 => {
            text = files[&other].clone();
            format!("the text of `{other}`")
        }
        19 => {
            text.extend(files[&other].clone());
            format!("the text of `{other}` behind it")
        }
        20 => {
            files.remove(&name);
            return Mutation { about: format!("`{name}` is gone"), unseen: false, strange: None };
        }
        21 => {
            let kind = ["folder", "pipe", "loop", "nowhere"][rng.usize(..4)];
            strange = Some((name.clone(), kind));
            files.remove(&name);
            return Mutation { about: format!("`{name}` is a {kind}"), unseen: true, strange };
        }
        22 => {
            let folder = name.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
            let kind = ["folder", "pipe", "loop", "nowhere"][rng.usize(..4)];
            strange = Some((format!("{folder}extra.bastide"), kind));
            unseen = true;
            format!("beside it a {kind}")
        }
        _ => {
            text.extend_from_slice(b"\n\n");
            unseen = true;
            "empty lines at its end".to_string()
        }
    };
    files.insert(name.clone(), text);
    Mutation { about: format!("`{name}`: {what}"), unseen, strange }
}

fn lay_out(files: &Files, mutations: &[Mutation]) -> tempfile::TempDir {
    let dir = tempfile::tempdir().unwrap();
    for (name, text) in files {
        let path = dir.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }
    for (name, kind) in mutations.iter().filter_map(|m| m.strange.clone()) {
        let path = dir.path().join(&name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        if path.symlink_metadata().is_ok() {
            continue;
        }
        match kind {
            "folder" => fs::create_dir(&path).unwrap(),
            "pipe" => assert!(Command::new("mkfifo").arg(&path).status().unwrap().success()),
            "loop" => drop(symlink(path.file_name().unwrap(), &path)),
            _ => drop(symlink("there/is/nothing", &path)),
        }
    }
    dir
}

/// Runs the program, bounded in time and memory.
fn run(dir: &Path, args: &[&str]) -> (Option<i32>, String, String, Duration) {
    let program = assert_cmd::cargo::cargo_bin("bastide");
    let out = tempfile::tempfile().unwrap();
    let err = tempfile::tempfile().unwrap();
    let line = format!("ulimit -v {MOST_MEMORY}; exec \"$0\" \"$@\"");
    let started = Instant::now();
    let mut child = Command::new("sh")
        .args(["-c", &line, program.to_str().unwrap()])
        .args(args)
        .env("RAYON_NUM_THREADS", "2")
        .current_dir(dir)
        .stdin(Stdio::null())
        .stdout(out.try_clone().unwrap())
        .stderr(err.try_clone().unwrap())
        .spawn()
        .unwrap();
    let status = loop {
        if let Some(status) = child.try_wait().unwrap() {
            break status.code();
        }
        if started.elapsed() > LONGEST * 2 {
            child.kill().unwrap();
            child.wait().unwrap();
            break None;
        }
        std::thread::sleep(Duration::from_millis(1));
    };
    let text = |mut file: fs::File| {
        use std::io::{Read, Seek};
        file.rewind().unwrap();
        let mut text = String::new();
        file.read_to_string(&mut text).unwrap();
        text
    };
    (status, text(out), text(err), started.elapsed())
}

const ASKED: [&str; 11] =
    ["-q", "-C", ".", "matrix", "--all", "--reasons", "--format", "csv", "--on", DAY, "--color=never"];

fn answer(csv: &str) -> Answer {
    csv.lines().skip(1).map(str::to_string).collect()
}

/// Every triple, its reason and its statement, as the specification has it.
fn specified(dir: &Path) -> Option<Answer> {
    let estate = bastide_formats::load(dir).estate?;
    let moment = Moment::on(DAY.parse().unwrap(), estate.schema());
    let reference = ReferenceEvaluator::new(&estate, &moment).ok()?;
    let mut out = csv::Writer::from_writer(Vec::new());
    for resource in estate.catalog().all() {
        for user in estate.people().all() {
            for action in ActionId::all(estate.schema().actions.len()) {
                let decision = reference.decide(user, action, resource);
                let by = decision.by.map_or("", |by| estate.statement(by).name.as_str());
                let word = if decision.is_allowed() { "allowed" } else { "refused" };
                let action = &estate.schema().actions[action.index()].name;
                let cells =
                    [estate.people().id(user), estate.catalog().id(resource), action, word, decision.reason.word(), by];
                out.write_record(cells).unwrap();
            }
        }
    }
    Some(String::from_utf8(out.into_inner().unwrap()).unwrap().lines().map(str::to_string).collect())
}

/// Rules in policy texts, by whoever knows no more than comments, quotes and the word.
fn rules_in(text: &str) -> usize {
    let mut plain = String::new();
    for line in text.trim_start_matches('\u{feff}').lines() {
        let (mut quoted, mut escaped) = (false, false);
        for c in line.chars() {
            match c {
                '#' if !quoted => break,
                '"' if !escaped => {
                    quoted = !quoted;
                    plain.push('"');
                }
                c if !quoted => plain.push(c),
                _ => {}
            }
            escaped = c == '\\' && !escaped && quoted;
        }
        plain.push('\n');
    }
    let words: Vec<&str> = plain.split_whitespace().collect();
    // A rule begins where a declaration may: after a `}` or at another beginning, and its body opens.
    let opens = |at: usize| words[at + 1..].iter().take(3).any(|word| word.contains('{'));
    (0..words.len()).filter(|at| words[*at] == "rule" && opens(*at)).count()
}

/// Nothing disappears: every row of every table came, and so did every rule.
fn all_came(dir: &Path, files: &Files) -> Result<(), String> {
    let loaded = bastide_formats::load(dir);
    let Some(estate) = loaded.estate else { return Ok(()) };
    let rows = |name: &str| -> Option<usize> {
        let text = files.get(name)?;
        let mut reader = csv::ReaderBuilder::new().flexible(true).from_reader(text.as_slice());
        Some(reader.byte_records().filter(Result::is_ok).count())
    };
    let entries = estate.statements().iter().filter(|s| s.sort == bastide_model::statement::Sort::Entry).count();
    for (name, came) in
        [("people.csv", estate.people().len()), ("catalog.csv", estate.catalog().len()), ("entries.csv", entries)]
    {
        if let Some(rows) = rows(name).filter(|rows| *rows != came) {
            return Err(format!("`{name}` has {rows} rows, and {came} came"));
        }
    }
    let policy = files.iter().filter(|(name, _)| name.starts_with("policy/") && name.ends_with(".bastide"));
    let written: usize = policy.map(|(_, text)| rules_in(&String::from_utf8_lossy(text))).sum();
    let came = estate.statements().len() - entries;
    if written != came {
        return Err(format!("{written} rules are written, and {came} came"));
    }
    Ok(())
}

#[test]
#[allow(clippy::print_stdout, reason = "how much was tried")]
fn a_broken_estate_gives_no_wrong_answer() {
    let number =
        |name: &str, otherwise: u64| std::env::var(name).ok().and_then(|v| v.parse().ok()).unwrap_or(otherwise);
    let (mutants, first) = (number("BASTIDE_MUTANTS", 300), number("BASTIDE_SEED", 0));
    let (next, same, refused, other) =
        (AtomicUsize::new(0), AtomicUsize::new(0), AtomicUsize::new(0), AtomicUsize::new(0));
    let one = |seed: u64, base: &(Files, Answer), rng: &mut Rng| {
        let mut files = base.0.clone();
        let times = 1 + rng.usize(..3);
        let mutations: Vec<Mutation> =
            (0..times).map_while(|_| (!files.is_empty()).then(|| mutate(&mut files, rng))).collect();
        let about = mutations.iter().map(|m| m.about.clone()).collect::<Vec<_>>().join("; ");
        let about = format!("mutant {seed} ({about})");
        let dir = lay_out(&files, &mutations);
        let (status, out, err, took) = run(dir.path(), &ASKED);
        assert!(took < LONGEST, "{about}: took {took:?}");
        match status {
            Some(3 | 4) => {
                assert!(out.is_empty() && err.contains("error"), "{about}: {out}{err}");
                assert!(!err.contains("fault of Bastide"), "{about}: {err}");
                refused.fetch_add(1, Ordering::Relaxed);
            }
            Some(0) => {
                let given = answer(&out);
                let is_same = given == base.1;
                assert!(is_same || !mutations.iter().all(|m| m.unseen), "{about}: another answer, and nobody sees why");
                if is_same {
                    same.fetch_add(1, Ordering::Relaxed);
                } else {
                    other.fetch_add(1, Ordering::Relaxed);
                }
                let specified =
                    specified(dir.path()).unwrap_or_else(|| panic!("{about}: the specification has no answer"));
                assert!(given == specified, "{about}: not the answer of the specification");
                // What the manifest does not name any more need not come.
                if files.get("bastide.toml") == base.0.get("bastide.toml") {
                    all_came(dir.path(), &files).unwrap_or_else(|why| panic!("{about}: {why}"));
                }
            }
            status => panic!("{about}: status {status:?}\n{out}{err}"),
        }
    };
    std::thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    // Twenty of one estate: what it says unbroken is asked once.
                    let round = next.fetch_add(1, Ordering::Relaxed) as u64;
                    if round * 20 >= mutants {
                        break;
                    }
                    let whole = plan(first + round, Shape::ALL).case().lay_out();
                    let (status, out, ..) = run(whole.path(), &ASKED);
                    if status != Some(0) {
                        continue;
                    }
                    let mut files = Files::new();
                    files_of(whole.path(), "", &mut files);
                    let base = (files, answer(&out));
                    let mut rng = Rng::with_seed(first + round);
                    for mutant in 0..20 {
                        one((first + round) * 20 + mutant, &base, &mut rng);
                    }
                }
            });
        }
    });
    let [same, refused, other] = [same, refused, other].map(|n| n.into_inner() as u64);
    println!("{} mutants: {same} the same answer, {refused} refused, {other} another answer", same + refused + other);
    assert!(same > mutants / 50 && refused > mutants / 10 && other > mutants / 50, "{same}, {refused}, {other}");
}
