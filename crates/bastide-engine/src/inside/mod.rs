//! Which rows and which columns of a dataset somebody gets: decisions on what lies inside it, taken together.
//!
//! A user gets the rows of the slices that are allowed, in the columns that are allowed. Where rows are not told apart, all of
//! them hang on the dataset itself; where columns are not, all of them do. A combination of values that never occurred has no
//! slice, and no access.

mod moved;

pub use moved::{RowsMoved, moved};

use crate::find::FindError;
use crate::snapshot::Snapshot;
use bastide_model::inside::Inside;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use rust_decimal::prelude::ToPrimitive;

/// What lies inside one dataset, found in the catalog.
#[derive(Clone, Debug)]
pub struct Contents<'e> {
    /// How it is told apart.
    pub inside: &'e Inside,
    /// The dataset.
    pub dataset: ResourceId,
    /// The slices, in the order of the catalog; where rows are not told apart, the dataset itself.
    pub slices: Vec<Slice>,
    /// The columns, in the order of the data; empty where they are not told apart.
    pub columns: Vec<(ResourceId, String)>,
}

/// Rows that have the same values in the columns by which rows are told apart.
#[derive(Clone, Debug)]
pub struct Slice {
    /// The resource.
    pub resource: ResourceId,
    /// The values; none: there is no value.
    pub values: Vec<Option<String>>,
    /// How many rows.
    pub rows: u64,
}

/// What lies inside every dataset of which that is told. Cost: their children once.
pub fn contents(estate: &Estate) -> Vec<Contents<'_>> {
    estate.insides().iter().filter_map(|inside| contents_of(estate, inside)).collect()
}

/// What lies inside a dataset, by its id or path.
///
/// # Errors
/// There is no such resource.
pub fn contents_named<'e>(estate: &'e Estate, name: &str) -> Result<Option<Contents<'e>>, FindError> {
    let resource = crate::find::resource(estate, name)?;
    let id = estate.catalog().id(resource);
    let inside = estate.insides().iter().find(|inside| inside.dataset == id);
    Ok(inside.and_then(|inside| contents_of(estate, inside)))
}

fn contents_of<'e>(estate: &'e Estate, inside: &'e Inside) -> Option<Contents<'e>> {
    let catalog = estate.catalog();
    let dataset = catalog.find(&inside.dataset)?;
    let rows = estate.schema().resource_attribute("rows").map(|id| &catalog.attributes[id.index()]);
    let rows_of = |resource: ResourceId| match rows.and_then(|column| column.get(resource.index())) {
        Some(Value::Number(number)) => number.to_u64().unwrap_or(0),
        _ => 0,
    };
    let [slice, column] = ["slice", "column"].map(|kind| estate.schema().kind(kind));
    let mut contents = Contents { inside, dataset, slices: Vec::new(), columns: Vec::new() };
    if inside.by.is_empty() {
        contents.slices.push(Slice { resource: dataset, values: Vec::new(), rows: inside.rows });
    }
    for child in catalog.children(dataset) {
        let (id, kind) = (catalog.id(child), Some(catalog.kind(child)));
        if let Some(values) = inside.slice_values(id).filter(|_| kind == slice) {
            contents.slices.push(Slice { resource: child, values, rows: rows_of(child) });
        } else if let Some(name) = inside.column_name(id).filter(|_| kind == column) {
            contents.columns.push((child, name));
        }
    }
    contents.columns.sort_by_key(|(_, name)| inside.columns.iter().position(|column| column == name));
    Some(contents)
}

/// What somebody gets of a dataset: positions among its slices and columns.
#[derive(Clone, PartialEq, Eq, Default, Debug)]
pub struct Share {
    /// The slices.
    pub slices: Vec<u32>,
    /// The columns, as positions in the data.
    pub columns: Vec<u32>,
    /// How many rows: none where there is no column.
    pub rows: u64,
}

impl Contents<'_> {
    /// What one user gets by an action. Cost: slices and columns, each decided once.
    pub fn share(&self, snapshot: &Snapshot, user: UserId, action: ActionId) -> Share {
        self.some(snapshot, user, &[action]).pop().unwrap_or_default()
    }

    /// What one user gets by each action. Cost: slices and columns, each decided once.
    pub fn by_action(&self, snapshot: &Snapshot, user: UserId) -> Vec<Share> {
        let all: Vec<ActionId> = ActionId::all(snapshot.estate().schema().actions.len()).collect();
        self.some(snapshot, user, &all)
    }

    fn some(&self, snapshot: &Snapshot, user: UserId, actions: &[ActionId]) -> Vec<Share> {
        let mut engine = snapshot.evaluator();
        let mut allows = |resource: ResourceId| -> Vec<bool> {
            let mut work = engine.look(resource);
            actions.iter().for_each(|action| engine.decide_on(&mut work, *action));
            let allows = actions.iter().map(|action| engine.allows_in(&work, *action, user)).collect();
            engine.done(work);
            allows
        };
        let mut slices: Vec<Vec<u32>> = vec![Vec::new(); actions.len()];
        for (at, slice) in self.slices.iter().enumerate() {
            for (list, _) in slices.iter_mut().zip(allows(slice.resource)).filter(|(_, is)| *is) {
                list.push(at as u32);
            }
        }
        let columns: Vec<Vec<bool>> = self.columns.iter().map(|(column, _)| allows(*column)).collect();
        let told = |(action, slices): (usize, Vec<u32>)| self.told(slices, &|at| columns[at][action]);
        slices.into_iter().enumerate().map(told).collect()
    }

    /// What everybody gets by an action, by user. Cost: slices and columns, each decided once for all, and what is given.
    pub fn shares(&self, snapshot: &Snapshot, action: ActionId) -> Vec<Share> {
        let mut engine = snapshot.evaluator();
        let people = snapshot.estate().people().len();
        let mut allowed = engine.nobody();
        let mut slices: Vec<Vec<u32>> = vec![Vec::new(); people];
        for (at, slice) in self.slices.iter().enumerate() {
            engine.allowed(slice.resource, action, &mut allowed);
            allowed.ones().for_each(|user| slices[user].push(at as u32));
        }
        let mut columns: Vec<FixedBitSet> = Vec::new();
        for (column, _) in &self.columns {
            engine.allowed(*column, action, &mut allowed);
            columns.push(allowed.clone());
        }
        let share = |(user, slices): (usize, Vec<u32>)| self.told(slices, &|at| columns[at].contains(user));
        slices.into_iter().enumerate().map(share).collect()
    }

    fn told(&self, slices: Vec<u32>, column: &dyn Fn(usize) -> bool) -> Share {
        let position = |name: &String| self.inside.columns.iter().position(|column| column == name);
        let columns: Vec<u32> = match self.inside.by_column {
            true => {
                let named = self.columns.iter().enumerate().filter(|(at, _)| column(*at));
                named.filter_map(|(_, (_, name))| position(name)).map(|at| at as u32).collect()
            }
            false => (0..self.inside.columns.len() as u32).collect(),
        };
        match slices.is_empty() || columns.is_empty() {
            true => Share::default(),
            false => Share { rows: slices.iter().map(|at| self.slices[*at as usize].rows).sum(), slices, columns },
        }
    }

    /// How many slices there are, where rows are told apart.
    pub fn slice_count(&self) -> usize {
        if self.inside.by.is_empty() { 0 } else { self.slices.len() }
    }
}

/// What somebody gets of a dataset by an action, in numbers.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RowsSeen {
    /// The dataset's id.
    pub dataset: String,
    /// Its path.
    pub path: String,
    /// The action.
    pub action: String,
    /// How many rows.
    pub rows: u64,
    /// Of how many.
    pub all_rows: u64,
    /// In how many slices.
    pub slices: usize,
    /// Of how many; none: rows are not told apart.
    pub all_slices: usize,
    /// How many columns.
    pub columns: usize,
    /// Of how many.
    pub all_columns: usize,
}

impl RowsSeen {
    /// Of a share.
    pub fn of(estate: &Estate, contents: &Contents, action: ActionId, share: &Share) -> RowsSeen {
        RowsSeen {
            dataset: contents.inside.dataset.clone(),
            path: estate.catalog().path(contents.dataset),
            action: estate.schema().actions[action.index()].name.clone(),
            rows: share.rows,
            all_rows: contents.inside.rows,
            slices: if contents.inside.by.is_empty() { 0 } else { share.slices.len() },
            all_slices: contents.slice_count(),
            columns: share.columns.len(),
            all_columns: contents.inside.columns.len(),
        }
    }
}

/// What one user gets of every dataset of which is told what lies inside, perhaps beneath one place alone, by each action that
/// gives anything.
pub fn rows_seen(snapshot: &Snapshot, user: UserId, under: Option<ResourceId>) -> Vec<RowsSeen> {
    let estate = snapshot.estate();
    let mut seen = Vec::new();
    let meant = |contents: &Contents| under.is_none_or(|place| estate.catalog().contains(place, contents.dataset));
    for contents in contents(estate).into_iter().filter(meant) {
        for (action, share) in contents.by_action(snapshot, user).into_iter().enumerate() {
            let action = ActionId::new(action);
            if !share.columns.is_empty() {
                seen.push(RowsSeen::of(estate, &contents, action, &share));
            }
        }
    }
    seen
}
