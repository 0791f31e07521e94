//! Which rows and columns of datasets users get: who gets the same, those first who get most.

use bastide_answers::difference::RowsSeen;
use bastide_audit::{Case, Survey};
use bastide_engine::inside;
use serde::Serialize;
use std::collections::BTreeMap;

/// So many different shares of a dataset are listed.
const MOST: usize = 12;
/// So many users are named of those who get the same.
const MOST_NAMED: usize = 6;

/// What users get of one dataset.
#[derive(Serialize)]
pub struct DatasetRows {
    /// Its path.
    pub path: String,
    /// The action that is looked at.
    pub action: String,
    /// How many rows it has.
    pub rows: u64,
    /// In how many slices; none: rows are not told apart.
    pub slices: usize,
    /// How many columns.
    pub columns: usize,
    /// Active users who get the same, those first who get most.
    pub shares: Vec<SameRows>,
    /// How many other shares there are.
    pub others: usize,
    /// How many active users get nothing.
    pub none: usize,
}

/// Users who get the same rows and columns.
#[derive(Serialize)]
pub struct SameRows {
    /// How many.
    pub users: usize,
    /// Some of them.
    pub some: Vec<String>,
    /// How much.
    pub seen: RowsSeen,
}

/// Of every dataset of which is told what lies inside, by the first harmless action.
pub(crate) fn rows(case: &Case, survey: &Survey) -> Vec<DatasetRows> {
    let estate = case.estate;
    let Some(read) = case.reading() else {
        return Vec::new();
    };
    let of = |contents: inside::Contents| {
        let shares = contents.shares(&survey.snapshot, read);
        let (mut none, mut alike) = (0, BTreeMap::new());
        for (user, share) in estate.people().all().zip(&shares).filter(|(user, _)| estate.people().is_active(*user)) {
            if share.columns.is_empty() {
                none += 1;
                continue;
            }
            let same = alike.entry((&share.slices, &share.columns)).or_insert_with(|| SameRows {
                users: 0,
                some: Vec::new(),
                seen: RowsSeen::from(&inside::RowsSeen::of(estate, &contents, read, share)),
            });
            same.users += 1;
            if same.some.len() < MOST_NAMED {
                same.some.push(estate.people().id(user).to_string());
            }
        }
        let mut list: Vec<SameRows> = alike.into_values().collect();
        list.sort_by_key(|same| std::cmp::Reverse((same.seen.rows, same.seen.columns, same.users)));
        let others = list.len().saturating_sub(MOST);
        list.truncate(MOST);
        DatasetRows {
            path: estate.catalog().path(contents.dataset),
            action: estate.schema().actions[read.index()].name.clone(),
            rows: contents.inside.rows,
            slices: contents.slice_count(),
            columns: contents.inside.columns.len(),
            shares: list,
            others,
            none,
        }
    };
    inside::contents(estate).into_iter().map(of).collect()
}
