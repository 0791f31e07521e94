//! What everybody may do on everything, counted: from outcomes and how often each occurs, never from pairs.
//!
//! Each core decides on a share of the resources with an evaluator of its own. An outcome that is kept is counted once, times how
//! often it occurs; users who are decided one by one set right what it says; what was worked out in words is counted as it comes.
//! Users with the same access, and rows that differ, are told by fingerprints: sums of random numbers, so that whatever the order
//! and whoever counted, they come to the same.

use super::Done;
use super::turning::{Turning, mixed};
use crate::decide::Reason;
use crate::evaluate::{Decided, Evaluator, OutcomeId, Work};
use crate::sets::store::SetId;
use crate::sets::{self, Fingerprints};
use crate::shares::Shares;
use crate::snapshot::Snapshot;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::ops::Range;

/// An evaluator takes so many resources at a time, and tells of them.
pub(super) const STEP: u32 = 4096;
/// Fingerprints are counted in so many heaps, by how they begin.
const HEAPS: usize = 64;

/// Totals of everybody on everything.
pub(super) struct Tally {
    /// Allowed triples by kind and action.
    pub allowed: Vec<Vec<u64>>,
    /// Triples by reason.
    pub reasons: [u64; Reason::ALL.len()],
    /// By user, a fingerprint of all that is allowed to them.
    pub users: Vec<u64>,
    /// Fingerprints of rows of the matrix, each once, by how they begin.
    pub rows: Vec<Vec<u128>>,
}

impl Tally {
    /// Counts the resources of each share with an evaluator of its own: those of a part of a catalog, where one is given.
    pub fn of(snapshot: &Snapshot, part: &Portion, shares: Vec<Range<u32>>, done: Done) -> Tally {
        let work = Shares::new(shares, STEP);
        let random = Random::new(snapshot.estate(), part.number);
        let counted: Vec<ShareCounts> = (0..work.len())
            .into_par_iter()
            .with_max_len(1)
            .map(|share| ShareCounts::of(snapshot.evaluator(), part, &work, share, &random, done))
            .collect();
        let heap = |heap: usize| {
            let mut prints: Vec<u128> = counted.iter().flat_map(|counts| counts.prints[heap].iter().copied()).collect();
            prints.sort_unstable();
            prints.dedup();
            prints
        };
        let rows = (0..HEAPS).into_par_iter().map(heap).collect();
        let mut counted = counted.into_iter();
        let ShareCounts { mut allowed, mut reasons, mut users, .. } =
            counted.next().expect("there is at least one share");
        for other in counted {
            let pairs = allowed.iter_mut().flatten().zip(other.allowed.iter().flatten());
            pairs.for_each(|(sum, more)| *sum = sum.wrapping_add(*more));
            reasons.iter_mut().zip(other.reasons).for_each(|(sum, more)| *sum = sum.wrapping_add(more));
            users.iter_mut().zip(other.users).for_each(|(sum, more)| *sum = sum.wrapping_add(more));
        }
        Tally { allowed, reasons, users, rows }
    }
}

/// The resources of an estate that are counted.
#[derive(Clone, Copy, Default, Debug)]
pub struct Portion<'o> {
    /// Which part of a catalog it is: what is told by fingerprints is told apart by it.
    pub number: u32,
    /// The resources; all, where there is none.
    pub own: Option<&'o FixedBitSet>,
}

impl Portion<'_> {
    /// Whether a resource is counted.
    pub fn has(&self, resource: ResourceId) -> bool {
        self.own.is_none_or(|own| own.contains(resource.index()))
    }
}

/// What is counted of a share. Sums may pass below nothing on the way; wrapping brings them back.
struct ShareCounts {
    /// By kind and action.
    allowed: Vec<Vec<u64>>,
    reasons: [u64; Reason::ALL.len()],
    /// By user, a fingerprint of all that is allowed to them.
    users: Vec<u64>,
    /// Fingerprints of rows of the matrix, by how they begin; some more than once.
    prints: Vec<Vec<u128>>,
}

/// Fingerprints that were met of late. What was met longer ago counts as new again: to remember them all would be to wait for
/// memory at each.
struct Recent(Vec<u128>);

/// So many fingerprints are remembered.
const RECENT: usize = 1 << 14;

impl Recent {
    fn new() -> Recent {
        let mut places = vec![0; RECENT];
        // What belongs elsewhere, so that no place has its own print from the beginning.
        places[0] = 1 << 64;
        Recent(places)
    }

    fn is_new(&mut self, print: u128) -> bool {
        let place = &mut self.0[(print >> 64) as usize % RECENT];
        std::mem::replace(place, print) != print
    }
}

/// What is known of an outcome that is kept.
#[derive(Clone, Copy, Default)]
struct Occurs {
    /// The sum of the random numbers of the resources on which it is the outcome.
    weight: u64,
    /// The fingerprint of those for whom it allows its action.
    print: u128,
}

impl ShareCounts {
    fn of(
        mut engine: Evaluator,
        part: &Portion,
        shares: &Shares,
        share: usize,
        random: &Random,
        done: Done,
    ) -> ShareCounts {
        let estate = engine.estate();
        let schema = estate.schema();
        let mut counts = ShareCounts {
            allowed: vec![vec![0; schema.actions.len()]; schema.kinds.len()],
            reasons: [0; Reason::ALL.len()],
            users: vec![0; estate.people().len()],
            prints: vec![Vec::new(); HEAPS],
        };
        let mut occurs: Vec<Occurs> = Vec::new();
        let mut times: Vec<Vec<u32>> = vec![Vec::new(); schema.kinds.len()];
        let mut seen = Recent::new();
        let mut rows = Recent::new();
        let mut turning = Turning::new(estate.people().len(), (part.number as usize) << 16 | share);
        while let Some(step) = shares.next(share) {
            done(step.len() as u64);
            for resource in step.map(ResourceId).filter(|resource| part.has(*resource)) {
                let work = engine.decide(resource);
                let kind = estate.catalog().kind(resource);
                let at = random.resource(resource);
                let mut print = 0u128;
                for action in ActionId::all(schema.actions.len()) {
                    match work.decided(action) {
                        Decided::Open => {
                            let silent = &mut counts.reasons[Reason::Silent as usize];
                            *silent = silent.wrapping_add(estate.people().len() as u64);
                        }
                        Decided::Base(outcome) => {
                            while occurs.len() <= outcome.index() {
                                let next = engine.outcome(OutcomeId(occurs.len() as u32));
                                let print = random.set(engine.sets().row(next.allowed), next.action);
                                occurs.push(Occurs { weight: 0, print });
                            }
                            let known = &mut occurs[outcome.index()];
                            known.weight = known.weight.wrapping_add(at);
                            print = print.wrapping_add(known.print);
                            let times = &mut times[kind.index()];
                            if times.len() <= outcome.index() {
                                times.resize(outcome.index() + 1, 0);
                            }
                            times[outcome.index()] += 1;
                            if !work.cells(action).is_empty() {
                                print = print.wrapping_add(counts.cells(&work, (kind, action), at, random));
                            }
                        }
                        Decided::Wide(wide) => {
                            let (by_reason, words) = work.wide(wide);
                            for (sum, more) in counts.reasons.iter_mut().zip(by_reason) {
                                *sum = sum.wrapping_add(u64::from(more));
                            }
                            let allowed = by_reason[Reason::Granted as usize] + by_reason[Reason::Assured as usize];
                            let sum = &mut counts.allowed[kind.index()][action.index()];
                            *sum = sum.wrapping_add(u64::from(allowed));
                            if allowed > 0 {
                                let own = random.users.of(words);
                                print = print.wrapping_add(own.wrapping_mul(random.actions[action.index()]));
                                // Who is told apart by a set is told apart by it once; twice does no harm.
                                if turning.matters(words) && seen.is_new(own) {
                                    turning.add(words);
                                }
                            }
                        }
                    }
                }
                if rows.is_new(print) {
                    counts.prints[(print >> 64) as usize % HEAPS].push(print);
                }
                engine.done(work);
            }
        }
        turning.finish(&mut counts.users);
        counts.outcomes(&engine, &occurs, &times, random);
        counts
    }

    /// Sets right what an outcome says of users who are decided one by one; what the fingerprint of the row grows by.
    fn cells(&mut self, work: &Work, (kind, action): (KindId, ActionId), at: u64, random: &Random) -> u128 {
        let (mut print, mut more) = (0u128, 0u64);
        let weight = at.wrapping_mul(random.factors[action.index()]);
        for cell in work.cells(action) {
            let was = cell.was;
            self.reasons[was as usize] = self.reasons[was as usize].wrapping_sub(1);
            self.reasons[cell.reason as usize] = self.reasons[cell.reason as usize].wrapping_add(1);
            if was.is_allowed() != cell.reason.is_allowed() {
                let gains = cell.reason.is_allowed();
                more = more.wrapping_add_signed(if gains { 1 } else { -1 });
                let user = &mut self.users[cell.user as usize];
                *user = if gains { user.wrapping_add(weight) } else { user.wrapping_sub(weight) };
                print = print.wrapping_add(random.users.turn(cell.user as usize, gains));
            }
        }
        let sum = &mut self.allowed[kind.index()][action.index()];
        *sum = sum.wrapping_add(more);
        print.wrapping_mul(random.actions[action.index()])
    }

    /// Counts the outcomes that were kept.
    fn outcomes(&mut self, engine: &Evaluator, occurs: &[Occurs], times: &[Vec<u32>], random: &Random) {
        let sets = engine.sets();
        let mut weights: HashMap<SetId, u64> = HashMap::new();
        for (at, (outcome, occurs)) in engine.outcomes().iter().zip(occurs).enumerate() {
            for (kind, times) in times.iter().enumerate() {
                let times = u64::from(times.get(at).copied().unwrap_or(0));
                if times == 0 {
                    continue;
                }
                let sum = &mut self.allowed[kind][outcome.action.index()];
                *sum = sum.wrapping_add(u64::from(sets.count(outcome.allowed)) * times);
                for part in &outcome.parts {
                    let sum = &mut self.reasons[part.reason as usize];
                    *sum = sum.wrapping_add(u64::from(sets.count(part.users)) * times);
                }
            }
            let weight = occurs.weight.wrapping_mul(random.factors[outcome.action.index()]);
            let sum = weights.entry(outcome.allowed).or_default();
            *sum = sum.wrapping_add(weight);
        }
        for (set, weight) in weights {
            // Those in it, or those not in it: whichever are fewer. What is added to everybody tells nobody apart.
            let turn = if sets.count(set) as usize * 2 <= self.users.len() { 0 } else { u64::MAX };
            let weight = if turn == 0 { weight } else { weight.wrapping_neg() };
            for (at, word) in sets.row(set).iter().enumerate() {
                for bit in sets::Bits(word ^ turn) {
                    if let Some(user) = self.users.get_mut(at * 64 + bit) {
                        *user = user.wrapping_add(weight);
                    }
                }
            }
        }
    }
}

/// Random numbers, always the same: of users for fingerprints of sets, of actions, and of resources.
struct Random {
    users: Fingerprints,
    actions: Vec<u128>,
    factors: Vec<u64>,
    part: u64,
}

impl Random {
    fn new(estate: &Estate, part: u32) -> Random {
        let actions = 0..estate.schema().actions.len();
        Random {
            users: Fingerprints::new(estate.people().len()),
            actions: actions.clone().map(|action| sets::random(usize::MAX - action)).collect(),
            factors: actions.map(|action| mixed(0x51_7cc1_b727_220a + action as u64) | 1).collect(),
            part: u64::from(part) << 32,
        }
    }

    fn set(&self, words: &[u64], action: ActionId) -> u128 {
        self.users.of(words).wrapping_mul(self.actions[action.index()])
    }

    fn resource(&self, resource: ResourceId) -> u64 {
        mixed((self.part | u64::from(resource.0)).wrapping_add(0x9e37_79b9_7f4a_7c15))
    }
}
