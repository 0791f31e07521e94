//! What users may do on some resources, before changes and with them, for a table of cells.

use super::sweep;
use crate::snapshot::Snapshot;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::cmp::Reverse;
use std::convert::Infallible;

/// The actions that somebody may do on a resource.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct GridCell {
    /// With the changes.
    pub now: FixedBitSet,
    /// Without.
    pub before: FixedBitSet,
}

/// Users across, resources down.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct AccessGrid {
    /// A user for each column, and how many more are alike.
    pub columns: Vec<(UserId, usize)>,
    /// By resource, a cell for each column.
    pub cells: Vec<Vec<GridCell>>,
}

/// What users may do on resources in two states of an estate. With `together`, users who are alike on all of the resources, in
/// both states, share a column, and the columns most have come first. Both states must have the same users, resources and
/// actions. Cost: resources times users.
pub fn grid([before, now]: [&Snapshot; 2], resources: &[ResourceId], users: &[UserId], together: bool) -> AccessGrid {
    let [before, now] = [before, now].map(|snapshot| allowed(snapshot, resources, users));
    let mut columns: Vec<(usize, usize)> = Vec::new();
    if together {
        let mut known: HashMap<Vec<[&FixedBitSet; 2]>, usize> = HashMap::new();
        for user in 0..users.len() {
            let key = now.iter().zip(&before).map(|(now, before)| [&now[user], &before[user]]).collect();
            match known.get(&key) {
                Some(at) => columns[*at].1 += 1,
                None => {
                    known.insert(key, columns.len());
                    columns.push((user, 0));
                }
            }
        }
        columns.sort_by_key(|(first, more)| (Reverse(*more), *first));
    } else {
        columns = (0..users.len()).map(|user| (user, 0)).collect();
    }
    let cell = |row: usize, user: usize| GridCell { now: now[row][user].clone(), before: before[row][user].clone() };
    let cells = (0..resources.len()).map(|row| columns.iter().map(|(user, _)| cell(row, *user)).collect()).collect();
    AccessGrid { columns: columns.into_iter().map(|(user, more)| (users[user], more)).collect(), cells }
}

fn allowed(snapshot: &Snapshot, resources: &[ResourceId], users: &[UserId]) -> Vec<Vec<FixedBitSet>> {
    let actions = snapshot.estate().schema().actions.len();
    let mut all = Vec::with_capacity(resources.len());
    let Ok(()) = sweep(snapshot, users, resources, |row| {
        let cell = |user: usize| {
            let mut set = FixedBitSet::with_capacity(actions);
            row.allowed(user).for_each(|action| set.insert(action.index()));
            set
        };
        all.push((0..users.len()).map(cell).collect());
        Ok::<(), Infallible>(())
    });
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::random::{Shape, plan};

    /// Every cell says what deciding says, in both states; users who share a column are alike everywhere, and others are not.
    #[test]
    fn a_grid_says_what_is_decided() {
        let (mut shared, mut changed) = (0, 0);
        for seed in 0..40 {
            let estate = plan(seed, Shape::ALL).case().estate();
            let moment = Moment::on(jiff::civil::date(2026, 11, 24), estate.schema());
            let Ok(before) = Snapshot::new(&estate, &moment) else { continue };
            let mut statements = estate.statements().to_vec();
            statements.truncate(statements.len() / 2);
            let Ok(now) = before.beside(&estate.with_statements(statements), &moment) else { continue };
            let users: Vec<UserId> = estate.people().all().collect();
            let resources: Vec<ResourceId> = estate.catalog().all().collect();
            let decided = |snapshot: &Snapshot, user: UserId, resource: ResourceId| -> FixedBitSet {
                let actions = ActionId::all(estate.schema().actions.len());
                actions
                    .filter(|action| snapshot.decide(user, *action, resource).is_allowed())
                    .map(ActionId::index)
                    .collect()
            };
            let same = |a: &FixedBitSet, b: &FixedBitSet| a.ones().eq(b.ones());
            for together in [false, true] {
                let grid = grid([&before, &now], &resources, &users, together);
                assert_eq!(grid.columns.iter().map(|(_, more)| more + 1).sum::<usize>(), users.len());
                shared += grid.columns.iter().filter(|(_, more)| *more > 0).count();
                for (row, resource) in grid.cells.iter().zip(&resources) {
                    for (cell, (user, _)) in row.iter().zip(&grid.columns) {
                        assert!(same(&cell.now, &decided(&now, *user, *resource)), "seed {seed}");
                        assert!(same(&cell.before, &decided(&before, *user, *resource)), "seed {seed}");
                        changed += usize::from(cell.now != cell.before);
                    }
                }
                if together {
                    let row = |user: UserId| -> Vec<Vec<usize>> {
                        let of = |resource: &ResourceId| [&before, &now].map(|s| decided(s, user, *resource));
                        resources.iter().flat_map(of).map(|set| set.ones().collect()).collect()
                    };
                    let mut rows: Vec<_> = users.iter().map(|user| row(*user)).collect();
                    rows.sort_unstable();
                    rows.dedup();
                    assert_eq!(rows.len(), grid.columns.len(), "seed {seed}");
                }
            }
        }
        assert!(shared > 20 && changed > 20, "{shared} shared columns, {changed} changed cells");
    }
}
