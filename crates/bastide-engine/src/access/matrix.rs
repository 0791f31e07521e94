//! Effective access as a table: resources down, profiles across.
//!
//! Lists of actions are kept once, and a row has a cell for each profile that could be told apart up to there, so that memory is that of
//! the table that is shown, and not of all users.

use super::sweep;
use crate::snapshot::Snapshot;
use bastide_model::*;
use hashbrown::HashMap;

/// The table.
#[derive(Debug)]
pub struct Matrix {
    /// The actions, in declared order; cells hold positions in this list.
    pub actions: Vec<String>,
    /// Users with identical access on all rows, largest first.
    pub profiles: Vec<MatrixProfile>,
    /// The resources, in the order of the tree.
    pub rows: Vec<MatrixRow>,
    /// Lists of allowed actions, by position, each once.
    pub lists: Vec<Vec<usize>>,
}

/// Users with identical access on all rows of the table.
#[derive(Debug)]
pub struct MatrixProfile {
    /// Their ids, in byte order.
    pub users: Vec<String>,
}

/// One resource.
#[derive(Clone, Debug)]
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
    /// For each profile the allowed actions: the position of the list. [`Matrix::cell`] gives it.
    pub cells: Vec<u32>,
}

impl Matrix {
    /// The allowed actions of a profile on a row, by position.
    pub fn cell(&self, row: usize, profile: usize) -> &[usize] {
        &self.lists[self.rows[row].cells[profile] as usize]
    }
}

/// A table that would have more cells than may be.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct TooLarge {
    /// The rows.
    pub rows: usize,
    /// So many profiles there are at least.
    pub profiles: usize,
}

/// The table of users, resources and actions, of at most so many cells. Cost: each row once for each user; memory: the cells.
///
/// # Errors
/// There are more cells.
pub fn matrix(
    snapshot: &Snapshot,
    users: &[UserId],
    resources: &[ResourceId],
    wanted: &[ActionId],
    most: usize,
) -> Result<Matrix, TooLarge> {
    let estate = snapshot.estate();
    let mut lists = Lists::new(wanted.len());
    let mut classes = Classes::new(users.len());
    let mut words = Vec::new();
    // By user, what is allowed on the row at hand.
    let mut allowed: Vec<u32> = vec![Lists::NONE; estate.people().len()];
    sweep(snapshot, users, resources, |row| {
        allowed.fill(Lists::NONE);
        for (place, action) in wanted.iter().enumerate() {
            row.everybody(*action, &mut words, |user| allowed[user] = lists.longer(allowed[user], place));
        }
        classes.row(|at| allowed[users[at].index()]);
        let profiles = classes.parents.len();
        if resources.len().saturating_mul(profiles) > most {
            return Err(TooLarge { rows: resources.len(), profiles });
        }
        Ok(())
    })?;
    let Classes { of, parents, rows: raw } = classes;
    let mut members: Vec<Vec<usize>> = vec![Vec::new(); if users.is_empty() { 0 } else { parents.len() }];
    of.iter().enumerate().for_each(|(at, class)| members[*class as usize].push(at));
    // The largest profiles first, then by their first user.
    let mut order: Vec<u32> = (0..members.len() as u32).collect();
    order.sort_by_key(|class| {
        let users = &members[*class as usize];
        (std::cmp::Reverse(users.len()), users[0])
    });
    let catalog = estate.catalog();
    // Of how many resources before each a row is shown.
    let mut shown: Vec<u32> = vec![0; catalog.len() + 1];
    resources.iter().for_each(|resource| shown[resource.index() + 1] = 1);
    (1..shown.len()).for_each(|at| shown[at] += shown[at - 1]);
    // The rows above the one at hand, the nearest last.
    let mut open: Vec<(usize, ResourceId)> = Vec::new();
    let rows = raw
        .into_iter()
        .enumerate()
        .map(|(at, cells)| {
            let resource = resources[at];
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
                hidden: (beneath.end
                    - beneath.start
                    - 1
                    - (shown[beneath.end as usize] - shown[beneath.start as usize + 1]))
                    as usize,
                cells: order.iter().map(|class| cells[within(&parents, *class, cells.len())]).collect(),
            }
        })
        .collect();
    let ids =
        |class: &u32| members[*class as usize].iter().map(|at| estate.people().id(users[*at]).to_string()).collect();
    let profiles = order.iter().map(|class| MatrixProfile { users: ids(class) }).collect();
    let actions = wanted.iter().map(|a| estate.schema().actions[a.index()].name.clone()).collect();
    Ok(Matrix { actions, profiles, rows, lists: lists.all })
}

/// Lists of positions, each once.
struct Lists {
    all: Vec<Vec<usize>>,
    /// By list and position, the number of the list that is longer by it.
    next: Vec<Vec<Option<u32>>>,
    positions: usize,
}

impl Lists {
    /// The one with nothing on it.
    const NONE: u32 = 0;

    fn new(positions: usize) -> Lists {
        Lists { all: vec![Vec::new()], next: vec![vec![None; positions]], positions }
    }

    /// A list with one position more at its end.
    fn longer(&mut self, list: u32, position: usize) -> u32 {
        if let Some(known) = self.next[list as usize][position] {
            return known;
        }
        let number = self.all.len() as u32;
        self.next[list as usize][position] = Some(number);
        self.all.push(self.all[list as usize].iter().copied().chain([position]).collect());
        self.next.push(vec![None; self.positions]);
        number
    }
}

/// Users with the same in every row so far. A class that a row parts keeps its number for those who are like its first user.
struct Classes {
    /// Of each user.
    of: Vec<u32>,
    /// By class, the one that it was a part of; its own number for the first.
    parents: Vec<u32>,
    /// By row, the cells of the classes that there were after it.
    rows: Vec<Vec<u32>>,
}

impl Classes {
    fn new(users: usize) -> Classes {
        Classes { of: vec![0; users], parents: vec![0], rows: Vec::new() }
    }

    /// Takes a row in.
    fn row(&mut self, cell: impl Fn(usize) -> u32) {
        let mut cells: Vec<Option<u32>> = vec![None; self.parents.len()];
        let mut parts: HashMap<(u32, u32), u32> = HashMap::new();
        for (at, class) in self.of.iter_mut().enumerate() {
            let own = cell(at);
            if *cells[*class as usize].get_or_insert(own) != own {
                let (parent, number) = (*class, self.parents.len() as u32);
                *class = *parts.entry((parent, own)).or_insert(number);
                if *class == number {
                    self.parents.push(parent);
                    cells.push(Some(own));
                }
            }
        }
        self.rows.push(cells.into_iter().map(|cell| cell.unwrap_or(Lists::NONE)).collect());
    }
}

/// What a class was a part of when there were so many.
fn within(parents: &[u32], class: u32, classes: usize) -> usize {
    let mut class = class as usize;
    while class >= classes {
        class = parents[class] as usize;
    }
    class
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::random::{Shape, plan};
    use std::collections::HashMap;

    /// Cells say what is decided triple by triple, whoever is asked for; users are in one profile where their columns are the same, and
    /// only there; and a table has no more cells than may be.
    #[test]
    fn cells_are_what_is_decided() {
        let mut random = fastrand::Rng::with_seed(11);
        let (mut allowed, mut refused, mut shared, mut too_large, mut hidden) = (0, 0, 0, 0, 0);
        for seed in 0..400 {
            let estate = plan(seed, Shape::ALL).case().estate();
            let moment = Moment::on(jiff::civil::date(2026, 11, 24), estate.schema());
            let Ok(snapshot) = Snapshot::new(&estate, &moment) else { continue };
            let reference = snapshot.reference();
            let users: Vec<UserId> = estate.people().all().filter(|_| random.u8(..4) > 0).collect();
            let resources: Vec<ResourceId> = estate.catalog().all().filter(|_| random.u8(..3) > 0).collect();
            let actions = ActionId::all(estate.schema().actions.len());
            let wanted: Vec<ActionId> = actions.filter(|_| random.u8(..4) > 0).collect();
            let table = matrix(&snapshot, &users, &resources, &wanted, usize::MAX).expect("any size");
            let mut columns: HashMap<Vec<&[usize]>, usize> = HashMap::new();
            let mut told: Vec<&str> = Vec::new();
            for (profile, of) in table.profiles.iter().enumerate() {
                let column: Vec<&[usize]> = (0..resources.len()).map(|row| table.cell(row, profile)).collect();
                for id in &of.users {
                    let user = estate.people().find(id).expect("a user");
                    for (resource, cell) in resources.iter().zip(&column) {
                        for (place, action) in wanted.iter().enumerate() {
                            let may = reference.decide(user, *action, *resource).is_allowed();
                            assert_eq!(cell.contains(&place), may, "seed {seed}");
                            *(if may { &mut allowed } else { &mut refused }) += 1;
                        }
                    }
                }
                told.extend(of.users.iter().map(String::as_str));
                shared += usize::from(of.users.len() > 1);
                assert_eq!(columns.insert(column, profile), None, "seed {seed}: two profiles are the same");
            }
            assert!(table.profiles.windows(2).all(|pair| pair[0].users.len() >= pair[1].users.len()), "seed {seed}");
            let mut asked: Vec<&str> = users.iter().map(|user| estate.people().id(*user)).collect();
            told.sort_unstable();
            asked.sort_unstable();
            assert_eq!(told, asked, "seed {seed}: everybody who is asked for is in one profile");
            for (row, resource) in table.rows.iter().zip(&resources) {
                let beneath = estate.catalog().subtree(*resource).skip(1).map(ResourceId);
                let left_out = beneath.filter(|beneath| !resources.contains(beneath)).count();
                assert_eq!(row.hidden, left_out, "seed {seed}");
                hidden += left_out;
            }
            let cells = table.profiles.len() * resources.len();
            if cells > 0 {
                assert!(matrix(&snapshot, &users, &resources, &wanted, cells).is_ok(), "seed {seed}");
                let TooLarge { rows, profiles } =
                    matrix(&snapshot, &users, &resources, &wanted, cells - 1).expect_err("one too many");
                assert!(rows == resources.len() && profiles <= table.profiles.len(), "seed {seed}");
                too_large += 1;
            }
        }
        assert!(allowed > 2_000 && refused > 2_000, "{allowed} allowed, {refused} refused");
        assert!(
            shared > 60 && too_large > 60 && hidden > 500,
            "{shared} shared profiles, {too_large} tables, {hidden}"
        );
    }
}
