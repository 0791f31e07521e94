//! Sets of users as plain words, and as compressed bitmaps: the sets are those that evaluating an estate makes,
//! the operations those that it does with them. `cargo bench -p bastide-synth --bench sets`.

#![allow(clippy::print_stdout, reason = "a benchmark says what it measures")]

mod common;

use bastide_engine::Snapshot;
use bastide_engine::sets::store::SetId;
use common::{estate, moment};
use divan::Bencher;
use roaring::RoaringBitmap;

fn main() {
    for size in SIZES {
        let (words, maps) = sets(size);
        let plain: usize = words.iter().map(|row| row.len() * 8).sum();
        let packed: usize = maps.iter().map(RoaringBitmap::serialized_size).sum();
        println!("{size:?}: {} sets; plain words {plain} bytes, compressed {packed} bytes", words.len());
    }
    divan::main();
}

/// Users and resources.
const SIZES: [(usize, usize); 2] = [(1_000, 20_000), (10_000, 50_000)];

/// The sets that evaluating makes, in both forms.
fn sets(size: (usize, usize)) -> (Vec<Vec<u64>>, Vec<RoaringBitmap>) {
    let estate = estate(size);
    let moment = moment(&estate);
    let snapshot = Snapshot::new(&estate, &moment).expect("no circles");
    let mut engine = snapshot.evaluator();
    for resource in estate.catalog().all() {
        let work = engine.decide(resource);
        engine.done(work);
    }
    let store = engine.sets();
    let ids = (0..store.size() as u32).map(SetId);
    let words = ids.clone().map(|id| store.row(id).to_vec()).collect();
    let maps = ids.map(|id| store.users(id).map(|u| u as u32).collect()).collect();
    (words, maps)
}

#[divan::bench(args = SIZES, sample_count = 20)]
fn plain_words(bencher: Bencher, size: (usize, usize)) {
    let (words, _) = sets(size);
    let mut scratch = vec![0u64; words[0].len()];
    bencher.bench_local(|| {
        let mut all = 0u64;
        for pair in words.windows(2) {
            scratch.iter_mut().zip(&pair[0]).zip(&pair[1]).for_each(|((s, a), b)| *s = a | b);
            all += scratch.iter().map(|w| u64::from(w.count_ones())).sum::<u64>();
            scratch.iter_mut().zip(&pair[0]).zip(&pair[1]).for_each(|((s, a), b)| *s = a & b);
            all += scratch.iter().map(|w| u64::from(w.count_ones())).sum::<u64>();
            scratch.iter_mut().zip(&pair[0]).zip(&pair[1]).for_each(|((s, a), b)| *s = a & !b);
            all += scratch.iter().map(|w| u64::from(w.count_ones())).sum::<u64>();
        }
        all
    });
}

#[divan::bench(args = SIZES, sample_count = 20)]
fn compressed(bencher: Bencher, size: (usize, usize)) {
    let (_, maps) = sets(size);
    bencher.bench_local(|| {
        let mut all = 0u64;
        for pair in maps.windows(2) {
            all += (&pair[0] | &pair[1]).len() + (&pair[0] & &pair[1]).len() + (&pair[0] - &pair[1]).len();
        }
        all
    });
}
