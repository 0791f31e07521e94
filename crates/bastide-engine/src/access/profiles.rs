//! Users with identical access on everything seen so far: classes that only ever split.

use crate::sets::store::{SetId, SetStore};
use hashbrown::HashMap;

/// A partition of users, refined set by set. Exact: no hashing stands in for a comparison.
pub struct Profiles {
    class: Vec<u32>,
    sizes: Vec<u32>,
    /// Users that may still share a class with another.
    open: Vec<u64>,
    /// Sets met so far, each with the user who stood on the other side when it was met first.
    seen: HashMap<SetId, Option<usize>>,
    inside: HashMap<u32, (u32, u32)>,
}

impl Profiles {
    /// All of `users` users in one class.
    pub fn new(users: usize) -> Self {
        let mut open = vec![u64::MAX; users.div_ceil(64)];
        if let Some(last) = open.last_mut().filter(|_| !users.is_multiple_of(64)) {
            *last = (1 << (users % 64)) - 1;
        }
        Profiles {
            class: vec![0; users],
            sizes: if users == 0 { Vec::new() } else { vec![users as u32] },
            open,
            seen: HashMap::new(),
            inside: HashMap::new(),
        }
    }

    /// Splits classes that lie partly inside and partly outside a set: once as it is where `turned` is empty, and otherwise
    /// once for each of these users with that user on the other side. Cost: the first time the words of the
    /// set, and the users inside it or outside it, whichever are fewer, that are not alone in their
    /// class; next to nothing later.
    pub fn refine(&mut self, sets: &SetStore, set: SetId, turned: &[usize]) {
        if self.sizes.len() == self.class.len() {
            return;
        }
        let first = match self.seen.get(&set) {
            Some(first) => *first,
            None => {
                let first = turned.first().copied();
                self.seen.insert(set, first);
                self.split_by(sets, set, first);
                first
            }
        };
        // Every class is on one side of the set as it was met first; of what differs from that, the one or two users
        // who stand elsewhere now, only they can split off.
        match (first, turned) {
            (None, []) => {}
            (Some(user), []) => self.split(&[user]),
            (first, turned) => {
                for user in turned.iter().copied().filter(|user| Some(*user) != first) {
                    match first {
                        Some(first) => self.split(&[first, user]),
                        None => self.split(&[user]),
                    }
                }
            }
        }
    }

    /// Splits by a set that was not met before.
    fn split_by(&mut self, sets: &SetStore, set: SetId, turned: Option<usize>) {
        let word = |i: usize, word: u64| match turned {
            Some(user) if user / 64 == i => word ^ 1 << (user % 64),
            _ => word,
        };
        let row = sets.row(set);
        let (mut inside, mut outside) = (0, 0);
        for (i, open) in self.open.iter().enumerate() {
            let row = word(i, row[i]);
            inside += (row & open).count_ones();
            outside += (!row & open).count_ones();
        }
        if inside == 0 || outside == 0 {
            return;
        }
        let turn = if inside <= outside { 0 } else { u64::MAX };
        let mut users = Vec::with_capacity(inside.min(outside) as usize);
        for (i, open) in self.open.iter_mut().enumerate() {
            let mut rest = (word(i, row[i]) ^ turn) & *open;
            while rest != 0 {
                let user = i * 64 + rest.trailing_zeros() as usize;
                rest &= rest - 1;
                if self.sizes[self.class[user] as usize] == 1 {
                    *open &= !(1 << (user % 64));
                } else {
                    users.push(user);
                }
            }
        }
        self.split(&users);
    }

    fn split(&mut self, users: &[usize]) {
        if users.iter().all(|user| self.sizes[self.class[*user] as usize] == 1) {
            return;
        }
        self.inside.clear();
        for user in users {
            self.inside.entry(self.class[*user]).or_insert((0, u32::MAX)).0 += 1;
        }
        for user in users {
            let old = self.class[*user];
            let (count, new) = self.inside.get_mut(&old).expect("counted before");
            if *count == self.sizes[old as usize] && *new == u32::MAX {
                continue;
            }
            if *new == u32::MAX {
                *new = self.sizes.len() as u32;
                self.sizes.push(0);
            }
            self.sizes[*new as usize] += 1;
            self.sizes[old as usize] -= 1;
            *count -= 1;
            self.class[*user] = *new;
        }
    }

    /// Splits classes whose users another partition tells apart: the common refinement of both.
    pub fn meet(&mut self, other: &Profiles) {
        let mut classes: HashMap<(u32, u32), u32> = HashMap::new();
        let mut sizes: Vec<u32> = Vec::new();
        for (class, theirs) in self.class.iter_mut().zip(&other.class) {
            *class = *classes.entry((*class, *theirs)).or_insert_with(|| {
                sizes.push(0);
                sizes.len() as u32 - 1
            });
            sizes[*class as usize] += 1;
        }
        self.sizes = sizes;
    }

    /// How many classes there are.
    pub fn count(&self) -> usize {
        self.sizes.len()
    }

    /// The classes of these users, largest first, then by their first user; users by position in the list.
    pub fn classes(&self, of: &[usize]) -> Vec<Vec<usize>> {
        let mut classes: HashMap<u32, Vec<usize>> = HashMap::new();
        for (position, user) in of.iter().enumerate() {
            classes.entry(self.class[*user]).or_default().push(position);
        }
        let mut classes: Vec<Vec<usize>> = classes.into_values().collect();
        classes.sort_by_key(|users| (std::cmp::Reverse(users.len()), users.first().copied()));
        classes
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn classes_split_and_never_join() {
        let mut sets = SetStore::new(70);
        let mut profiles = Profiles::new(70);
        for users in [vec![0, 1, 69], (0..70).collect(), vec![], (2..69).collect(), vec![1, 2], vec![0, 1, 69]] {
            let set = sets.of(users);
            profiles.refine(&sets, set, &[]);
        }
        assert_eq!(profiles.count(), 4);
        let classes = profiles.classes(&(0..70).collect::<Vec<_>>());
        assert_eq!(classes.iter().map(Vec::len).collect::<Vec<_>>(), [66, 2, 1, 1]);
        assert_eq!(classes[1], [0, 69]);
        assert_eq!(profiles.classes(&[1, 69, 0]), [vec![1, 2], vec![0]]);
        assert!(Profiles::new(0).classes(&[]).is_empty());
    }

    /// Against the plain way: users are alike if they are in the same sets.
    #[test]
    fn classes_are_users_in_the_same_sets() {
        let mut random = fastrand::Rng::with_seed(7);
        for users in [1usize, 63, 64, 65, 200] {
            for density in [2, 3, 20] {
                let (mut sets, mut profiles) = (SetStore::new(users), Profiles::new(users));
                let mut seen: Vec<Vec<bool>> = vec![Vec::new(); users];
                for _ in 0..8 {
                    let mut members: Vec<bool> = (0..users).map(|_| random.u32(..density) == 0).collect();
                    let set = sets.of((0..users).filter(|u| members[*u]));
                    let turned: Vec<usize> = (0..random.usize(..3)).map(|_| random.usize(..users)).collect();
                    profiles.refine(&sets, set, &turned);
                    let mut see = |members: &[bool]| members.iter().enumerate().for_each(|(u, m)| seen[u].push(*m));
                    if turned.is_empty() {
                        see(&members);
                    }
                    for user in turned {
                        members[user] = !members[user];
                        see(&members);
                        members[user] = !members[user];
                    }
                }
                let distinct: hashbrown::HashSet<&Vec<bool>> = seen.iter().collect();
                assert_eq!(profiles.count(), distinct.len());
                for class in profiles.classes(&(0..users).collect::<Vec<_>>()) {
                    assert!(class.iter().all(|u| seen[*u] == seen[class[0]]));
                }
            }
        }
    }
}
