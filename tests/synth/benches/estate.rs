//! Loading, evaluating, summarising, streaming and folding, in one process, on synthetic estates.
//! `cargo bench -p bastide-synth --bench estate`; the figures of one run are to be set beside each other.

mod common;

use bastide_engine::Snapshot;
use bastide_engine::access::{ledger, summary, sweep};
use bastide_engine::change::{Change, apply};
use bastide_engine::difference::difference;
use bastide_model::*;
use common::{estate, folder, moment};
use divan::Bencher;
use std::convert::Infallible;

fn main() {
    divan::main();
}

/// Users and resources.
const SIZES: [(usize, usize); 2] = [(1_000, 20_000), (2_000, 100_000)];

#[divan::bench(args = SIZES, sample_count = 8)]
fn load(bencher: Bencher, size: (usize, usize)) {
    let dir = folder(size);
    bencher.bench_local(|| bastide_formats::load(dir.path()).estate.is_some());
}

#[divan::bench(args = SIZES, sample_count = 8)]
fn evaluate(bencher: Bencher, size: (usize, usize)) {
    let estate = estate(size);
    let moment = moment(&estate);
    bencher.bench_local(|| {
        let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
        let mut engine = snapshot.evaluator();
        for resource in estate.catalog().all() {
            let work = engine.decide(resource);
            engine.done(work);
        }
        engine.outcomes().len()
    });
}

#[divan::bench(args = SIZES, sample_count = 8)]
fn summarise(bencher: Bencher, size: (usize, usize)) {
    let estate = estate(size);
    let moment = moment(&estate);
    bencher.bench_local(|| summary(&Snapshot::new(&estate, &moment).expect("no circles"), &|_| {}).profiles);
}

#[divan::bench(args = SIZES, sample_count = 4)]
fn stream(bencher: Bencher, size: (usize, usize)) {
    let estate = estate(size);
    let moment = moment(&estate);
    let users: Vec<UserId> = estate.people().all().take(200).collect();
    let resources: Vec<ResourceId> = estate.catalog().all().collect();
    let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
    bencher.bench_local(|| {
        let mut allowed = 0u64;
        let each = |row: bastide_engine::access::Row| {
            allowed += (0..users.len()).map(|u| row.allowed(u).count() as u64).sum::<u64>();
            Ok::<(), Infallible>(())
        };
        let Ok(()) = sweep(&snapshot, &users, &resources, each);
        allowed
    });
}

#[divan::bench(args = SIZES, sample_count = 4)]
fn fold(bencher: Bencher, size: (usize, usize)) {
    let estate = estate(size);
    let moment = moment(&estate);
    let root = |r: ResourceId| estate.catalog().upward(r).last().map_or(0, |r| r.0);
    let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
    bencher.bench_local(|| ledger(&snapshot, &root, false).lines.len());
}

/// One entry taken out, against the engine that is there.
#[divan::bench(args = SIZES, sample_count = 8)]
fn change(bencher: Bencher, size: (usize, usize)) {
    let estate = estate(size);
    let moment = moment(&estate);
    let entry = estate.statements().iter().position(|s| s.sort == statement::Sort::Entry).expect("there are entries");
    bencher.bench_local(|| {
        let after = apply(&estate, &[Change::Off(StatementId::new(entry))]).expect("it is on");
        let was = Snapshot::new(&estate, &moment).expect("no circles");
        let is = was.beside(&after, &moment).expect("no circles");
        difference(&was, &is, None).changed.len()
    });
}
