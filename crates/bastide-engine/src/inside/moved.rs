//! Who gets more or fewer rows of a dataset than before.

use super::{Contents, contents};
use crate::evaluate::Evaluator;
use crate::snapshot::Snapshot;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::collections::{BTreeMap, BTreeSet};

/// Users for whom the rows of a dataset change in the same way.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct RowsMoved {
    /// The dataset's id.
    pub dataset: String,
    /// Its path.
    pub path: String,
    /// The action.
    pub action: String,
    /// The users' ids, in byte order.
    pub users: Vec<String>,
    /// How many rows they get before.
    pub before: u64,
    /// And after.
    pub after: u64,
    /// Rows they get after and not before.
    pub gained: u64,
    /// Rows they get before and not after.
    pub lost: u64,
    /// How many rows there are after.
    pub all_rows: u64,
}

/// Rows before and after, gained and lost.
type RowCounts = [u64; 4];

/// One side of a comparison.
struct MovedSide<'s> {
    engine: Evaluator<'s>,
    contents: Option<Contents<'s>>,
    /// By slice, its position.
    slices: HashMap<String, usize>,
    /// By user, the joint number.
    people: Vec<u32>,
    /// Users who get a column at all.
    meets: FixedBitSet,
    room: FixedBitSet,
}

impl<'s> MovedSide<'s> {
    fn of(snapshot: &'s Snapshot, contents: Option<Contents<'s>>, joint: &HashMap<&str, u32>) -> MovedSide<'s> {
        let estate = snapshot.estate();
        let all = contents.iter().flat_map(|c| c.slices.iter().enumerate());
        let slices = all.map(|(at, slice)| (estate.catalog().id(slice.resource).to_string(), at)).collect();
        let people = estate.people().all().map(|user| joint[estate.people().id(user)]).collect();
        let engine = snapshot.evaluator();
        let room = engine.nobody();
        MovedSide { engine, contents, slices, people, meets: FixedBitSet::with_capacity(joint.len()), room }
    }

    /// Whom the columns of the dataset let in.
    fn look_at_columns(&mut self, action: ActionId) {
        let Some(contents) = &self.contents else { return };
        if !contents.inside.by_column {
            self.meets.insert_range(..);
            return;
        }
        self.meets.clear();
        for (column, _) in &contents.columns {
            self.engine.allowed(*column, action, &mut self.room);
            self.room.ones().for_each(|user| self.meets.insert(self.people[user] as usize));
        }
    }

    /// Puts who gets a slice, by joint numbers, into a list; gives its rows.
    fn slice(&mut self, id: &str, action: ActionId, into: &mut FixedBitSet) -> u64 {
        into.clear();
        let Some(contents) = &self.contents else { return 0 };
        let Some(slice) = self.slices.get(id).map(|at| &contents.slices[*at]) else { return 0 };
        self.engine.allowed(slice.resource, action, &mut self.room);
        self.room.ones().for_each(|user| into.insert(self.people[user] as usize));
        into.intersect_with(&self.meets);
        slice.rows
    }
}

/// Who gets more or fewer rows after than before, of every dataset of which is told on either side what lies inside; those
/// first for whom most changes. Cost: slices, each decided once on both sides and once more where users were found.
pub fn moved(before: &Snapshot, after: &Snapshot) -> Vec<RowsMoved> {
    let (old, new) = (before.estate(), after.estate());
    let names: BTreeSet<&str> =
        [old, new].into_iter().flat_map(|e| e.people().all().map(|user| e.people().id(user))).collect();
    let joint: HashMap<&str, u32> = names.iter().zip(0..).map(|(id, number)| (*id, number)).collect();
    let names: Vec<&str> = names.into_iter().collect();
    let datasets: BTreeSet<&str> =
        [old, new].into_iter().flat_map(|e| e.insides().iter()).map(|inside| inside.dataset.as_str()).collect();
    let of = |estate| -> HashMap<&str, Contents> {
        contents(estate).into_iter().map(|contents| (contents.inside.dataset.as_str(), contents)).collect()
    };
    let (mut olds, mut news) = (of(old), of(new));
    let mut found = Vec::new();
    for dataset in datasets {
        let mut was = MovedSide::of(before, olds.remove(dataset), &joint);
        let mut is = MovedSide::of(after, news.remove(dataset), &joint);
        let ids: BTreeSet<String> = was.slices.keys().chain(is.slices.keys()).cloned().collect();
        for action in &new.schema().actions {
            let (Some(a), Some(b)) = (old.schema().action(&action.name), new.schema().action(&action.name)) else {
                continue;
            };
            let counts = counts(&mut was, &mut is, &ids, (a, b), names.len());
            let mut alike: BTreeMap<RowCounts, Vec<String>> = BTreeMap::new();
            for (user, counts) in counts {
                alike.entry(counts).or_default().push(names[user].to_string());
            }
            let side = is.contents.as_ref().map(|c| (c, new)).or(was.contents.as_ref().map(|c| (c, old)));
            let Some((contents, estate)) = side else { continue };
            found.extend(alike.into_iter().map(|([before, after, gained, lost], users)| RowsMoved {
                dataset: dataset.to_string(),
                path: estate.catalog().path(contents.dataset),
                action: action.name.clone(),
                users,
                before,
                after,
                gained,
                lost,
                all_rows: contents.inside.rows,
            }));
        }
    }
    found.sort_by_key(|m| std::cmp::Reverse((m.gained + m.lost) * m.users.len() as u64));
    found
}

/// By user for whom anything changes, what.
fn counts(
    was: &mut MovedSide,
    is: &mut MovedSide,
    ids: &BTreeSet<String>,
    (old, new): (ActionId, ActionId),
    people: usize,
) -> BTreeMap<usize, RowCounts> {
    was.look_at_columns(old);
    is.look_at_columns(new);
    let (mut a, mut b) = (FixedBitSet::with_capacity(people), FixedBitSet::with_capacity(people));
    let mut turned = FixedBitSet::with_capacity(people);
    for id in ids {
        let rows = [was.slice(id, old, &mut a), is.slice(id, new, &mut b)];
        if rows[0] != rows[1] {
            turned.union_with(&a);
            turned.union_with(&b);
        }
        a.symmetric_difference_with(&b);
        turned.union_with(&a);
    }
    let mut counts: BTreeMap<usize, RowCounts> = turned.ones().map(|user| (user, [0; 4])).collect();
    if counts.is_empty() {
        return counts;
    }
    for id in ids {
        let rows = [was.slice(id, old, &mut a), is.slice(id, new, &mut b)];
        for user in turned.intersection(&a).chain(turned.intersection(&b)).collect::<BTreeSet<_>>() {
            let counts = counts.get_mut(&user).expect("all that turned are there");
            let [before, after] =
                [(rows[0], a.contains(user)), (rows[1], b.contains(user))].map(|(n, is)| if is { n } else { 0 });
            counts[0] += before;
            counts[1] += after;
            counts[2] += after.saturating_sub(before);
            counts[3] += before.saturating_sub(after);
        }
    }
    counts
}
