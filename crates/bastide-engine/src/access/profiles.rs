//! Users with identical access on everything seen so far: classes that only ever split.

use crate::sets::store::{SetId, SetStore};
use hashbrown::{HashMap, HashSet};

/// A partition of users, refined set by set. Exact: no hashing stands in for a comparison.
pub struct Profiles {
    class: Vec<u32>,
    sizes: Vec<u32>,
    seen: HashSet<SetId>,
    inside: HashMap<u32, (u32, u32)>,
}

impl Profiles {
    /// All of `users` users in one class.
    pub fn new(users: usize) -> Self {
        let sizes = if users == 0 { Vec::new() } else { vec![users as u32] };
        Profiles { class: vec![0; users], sizes, seen: HashSet::new(), inside: HashMap::new() }
    }

    /// Splits classes that lie partly inside and partly outside a set. Cost: the users of the set,
    /// or those outside it where they are fewer; nothing for a set met before.
    pub fn refine(&mut self, sets: &SetStore, set: SetId) {
        if !self.seen.insert(set) || self.sizes.len() == self.class.len() {
            return;
        }
        let (inside, users) = (sets.count(set) as usize, self.class.len());
        if inside == 0 || inside == users {
            return;
        }
        if inside * 2 <= users {
            self.split(sets.users(set));
        } else {
            // Those outside split the classes in the same way.
            let last = users - (users - 1) / 64 * 64;
            let row = sets.row(set);
            let mask = |i: usize| if (i + 1) * 64 > users && last < 64 { (1u64 << last) - 1 } else { u64::MAX };
            let outside = row.iter().enumerate().flat_map(|(i, word)| {
                let mut rest = !word & mask(i);
                std::iter::from_fn(move || {
                    let bit = rest.trailing_zeros() as usize;
                    (rest != 0).then(|| {
                        rest &= rest - 1;
                        i * 64 + bit
                    })
                })
            });
            self.split(outside);
        }
    }

    fn split(&mut self, users: impl Iterator<Item = usize> + Clone) {
        self.inside.clear();
        for user in users.clone() {
            self.inside.entry(self.class[user]).or_insert((0, u32::MAX)).0 += 1;
        }
        for user in users {
            let old = self.class[user];
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
            self.class[user] = *new;
        }
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
            profiles.refine(&sets, set);
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
        let mut random = 7u64;
        for users in [1usize, 63, 64, 65, 200] {
            let (mut sets, mut profiles) = (SetStore::new(users), Profiles::new(users));
            let mut seen: Vec<Vec<bool>> = vec![Vec::new(); users];
            for _ in 0..6 {
                let members: Vec<bool> = (0..users)
                    .map(|_| {
                        random = random.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
                        random >> 62 == 0 || random >> 60 == 15
                    })
                    .collect();
                let set = sets.of((0..users).filter(|u| members[*u]));
                profiles.refine(&sets, set);
                members.iter().enumerate().for_each(|(u, m)| seen[u].push(*m));
            }
            let distinct: hashbrown::HashSet<&Vec<bool>> = seen.iter().collect();
            assert_eq!(profiles.count(), distinct.len());
            for class in profiles.classes(&(0..users).collect::<Vec<_>>()) {
                assert!(class.iter().all(|u| seen[*u] == seen[class[0]]));
            }
        }
    }
}
