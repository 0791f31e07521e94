//! What trying one change takes, against evaluating everything, in one run: every rule and entry of an estate taken out,
//! and memberships ended, one change at a time.
//!
//! `cargo bench -p bastide-synth --bench changes -- ESTATE [EVERY]`: every so manieth membership (100), all of `g0`.
#![allow(clippy::print_stdout, reason = "a tool that says what it found")]

use bastide_engine::Snapshot;
use bastide_engine::access::summary;
use bastide_engine::change::{Change, apply, describe, narrowed};
use bastide_engine::difference::{blocks, difference, radius};
use bastide_model::groups::Member;
use bastide_model::*;
use std::path::Path;
use std::time::Instant;

/// Rounds of which the best is taken.
const ROUNDS: usize = 3;

/// So many changes are tried between two evaluations of everything.
const BETWEEN: usize = 50;

/// The best time of some rounds, in milliseconds.
fn best(mut each: impl FnMut()) -> f64 {
    let round = |_| {
        let started = Instant::now();
        each();
        started.elapsed().as_secs_f64() * 1e3
    };
    (0..ROUNDS).map(round).fold(f64::MAX, f64::min)
}

/// As `bastide try` does it.
fn attempt(estate: &Estate, moment: &Moment, changes: &[Change]) {
    let made = apply(estate, changes).expect("a change that can be made");
    let small = narrowed(estate, changes, moment);
    let (old, new) = small.as_ref().map_or((estate, &made), |(old, new)| (old, new));
    let was = Snapshot::new(old, moment).expect("no circles");
    let is = was.beside(new, moment).expect("no circles");
    let difference = difference(&was, &is, None);
    std::hint::black_box((radius(&difference), blocks(&difference, old, new, made.groups(), &["read".to_string()], 8)));
}

fn main() {
    let args: Vec<String> = std::env::args().skip(1).filter(|arg| !arg.starts_with("--")).collect();
    let Some(root) = args.first() else {
        println!("ESTATE [EVERY]");
        return;
    };
    let every: usize = args.get(1).and_then(|every| every.parse().ok()).unwrap_or(100);
    let estate = bastide_formats::load(Path::new(root)).estate.expect("an estate");
    let moment = Moment::on("2026-11-24".parse().expect("a date"), estate.schema());
    let mut changes: Vec<Change> = StatementId::all(estate.statements().len()).map(Change::Off).collect();
    let memberships = estate.groups().all().flat_map(|group| {
        let members = estate.groups().members(group).iter();
        members.filter(|m| matches!(m.member, Member::User(_))).map(move |m| Change::Leave(m.member, group))
    });
    let first = |change: &Change| matches!(change, Change::Leave(_, group) if estate.groups().id(*group) == "g0");
    let some = memberships.enumerate().filter(|(at, change)| at % every == 0 || first(change));
    changes.extend(some.map(|(_, change)| change));
    let everything =
        || best(|| assert!(summary(&Snapshot::new(&estate, &moment).expect("no circles"), &|_| ()).users > 0));
    let mut shares: Vec<(f64, String)> = Vec::new();
    for some in changes.chunks(BETWEEN) {
        let whole = everything();
        for change in some {
            let share = best(|| attempt(&estate, &moment, std::slice::from_ref(change))) / whole;
            shares.push((share, describe(&estate, change).words));
        }
    }
    shares.sort_by(|a, b| a.0.total_cmp(&b.0));
    let at = |part: f64| shares[((shares.len() - 1) as f64 * part) as usize].0;
    let within = shares.iter().filter(|(share, _)| *share <= 0.1).count();
    println!("{within} of {} within a tenth of evaluating everything", shares.len());
    println!("in the middle {:.3}, of nine in ten at most {:.3}, of 95 in 100 {:.3}", at(0.5), at(0.9), at(0.95));
    for (share, words) in shares.iter().rev().take_while(|(share, _)| *share > 0.1) {
        println!("{share:.2}  {words}");
    }
}
