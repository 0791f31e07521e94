//! Users with identical access on everything seen so far: classes that only ever split.

use hashbrown::HashMap;
use std::hash::Hash;

/// A partition of users, refined resource by resource. Exact: no hashing stands in for a comparison.
pub struct Profiles {
    class: Vec<u32>,
    count: u32,
}

impl Profiles {
    /// All of `users` users in one class.
    pub fn new(users: usize) -> Self {
        Profiles { class: vec![0; users], count: u32::from(users > 0) }
    }

    /// Splits classes whose users differ in `access`. Cost: users.
    pub fn refine<A: Eq + Hash>(&mut self, access: impl Fn(usize) -> A) {
        let mut seen: HashMap<(u32, A), u32> = HashMap::new();
        let mut first: HashMap<u32, ()> = HashMap::new();
        let mut count = self.count;
        for user in 0..self.class.len() {
            let old = self.class[user];
            let new = *seen.entry((old, access(user))).or_insert_with(|| {
                // The first access met in a class keeps its number.
                if first.insert(old, ()).is_none() {
                    return old;
                }
                count += 1;
                count - 1
            });
            self.class[user] = new;
        }
        self.count = count;
    }

    /// How many classes there are.
    pub fn count(&self) -> usize {
        self.count as usize
    }

    /// The classes, largest first, then by their first user; users by position.
    pub fn classes(&self) -> Vec<Vec<usize>> {
        let mut classes: Vec<Vec<usize>> = vec![Vec::new(); self.count as usize];
        for (user, class) in self.class.iter().enumerate() {
            classes[*class as usize].push(user);
        }
        classes.sort_by_key(|users| (std::cmp::Reverse(users.len()), users.first().copied()));
        classes
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn classes_split_and_never_join() {
        let mut profiles = Profiles::new(5);
        for access in [[1, 1, 2, 2, 1], [7, 7, 7, 7, 7], [0, 1, 0, 0, 0]] {
            profiles.refine(|u| access[u]);
        }
        assert_eq!(profiles.count(), 3);
        assert_eq!(profiles.classes(), [vec![0, 4], vec![2, 3], vec![1]]);
        assert_eq!(Profiles::new(0).classes(), Vec::<Vec<usize>>::new());
    }
}
