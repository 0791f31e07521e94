//! Totals over everybody and everything.

use super::tally::{Portion, Tally};
use crate::decide::Reason;
use crate::shares::shares;
use crate::snapshot::Snapshot;
use bastide_model::*;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Totals of an estate. Every triple of a user, a resource and an action is counted once.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Summary {
    /// Users, active or not.
    pub users: usize,
    /// Of them, active.
    pub active_users: usize,
    /// Resources.
    pub resources: usize,
    /// Actions.
    pub actions: usize,
    /// Statements that are on and in date.
    pub statements: usize,
    /// Triples: users times resources times actions.
    pub triples: u64,
    /// Allowed triples by action, in declared order.
    pub allowed: Vec<(String, u64)>,
    /// Allowed triples by reason.
    pub allowed_by_reason: BTreeMap<String, u64>,
    /// Refused triples by reason.
    pub refused: BTreeMap<String, u64>,
    /// Allowed triples by kind, then by action.
    pub allowed_by_kind: BTreeMap<String, BTreeMap<String, u64>>,
    /// Resources by kind.
    pub resources_by_kind: BTreeMap<String, usize>,
    /// Groups of users with identical access on every resource.
    pub profiles: usize,
    /// Different rows: resources on which everybody's access is the same count once.
    pub distinct_outcomes: usize,
}

/// Is told of every so many resources that are done.
pub type Done<'d> = &'d (dyn Fn(u64) + Sync);

/// Totals of everybody on everything.
pub fn summary(snapshot: &Snapshot, done: Done) -> Summary {
    let mut running = Running::new(snapshot.estate());
    let rows = running.add(snapshot, &Portion::default(), done);
    running.finish(snapshot.estate(), snapshot.moment(), rows.iter().map(Vec::len).sum())
}

/// Totals that are gathered over the parts of a catalog, one after the other, or by several processes, which tell each other.
#[derive(Serialize, Deserialize)]
pub struct Running {
    allowed: Vec<Vec<u64>>,
    reasons: [u64; Reason::ALL.len()],
    users: Vec<u64>,
    by_kind: Vec<usize>,
    /// How many entries stand in the parts that are not in what they share.
    entries: usize,
}

fn in_force(estate: &Estate, moment: &Moment) -> usize {
    estate.statements().iter().filter(|s| s.is_on() && s.in_date(moment.date)).count()
}

impl Running {
    /// Nothing yet, of an estate with the kinds, actions and people of this one.
    pub fn new(estate: &Estate) -> Running {
        let Schema { kinds, actions, .. } = &**estate.schema();
        Running {
            allowed: vec![vec![0; actions.len()]; kinds.len()],
            reasons: [0; Reason::ALL.len()],
            users: vec![0; estate.people().len()],
            by_kind: vec![0; kinds.len()],
            entries: 0,
        }
    }

    /// Adds a part, each with a number of its own, and gives fingerprints of its rows of the matrix, each once, in heaps by
    /// how they begin: the number of all that differ is the number of different rows.
    pub fn add(&mut self, snapshot: &Snapshot, part: &Portion, done: Done) -> Vec<Vec<u128>> {
        let catalog = snapshot.estate().catalog();
        let shares = shares(catalog.len(), SMALLEST_SHARE);
        let Tally { allowed, reasons, users, rows } = Tally::of(snapshot, part, shares, done);
        let pairs = self.allowed.iter_mut().flatten().zip(allowed.iter().flatten());
        pairs.for_each(|(sum, more)| *sum += more);
        self.reasons.iter_mut().zip(reasons).for_each(|(sum, more)| *sum += more);
        self.users.iter_mut().zip(users).for_each(|(sum, more)| *sum = sum.wrapping_add(more));
        let own = catalog.all().filter(|resource| part.has(*resource));
        own.for_each(|resource| self.by_kind[catalog.kind(resource).index()] += 1);
        rows
    }

    /// Adds what was gathered of other parts. Whether each was counted once is seen to by whoever gathers; gives back how many
    /// resources they had, or none where they are of another estate: then nothing is added.
    pub fn join(&mut self, other: &Running) -> Option<usize> {
        let widths = |of: &Running| of.allowed.iter().map(Vec::len).collect::<Vec<_>>();
        if widths(self) != widths(other)
            || self.users.len() != other.users.len()
            || self.by_kind.len() != other.by_kind.len()
        {
            return None;
        }
        let pairs = self.allowed.iter_mut().flatten().zip(other.allowed.iter().flatten());
        pairs.for_each(|(sum, more)| *sum += more);
        self.reasons.iter_mut().zip(other.reasons).for_each(|(sum, more)| *sum += more);
        self.users.iter_mut().zip(&other.users).for_each(|(sum, more)| *sum = sum.wrapping_add(*more));
        self.by_kind.iter_mut().zip(&other.by_kind).for_each(|(sum, more)| *sum += more);
        self.entries += other.entries;
        Some(other.by_kind.iter().sum())
    }

    /// Adds entries that speak of nothing there is: they are counted, and reach nobody.
    pub fn add_nowhere(&mut self, entries: &[Statement], moment: &Moment) {
        self.entries += entries.iter().filter(|s| s.is_on() && s.in_date(moment.date)).count();
    }

    /// Adds the entries that speak of a part alone: `base` is the estate that all parts share.
    pub fn add_entries(&mut self, base: &Estate, snapshot: &Snapshot) {
        let moment = snapshot.moment();
        self.entries += in_force(snapshot.estate(), moment) - in_force(base, moment);
    }

    /// The totals; `distinct` is how many different rows there were.
    pub fn finish(self, estate: &Estate, moment: &Moment, distinct: usize) -> Summary {
        let Running { allowed, reasons, mut users, by_kind, entries } = self;
        let actions = estate.schema().actions.len();
        users.sort_unstable();
        users.dedup();
        let name = |a: usize| estate.schema().actions[a].name.clone();
        let resources: usize = by_kind.iter().sum();
        let mut summary = Summary {
            users: estate.people().len(),
            active_users: estate.people().active().count_ones(..),
            resources,
            actions,
            statements: in_force(estate, moment) + entries,
            triples: estate.people().len() as u64 * resources as u64 * actions as u64,
            profiles: users.len(),
            distinct_outcomes: distinct,
            ..Summary::default()
        };
        for action in 0..actions {
            let count: u64 = allowed.iter().map(|by_action| by_action[action]).sum();
            summary.allowed.push((name(action), count));
        }
        for reason in Reason::ALL {
            let by = if reason.is_allowed() { &mut summary.allowed_by_reason } else { &mut summary.refused };
            by.insert(reason.word().to_string(), reasons[reason as usize]);
        }
        for (kind, by_action) in allowed.iter().enumerate() {
            let resources = by_kind[kind];
            if resources == 0 {
                continue;
            }
            let kind = estate.schema().kinds[kind].name.clone();
            summary.resources_by_kind.insert(kind.clone(), resources);
            summary.allowed_by_kind.insert(kind, by_action.iter().enumerate().map(|(a, n)| (name(a), *n)).collect());
        }
        summary
    }
}

/// Below so many resources a share of their own is not worth an engine.
pub(super) const SMALLEST_SHARE: usize = 5_000;
