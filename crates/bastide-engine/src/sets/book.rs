//! What was decided, each outcome, each row of outcomes, and each pair of rows kept once.

use super::keyed::{Keyed, Number};
use super::store::{SetId, SetStore};
use crate::decide::Reason;
use bastide_model::*;
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use std::hash::BuildHasher;

/// What is decided for whom, on one action.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct Outcome {
    /// Disjoint parts that together are all users.
    pub parts: Box<[Part]>,
    /// Everybody for whom it is allowed.
    pub allowed: SetId,
}

impl Outcome {
    /// The part in which a user is.
    pub fn part(&self, sets: &SetStore, user: UserId) -> Part {
        let part = self.parts.iter().find(|part| sets.contains(part.users, user.index()));
        *part.expect("the parts of an outcome are everybody")
    }
}

impl Number for OutcomeId {
    fn number(self) -> u32 {
        self.0
    }
}

/// Users with the same reason by the same statement.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Part {
    /// The reason.
    pub reason: Reason,
    /// The statement that decides, where one does.
    pub by: Option<StatementId>,
    /// Who.
    pub users: SetId,
}

/// An outcome that is kept once.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct OutcomeId(u32);

impl OutcomeId {
    /// Its number.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// The outcomes of all actions on a resource, kept once.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct RowId(u32);

impl RowId {
    /// Its number.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// What is decided on a resource for everybody else and for an owner, kept once: see [`Book::views`].
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct ViewsId(u32);

impl ViewsId {
    /// Stands for a resource that is not there.
    pub(crate) const NOWHERE: ViewsId = ViewsId(u32::MAX);

    /// What has a number.
    pub fn new(index: usize) -> ViewsId {
        ViewsId(index as u32)
    }

    /// Its number.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// Outcomes by row and action, and rows by what is decided on a resource.
#[derive(Default)]
pub struct Book {
    outcomes: Vec<Outcome>,
    hasher: DefaultHashBuilder,
    /// Numbers of outcomes, found by their parts.
    known_outcomes: HashTable<OutcomeId>,
    rows: Keyed<OutcomeId, RowId>,
    views: Vec<(RowId, RowId)>,
    known_views: HashMap<(RowId, RowId), ViewsId>,
}

impl Book {
    /// The outcomes of a row, by action.
    pub fn outcomes(&self, row: RowId) -> impl ExactSizeIterator<Item = &Outcome> {
        self.row(row).iter().map(|id| self.get(*id))
    }

    /// The outcome of one action of a row.
    pub fn outcome(&self, row: RowId, action: ActionId) -> &Outcome {
        self.get(self.row(row)[action.index()])
    }

    /// Whether two rows have the same outcome of an action.
    pub fn is_same(&self, a: RowId, b: RowId, action: ActionId) -> bool {
        self.row(a)[action.index()] == self.row(b)[action.index()]
    }

    /// How many different rows there are.
    pub fn row_count(&self) -> usize {
        self.rows.len()
    }

    /// The row for everybody else, and the row for an owner, who is a user where that is another one.
    pub fn views(&self, views: ViewsId) -> (RowId, RowId) {
        self.views[views.index()]
    }

    /// All of these, by number.
    pub fn all_views(&self) -> &[(RowId, RowId)] {
        &self.views
    }

    /// An outcome.
    pub fn get(&self, outcome: OutcomeId) -> &Outcome {
        &self.outcomes[outcome.index()]
    }

    /// All outcomes, by number.
    pub fn all_outcomes(&self) -> &[Outcome] {
        &self.outcomes
    }

    /// The outcomes of a row, by action.
    pub fn row(&self, row: RowId) -> &[OutcomeId] {
        self.rows.key(row.index())
    }

    pub(super) fn keep(&mut self, parts: &[Part], allowed: SetId) -> OutcomeId {
        let Book { outcomes, hasher, known_outcomes, .. } = self;
        let parts_of = |id: OutcomeId| &outcomes[id.index()].parts[..];
        let hash = hasher.hash_one(parts);
        if let Some(known) = known_outcomes.find(hash, |id| parts_of(*id) == parts) {
            return *known;
        }
        let id = OutcomeId(outcomes.len() as u32);
        known_outcomes.insert_unique(hash, id, |id| hasher.hash_one(parts_of(*id)));
        outcomes.push(Outcome { parts: parts.into(), allowed });
        id
    }

    pub(super) fn keep_row(&mut self, row: &[OutcomeId]) -> RowId {
        self.rows.get(row).unwrap_or_else(|| {
            let id = RowId(self.rows.len() as u32);
            self.rows.insert(row, id);
            id
        })
    }

    pub(super) fn keep_views(&mut self, others: RowId, owners: RowId) -> ViewsId {
        let next = ViewsId(self.views.len() as u32);
        let views = *self.known_views.entry((others, owners)).or_insert(next);
        if views == next {
            self.views.push((others, owners));
        }
        views
    }
}

/// What is decided on each resource, as far as it is known. Nothing is 0, so that memory is touched only for resources
/// that are asked for.
pub(super) struct Made(Vec<u32>);

impl Made {
    /// Nothing yet on so many resources.
    pub fn none(resources: usize) -> Made {
        Made(vec![0; resources])
    }

    /// What is decided on one.
    pub fn get(&self, resource: ResourceId) -> Option<ViewsId> {
        self.0[resource.index()].checked_sub(1).map(ViewsId)
    }

    /// Takes note of it.
    pub fn set(&mut self, resource: ResourceId, views: ViewsId) {
        self.0[resource.index()] = views.0 + 1;
    }
}
