//! The owner's review: who has which access to what somebody answers for, and through which statement; and
//! what the answers to that come to as changes.
//!
//! A *sheet* is what one owner is asked about, or what lies in one place. It has rows for each statement that lets
//! anybody do anything there: what a row says is so for every person in it, wherever an action has a meaning; so a
//! statement by which some people may do less than others, since they are capped for example, has several. Where it gives nearly everybody
//! something else, a row says that each may do it on a part. A row is found again by the statement, said so that moving
//! lines changes nothing, and by what it gives.

mod answers;

pub use answers::{Answer, ByHand, Proposal, SheetDecision, proposal};

use crate::change::entry_cells;
use crate::difference::{Fold, fold};
use crate::evaluate::{Decided, Work};
use crate::sets::store::{SetId, SetStore};
use crate::snapshot::Snapshot;
use bastide_model::show;
use bastide_model::statement::Sort;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use jiff::civil::Date;
use std::collections::BTreeMap;
use std::rc::Rc;

/// How the catalog is parted into sheets.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Part {
    /// By the owner of a resource, or of the nearest resource above it that has one.
    Owner,
    /// By the nearest resource of a kind, itself or above.
    Kind(KindId),
    /// By the root.
    Root,
}

/// What one owner is asked about, or what lies in one place.
#[derive(Debug)]
pub struct Sheet {
    /// The owner's id, or the path of the place; empty for what belongs to none.
    pub name: String,
    /// The rows, in policy order.
    pub rows: Vec<SheetRow>,
}

/// What one statement lets people do there.
#[derive(Debug)]
pub struct SheetRow {
    /// The statement.
    pub statement: StatementId,
    /// The statement, said so that it stays the same when lines move.
    pub key: String,
    /// What it gives, as a short mark: the actions and the resources.
    pub mark: String,
    /// Its file and line.
    pub at: String,
    /// Its who-clause.
    pub who: String,
    /// Its reason.
    pub because: Option<String>,
    /// Its last day.
    pub until: Option<Date>,
    /// Where each of the people may do it on a part of the resources alone: the fewest and the most that one has.
    pub each: Option<(usize, usize)>,
    /// Who may do all of it, by ids in the order of users.
    pub people: Vec<String>,
    /// Which actions, in declared order.
    pub actions: Vec<String>,
    /// On which places.
    pub places: Vec<Fold>,
    /// On how many resources of the sheet.
    pub resources: usize,
    /// On how many resources that are in other sheets.
    pub elsewhere: usize,
}

/// So many names stand for the resources of a row.
const MOST_PLACES: usize = 4;

/// A statement, said so that it stays the same when lines move.
pub fn key(estate: &Estate, id: StatementId) -> String {
    let statement = estate.statement(id);
    match statement.sort {
        Sort::Rule => format!("rule {}", statement.name),
        Sort::Entry => format!("entry {}", entry_cells(estate, statement).join(",")),
    }
}

/// What is gathered for the rows of a statement: for people and the actions of the statement that they may not do
/// although these have a meaning, the resources.
type DeniedResources = HashMap<(SetId, FixedBitSet), Vec<ResourceId>>;

/// People, and what they may not do of what a statement speaks of.
type DeniedClass = (SetId, FixedBitSet);

/// What classes of people hang on, where nobody is decided one by one: whom the statement means, and what is decided on the
/// actions.
fn plain(work: &Work, set: SetId, id: StatementId, actions: &[ActionId]) -> Option<Box<[u32]>> {
    let outcome = |action: &ActionId| match work.decided(*action) {
        Decided::Base(outcome) if work.cells(*action).is_empty() => Some(outcome.0),
        Decided::Base(_) | Decided::Wide(_) | Decided::Open => None,
    };
    let outcomes: Option<Vec<u32>> = actions.iter().map(outcome).collect();
    let mut key = vec![set.0, id.0];
    key.extend(outcomes?);
    Some(key.into())
}

/// A statement that gives the same actions to so many different sets of people is told of in one row.
const MOST_SETS: usize = 12;

/// The sheets, by name; what belongs to none comes last. Cost: every resource once, and for each the
/// statements that reach it.
pub fn sheets(snapshot: &Snapshot, part: Part) -> Vec<Sheet> {
    let estate = snapshot.estate();
    let (schema, catalog) = (estate.schema(), estate.catalog());
    let mut engine = snapshot.evaluator();
    let mut sets = SetStore::new(estate.people().len());
    let [mut users, mut allowed] = std::array::from_fn(|_| engine.nobody());
    let mut known: HashMap<Box<[u32]>, Rc<[DeniedClass]>> = HashMap::new();
    let mut names: Vec<Option<String>> = vec![None; catalog.len()];
    let mut heaps: HashMap<(Option<String>, StatementId), DeniedResources> = HashMap::new();
    let mut reaches = vec![0usize; estate.statements().len()];
    for resource in catalog.all() {
        let own = match part {
            Part::Owner => catalog.owner(resource).flatten().map(|owner| estate.people().id(owner).to_string()),
            Part::Kind(kind) => schema.is_kind(catalog.kind(resource), kind).then(|| catalog.path(resource)),
            Part::Root => catalog.parent(resource).is_none().then(|| catalog.path(resource)),
        };
        let name = own.or_else(|| catalog.parent(resource).and_then(|parent| names[parent.index()].clone()));
        names[resource.index()] = name.clone();
        let kind = catalog.kind(resource);
        let mut work = engine.decide(resource);
        let layer = engine.layer_of(&work);
        for rule in engine.rules(&work) {
            let id = engine.statement_of(rule);
            let statement = estate.statement(id);
            // What another layer decides lets nobody in.
            let own = Some(statement.layer.unwrap_or(LayerId::new(estate.layers().len())));
            let controls = estate.layers().is_empty() || layer == own || statement.modality == Modality::MayAlways;
            if !statement.modality.permits() || !controls {
                continue;
            }
            let set = engine.applies_to(&mut work, rule, &mut users);
            let fitting: Vec<ActionId> =
                statement.actions.ones().map(ActionId::new).filter(|action| schema.fits(*action, kind)).collect();
            let key = set.and_then(|set| plain(&work, set, id, &fitting));
            let classes = match key.as_ref().and_then(|key| known.get(key)) {
                Some(known) => Rc::clone(known),
                None => {
                    users.intersect_with(estate.people().active());
                    // People by what is missing of what it speaks of.
                    let mut classes: Vec<(FixedBitSet, FixedBitSet)> =
                        vec![(users.clone(), FixedBitSet::with_capacity(schema.actions.len()))];
                    for action in &fitting {
                        engine.allowed_users(&work, *action, &mut allowed);
                        let mut parted = Vec::with_capacity(classes.len() + 1);
                        for (users, missing) in classes {
                            let (mut may, mut not) = (users.clone(), users);
                            may.intersect_with(&allowed);
                            not.difference_with(&allowed);
                            let mut more = missing.clone();
                            more.insert(action.index());
                            let both = [(may, missing), (not, more)];
                            parted.extend(both.into_iter().filter(|(users, _)| !users.is_clear()));
                        }
                        classes = parted;
                    }
                    classes.retain(|(users, missing)| !users.is_clear() && missing.count_ones(..) < fitting.len());
                    let classes: Rc<[DeniedClass]> =
                        classes.into_iter().map(|(users, missing)| (sets.of_users(&users), missing)).collect();
                    if let Some(key) = key {
                        known.insert(key, Rc::clone(&classes));
                    }
                    classes
                }
            };
            reaches[id.index()] += usize::from(!classes.is_empty());
            for class in classes.iter() {
                heaps.entry((name.clone(), id)).or_default().entry(class.clone()).or_default().push(resource);
            }
        }
        engine.done(work);
    }
    let mut sheets: BTreeMap<(bool, String), Vec<SheetRow>> = Default::default();
    for ((name, id), heap) in heaps {
        let statement = estate.statement(id);
        let mut all: Vec<ResourceId> = heap.values().flatten().copied().collect();
        all.sort_unstable();
        all.dedup();
        for Bundle { users, actions, resources, each } in gathered(estate, &mut sets, &statement.actions, heap) {
            let row = SheetRow {
                statement: id,
                key: key(estate, id),
                mark: mark(estate, &actions, &resources),
                at: estate.place(statement.origin),
                who: show::who(estate, &statement.who),
                because: statement.because.clone(),
                until: statement.until,
                each,
                people: sets.users(users).map(|u| estate.people().id(UserId::new(u)).to_string()).collect(),
                actions: actions.ones().map(|a| schema.actions[a].name.clone()).collect(),
                places: fold(catalog, &resources, MOST_PLACES),
                resources: resources.len(),
                elsewhere: reaches[id.index()] - all.len(),
            };
            sheets.entry((name.is_none(), name.clone().unwrap_or_default())).or_default().push(row);
        }
    }
    let sheets = sheets.into_iter().map(|((_, name), mut rows)| {
        rows.sort_by_cached_key(|row| (row.statement, std::cmp::Reverse(row.people.len()), row.mark.clone()));
        Sheet { name, rows }
    });
    sheets.collect()
}

/// What becomes a row.
struct Bundle {
    users: SetId,
    actions: FixedBitSet,
    resources: Vec<ResourceId>,
    each: Option<(usize, usize)>,
}

/// The rows of a statement: people who may do the same on the same resources stand in one; where the same actions go to
/// many different sets of people, all of them, each with a part.
fn gathered(estate: &Estate, sets: &mut SetStore, spoken: &FixedBitSet, heap: DeniedResources) -> Vec<Bundle> {
    let mut by_actions: BTreeMap<Vec<usize>, Vec<Bundle>> = BTreeMap::new();
    for ((users, missing), resources) in heap {
        let mut kinds: Vec<KindId> = resources.iter().map(|r| estate.catalog().kind(*r)).collect();
        kinds.sort_unstable();
        kinds.dedup();
        let fits = |action: &usize| kinds.iter().any(|kind| estate.schema().fits(ActionId::new(*action), *kind));
        let mut actions = FixedBitSet::with_capacity(spoken.len());
        spoken.difference(&missing).filter(fits).for_each(|action| actions.insert(action));
        let key = actions.ones().collect();
        by_actions.entry(key).or_default().push(Bundle { users, actions, resources, each: None });
    }
    let mut rows = Vec::new();
    for list in by_actions.into_values() {
        if list.len() <= MOST_SETS {
            rows.extend(list);
            continue;
        }
        let mut counts: BTreeMap<usize, usize> = BTreeMap::new();
        let (mut users, mut all) = (SetId::NONE, Vec::new());
        let actions = list[0].actions.clone();
        for Bundle { users: some, resources, .. } in list {
            sets.users(some).for_each(|user| *counts.entry(user).or_default() += resources.len());
            users = sets.union(users, some);
            all.extend(resources);
        }
        all.sort_unstable();
        all.dedup();
        let (least, most) = (counts.values().min().copied(), counts.values().max().copied());
        rows.push(Bundle { users, actions, resources: all, each: least.zip(most) });
    }
    rows
}

/// Eight digits made of actions and resources, by their names and ids (FNV-1a): the same as long as these are.
fn mark(estate: &Estate, actions: &FixedBitSet, resources: &[ResourceId]) -> String {
    let names = actions.ones().map(|a| estate.schema().actions[a].name.as_str());
    let ids = resources.iter().map(|r| estate.catalog().id(*r));
    let mut hash: u64 = 0xcbf2_9ce4_8422_2325;
    for byte in names.chain(ids).flat_map(|text| text.bytes().chain([0xff])) {
        hash = (hash ^ u64::from(byte)).wrapping_mul(0x100_0000_01b3);
    }
    format!("{:08x}", (hash ^ (hash >> 32)) as u32)
}
