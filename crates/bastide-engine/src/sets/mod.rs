//! The set engine: all users of a resource at once, without visiting every pair.
//!
//! Whatever a decision depends on is a function of few things. A statement's outcome over all users
//! is a set of users; it hangs on the values of the resource that its conditions mention, so it is
//! worked out once for each combination of them. The outcome on a resource hangs on which statements
//! reach it from which depth, on their sets, and on the finished sets of its parent, sources and
//! the like for what its actions need: its *signature*. Equal signatures are evaluated once.
//!
//! - [`store::SetStore`] keeps each set of users once; algebra on ids is remembered.
//! - `places` says which statements reach each resource, in one pass down the tree.
//! - `pairs` decides conditions in three-valued logic over all users: a pair of sets.
//! - `decide` weighs the sets by the steps of the decision procedure.
//!
//! Cost: users and statements once; for each resource a look-up of a few numbers; for each different
//! signature some set operations, each of a word for 64 users, most of them remembered. The worst
//! case is a catalog in which every resource has a signature of its own (grants of its own to
//! people of its own): then it is resources times the set operations of one evaluation.

pub mod claims;
mod decide;
mod features;
mod lend;
mod pairs;
mod places;
mod statement;
pub mod store;

use crate::decide::{Judge, Reason};
use bastide_model::condition::UserField;
use bastide_model::schema::Target;
use bastide_model::*;
use bastide_syntax::Diagnostic;
use features::{Feature, View};
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use pairs::{Classes, Pair};
use places::Places;
use statement::{Compiled, Learnt};
use std::sync::Arc;
use store::{SetId, SetStore};

/// What is decided for whom, on one action.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub struct Outcome {
    /// Disjoint parts that together are all users.
    pub parts: Box<[Part]>,
    /// Everybody for whom it is allowed.
    pub allowed: SetId,
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

/// The outcomes of all actions on a resource, kept once.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct RowId(u32);

impl RowId {
    /// The row of a number.
    pub fn new(index: usize) -> RowId {
        RowId(index as u32)
    }

    /// Its number.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// What is decided on a resource: one row for everybody, and another for its owner where that differs.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Decided {
    /// For everybody, or everybody but the owner.
    pub others: RowId,
    /// The owner, and the row for owners.
    pub owner: Option<(UserId, RowId)>,
}

impl Decided {
    /// The row that holds for a user.
    pub fn row_for(self, user: UserId) -> RowId {
        match self.owner {
            Some((owner, row)) if owner == user => row,
            _ => self.others,
        }
    }
}

/// Evaluates an estate at a moment.
pub struct SetEngine<'e> {
    estate: &'e Estate,
    judge: Judge<'e>,
    sets: SetStore,
    places: Places,
    /// Statements in force, by their number; the others are none.
    compiled: Vec<Option<Compiled>>,
    /// Statements without a place, in policy order: they reach everything.
    everywhere: Vec<places::Reached>,
    sites: Vec<Site>,
    /// The site of a list of places and a kind, by both; [`NO_SITE`] where none was met yet.
    site_of: Vec<u32>,
    singles: Vec<Option<SetId>>,
    groups: Vec<Option<Pair>>,
    classes: HashMap<UserField, Classes>,
    leaves: HashMap<Box<[usize]>, Pair>,
    active: SetId,
    outcomes: Vec<Outcome>,
    known_outcomes: HashMap<Outcome, OutcomeId>,
    rows: Vec<Box<[OutcomeId]>>,
    known_rows: HashMap<Box<[OutcomeId]>, RowId>,
    /// The rows that are done: for everybody but the owner, and for the owner.
    row_of: Vec<Option<(RowId, RowId)>>,
    /// Single outcomes that were asked for before their row was done.
    early: HashMap<(ResourceId, ActionId, View), OutcomeId>,
    key: Vec<u32>,
    short_key: Vec<u32>,
    /// While it works with the sets of another engine: what it has learnt of statements.
    borrowed: Option<Vec<(StatementId, Learnt)>>,
}

/// Stands for a site that was not met yet.
const NO_SITE: u32 = u32::MAX;

/// Resources of one kind that the same statements reach from the same depths.
struct Site {
    /// The statements, in policy order.
    reached: Box<[places::Reached]>,
    /// Of them, the positions of those whose set hangs on the resource.
    varying: Box<[u32]>,
    /// Fields that are part of the signature by themselves, for statements that look at decisions
    /// on the resource itself.
    fields: Box<[Feature]>,
    /// Decisions elsewhere that the actions need.
    asks: Box<[(Target, ActionId)]>,
    /// Whether it matters who owns the resource.
    owned: bool,
    /// By action: the positions of varying statements that speak of it; none where one looks at
    /// decisions on the resource itself.
    relevant: Box<[Option<Box<[u32]>>]>,
    /// Outcomes of single actions met so far, by what alone they hang on.
    parts: HashMap<Box<[u32]>, OutcomeId>,
    /// The rows met so far, by signature: for others, and for an owner.
    known: HashMap<Box<[u32]>, (RowId, RowId)>,
    /// A shorter way to them, where there is one.
    short: Option<Short>,
}

/// The rows of a site by the values that its statements mention. A signature follows from these, which are fewer than
/// the statements, and so quicker to look up; but where nearly every resource has values of its own it is no way at all.
struct Short {
    features: Box<[Feature]>,
    asks: Box<[(Target, ActionId)]>,
    known: HashMap<Box<[u32]>, (RowId, RowId)>,
    asked: u32,
    found: u32,
}

impl Short {
    /// After so many resources it must have helped with half of them.
    const TRIAL: u32 = 1 << 10;

    fn is_worth_it(&self) -> bool {
        self.asked < Self::TRIAL || self.found >= self.asked / 2
    }
}

impl<'e> SetEngine<'e> {
    /// An engine for a moment. Cost: users, statements and resources, once each.
    ///
    /// # Errors
    /// The decisions that would depend on themselves on that date.
    pub fn new(estate: &'e Estate, moment: &'e Moment) -> Result<SetEngine<'e>, Vec<Diagnostic>> {
        let judge = Judge::new(estate, moment)?;
        let places = Places::new(estate, &judge.live);
        Ok(Self::with(judge, places))
    }

    /// An engine for an estate that came about by changes of this one's; what the changes leave alone
    /// is not worked out again. Cost: as [`SetEngine::new`], but the tree is walked only where it,
    /// its barriers, or a large part of what statements reach has changed.
    ///
    /// # Errors
    /// The decisions that would depend on themselves on that date.
    pub fn beside<'f>(&self, estate: &'f Estate, moment: &'f Moment) -> Result<SetEngine<'f>, Vec<Diagnostic>> {
        Ok(self.next_to(Judge::new(estate, moment)?))
    }

    /// As [`SetEngine::beside`], where a statement has gone and nothing else has changed.
    pub fn without<'f>(&self, estate: &'f Estate, moment: &'f Moment) -> SetEngine<'f> {
        // Where a statement goes, no circle comes.
        self.next_to(Judge::unchecked(estate, moment))
    }

    fn next_to<'f>(&self, judge: Judge<'f>) -> SetEngine<'f> {
        let (old, new) = (&self.estate.catalog, &judge.estate.catalog);
        let same_tree = Arc::ptr_eq(old, new) || (old.parents == new.parents && old.barriers == new.barriers);
        let places =
            if same_tree { self.places.beside(self.estate, judge.estate, &self.judge.live, &judge.live) } else { None };
        let places = places.unwrap_or_else(|| Places::new(judge.estate, &judge.live));
        SetEngine::with(judge, places)
    }

    fn with(judge: Judge<'e>, places: Places) -> SetEngine<'e> {
        let estate = judge.estate();
        let mut sets = SetStore::new(estate.people.len());
        let active = sets.of(estate.people.active.ones());
        let mut compiled: Vec<Option<Compiled>> = estate.statements.iter().map(|_| None).collect();
        for id in &judge.live {
            compiled[id.index()] = Some(Compiled::new(estate, estate.statement(*id)));
        }
        let site_of = vec![NO_SITE; places.lists.len() * estate.schema.kinds.len()];
        let everywhere = judge.live.iter().filter(|id| estate.statement(**id).what.places.is_none());
        SetEngine {
            estate,
            sets,
            places,
            compiled,
            everywhere: everywhere.map(|id| (*id, 0)).collect(),
            sites: Vec::new(),
            site_of,
            singles: vec![None; estate.people.len()],
            groups: vec![None; estate.groups.len()],
            classes: HashMap::new(),
            leaves: HashMap::new(),
            active,
            outcomes: Vec::new(),
            known_outcomes: HashMap::new(),
            rows: Vec::new(),
            known_rows: HashMap::new(),
            row_of: vec![None; estate.catalog.len()],
            early: HashMap::new(),
            key: Vec::new(),
            short_key: Vec::new(),
            borrowed: None,
            judge,
        }
    }

    /// The estate that is evaluated.
    pub fn estate(&self) -> &'e Estate {
        self.estate
    }

    /// The moment it is evaluated at.
    pub fn moment(&self) -> &'e Moment {
        self.judge.moment()
    }

    /// Marks every resource that any of these statements reaches by place and kind, while it is in
    /// force. Cost: the resources, once.
    pub fn mark_reached(&self, statements: &[StatementId], marked: &mut FixedBitSet) {
        let catalog = &self.estate.catalog;
        let live: Vec<StatementId> =
            statements.iter().copied().filter(|id| self.compiled[id.index()].is_some()).collect();
        if live.is_empty() {
            return;
        }
        let (everywhere, placed): (Vec<StatementId>, Vec<StatementId>) =
            live.into_iter().partition(|id| self.estate.statement(*id).what.places.is_none());
        let mut kinds = vec![false; self.estate.schema.kinds.len()];
        for id in everywhere {
            let wanted = self.estate.statement(id).what.kinds.as_deref();
            let all = kinds.iter_mut().enumerate();
            all.for_each(|(kind, is)| *is |= self.estate.schema.is_any(KindId::new(kind), wanted));
        }
        let wanted: HashSet<StatementId> = placed.into_iter().collect();
        let lists: Vec<bool> =
            self.places.lists.iter().map(|list| list.iter().any(|(id, _)| wanted.contains(id))).collect();
        for resource in catalog.all() {
            if kinds[catalog.kind(resource).index()] || lists[self.places.class[resource.index()] as usize] {
                marked.insert(resource.index());
            }
        }
    }

    /// The sets that outcomes speak of.
    pub fn sets(&self) -> &SetStore {
        &self.sets
    }

    /// The outcomes of a row, by action.
    pub fn outcomes(&self, row: RowId) -> impl ExactSizeIterator<Item = &Outcome> {
        self.rows[row.0 as usize].iter().map(|id| &self.outcomes[id.0 as usize])
    }

    /// The outcome of one action of a row.
    pub fn outcome(&self, row: RowId, action: ActionId) -> &Outcome {
        &self.outcomes[self.rows[row.0 as usize][action.index()].0 as usize]
    }

    /// How many different rows were met.
    pub fn row_count(&self) -> usize {
        self.rows.len()
    }

    /// What is decided on a resource.
    pub fn row(&mut self, resource: ResourceId) -> Decided {
        if self.row_of[resource.index()].is_none() {
            let parent = self.estate.catalog.parent(resource);
            if parent.is_none_or(|parent| self.row_of[parent.index()].is_some()) {
                self.make_row(resource);
            } else {
                // Parents come first, so that what is asked of them is there; iteratively, for deep trees.
                let above: Vec<ResourceId> =
                    self.estate.catalog.upward(resource).take_while(|r| self.row_of[r.index()].is_none()).collect();
                for resource in above.into_iter().rev() {
                    self.make_row(resource);
                }
            }
        }
        let (others, owners) = self.row_of[resource.index()].expect("just made");
        Decided { others, owner: self.own_row(resource, others, owners) }
    }

    /// The owner and the owner's row, where it is another than everybody's.
    fn own_row(&self, resource: ResourceId, others: RowId, owners: RowId) -> Option<(UserId, RowId)> {
        if others == owners {
            return None;
        }
        self.estate.catalog.owner(resource).flatten().map(|owner| (owner, owners))
    }

    /// What is decided for everybody else, and for an owner, whoever that is.
    pub(crate) fn views(&mut self, resource: ResourceId) -> (RowId, RowId) {
        self.row(resource);
        self.row_of[resource.index()].expect("just made")
    }

    /// The statements in force that reach a resource by place and kind, in policy order.
    pub(crate) fn reached(&mut self, resource: ResourceId) -> impl Iterator<Item = StatementId> + '_ {
        let site = self.site(resource);
        self.sites[site].reached.iter().map(|(id, _)| *id)
    }

    /// What the outcomes on a resource hang on, decisions elsewhere aside, in an estate without layers and without
    /// conditions that look at decisions; and the resources whose decisions its actions ask for, none for
    /// one that is not there.
    pub(crate) fn likeness(&mut self, resource: ResourceId) -> (Vec<u32>, Vec<Option<ResourceId>>) {
        let site = self.site(resource);
        let mut key = vec![site as u32];
        for i in 0..self.sites[site].varying.len() {
            let (id, _) = self.sites[site].reached[self.sites[site].varying[i] as usize];
            key.push(self.applies(id, resource, View::Other).0);
            if self.compiled[id.index()].as_ref().is_some_and(Compiled::is_owned) {
                key.push(self.applies(id, resource, View::Owner).0);
            }
        }
        key.push(features::owned(self.estate, resource));
        let mut asked = Vec::new();
        for (target, _) in self.sites[site].asks.iter() {
            let (found, unmet) = features::lead(self.estate, resource, *target);
            asked.extend(found.into_iter().map(Some));
            if unmet {
                asked.push(None);
            }
            key.push(asked.len() as u32);
        }
        (key, asked)
    }

    /// The owner of a resource, where it may matter to decisions on it who that is.
    pub(crate) fn owner_that_matters(&mut self, resource: ResourceId) -> Option<UserId> {
        let site = self.site(resource);
        self.estate.catalog.owner(resource).flatten().filter(|_| self.sites[site].owned)
    }

    fn make_row(&mut self, resource: ResourceId) {
        let site = self.site(resource);
        let short = self.short_key(site, resource);
        if let Some(key) = &short
            && let Some(way) = &mut self.sites[site].short
        {
            way.asked += 1;
            if let Some(known) = way.known.get(&key[..]) {
                way.found += 1;
                self.row_of[resource.index()] = Some(*known);
                self.short_key = short.unwrap_or_default();
                return;
            }
        }
        let key = self.signature(site, resource);
        let rows = match self.sites[site].known.get(&key[..]) {
            Some(known) => *known,
            None => {
                let others = self.decide_row(resource, View::Other);
                let owned = self.sites[site].owned && features::owned(self.estate, resource) == 2;
                let owners = if owned { self.decide_row(resource, View::Owner) } else { others };
                self.sites[site].known.insert(key[..].into(), (others, owners));
                (others, owners)
            }
        };
        self.key = key;
        self.row_of[resource.index()] = Some(rows);
        if let Some(key) = short {
            let site = &mut self.sites[site];
            match &mut site.short {
                Some(way) if way.is_worth_it() => {
                    way.known.insert(key[..].into(), rows);
                }
                way => *way = None,
            }
            self.short_key = key;
        }
    }

    /// The values of a resource that the statements of its site mention, and what its actions need elsewhere; none where
    /// that is no shorter way.
    fn short_key(&mut self, site: usize, resource: ResourceId) -> Option<Vec<u32>> {
        let way = self.sites[site].short.as_ref()?;
        let mut key = std::mem::take(&mut self.short_key);
        key.clear();
        key.extend(way.features.iter().map(|feature| match feature {
            Feature::Field(step, field) => features::code(self.estate, *step, *field, resource),
            _ => features::owned(self.estate, resource),
        }));
        for i in 0..way.asks.len() {
            let (target, action) = self.sites[site].short.as_ref()?.asks[i];
            key.push(self.met(resource, target, action, View::Other).0);
        }
        Some(key)
    }

    fn decide_row(&mut self, resource: ResourceId, view: View) -> RowId {
        let actions = ActionId::all(self.estate.schema.actions.len());
        let outcomes: Vec<OutcomeId> = actions.clone().map(|action| self.decided(resource, action, view)).collect();
        // The row holds them from now on.
        actions.for_each(|action| {
            self.early.remove(&(resource, action, view));
        });
        self.keep_row(outcomes.into_boxed_slice())
    }

    fn keep_row(&mut self, outcomes: Box<[OutcomeId]>) -> RowId {
        if let Some(known) = self.known_rows.get(&outcomes) {
            return *known;
        }
        let id = RowId(self.rows.len() as u32);
        self.rows.push(outcomes.clone());
        self.known_rows.insert(outcomes, id);
        id
    }

    /// Everything the outcomes on a resource hang on, within its site.
    fn signature(&mut self, site: usize, resource: ResourceId) -> Vec<u32> {
        let mut key = std::mem::take(&mut self.key);
        key.clear();
        for i in 0..self.sites[site].fields.len() {
            key.push(match self.sites[site].fields[i] {
                Feature::Field(step, field) => features::code(self.estate, step, field, resource),
                _ => features::owned(self.estate, resource),
            });
        }
        for i in 0..self.sites[site].asks.len() {
            let (target, action) = self.sites[site].asks[i];
            let met = self.met(resource, target, action, View::Other);
            key.push(met.0);
        }
        for i in 0..self.sites[site].varying.len() {
            let at = self.sites[site].varying[i] as usize;
            let (id, _) = self.sites[site].reached[at];
            key.push(self.applies(id, resource, View::Other).0);
        }
        if self.sites[site].owned {
            key.push(features::owned(self.estate, resource));
            // As an owner, the same statements may apply otherwise on another resource.
            for i in 0..self.sites[site].varying.len() {
                let (id, _) = self.sites[site].reached[self.sites[site].varying[i] as usize];
                if self.compiled[id.index()].as_ref().is_some_and(Compiled::is_owned) {
                    key.push(self.applies(id, resource, View::Owner).0);
                }
            }
        }
        if !self.estate.layers.is_empty() {
            let layer = self.layer(site, resource);
            key.push(layer.map_or(u32::MAX, |l| l.0));
        }
        key
    }

    /// The users for whom an action is allowed on a resource.
    pub fn allowed(&mut self, resource: ResourceId, action: ActionId) -> SetId {
        let (others, owner) = match self.row_of[resource.index()] {
            Some((others, owners)) => {
                let own = self.own_row(resource, others, owners);
                let outcome = |row: RowId| self.rows[row.0 as usize][action.index()];
                (outcome(others), own.map(|(user, row)| (user, outcome(row))))
            }
            None => {
                let others = self.decided(resource, action, View::Other);
                match self.estate.catalog.owner(resource).flatten() {
                    Some(owner) => (others, Some((owner, self.decided(resource, action, View::Owner)))),
                    None => (others, None),
                }
            }
        };
        let allowed = self.outcomes[others.0 as usize].allowed;
        let Some((owner, owners)) = owner else { return allowed };
        let (before, after) = (allowed, self.outcomes[owners.0 as usize].allowed);
        match (self.sets.contains(before, owner.index()), self.sets.contains(after, owner.index())) {
            (false, true) => {
                let single = self.single(owner);
                self.sets.union(allowed, single)
            }
            (true, false) => {
                let single = self.single(owner);
                self.sets.subtract(allowed, single)
            }
            _ => allowed,
        }
    }

    /// The users for whom an action is allowed on everything a target leads to. On the resource
    /// itself it is asked as those it is looked at as.
    fn met(&mut self, resource: ResourceId, target: Target, action: ActionId, view: View) -> SetId {
        match target {
            Target::Own => {
                let outcome = self.decided(resource, action, view);
                return self.outcomes[outcome.0 as usize].allowed;
            }
            Target::Parent => {
                let parent = self.estate.catalog.parent(resource);
                return parent.map_or(SetId::ALL, |parent| self.allowed(parent, action));
            }
            Target::Source | Target::Kind(_) => {}
        }
        let (found, unmet) = features::lead(self.estate, resource, target);
        if unmet {
            return SetId::NONE;
        }
        let mut all = SetId::ALL;
        for target in found {
            let allowed = self.allowed(target, action);
            all = self.sets.intersect(all, allowed);
        }
        all
    }

    /// Whether two rows have the same outcome of an action.
    pub fn is_same(&self, a: RowId, b: RowId, action: ActionId) -> bool {
        self.rows[a.0 as usize][action.index()] == self.rows[b.0 as usize][action.index()]
    }

    /// The decision on an action for one user.
    pub fn part(&self, decided: Decided, user: UserId, action: ActionId) -> Part {
        self.part_of(decided.row_for(user), user, action)
    }

    /// The part of a row in which a user is.
    pub fn part_of(&self, row: RowId, user: UserId, action: ActionId) -> Part {
        let parts = &self.outcome(row, action).parts;
        let part = parts.iter().find(|part| self.sets.contains(part.users, user.index()));
        *part.expect("the parts of an outcome are everybody")
    }

    /// Whether an action is allowed for one user.
    pub fn allows(&self, decided: Decided, user: UserId, action: ActionId) -> bool {
        self.sets.contains(self.outcome(decided.row_for(user), action).allowed, user.index())
    }
}
