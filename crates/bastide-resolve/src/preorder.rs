//! The rows of a catalog put into pre-order of the tree, siblings by name, then id.
//!
//! A catalog of a million rows comes in any order, and to look rows up one by one in memory costs more than to
//! read the file. So rows are moved in pieces that lie together: containers, which are few, are put in order first;
//! then each row is dealt, in the order of the files, into one of some buckets of neighbouring containers; a bucket fits
//! into the cache and is sorted there by container and name; and what lies in one container is in the end copied in runs.
//! Texts stay where they are: of a name goes along how it begins, which is mostly enough to sort by.

use bastide_model::column::NONE;
use bastide_model::rows::{CatalogPart, CatalogRows, grid};
use bastide_model::strings::beginning;
use bastide_model::*;
use bastide_syntax::{Diagnostic, Diagnostics, codes};
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::cmp::Reverse;
use std::ops::Range;

/// A tree deeper than this is an error.
const DEEPEST: usize = 1000;
/// About so many rows are in a bucket.
const BUCKET: usize = 1 << 13;
/// Rows are dealt in about so many shares a core, so that none waits long for the other.
const SHARES: usize = 12;
/// Fewer rows are no share of their own.
const SMALLEST: usize = 1 << 12;
/// Columns that rows get besides those of the grid.
const EXTRA: usize = 2;

/// Which rows the ids of parents name.
pub(crate) struct Links {
    /// By the number of a parent, its row; none where it is not there.
    pub rows: Vec<u32>,
    /// By row, its number as a parent; none where nothing lies in it.
    pub own: Vec<u32>,
}

impl Links {
    /// The row of a row's parent.
    pub fn parent(&self, rows: &CatalogRows, row: usize) -> u32 {
        self.container(rows.parent_number(row)).map_or(NONE, |number| self.rows[number])
    }

    /// The number of a parent that is there.
    fn container(&self, number: u32) -> Option<usize> {
        (number != NONE && self.rows[number as usize] != NONE).then_some(number as usize)
    }
}

/// The rows in order.
pub(crate) struct Tree {
    /// Rows as they stand in the files.
    pub order: Vec<u32>,
    /// The columns of the grid.
    pub columns: Vec<Vec<u32>>,
    pub parents: Vec<Option<ResourceId>>,
    pub ends: Vec<u32>,
    pub depths: Vec<u16>,
}

/// Puts rows in order. None where the tree has a cycle or is too deep, which is reported.
pub(crate) fn tree(rows: &CatalogRows, links: &Links, out: &mut Diagnostics) -> Option<Tree> {
    let groups = groups(rows, links, out)?;
    let buckets = deal(rows, links, &groups);
    let sorted: Vec<Bucket> = buckets.into_par_iter().map(|(from, pieces)| sort(rows, from, pieces)).collect();
    let (runs, ends) = runs(&sorted);
    let column = |at: usize| {
        let mut all: Vec<u32> = Vec::with_capacity(rows.len());
        for run in &runs {
            all.extend_from_slice(&sorted[run.bucket as usize].columns[at][run.rows()]);
        }
        all
    };
    let columns = || (0..rows.width() + 1).into_par_iter().with_max_len(1).map(column).collect::<Vec<_>>();
    // Of each run the same for all its rows.
    fn spread<T: Copy>(runs: &[Run], rows: usize, of: impl Fn(&Run) -> T) -> Vec<T> {
        let mut all = Vec::with_capacity(rows);
        runs.iter().for_each(|run| all.resize(all.len() + run.rows().len(), of(run)));
        all
    }
    let tree = || {
        let mut all: Vec<u32> = (1..=rows.len() as u32).collect();
        ends.into_iter().for_each(|(holder, end)| all[holder.index()] = end);
        (spread(&runs, rows.len(), |run| run.depth), all)
    };
    let (mut columns, (parents, (depths, ends))) =
        rayon::join(columns, || rayon::join(|| spread(&runs, rows.len(), |run| run.holder), tree));
    let order = columns.pop().unwrap_or_default();
    Some(Tree { order, columns, parents, ends, depths })
}

/// What lies in one container is a group; the first one holds the roots, and rows whose parent is not there. The others
/// follow in the order of the containers.
struct Groups {
    /// By number of a parent.
    of: Vec<u32>,
    /// How many rows each group has.
    sizes: Vec<u32>,
}

/// Puts the containers in order.
fn groups(rows: &CatalogRows, links: &Links, out: &mut Diagnostics) -> Option<Groups> {
    let numbers = links.rows.len();
    let mut within: Vec<Vec<u32>> = vec![Vec::new(); numbers + 1];
    for (number, row) in links.rows.iter().enumerate().filter(|(_, row)| **row != NONE) {
        let parent = links.container(rows.parent_number(*row as usize));
        within[parent.unwrap_or(numbers)].push(number as u32);
    }
    let name = |number: &u32| {
        let row = links.rows[*number as usize] as usize;
        (rows.name(row), rows.id(row))
    };
    within.par_iter_mut().with_min_len(1 << 8).for_each(|list| list.sort_by_cached_key(|number| Reverse(name(number))));
    let mut found = Groups { of: vec![NONE; numbers], sizes: vec![0] };
    // What is still to come, the next one last, each with its depth.
    let mut open: Vec<(u32, usize)> = within[numbers].iter().map(|number| (*number, 1)).collect();
    while let Some((number, depth)) = open.pop() {
        if depth >= DEEPEST {
            too_deep(rows, number, out);
            return None;
        }
        found.of[number as usize] = found.sizes.len() as u32;
        found.sizes.push(0);
        open.extend(within[number as usize].iter().map(|inner| (*inner, depth + 1)));
    }
    if (0..numbers).any(|number| links.rows[number] != NONE && found.of[number] == NONE) {
        cycles(rows, links, &found, out);
        return None;
    }
    let count = |part: &CatalogPart| {
        let mut sizes = vec![0u32; found.sizes.len()];
        part.grid.column(grid::PARENT).for_each(|cell| sizes[found.group(part.code(grid::PARENT, cell))] += 1);
        sizes
    };
    let sum = |mut sizes: Vec<u32>, more: Vec<u32>| {
        sizes.iter_mut().zip(more).for_each(|(size, more)| *size += more);
        sizes
    };
    let none = || vec![0; found.sizes.len()];
    found.sizes = rows.parts().par_iter().map(count).reduce(none, sum);
    Some(found)
}

impl Groups {
    /// The group of a row, by the number of its parent.
    fn group(&self, number: u32) -> usize {
        match number {
            NONE => 0,
            number => Some(self.of[number as usize]).filter(|group| *group != NONE).unwrap_or(0) as usize,
        }
    }
}

/// Reports the first of those that lie in a container which is as deep as a resource may be.
fn too_deep(rows: &CatalogRows, number: u32, out: &mut Diagnostics) {
    let inside = rows.parent_numbers().enumerate().filter(|(_, parent)| *parent == number);
    if let Some(row) = inside.map(|(row, _)| row).min_by_key(|row| (rows.name(*row), rows.id(*row))) {
        let message = format!("resource `{}` lies deeper than {DEEPEST} levels", rows.id(row));
        out.push(Diagnostic::at(&codes::TOO_DEEP, rows.place(row).span(), message));
    }
}

/// Rows no root leads to lie on or under a cycle; each cycle is named whole, once.
fn cycles(rows: &CatalogRows, links: &Links, reached: &Groups, out: &mut Diagnostics) {
    let under = |number: u32| links.container(number).is_none_or(|number| reached.of[number] != NONE);
    let numbers = rows.parent_numbers().enumerate();
    let mut seen: FixedBitSet = numbers.filter(|(_, number)| under(*number)).map(|(row, _)| row).collect();
    seen.grow(rows.len());
    for start in 0..rows.len() {
        let mut path: Vec<usize> = Vec::new();
        let mut row = start;
        while !seen.put(row) {
            path.push(row);
            row = links.parent(rows, row) as usize;
        }
        let Some(from) = path.iter().position(|r| *r == row) else { continue };
        let ids: Vec<&str> = path[from..].iter().map(|r| rows.id(*r)).collect();
        let message = format!("resources contain each other: `{}` is in `{}`", ids.join("` is in `"), ids[0]);
        out.push(Diagnostic::at(&codes::PARENT_CYCLE, rows.place(row).span(), message));
    }
}

/// Rows of neighbouring groups, as they came.
#[derive(Default)]
struct Piece {
    /// Of each row how its name begins.
    names: Vec<[u64; 2]>,
    /// Of each row its group, the number of the group that it holds, its cells, and where it stood.
    cells: Vec<u32>,
}

/// Deals the rows into buckets of neighbouring groups: each is the first of its groups, and the rows in the order
/// in which they came.
fn deal(rows: &CatalogRows, links: &Links, groups: &Groups) -> Vec<(u32, Vec<Piece>)> {
    let (mut bucket_of, mut firsts) = (Vec::with_capacity(groups.sizes.len()), Vec::new());
    let mut full = BUCKET;
    for (group, size) in groups.sizes.iter().enumerate() {
        if full >= BUCKET {
            firsts.push(group as u32);
            full = 0;
        }
        full += *size as usize;
        bucket_of.push(firsts.len() as u32 - 1);
    }
    let width = rows.width() + EXTRA + 1;
    // By the number that a parent has in a part, the group of its rows and their bucket. Parts share numbers.
    let mut goes_to: HashMap<usize, Vec<(u32, u32)>> = HashMap::new();
    let goes = |number: u32| {
        let group = groups.group(number);
        (group as u32, bucket_of[group])
    };
    for part in rows.parts() {
        goes_to.entry(numbers(part)).or_insert_with(|| match part.codes(grid::PARENT) {
            Some(codes) => codes.iter().map(|number| goes(*number)).collect(),
            None => (0..links.rows.len() as u32).map(goes).collect(),
        });
    }
    let deal = |share: Vec<(&CatalogPart, Range<usize>)>| {
        let mut pieces: Vec<Piece> = firsts.iter().map(|_| Piece::default()).collect();
        let room = share.iter().map(|(_, some)| some.len()).sum::<usize>() / firsts.len().max(1);
        pieces.iter_mut().for_each(|piece| {
            piece.names.reserve(room);
            piece.cells.reserve(width * room);
        });
        for (part, some) in share {
            let goes_to = &goes_to[&numbers(part)];
            let renumbered: Vec<(usize, &[u32])> =
                (0..rows.width()).filter_map(|column| part.codes(column).map(|codes| (column, codes))).collect();
            for at in some {
                let (row, cells) = (part.rows().start + at, part.grid.row(at));
                let (group, bucket) = match cells[grid::PARENT] {
                    NONE => (0, bucket_of[0]),
                    number => goes_to[number as usize],
                };
                let piece = &mut pieces[bucket as usize];
                piece.names.push(beginning(part.texts.get(2 * at + 1)));
                let own = match links.own[row] {
                    NONE => NONE,
                    number => groups.of[number as usize],
                };
                piece.cells.extend_from_slice(&[group, own]);
                let from = piece.cells.len();
                piece.cells.extend_from_slice(cells);
                piece.cells[from + grid::LINE] += part.lines_before();
                piece.cells.push(row as u32);
                for (column, codes) in &renumbered {
                    let cell = &mut piece.cells[from + column];
                    if *cell != NONE {
                        *cell = codes[*cell as usize];
                    }
                }
            }
        }
        pieces
    };
    let shares = shares(rows, rows.len().div_ceil(SHARES * rayon::current_num_threads()).max(SMALLEST));
    let dealt: Vec<Vec<Piece>> = shares.into_par_iter().with_max_len(1).map(deal).collect();
    let mut buckets: Vec<(u32, Vec<Piece>)> = firsts.into_iter().map(|first| (first, Vec::new())).collect();
    for pieces in dealt {
        buckets.iter_mut().zip(pieces).for_each(|(bucket, piece)| bucket.1.push(piece));
    }
    buckets
}

/// What tells parts apart that number parents otherwise.
fn numbers(part: &CatalogPart) -> usize {
    part.codes(grid::PARENT).map_or(0, |codes| codes.as_ptr().addr())
}

/// The rows in shares of so many.
fn shares(rows: &CatalogRows, size: usize) -> Vec<Vec<(&CatalogPart, Range<usize>)>> {
    let (mut shares, mut room): (Vec<Vec<_>>, usize) = (Vec::new(), 0);
    for part in rows.parts() {
        let (mut from, count) = (0, part.rows().len());
        while from < count {
            if room == 0 {
                shares.push(Vec::new());
                room = size;
            }
            let to = (from + room).min(count);
            shares.last_mut().expect("there is room in one").push((part, from..to));
            room -= to - from;
            from = to;
        }
    }
    shares
}

/// A bucket with its rows in order: by group, then name, then id.
struct Bucket {
    /// The columns of the grid, and where each row stood.
    columns: Vec<Vec<u32>>,
    /// How many rows each of its groups has.
    sizes: Vec<u32>,
    /// Containers among the rows: where, and the group that each holds.
    containers: Vec<(u32, u32)>,
}

/// A row among its siblings.
#[derive(Clone, Copy, Default)]
struct Child {
    piece: u32,
    at: u32,
    /// How its name begins.
    name: [u64; 2],
}

fn sort(rows: &CatalogRows, first: u32, pieces: Vec<Piece>) -> Bucket {
    let width = rows.width() + EXTRA + 1;
    // What lies in one container comes together by counting, and is sorted by itself.
    let mut sizes: Vec<u32> = Vec::new();
    for row in pieces.iter().flat_map(|piece| piece.cells.chunks_exact(width)) {
        let group = (row[0] - first) as usize;
        if sizes.len() <= group {
            sizes.resize(group + 1, 0);
        }
        sizes[group] += 1;
    }
    let mut next: Vec<u32> = sizes.iter().scan(0, |sum, size| Some(std::mem::replace(sum, *sum + size))).collect();
    let count = sizes.iter().sum::<u32>() as usize;
    let mut children = vec![Child::default(); count];
    for (piece, Piece { names, cells }) in pieces.iter().enumerate() {
        for (at, (row, name)) in cells.chunks_exact(width).zip(names).enumerate() {
            let place = &mut next[(row[0] - first) as usize];
            children[*place as usize] = Child { piece: piece as u32, at: at as u32, name: *name };
            *place += 1;
        }
    }
    let cells = |child: &Child| &pieces[child.piece as usize].cells[child.at as usize * width..][..width];
    let row = |child: &Child| cells(child)[width - 1] as usize;
    let mut rest = children.as_mut_slice();
    for size in &sizes {
        let (siblings, others) = rest.split_at_mut(*size as usize);
        siblings.sort_unstable_by_key(|child| child.name);
        for alike in siblings.chunk_by_mut(|a, b| a.name == b.name).filter(|alike| alike.len() > 1) {
            // The whole of them is looked up, once each.
            let whole = |child: &Child| ((rows.name(row(child)), rows.id(row(child)), row(child)), *child);
            let mut whole: Vec<_> = alike.iter().map(whole).collect();
            whole.sort_unstable_by_key(|(key, _)| *key);
            alike.iter_mut().zip(whole).for_each(|(place, (_, child))| *place = child);
        }
        rest = others;
    }
    let mut bucket = Bucket {
        columns: (0..=rows.width()).map(|_| Vec::with_capacity(count)).collect(),
        sizes,
        containers: Vec::new(),
    };
    for (new, child) in children.iter().enumerate() {
        let row = cells(child);
        if row[1] != NONE {
            bucket.containers.push((new as u32, row[1]));
        }
        bucket.columns.iter_mut().zip(&row[EXTRA..]).for_each(|(column, cell)| column.push(*cell));
    }
    bucket
}

/// Rows that follow each other in a bucket and in the end, and lie in the same resource.
struct Run {
    bucket: u32,
    from: u32,
    to: u32,
    holder: Option<ResourceId>,
    depth: u16,
}

impl Run {
    /// Which of the bucket's rows.
    fn rows(&self) -> Range<usize> {
        self.from as usize..self.to as usize
    }
}

/// The rows of one group: where they begin and end, and which of the bucket's containers are among them.
struct Span {
    bucket: u32,
    rows: Range<u32>,
    containers: Range<u32>,
}

/// The order of rows in runs, and of what holds anything where that ends.
fn runs(buckets: &[Bucket]) -> (Vec<Run>, Vec<(ResourceId, u32)>) {
    let mut spans: Vec<Span> = Vec::new();
    for (number, bucket) in buckets.iter().enumerate() {
        let (mut from, mut passed) = (0, 0);
        for size in &bucket.sizes {
            let to = from + size;
            let containers = bucket.containers[passed as usize..].iter().take_while(|(at, _)| *at < to).count() as u32;
            spans.push(Span { bucket: number as u32, rows: from..to, containers: passed..passed + containers });
            (from, passed) = (to, passed + containers);
        }
    }
    let (mut runs, mut ends): (Vec<Run>, Vec<(ResourceId, u32)>) = (Vec::new(), Vec::new());
    let mut count = 0;
    // Each level is a group, what is left of its rows and containers, and the resource that holds it.
    let mut levels: Vec<(Span, Option<ResourceId>)> = Vec::new();
    spans.reverse();
    levels.extend(spans.pop().map(|roots| (roots, None)));
    while let Some((left, holder)) = levels.last_mut() {
        let (bucket, holder) = (&buckets[left.bucket as usize], *holder);
        let container = left.containers.next().map(|at| bucket.containers[at as usize]);
        let to = container.map_or(left.rows.end, |(at, _)| at + 1);
        let (bucket, from) = (left.bucket, std::mem::replace(&mut left.rows.start, to));
        count += to - from;
        if from < to {
            runs.push(Run { bucket, from, to, holder, depth: levels.len() as u16 });
        }
        match container {
            // Groups are numbered in the order in which they are come upon.
            Some(_) => levels.extend(spans.pop().map(|span| (span, Some(ResourceId(count - 1))))),
            None => {
                ends.extend(holder.map(|holder| (holder, count)));
                levels.pop();
            }
        }
    }
    (runs, ends)
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_model::labels::Labels;
    use bastide_syntax::Diagnostics;
    use std::collections::BTreeMap;
    use std::sync::Arc;

    /// Rows of id, parent and name.
    fn rows(list: &[(String, String, String)]) -> CatalogRows {
        let mut rows = CatalogRows::new(0);
        for (i, (id, parent, name)) in list.iter().enumerate() {
            let number = if parent.is_empty() { NONE } else { rows.parents.number(parent).0 };
            let part = rows.open();
            let texts = Arc::make_mut(&mut part.texts);
            texts.push(id);
            texts.push(name);
            let cells = part.grid.push();
            cells[grid::PARENT] = number;
            cells[grid::FILE] = 0;
            cells[grid::LINE] = i as u32;
            part.spans.push((0, 0));
        }
        rows
    }

    /// The order by what it says: each row, then what lies in it by name and id.
    fn plainly(list: &[(String, String, String)], parent: &str, depth: u16, found: &mut Vec<(usize, u16, usize)>) {
        let mut inside: Vec<usize> = (0..list.len()).filter(|i| list[*i].1 == parent).collect();
        inside.sort_by_key(|i| (&list[*i].2, &list[*i].0));
        for i in inside {
            let at = found.len();
            found.push((i, depth, 0));
            plainly(list, &list[i].0, depth + 1, found);
            found[at].2 = found.len();
        }
    }

    #[test]
    fn rows_come_in_the_order_of_the_tree() {
        let mut rng = fastrand::Rng::with_seed(25);
        for count in [0, 1, 2, 50, 700, 30_000] {
            let mut list: Vec<(String, String, String)> = Vec::new();
            for i in 0..count {
                let parent = match rng.usize(0..10) {
                    0 => String::new(),
                    // Some have many children, most have none.
                    1..5 => format!("r{}", rng.usize(0..=i / 40)),
                    _ => format!("r{}", rng.usize(0..=i)),
                };
                let parent = if parent == format!("r{i}") { String::new() } else { parent };
                let name =
                    ["Plan", "Plan of the upper floor", "", "Übersicht", "Plan of the upper flooring"][rng.usize(0..5)];
                list.push((format!("r{i}"), parent, format!("{name}{}", rng.u8(0..4))));
            }
            rng.shuffle(&mut list);
            let mut expected = Vec::new();
            if count <= 700 {
                plainly(&list, "", 1, &mut expected);
            }
            let rows = rows(&list);
            let mut out = Diagnostics::new();
            let links = crate::catalog::link(&rows, &mut out);
            let tree = tree(&rows, &links, &mut out).expect("there is no cycle");
            assert!(out.is_empty());
            assert_eq!(tree.order.len(), count);
            let labels = Labels::of(&rows, tree.order);
            for (new, (old, depth, end)) in expected.iter().enumerate() {
                let (id, parent, name) = &list[*old];
                assert_eq!((labels.id(new), labels.name(new)), (id.as_str(), name.as_str()));
                let row = labels.order()[new] as usize;
                assert_eq!((row, tree.depths[new], tree.ends[new] as usize), (*old, *depth, *end));
                assert_eq!(tree.columns[grid::LINE][new] as usize, *old);
                assert_eq!(tree.parents[new].map_or("", |p| labels.id(p.index())), parent);
            }
            // In a large one, what has to hold of every row and its neighbour.
            let index: BTreeMap<&str, usize> = labels.ids().enumerate().map(|(new, id)| (id, new)).collect();
            for (id, parent, name) in &list {
                let new = index[id.as_str()];
                assert_eq!(labels.name(new), name);
                assert_eq!(tree.parents[new].map_or("", |p| labels.id(p.index())), parent);
                let end = tree.ends[new] as usize;
                if end < count && tree.parents[end] == tree.parents[new] {
                    let key = |at: usize| (labels.name(at), labels.id(at));
                    assert!(key(new) < key(end), "{:?} {:?}", key(new), key(end));
                }
                assert!(tree.parents[new].is_none_or(|p| p.index() < new && end <= tree.ends[p.index()] as usize));
            }
        }
    }
}
