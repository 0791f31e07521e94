//! Allowed pairs by user or by resource.

use super::batch::Batch;
use super::summary::{Done, SMALLEST_SHARE};
use super::tally::{Portion, STEP};
use crate::decide::Reason;
use crate::evaluate::{Decided, Outcome, OutcomeId};
use crate::shares::shares;
use crate::snapshot::Snapshot;
use bastide_model::*;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::ops::Range;

/// Allowed pairs by user or by resource: an id and one count an action.
#[derive(PartialEq, Eq, Debug)]
pub struct Totals {
    /// Ids in byte order.
    pub rows: Vec<(String, Vec<u64>)>,
}

/// For each user (or, otherwise, each resource of the part) the number of allowed pairs by action. Each core counts a share of the
/// resources. Cost: as a summary, and memory for one count a row and action: by user, on each core.
pub fn totals(snapshot: &Snapshot, part: &Portion, by_user: bool, done: Done) -> Totals {
    let estate = snapshot.estate();
    let shares = shares(estate.catalog().len(), SMALLEST_SHARE).into_par_iter();
    if !by_user {
        let counted = shares.map(|share| (share.clone(), of_resources(snapshot, part, share, done)));
        let counted = counted.collect::<Vec<_>>();
        let rows = counted.iter().flat_map(|(share, counts)| share.clone().map(ResourceId).zip(counts.rows()));
        let own = rows.filter(|(resource, _)| part.has(*resource));
        return Totals::of(own.map(|(resource, row)| (estate.catalog().id(resource).to_string(), row.to_vec())));
    }
    let mut counted = shares.map(|share| of_users(snapshot, part, share, done)).collect::<Vec<_>>().into_iter();
    let mut sums = counted.next().expect("there is one share at least");
    counted.for_each(|counts| sums.add(&counts));
    let people = estate.people();
    Totals::of(people.all().zip(sums.rows()).map(|(user, row)| (people.id(user).to_string(), row.to_vec())))
}

impl Totals {
    fn of(rows: impl Iterator<Item = (String, Vec<u64>)>) -> Totals {
        let mut rows: Vec<(String, Vec<u64>)> = rows.collect();
        rows.par_sort_unstable();
        Totals { rows }
    }
}

/// One count a row and action.
struct Counts {
    actions: usize,
    all: Vec<u64>,
}

impl Counts {
    fn none(rows: usize, actions: usize) -> Counts {
        Counts { actions, all: vec![0; rows * actions] }
    }

    fn rows(&self) -> impl Iterator<Item = &[u64]> {
        // An estate without actions has no counts.
        (0..self.all.len() / self.actions.max(1)).map(|row| &self.all[row * self.actions..][..self.actions])
    }

    fn at(&mut self, row: usize, action: ActionId) -> &mut u64 {
        &mut self.all[row * self.actions + action.index()]
    }

    fn add(&mut self, other: &Counts) {
        self.all.iter_mut().zip(&other.all).for_each(|(sum, more)| *sum = sum.wrapping_add(*more));
    }
}

/// The resources of a share that belong to a part, with who is told of them.
fn own<'p>(part: &'p Portion, share: &Range<u32>, done: Done<'p>) -> impl Iterator<Item = ResourceId> + 'p {
    let told = |resource: &ResourceId| {
        if resource.0.is_multiple_of(STEP) {
            done(u64::from(STEP));
        }
    };
    share.clone().map(ResourceId).inspect(told).filter(|resource| part.has(*resource))
}

/// By resource of a share how many users may do what.
fn of_resources(snapshot: &Snapshot, part: &Portion, share: Range<u32>, done: Done) -> Counts {
    let actions = snapshot.estate().schema().actions.len();
    let mut counts = Counts::none(share.len(), actions);
    let mut engine = snapshot.evaluator();
    for resource in own(part, &share, done) {
        let work = engine.decide(resource);
        for action in ActionId::all(actions) {
            let count = counts.at((resource.0 - share.start) as usize, action);
            match work.decided(action) {
                Decided::Open => {}
                Decided::Base(outcome) => {
                    let allowed = engine.outcome(outcome).allowed;
                    *count = u64::from(engine.sets().count(allowed));
                    for cell in work.cells(action) {
                        let was = engine.sets().contains(allowed, cell.user as usize);
                        // Sums may pass below nothing on the way; wrapping brings them back.
                        *count = count.wrapping_add_signed(turn(cell.reason, was));
                    }
                }
                Decided::Wide(wide) => {
                    let (by_reason, _) = work.wide(wide);
                    let allowed = by_reason[Reason::Granted as usize] + by_reason[Reason::Assured as usize];
                    *count = u64::from(allowed);
                }
            }
        }
        engine.done(work);
    }
    counts
}

/// By user on how many resources of a share they may do what.
fn of_users(snapshot: &Snapshot, part: &Portion, share: Range<u32>, done: Done) -> Counts {
    let estate = snapshot.estate();
    let actions = estate.schema().actions.len();
    let mut counts = Counts::none(estate.people().len(), actions);
    let mut engine = snapshot.evaluator();
    let mut occurs: HashMap<OutcomeId, u64> = HashMap::new();
    let mut batches: Vec<Batch> = (0..actions).map(|_| Batch::new(engine.sets().width())).collect();
    let add = |counts: &mut Counts, batch: &mut Batch, action: ActionId| {
        batch.turn(|first, sets| {
            for (user, sets) in (first..estate.people().len()).zip(sets) {
                let count = counts.at(user, action);
                *count = count.wrapping_add(u64::from(sets.count_ones()));
            }
        });
    };
    for resource in own(part, &share, done) {
        let work = engine.decide(resource);
        for action in ActionId::all(actions) {
            match work.decided(action) {
                Decided::Open => {}
                Decided::Base(outcome) => {
                    let allowed = engine.outcome(outcome).allowed;
                    *occurs.entry(outcome).or_default() += 1;
                    for cell in work.cells(action) {
                        let was = engine.sets().contains(allowed, cell.user as usize);
                        let count = counts.at(cell.user as usize, action);
                        *count = count.wrapping_add_signed(turn(cell.reason, was));
                    }
                }
                Decided::Wide(wide) => {
                    let batch = &mut batches[action.index()];
                    if batch.add(work.wide(wide).1) {
                        add(&mut counts, batch, action);
                    }
                }
            }
        }
        engine.done(work);
    }
    for (action, batch) in ActionId::all(actions).zip(&mut batches) {
        add(&mut counts, batch, action);
    }
    for (outcome, times) in occurs {
        let Outcome { action, allowed, .. } = engine.outcome(outcome);
        for user in engine.sets().users(*allowed) {
            let count = counts.at(user, *action);
            *count = count.wrapping_add(times);
        }
    }
    counts
}

/// What a user who is decided one by one adds to what the others come to.
fn turn(reason: Reason, was: bool) -> i64 {
    i64::from(reason.is_allowed()) - i64::from(was)
}
