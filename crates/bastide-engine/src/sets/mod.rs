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

mod book;
pub mod claims;
mod decide;
mod features;
pub(crate) mod keyed;
mod lend;
mod pairs;
mod places;
mod print;
mod statement;
pub mod store;
mod touching;
mod ways;

use crate::decide::Judge;
use bastide_model::condition::UserField;
use bastide_model::schema::Target;
use bastide_model::*;
use bastide_syntax::Diagnostic;
pub use book::{Book, Outcome, OutcomeId, Part, RowId, ViewsId};
use features::View;
pub(crate) use features::{Cells, Digit, Feature, radix};
use fixedbitset::FixedBitSet;
use hashbrown::{DefaultHashBuilder, HashMap, HashSet, HashTable};
pub(crate) use keyed::{Keyed, of_length};
use pairs::{Classes, Pair};
pub(crate) use places::Descent;
pub(crate) use places::{Places, Reached};
pub(crate) use print::{Prints, random};
use rayon::prelude::*;
use statement::{Compiled, Learnt};
use std::sync::Arc;
pub(crate) use store::Bits;
use store::{SetId, SetStore};
use ways::{Short, Siblings};
pub(crate) use ways::{Trial, Way};

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
    cells: Cells<'e>,
    judge: Judge<'e>,
    /// Whether a missing value is taken in the users' favour; see [`SetEngine::favourable`].
    favourable: bool,
    sets: SetStore,
    places: Places,
    /// Statements in force, by their number; the others are none.
    compiled: Vec<Option<Compiled>>,
    /// Statements without a place, in policy order: they reach everything.
    everywhere: Vec<places::Reached>,
    sites: Vec<Site<'e>>,
    /// The site of a list of places and a kind, by both; [`NO_SITE`] where none was met yet.
    site_of: Vec<u32>,
    hasher: DefaultHashBuilder,
    /// Numbers of sites, found by the statements and by the actions that have a meaning there.
    known_sites: HashTable<u32>,
    /// The actions that are decided on; on the others nothing is.
    wanted: FixedBitSet,
    /// By kind: kinds on which the same of them have a meaning have the same number.
    fitting: Vec<u32>,
    /// By kind: kinds with the same number differ in nothing that is decided.
    kin: Arc<[u32]>,
    /// The statements that speak of an action somewhere, each list once.
    speaking: statement::Speaking,
    /// Outcomes of single actions by what alone they hang on, and rows by signature, by the length of that.
    parts: Vec<Keyed<u32, OutcomeId>>,
    signatures: Vec<Keyed<u32, ViewsId>>,
    singles: Vec<Option<SetId>>,
    groups: Vec<Option<Pair>>,
    classes: HashMap<UserField, Classes>,
    leaves: HashMap<Box<[usize]>, Pair>,
    folds: ways::Folds,
    examples: ways::Examples,
    active: SetId,
    book: Book,
    made: book::Made,
    /// The row that is being made.
    making: Making,
    /// The outcome of an action without a meaning.
    meaningless: Option<OutcomeId>,
    /// For others and for an owner, the users to whom each varying statement of a resource's site applies there.
    applied: [Vec<SetId>; 2],
    applied_on: Option<ResourceId>,
    /// What was asked of a parent last: siblings ask the same one after the other.
    of_parent: Option<(ResourceId, ActionId, SetId)>,
    /// Single outcomes elsewhere that were asked for before their row was done.
    early: HashMap<(ResourceId, ActionId, View), OutcomeId>,
    /// By number of kinds, those made last.
    siblings: Vec<Option<Siblings>>,
    key: Vec<u32>,
    part_key: Vec<u32>,
    sorted: Vec<Part>,
    finished: Vec<Part>,
    /// While it works with the sets of another engine: what it has learnt of statements.
    borrowed: Option<Vec<(StatementId, Learnt)>>,
}

/// A row that is being made: its actions ask for each other.
#[derive(Default)]
struct Making {
    of: Option<(ResourceId, View)>,
    site: usize,
    /// By action, as far as it is known.
    outcomes: Vec<Option<OutcomeId>>,
}

/// Stands for a site that was not met yet.
const NO_SITE: u32 = u32::MAX;

/// Resources that the same statements reach from the same depths, and on which the same actions have a meaning.
struct Site<'e> {
    /// The statements, in policy order.
    reached: Box<[places::Reached]>,
    /// Which actions have a meaning.
    fitting: u32,
    /// Of them, the positions of those whose set hangs on the resource.
    varying: Box<[u32]>,
    /// Of those, the ones to which it matters who owns the resource.
    by_owner: Box<[u32]>,
    /// Fields that are part of the signature by themselves, for statements that look at decisions
    /// on the resource itself.
    fields: Box<[Feature]>,
    /// Decisions elsewhere that the actions need.
    asks: Box<[(Target, ActionId)]>,
    /// Whether it matters who owns the resource.
    owned: bool,
    /// By action: which of the varying statements speak of it; none where one looks at decisions on the
    /// resource itself.
    relevant: Box<[Option<Box<[u32]>>]>,
    /// By action: whether it may be decided otherwise for an owner.
    turns: Box<[bool]>,
    /// By action: the number of the statements that speak of it.
    speaking: Box<[u32]>,
    /// A shorter way to the rows, where there is one.
    short: Option<Short<'e>>,
    /// How many resources it was met for, as far as that matters: for a few there is nothing to look up.
    met: u8,
}

fn all_actions(schema: &Schema) -> FixedBitSet {
    let mut all = FixedBitSet::with_capacity(schema.actions.len());
    all.insert_range(..);
    all
}

/// By kind a number for what it has in common with others.
fn numbered<T: PartialEq>(schema: &Schema, common: impl Fn(KindId) -> T) -> Vec<u32> {
    let mut known: Vec<T> = Vec::new();
    let number = |kind: KindId| {
        let own = common(kind);
        let found = known.iter().position(|other| *other == own);
        found.unwrap_or_else(|| {
            known.push(own);
            known.len() - 1
        }) as u32
    };
    KindId::all(schema.kinds.len()).map(number).collect()
}

/// By kind a number for the actions that have a meaning on it, of those that are decided on.
fn fitting(schema: &Schema, wanted: &FixedBitSet) -> Vec<u32> {
    numbered(schema, |kind| wanted.ones().map(|action| schema.fits(ActionId::new(action), kind)).collect::<Vec<bool>>())
}

/// By kind a number for that, and for which statements are about it.
fn kin(estate: &Estate, compiled: &[Option<Compiled>], fitting: &[u32]) -> Vec<u32> {
    let schema = &estate.schema;
    let decides = |compiled: &Option<Compiled>| compiled.as_ref().is_some_and(|compiled| !compiled.is_idle());
    let deciding = estate.statements.iter().zip(compiled).filter(|(_, compiled)| decides(compiled));
    let lists: HashSet<&[KindId]> = deciding.filter_map(|(statement, _)| statement.what.kinds.as_deref()).collect();
    let lists: Vec<&[KindId]> = lists.into_iter().collect();
    numbered(schema, |kind| {
        let about: Vec<bool> = lists.iter().map(|list| schema.is_any(kind, Some(list))).collect();
        (fitting[kind.index()], about)
    })
}

impl<'e> SetEngine<'e> {
    /// An engine for a moment. Cost: users, statements and resources, once each.
    ///
    /// # Errors
    /// The decisions that would depend on themselves on that date.
    pub fn new(estate: &'e Estate, moment: &'e Moment) -> Result<SetEngine<'e>, Vec<Diagnostic>> {
        Self::of_actions(estate, moment, all_actions(&estate.schema))
    }

    /// An engine that settles every missing value in the users' favour: an unknown permission applies, an unknown
    /// restriction does not. What it allows and the ordinary one refuses hangs on an unknown.
    ///
    /// # Errors
    /// The decisions that would depend on themselves on that date.
    pub fn favourable(estate: &'e Estate, moment: &'e Moment) -> Result<SetEngine<'e>, Vec<Diagnostic>> {
        Ok(SetEngine { favourable: true, ..Self::new(estate, moment)? })
    }

    /// Whether a missing value is taken in the users' favour.
    pub(crate) fn is_favourable(&self) -> bool {
        self.favourable
    }

    /// As [`SetEngine::new`], but decisions on all other actions are left out; on these nothing that is left may hang.
    ///
    /// # Errors
    /// The decisions that would depend on themselves on that date.
    pub(crate) fn of_actions(
        estate: &'e Estate,
        moment: &'e Moment,
        wanted: FixedBitSet,
    ) -> Result<SetEngine<'e>, Vec<Diagnostic>> {
        let judge = Judge::new(estate, moment)?;
        let places = Places::new(estate, &judge.live);
        Ok(Self::with(judge, places, wanted))
    }

    /// An engine for an estate that came about by changes of this one's; what the changes leave alone
    /// is not worked out again. Cost: as [`SetEngine::new`], but the tree is walked only where it or its barriers
    /// have changed, and beneath the places of statements that came.
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
        let places = if same_tree {
            self.places.beside(self.estate, judge.estate, &self.judge.live, &judge.live)
        } else {
            Places::new(judge.estate, &judge.live)
        };
        // Another schema may have other actions.
        let same_schema = Arc::ptr_eq(&self.estate.schema, &judge.estate.schema);
        let wanted = if same_schema { self.wanted.clone() } else { all_actions(&judge.estate.schema) };
        SetEngine::with(judge, places, wanted)
    }

    fn with(judge: Judge<'e>, places: Places, wanted: FixedBitSet) -> SetEngine<'e> {
        let estate = judge.estate();
        let mut sets = SetStore::new(estate.people.len());
        let active = sets.of(estate.people.active.ones());
        let live: FixedBitSet = judge.live.iter().map(|id| id.index()).collect();
        let compile = |(at, statement): (usize, &Arc<Statement>)| {
            live.contains(at).then(|| Compiled::new(estate, statement, &wanted))
        };
        let statements = estate.statements.par_iter().enumerate().with_min_len(1 << 10);
        let compiled: Vec<Option<Compiled>> = statements.map(compile).collect();
        let fitting = fitting(&estate.schema, &wanted);
        let site_of = vec![NO_SITE; places.lists.len() * estate.schema.kinds.len()];
        let everywhere = judge.live.iter().filter(|id| estate.statement(**id).what.places.is_none());
        SetEngine {
            estate,
            cells: Cells::of(estate),
            favourable: false,
            sets,
            places,
            everywhere: everywhere.map(|id| (*id, 0)).collect(),
            sites: Vec::new(),
            site_of,
            hasher: DefaultHashBuilder::default(),
            known_sites: HashTable::new(),
            kin: kin(estate, &compiled, &fitting).into(),
            fitting,
            compiled,
            wanted,
            speaking: statement::Speaking::default(),
            parts: Vec::new(),
            signatures: Vec::new(),
            singles: vec![None; estate.people.len()],
            groups: vec![None; estate.groups.len()],
            classes: HashMap::new(),
            leaves: HashMap::new(),
            folds: ways::Folds::new(),
            examples: ways::Examples::new(),
            active,
            book: Book::default(),
            made: book::Made::none(estate.catalog.len()),
            making: Making::default(),
            meaningless: None,
            applied: Default::default(),
            applied_on: None,
            of_parent: None,
            early: HashMap::new(),
            siblings: vec![None; estate.schema.kinds.len()],
            key: Vec::new(),
            part_key: Vec::new(),
            sorted: Vec::new(),
            finished: Vec::new(),
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

    /// Which statements reach a resource by place, as a number.
    pub(crate) fn descent(&self) -> Arc<Descent> {
        Arc::clone(&self.places.descent)
    }

    /// By kind a number: kinds with the same one differ in nothing that is decided.
    pub(crate) fn kin(&self) -> Arc<[u32]> {
        Arc::clone(&self.kin)
    }

    /// The sets that outcomes speak of.
    pub fn sets(&self) -> &SetStore {
        &self.sets
    }

    /// What was decided, and the sets that it speaks of; everything else is let go.
    pub fn into_book(self) -> (Book, SetStore) {
        (self.book, self.sets)
    }

    /// The outcomes of a row, by action.
    pub fn outcomes(&self, row: RowId) -> impl ExactSizeIterator<Item = &Outcome> {
        self.book.outcomes(row)
    }

    /// The outcome of one action of a row.
    pub fn outcome(&self, row: RowId, action: ActionId) -> &Outcome {
        self.book.outcome(row, action)
    }

    /// How many different rows were met.
    pub fn row_count(&self) -> usize {
        self.book.row_count()
    }

    /// What is decided on a resource.
    pub fn row(&mut self, resource: ResourceId) -> Decided {
        let (others, owners) = self.views(resource);
        Decided { others, owner: self.own_row(resource, others, owners) }
    }

    /// What is decided on a resource, as one number: equal numbers, equal rows for everybody else and for an owner.
    pub fn views_id(&mut self, resource: ResourceId) -> ViewsId {
        if let Some(made) = self.made.get(resource) {
            return made;
        }
        let parent = self.cells.parent(resource);
        if parent.is_none_or(|parent| self.made.get(parent).is_some()) {
            return self.make_row(resource);
        }
        // Parents come first, so that what is asked of them is there; iteratively, for deep trees.
        let unmade = |r: &ResourceId| self.made.get(*r).is_none();
        let above: Vec<ResourceId> = self.estate.catalog.upward(resource).skip(1).take_while(unmade).collect();
        for resource in above.into_iter().rev() {
            self.make_row(resource);
        }
        self.make_row(resource)
    }

    /// What is decided for everybody else, and for an owner, whoever that is.
    pub(crate) fn views(&mut self, resource: ResourceId) -> (RowId, RowId) {
        let views = self.views_id(resource);
        self.book.views(views)
    }

    /// The owner and the owner's row, where it is another than everybody's.
    fn own_row(&self, resource: ResourceId, others: RowId, owners: RowId) -> Option<(UserId, RowId)> {
        if others == owners {
            return None;
        }
        self.estate.catalog.owner(resource).flatten().map(|owner| (owner, owners))
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
        key.push(self.cells.owned(resource));
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

    fn make_row(&mut self, resource: ResourceId) -> ViewsId {
        let Siblings { site, answer, .. } = self.siblings(resource, false);
        let mut short = None;
        if let Some(way) = self.sites[site].short.as_mut().filter(|way| way.is_worth_it()) {
            match way.find(&self.cells, answer, resource) {
                Ok(known) => {
                    self.made.set(resource, known);
                    return known;
                }
                Err(key) => short = Some(key),
            }
        }
        let key = self.signature(site, resource);
        let views = match self.signatures.get(key.len()).and_then(|known| known.get(&key)) {
            Some(known) => known,
            None => {
                let views = self.decide_row(site, resource);
                keyed::of_length(&mut self.signatures, key.len()).insert(&key, views);
                views
            }
        };
        self.key = key;
        self.made.set(resource, views);
        if let (Some(key), Some(way)) = (short, &mut self.sites[site].short) {
            way.learn(key, views);
        }
        views
    }

    /// Decides every action on a resource: for everybody else, and where it matters who owns it, for an owner.
    fn decide_row(&mut self, site: usize, resource: ResourceId) -> ViewsId {
        let mut outcomes = vec![None; self.estate.schema.actions.len()];
        let others = self.decide_view(site, (resource, View::Other), &mut outcomes);
        let mut owners = others;
        if self.sites[site].owned && self.cells.owned(resource) == 2 {
            let turns = outcomes.iter_mut().zip(&self.sites[site].turns);
            turns.filter(|(_, turns)| **turns).for_each(|(outcome, _)| *outcome = None);
            owners = self.decide_view(site, (resource, View::Owner), &mut outcomes);
        }
        self.book.keep_views(others, owners)
    }

    /// Decides the actions that are not decided yet.
    fn decide_view(
        &mut self,
        site: usize,
        (resource, view): (ResourceId, View),
        outcomes: &mut Vec<Option<OutcomeId>>,
    ) -> RowId {
        let making = Making { of: Some((resource, view)), site, outcomes: std::mem::take(outcomes) };
        let outer = std::mem::replace(&mut self.making, making);
        let actions = ActionId::all(self.estate.schema.actions.len());
        let row: Vec<OutcomeId> = actions.clone().map(|action| self.decided(resource, action, view)).collect();
        *outcomes = std::mem::replace(&mut self.making, outer).outcomes;
        if !self.early.is_empty() {
            // The row holds them from now on.
            actions.for_each(|action| {
                self.early.remove(&(resource, action, view));
            });
        }
        self.book.keep_row(&row)
    }

    /// Everything the outcomes on a resource hang on, within its site.
    fn signature(&mut self, site: usize, resource: ResourceId) -> Vec<u32> {
        let mut key = std::mem::take(&mut self.key);
        key.clear();
        key.push(site as u32);
        for i in 0..self.sites[site].fields.len() {
            key.push(match self.sites[site].fields[i] {
                Feature::Field(step, field) => self.cells.field(step, field, resource),
                _ => self.cells.owned(resource),
            });
        }
        for i in 0..self.sites[site].asks.len() {
            let (target, action) = self.sites[site].asks[i];
            let met = self.met(resource, target, action, View::Other);
            key.push(met.0);
        }
        // Until they are all known, nobody may take them for known.
        self.applied_on = None;
        let [mut others, mut owners] = std::mem::take(&mut self.applied);
        others.clear();
        owners.clear();
        for i in 0..self.sites[site].varying.len() {
            let (id, _) = self.sites[site].reached[self.sites[site].varying[i] as usize];
            others.push(self.applies(id, resource, View::Other));
        }
        key.extend(others.iter().map(|set| set.0));
        owners.extend_from_slice(&others);
        if self.sites[site].owned {
            key.push(self.cells.owned(resource));
            // As an owner, the same statements may apply otherwise on another resource.
            for at in 0..self.sites[site].by_owner.len() {
                let i = self.sites[site].by_owner[at] as usize;
                let (id, _) = self.sites[site].reached[self.sites[site].varying[i] as usize];
                owners[i] = self.applies(id, resource, View::Owner);
                key.push(owners[i].0);
            }
        }
        (self.applied, self.applied_on) = ([others, owners], Some(resource));
        if !self.estate.layers.is_empty() {
            let layer = self.layer(site, resource);
            key.push(layer.map_or(u32::MAX, |l| l.0));
        }
        key
    }

    /// The users for whom an action is allowed on a resource.
    pub fn allowed(&mut self, resource: ResourceId, action: ActionId) -> SetId {
        let (allowed, owner) = match self.made.get(resource) {
            Some(views) => {
                let (others, owners) = self.book.views(views);
                let own = self.own_row(resource, others, owners);
                let outcome = |row: RowId| self.book.outcome(row, action).allowed;
                (outcome(others), own.map(|(user, row)| (user, outcome(row))))
            }
            _ => {
                let others = self.allowed_as(resource, action, View::Other);
                match self.estate.catalog.owner(resource).flatten() {
                    Some(owner) => (others, Some((owner, self.allowed_as(resource, action, View::Owner)))),
                    None => (others, None),
                }
            }
        };
        let Some((owner, owners)) = owner else { return allowed };
        match (self.sets.contains(allowed, owner.index()), self.sets.contains(owners, owner.index())) {
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

    /// Everybody's outcome of an action on a resource, by reason and deciding statement: the owner stands where owning
    /// puts the owner.
    pub fn parts(&mut self, resource: ResourceId, action: ActionId) -> Vec<Part> {
        let Decided { others, owner } = self.row(resource);
        let mut parts = self.book.outcome(others, action).parts.to_vec();
        let Some((owner, owners)) = owner else { return parts };
        let cause = |part: &Part| (part.reason, part.by);
        let own = self.part_of(owners, owner, action);
        if cause(&own) == cause(&self.part_of(others, owner, action)) {
            return parts;
        }
        let single = self.single(owner);
        for part in &mut parts {
            part.users = self.sets.subtract(part.users, single);
        }
        match parts.iter_mut().find(|part| cause(part) == cause(&own)) {
            Some(part) => part.users = self.sets.union(part.users, single),
            None => parts.push(Part { users: single, ..own }),
        }
        parts.retain(|part| part.users != SetId::NONE);
        parts
    }

    fn allowed_as(&mut self, resource: ResourceId, action: ActionId, view: View) -> SetId {
        let outcome = self.decided(resource, action, view);
        self.book.get(outcome).allowed
    }

    /// The users for whom an action is allowed on everything a target leads to. On the resource
    /// itself it is asked as those it is looked at as.
    fn met(&mut self, resource: ResourceId, target: Target, action: ActionId, view: View) -> SetId {
        match target {
            Target::Own => return self.allowed_as(resource, action, view),
            Target::Parent => {
                let Some(parent) = self.cells.parent(resource) else { return SetId::ALL };
                if let Some((of, what, allowed)) = self.of_parent
                    && (of, what) == (parent, action)
                {
                    return allowed;
                }
                let allowed = self.allowed(parent, action);
                self.of_parent = Some((parent, action, allowed));
                return allowed;
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
        self.book.is_same(a, b, action)
    }

    /// The decision on an action for one user.
    pub fn part(&self, decided: Decided, user: UserId, action: ActionId) -> Part {
        self.part_of(decided.row_for(user), user, action)
    }

    /// The part of a row in which a user is.
    pub fn part_of(&self, row: RowId, user: UserId, action: ActionId) -> Part {
        self.book.outcome(row, action).part(&self.sets, user)
    }

    /// Whether an action is allowed for one user.
    pub fn allows(&self, decided: Decided, user: UserId, action: ActionId) -> bool {
        self.sets.contains(self.outcome(decided.row_for(user), action).allowed, user.index())
    }
}
