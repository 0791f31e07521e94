//! The owner's review: who has which access to what somebody answers for, and through which statement; and
//! what the answers to that come to as changes.
//!
//! A *sheet* is what one owner is asked about, or what lies in one place. It has a row for each statement that
//! lets anybody do anything there. A row is found again by the statement, said so that moving lines changes
//! nothing.

mod answers;

pub use answers::{Answer, ByHand, Decision, Proposal, proposal};

use crate::change::entry_cells;
use crate::difference::{Fold, fold};
use crate::sets::SetEngine;
use crate::sets::claims::Reaching;
use crate::sets::store::SetId;
use crate::show;
use bastide_model::statement::Sort;
use bastide_model::*;
use bastide_syntax::Diagnostic;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use jiff::civil::Date;

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
    /// Its file and line.
    pub at: String,
    /// Its who-clause.
    pub who: String,
    /// Its reason.
    pub because: Option<String>,
    /// Its last day.
    pub until: Option<Date>,
    /// Who may do any of it, by ids in the order of users.
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

/// What is gathered for a row.
struct Heap {
    users: SetId,
    actions: FixedBitSet,
    resources: Vec<ResourceId>,
}

/// The sheets, by name; what belongs to none comes last. Cost: every resource once, and for each the
/// statements that reach it.
///
/// # Errors
/// Decisions that depend on themselves.
pub fn sheets(estate: &Estate, moment: &Moment, part: Part) -> Result<Vec<Sheet>, Vec<Diagnostic>> {
    let (schema, catalog) = (&estate.schema, &estate.catalog);
    let mut engine = SetEngine::new(estate, moment)?;
    let active = engine.set_of(estate.people.active.ones());
    let mut names: Vec<Option<String>> = vec![None; catalog.len()];
    let mut heaps: HashMap<(Option<String>, StatementId), Heap> = HashMap::new();
    let mut reaches = vec![0usize; estate.statements.len()];
    for resource in catalog.all() {
        let own = match part {
            Part::Owner => catalog.owner(resource).flatten().map(|owner| estate.people.id(owner).to_string()),
            Part::Kind(kind) => schema.is_kind(catalog.kind(resource), kind).then(|| catalog.path(resource)),
            Part::Root => catalog.parent(resource).is_none().then(|| catalog.path(resource)),
        };
        let name = own.or_else(|| catalog.parent(resource).and_then(|parent| names[parent.index()].clone()));
        names[resource.index()] = name.clone();
        let owner = catalog.owner(resource).flatten();
        for Reaching { id, others, owners } in engine.reaching(resource) {
            let statement = estate.statement(id);
            if !statement.modality.permits() {
                continue;
            }
            let mut users = engine.both(others, active);
            if let Some(owner) = owner.filter(|o| engine.sets().contains(owners, o.index())) {
                let single = engine.set_of([owner.index()]);
                users = engine.either(users, single);
            }
            let mut any = false;
            for action in statement.actions.ones().map(ActionId::new) {
                if !schema.fits(action, catalog.kind(resource)) {
                    continue;
                }
                let allowed = engine.allowed(resource, action);
                let have = engine.both(users, allowed);
                if have == SetId::NONE {
                    continue;
                }
                any = true;
                let heap = heaps.entry((name.clone(), id)).or_insert_with(|| Heap {
                    users: SetId::NONE,
                    actions: FixedBitSet::with_capacity(schema.actions.len()),
                    resources: Vec::new(),
                });
                heap.users = engine.either(heap.users, have);
                heap.actions.insert(action.index());
                if heap.resources.last() != Some(&resource) {
                    heap.resources.push(resource);
                }
            }
            reaches[id.index()] += usize::from(any);
        }
    }
    let mut sheets: std::collections::BTreeMap<(bool, String), Vec<SheetRow>> = Default::default();
    for ((name, id), heap) in heaps {
        let statement = estate.statement(id);
        let row = SheetRow {
            statement: id,
            key: key(estate, id),
            at: estate.place(statement.origin),
            who: show::who(estate, &statement.who),
            because: statement.because.clone(),
            until: statement.until,
            people: engine.sets().users(heap.users).map(|u| estate.people.id(UserId::new(u)).to_string()).collect(),
            actions: heap.actions.ones().map(|a| schema.actions[a].name.clone()).collect(),
            places: fold(catalog, &heap.resources, MOST_PLACES),
            resources: heap.resources.len(),
            elsewhere: reaches[id.index()] - heap.resources.len(),
        };
        sheets.entry((name.is_none(), name.unwrap_or_default())).or_default().push(row);
    }
    let sheets = sheets.into_iter().map(|((_, name), mut rows)| {
        rows.sort_by_key(|row| row.statement);
        Sheet { name, rows }
    });
    Ok(sheets.collect())
}
