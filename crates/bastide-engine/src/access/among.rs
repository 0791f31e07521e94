//! The users who are asked for, by themselves where they are few.

use super::Row;
use crate::change::UserSubset;
use crate::snapshot::Snapshot;
use bastide_model::*;

/// Users are few where all are so many times as many: of more, the sets would not be much shorter.
const TIMES: usize = 8;
/// To leave the other users out costs a look at each user, statement and resource: of all these together, one in so many must be a
/// resource that is asked about.
const PART: usize = 8;

/// Whether to leave the others out pays, for so many users of all and so many resources; `besides`: how many resources and statements
/// there are.
fn pays([users, all_users]: [usize; 2], resources: usize, besides: usize) -> bool {
    users > 0 && users * TIMES <= all_users && resources * PART >= all_users + besides
}

/// An estate in which the users who are asked for are alone, where that is the quicker way. What they may do is the same.
pub struct Among {
    snapshot: Snapshot,
    /// The numbers there of those who are asked for.
    users: Vec<UserId>,
    /// Whose number stands for whom; none where everybody is there.
    subset: Option<UserSubset>,
}

impl Among {
    /// For users who are asked for on so many resources. Cost: where they are few, users, statements and resources once.
    pub fn of(snapshot: &Snapshot, users: &[UserId], resources: usize) -> Among {
        let estate = snapshot.estate();
        let besides = estate.catalog().len() + estate.statements().len();
        if pays([users.len(), estate.people().len()], resources, besides) {
            Among::alone(snapshot, users)
        } else {
            Among { snapshot: snapshot.clone(), users: users.to_vec(), subset: None }
        }
    }

    /// With nobody else there.
    fn alone(snapshot: &Snapshot, users: &[UserId]) -> Among {
        let subset = UserSubset::several(users.to_vec());
        let number = |user: &UserId| subset.number(*user).expect("it is one of them");
        Among {
            snapshot: snapshot.restricted_to(&subset),
            users: users.iter().map(number).collect(),
            subset: Some(subset),
        }
    }

    /// What decides on them.
    pub fn snapshot(&self) -> &Snapshot {
        &self.snapshot
    }

    /// The numbers there of those who are asked for, in the order in which they were named.
    pub fn users(&self) -> &[UserId] {
        &self.users
    }

    /// Who has a number there.
    pub fn whole(&self, number: usize) -> UserId {
        self.subset.as_ref().map_or(UserId::new(number), |subset| subset.users()[number])
    }

    /// Decides every action for them on every resource and gives the rows to `each`, in order.
    ///
    /// # Errors
    /// Whatever `each` gives back; it is not called again.
    pub fn sweep<E>(
        &self,
        resources: impl IntoIterator<Item = ResourceId>,
        mut each: impl FnMut(Row) -> Result<(), E>,
    ) -> Result<(), E> {
        let mut engine = self.snapshot.evaluator();
        for resource in resources {
            let mut work = engine.decide(resource);
            each(Row::of(resource, (&mut engine, &mut work), self))?;
            engine.done(work);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::random::{Shape, plan};
    use std::collections::BTreeSet;
    use std::convert::Infallible;

    /// What users may do where they are alone, and why, is what is decided for them among all; in whatever order they are named,
    /// one of them twice, with missing values taken either way.
    #[test]
    fn whoever_is_alone_may_do_the_same() {
        let mut random = fastrand::Rng::with_seed(5);
        let (mut allowed, mut refused, mut by) = (0, 0, BTreeSet::new());
        for seed in 0..150 {
            let estate = plan(seed, Shape::ALL).case().estate();
            let moment = Moment::on(jiff::civil::date(2026, 11, 24), estate.schema());
            let Ok(snapshot) = Snapshot::new(&estate, &moment) else { continue };
            let snapshot = if seed % 3 == 0 { snapshot.in_favour() } else { snapshot };
            let reference = snapshot.reference();
            let people: Vec<UserId> = estate.people().all().collect();
            let mut users: Vec<UserId> =
                (0..random.usize(1..4)).map(|_| people[random.usize(..people.len())]).collect();
            users.push(users[0]);
            let among = Among::alone(&snapshot, &users);
            let mut rows = 0;
            let Ok(()) = among.sweep(estate.catalog().all(), |row| {
                rows += 1;
                for action in ActionId::all(estate.schema().actions.len()) {
                    let mut everybody = BTreeSet::new();
                    row.everybody(action, &mut Vec::new(), |user| assert!(everybody.insert(user)));
                    for (at, user) in users.iter().enumerate() {
                        let decided = reference.decide(*user, action, row.resource);
                        let found = row.decision(at, action);
                        assert_eq!((found.reason, found.by), (decided.reason, decided.by), "seed {seed}");
                        let may = decided.is_allowed();
                        assert_eq!(row.allowed(at).any(|allowed| allowed == action), may, "seed {seed}");
                        assert_eq!(everybody.contains(&user.index()), may, "seed {seed}");
                        allowed += usize::from(may);
                        refused += usize::from(!may);
                        by.insert((seed, decided.by));
                    }
                    assert!(everybody.iter().all(|user| users.contains(&UserId::new(*user))), "seed {seed}");
                }
                Ok::<(), Infallible>(())
            });
            assert_eq!(rows, estate.catalog().len());
        }
        let by = by.len();
        assert!(allowed > 2_000 && refused > 2_000 && by > 300, "{allowed} allowed, {refused} refused, {by} causes");
    }

    /// Few of many, asked about much, are put alone; of some, or about little, everybody stays.
    #[test]
    fn few_users_are_put_alone() {
        assert!(pays([1, 8], 11, 80) && pays([1_250, 10_000], 2_000, 6_000));
        assert!(!pays([1, 7], 80, 80), "of some");
        assert!(!pays([1, 8], 10, 80), "about little");
        assert!(!pays([0, 8], 80, 80), "of nobody");
    }
}
