//! Effective access as a table: resources down, profiles across.

use super::sweep;
use crate::snapshot::Snapshot;
use bastide_model::*;
use hashbrown::HashMap;
use std::convert::Infallible;

/// The table.
#[derive(Debug)]
pub struct Matrix {
    /// The actions, in declared order; cells hold positions in this list.
    pub actions: Vec<String>,
    /// Users with identical access on all rows, largest first.
    pub profiles: Vec<MatrixProfile>,
    /// The resources, in the order of the tree.
    pub rows: Vec<MatrixRow>,
}

/// Users with identical access on all rows of the table.
#[derive(Debug)]
pub struct MatrixProfile {
    /// Their ids, in byte order.
    pub users: Vec<String>,
}

/// One resource.
#[derive(Debug)]
pub struct MatrixRow {
    /// Its id.
    pub resource: String,
    /// Its name.
    pub name: String,
    /// Its path.
    pub path: String,
    /// Its kind.
    pub kind: String,
    /// Its depth; a root has 1.
    pub depth: u16,
    /// The position of the row that it lies beneath: the nearest one; none where no row is above it.
    pub above: Option<usize>,
    /// Its name, and before it those of what lies between it and that row; its path where there is none.
    pub label: String,
    /// How many resources lie beneath it that are not shown.
    pub hidden: usize,
    /// For each profile the allowed actions, by position.
    pub cells: Vec<Vec<usize>>,
}

/// The table of users, resources and actions. Memory: rows times users.
pub fn matrix(snapshot: &Snapshot, users: &[UserId], resources: &[ResourceId], wanted: &[ActionId]) -> Matrix {
    let estate = snapshot.estate();
    let mut raw: Vec<(ResourceId, Vec<Vec<usize>>)> = Vec::new();
    let Ok(()) = sweep(snapshot, users, resources, |row| {
        let place = |action: ActionId| wanted.iter().position(|w| *w == action);
        raw.push((row.resource, (0..users.len()).map(|u| row.allowed(u).filter_map(place).collect()).collect()));
        Ok::<(), Infallible>(())
    });
    // Users with the same in every row: the largest profiles first, then by their first user.
    let mut alike: HashMap<Vec<&[usize]>, Vec<usize>> = HashMap::new();
    for user in 0..users.len() {
        alike.entry(raw.iter().map(|(_, cells)| &cells[user][..]).collect()).or_default().push(user);
    }
    let mut classes: Vec<Vec<usize>> = alike.into_values().collect();
    classes.sort_by_key(|users| (std::cmp::Reverse(users.len()), users.first().copied()));
    let shown: fixedbitset::FixedBitSet = resources.iter().map(|r| r.index()).collect();
    let catalog = estate.catalog();
    // The rows above the one at hand, the nearest last.
    let mut open: Vec<(usize, ResourceId)> = Vec::new();
    let rows = raw
        .into_iter()
        .enumerate()
        .map(|(at, (resource, cells))| {
            open.retain(|(_, above)| catalog.contains(*above, resource));
            let above = open.last().copied();
            open.push((at, resource));
            let label = match above {
                None => catalog.path(resource),
                Some((_, above)) => {
                    let between = catalog.upward(resource).take_while(|r| *r != above);
                    let mut names: Vec<String> = between.map(|r| catalog.name(r).replace('/', "\\/")).collect();
                    names.reverse();
                    names.join("/")
                }
            };
            let beneath = catalog.subtree(resource);
            MatrixRow {
                resource: catalog.id(resource).to_string(),
                name: catalog.name(resource).to_string(),
                path: catalog.path(resource),
                kind: estate.schema().kinds[catalog.kind(resource).index()].name.clone(),
                depth: catalog.depth(resource),
                above: above.map(|(at, _)| at),
                label,
                hidden: beneath.skip(1).filter(|r| !shown.contains(*r as usize)).count(),
                cells: classes.iter().map(|users| cells[users[0]].clone()).collect(),
            }
        })
        .collect();
    let profiles = classes
        .iter()
        .map(|class| MatrixProfile { users: class.iter().map(|u| estate.people().id(users[*u]).to_string()).collect() })
        .collect();
    let actions = wanted.iter().map(|a| estate.schema().actions[a.index()].name.clone()).collect();
    Matrix { actions, profiles, rows }
}
