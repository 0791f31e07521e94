//! Circles in directed graphs.

use hashbrown::{HashMap, HashSet};
use std::hash::Hash;

/// The strongly connected components of a graph of so many nodes, those that others lead to first (Tarjan's algorithm, without
/// recursion: a path may be as long as the graph). Cost: nodes plus edges.
pub fn components<I: Iterator<Item = usize>>(count: usize, next: impl Fn(usize) -> I) -> Vec<Vec<usize>> {
    const NEW: u32 = u32::MAX;
    let (mut numbers, mut lowest) = (vec![NEW; count], vec![0_u32; count]);
    let mut is_open = vec![false; count];
    let (mut open, mut found): (Vec<usize>, Vec<Vec<usize>>) = Default::default();
    let mut path: Vec<(usize, I)> = Vec::new();
    let mut number = 0;
    for start in 0..count {
        if numbers[start] != NEW {
            continue;
        }
        let mut enter = Some(start);
        loop {
            if let Some(node) = enter.take() {
                (numbers[node], lowest[node]) = (number, number);
                number += 1;
                open.push(node);
                is_open[node] = true;
                path.push((node, next(node)));
            }
            let Some((node, rest)) = path.last_mut() else { break };
            let node = *node;
            match rest.next() {
                Some(step) if numbers[step] == NEW => enter = Some(step),
                Some(step) if is_open[step] => lowest[node] = lowest[node].min(numbers[step]),
                Some(_) => {}
                None => {
                    path.pop();
                    if let Some((above, _)) = path.last() {
                        lowest[*above] = lowest[*above].min(lowest[node]);
                    }
                    if lowest[node] == numbers[node] {
                        let from = open.iter().rposition(|n| *n == node).expect("it was opened");
                        let component = open.split_off(from);
                        component.iter().for_each(|n| is_open[*n] = false);
                        found.push(component);
                    }
                }
            }
        }
    }
    found
}

/// Whether a graph of so many nodes has a cycle that can be reached from some of them. Cost: nodes plus edges, a byte a node;
/// so it is asked before [`cycles`], which remembers by hashing.
pub fn has_cycle<I: Iterator<Item = usize>>(
    count: usize,
    starts: impl Iterator<Item = usize>,
    next: impl Fn(usize) -> I,
) -> bool {
    const NEW: u8 = 0;
    const OPEN: u8 = 1;
    const DONE: u8 = 2;
    let mut states = vec![NEW; count];
    let mut path: Vec<(usize, I)> = Vec::new();
    for start in starts {
        if states[start] != NEW {
            continue;
        }
        states[start] = OPEN;
        path.push((start, next(start)));
        while let Some((node, rest)) = path.last_mut() {
            match rest.next() {
                Some(step) if states[step] == OPEN => return true,
                Some(step) if states[step] == NEW => {
                    states[step] = OPEN;
                    path.push((step, next(step)));
                }
                Some(_) => {}
                None => {
                    states[*node] = DONE;
                    path.pop();
                }
            }
        }
    }
    false
}

/// The cycles a depth-first search meets, each as its nodes in order; none is missed as a whole:
/// there is a cycle if and only if one is returned. Cost: nodes plus edges.
pub fn cycles<N: Copy + Eq + Hash>(nodes: &[N], next: impl Fn(N) -> Vec<N>) -> Vec<Vec<N>> {
    let mut done: HashSet<N> = HashSet::new();
    let mut found = Vec::new();
    for &start in nodes {
        if done.contains(&start) {
            continue;
        }
        let mut path: Vec<(N, Vec<N>)> = vec![(start, next(start))];
        let mut open: HashMap<N, usize> = HashMap::from([(start, 0)]);
        while let Some((node, rest)) = path.last_mut() {
            let node = *node;
            let Some(step) = rest.pop() else {
                done.insert(node);
                open.remove(&node);
                path.pop();
                continue;
            };
            if let Some(&from) = open.get(&step) {
                found.push(path[from..].iter().map(|(n, _)| *n).collect());
            } else if !done.contains(&step) {
                open.insert(step, path.len());
                path.push((step, next(step)));
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two nodes are in one component if and only if each leads to the other, and what is led to comes first.
    #[test]
    fn components_are_what_leads_to_itself() {
        let mut rng = fastrand::Rng::with_seed(7);
        for _ in 0..200 {
            let count = rng.usize(1..12);
            let edges: Vec<Vec<usize>> =
                (0..count).map(|_| (0..rng.usize(0..3)).map(|_| rng.usize(0..count)).collect()).collect();
            let mut leads = vec![vec![false; count]; count];
            for (from, reached) in leads.iter_mut().enumerate() {
                let mut todo = vec![from];
                while let Some(node) = todo.pop() {
                    if !std::mem::replace(&mut reached[node], true) {
                        todo.extend(&edges[node]);
                    }
                }
            }
            let found = components(count, |node| edges[node].iter().copied());
            assert_eq!(found.iter().map(Vec::len).sum::<usize>(), count);
            let circle = (0..count).any(|node| edges[node].iter().any(|next| leads[*next][node]));
            assert_eq!(has_cycle(count, 0..count, |node| edges[node].iter().copied()), circle, "{edges:?}");
            assert_eq!(!cycles(&(0..count).collect::<Vec<_>>(), |node| edges[node].clone()).is_empty(), circle);
            let of = |node: usize| found.iter().position(|c| c.contains(&node)).unwrap();
            for (a, b) in (0..count).flat_map(|a| (0..count).map(move |b| (a, b))) {
                assert_eq!(of(a) == of(b), leads[a][b] && leads[b][a], "{edges:?}");
                assert!(!leads[a][b] || of(b) <= of(a), "{edges:?}");
            }
        }
        assert_eq!(components(100_000, |n| (n + 1..100_000).take(1)).len(), 100_000);
    }
}
