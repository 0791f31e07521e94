//! An estate in which few users are left. What these may do is the same in both, and it is worked out in a fraction of
//! the time: no decision looks at another user.

use super::{Change, apply};
use crate::decide::ReferenceEvaluator;
use bastide_model::condition::{Condition, Elsewhere, Term};
use bastide_model::*;
use std::sync::Arc;

/// Some users of an estate, in order. Where they are alone, each has the place in this list as number.
pub struct UserSubset(Vec<UserId>);

/// Users are few where they are at most this part of all: of more, the sets would not be much shorter.
const PART: usize = 2;

impl UserSubset {
    /// One user.
    pub fn one(user: UserId) -> UserSubset {
        UserSubset(vec![user])
    }

    /// The users that changes can touch at a moment, where that can be told and they are few.
    pub fn of(estate: &Estate, changes: &[Change], moment: &Moment) -> Option<UserSubset> {
        UserSubset::by_reference(&ReferenceEvaluator::new(estate, moment).ok()?, changes)
    }

    /// As [`UserSubset::of`], by what decides in the estate at the moment.
    pub fn by_reference(reference: &ReferenceEvaluator, changes: &[Change]) -> Option<UserSubset> {
        let estate = reference.estate;
        let mut users = Vec::new();
        for change in changes {
            users.extend(touched(estate, change, Some(reference))?);
        }
        if users.is_empty() {
            // Nobody is touched, and anybody will do to see it.
            users.extend(estate.people().all().next());
        }
        users.sort_unstable();
        users.dedup();
        (users.len() == 1 || users.len() * PART <= estate.people().len()).then_some(UserSubset(users))
    }

    /// Some users.
    pub fn several(mut users: Vec<UserId>) -> UserSubset {
        users.sort_unstable();
        users.dedup();
        UserSubset(users)
    }

    /// The users that changes can touch, where these are named by them, by themselves or as members of a group.
    pub fn named(estate: &Estate, changes: &[Change]) -> Option<UserSubset> {
        let users: Option<Vec<Vec<UserId>>> = changes.iter().map(|change| touched(estate, change, None)).collect();
        Some(UserSubset::several(users?.concat()))
    }

    /// They, by their numbers in the whole estate.
    pub fn users(&self) -> &[UserId] {
        &self.0
    }

    /// The number of a user where they are alone.
    pub fn number(&self, user: UserId) -> Option<UserId> {
        self.0.binary_search(&user).ok().map(UserId::new)
    }

    /// The estate with these users alone.
    pub fn estate(&self, whole: &Estate) -> Estate {
        whole.restricted_to(&self.0)
    }

    /// The estate with these users alone, before changes that touch nobody else, and after them.
    pub fn both(&self, whole: &Estate, changes: &[Change]) -> Option<(Estate, Estate)> {
        let before = self.estate(whole);
        let after = apply(&before, &self.renamed(whole, changes)?).ok()?;
        Some((before, after))
    }

    /// The changes as they are in the estate with these users alone; none where they name others too, or can touch
    /// others whom they do not name.
    pub fn changes(&self, whole: &Estate, changes: &[Change]) -> Option<Vec<Change>> {
        let own =
            |change| touched(whole, change, None).is_some_and(|all| all.iter().all(|u| self.number(*u).is_some()));
        if changes.iter().all(own) { self.renamed(whole, changes) } else { None }
    }

    /// The changes as they are in the estate with these users alone, whom else they can touch left aside.
    fn renamed(&self, whole: &Estate, changes: &[Change]) -> Option<Vec<Change>> {
        let mut changes = changes.to_vec();
        for change in &mut changes {
            match change {
                Change::Join(Member::User(user), _)
                | Change::Leave(Member::User(user), _)
                | Change::User(user, ..)
                | Change::Except(_, user) => *user = self.number(*user)?,
                Change::Give(statement) => Arc::make_mut(statement).who.renumber(
                    |user| self.number(user).map_or(0..0, |number| number.0..number.0 + 1),
                    |user| whole.people().id(user).to_string(),
                ),
                _ => {}
            }
        }
        Some(changes)
    }
}

/// Users, each as often as something is tried on them: whatever is done to one copy touches no other.
pub struct UserCopies {
    /// By the number of the copy, whose it is and for which trial.
    copies: Vec<(UserId, usize)>,
}

impl UserCopies {
    /// Whether changes can be made to copies of the users whom they touch: to values and memberships of single users, or by
    /// giving something to users who are told. What changes a statement or a group changes it for all copies.
    pub fn can(changes: &[Change]) -> bool {
        let own = |change: &Change| {
            matches!(change, Change::Join(Member::User(_), _) | Change::Leave(Member::User(_), _) | Change::User(..))
        };
        let gives =
            |change: &Change| matches!(change, Change::Give(statement) if !statement.who.terms.contains(&Term::Owner));
        changes.iter().all(own) || changes.iter().all(gives)
    }

    /// Copies for trials, each with its number and the users whom it touches.
    pub fn of(trials: &[(usize, UserSubset)]) -> UserCopies {
        let all = trials.iter().flat_map(|(trial, few)| few.users().iter().map(|user| (*user, *trial)));
        let mut copies: Vec<(UserId, usize)> = all.collect();
        copies.sort_unstable();
        UserCopies { copies }
    }

    /// For which trial a copy is there.
    pub fn trial(&self, copy: u32) -> Option<usize> {
        self.copies.get(copy as usize).map(|(_, trial)| *trial)
    }

    fn number(&self, user: UserId, trial: usize) -> Option<UserId> {
        self.copies.binary_search(&(user, trial)).ok().map(UserId::new)
    }

    /// The estate with the copies alone, before and after all trials. None where one of them cannot be made, or touches others.
    pub fn both<'c>(
        &self,
        reference: &ReferenceEvaluator,
        trials: impl Iterator<Item = (usize, &'c [Change])>,
    ) -> Option<(Estate, Estate)> {
        let whole = reference.estate;
        let users: Vec<UserId> = self.copies.iter().map(|(user, _)| *user).collect();
        let before = whole.restricted_to(&users);
        let mut all = Vec::new();
        for (trial, changes) in trials {
            for change in changes {
                let mut change = change.clone();
                match &mut change {
                    Change::Join(Member::User(user), _)
                    | Change::Leave(Member::User(user), _)
                    | Change::User(user, ..) => {
                        *user = self.number(*user, trial)?;
                    }
                    Change::Give(statement) => {
                        let touched = meant(whole, statement, Some(reference))?;
                        let term = |user: UserId| self.number(user, trial).map(Term::User);
                        Arc::make_mut(statement).who.terms = touched.into_iter().map(term).collect::<Option<_>>()?;
                    }
                    _ => return None,
                }
                all.push(change);
            }
        }
        let after = apply(&before, &all).ok()?;
        Some((before, after))
    }
}

/// The users that a change can touch, where they are named: by themselves, or as members of a group; and where there is a
/// reference evaluator, by a condition that asks for their attributes.
fn touched(estate: &Estate, change: &Change, reference: Option<&ReferenceEvaluator>) -> Option<Vec<UserId>> {
    match change {
        Change::Join(member, _) | Change::Leave(member, _) => match member {
            Member::User(user) => Some(vec![*user]),
            Member::Group(group) => members(estate, *group),
        },
        Change::User(user, ..) | Change::Except(_, user) => Some(vec![*user]),
        Change::Off(id) | Change::On(id) | Change::Window(id, ..) | Change::Actions(id, _) => {
            meant(estate, estate.statement(*id), reference)
        }
        Change::Give(statement) => meant(estate, statement, reference),
        Change::Resource(..) => None,
    }
}

/// The users a statement can apply to, where they are named.
fn meant(estate: &Estate, statement: &Statement, reference: Option<&ReferenceEvaluator>) -> Option<Vec<UserId>> {
    if !estate.layers().is_empty() && matches!(statement.modality, Modality::May | Modality::MayNot) {
        // Which layer controls a resource hangs on it, whomever it applies to, and touches everybody.
        return None;
    }
    let parts: Vec<&Condition> =
        statement.conditions().flat_map(Condition::conjuncts).filter(|part| is_about(part, estate)).collect();
    let mut users = Vec::new();
    for term in &statement.who.terms {
        match term {
            Term::User(user) => users.push(*user),
            Term::Members(group) => users.extend(members(estate, *group)?),
            Term::Nobody(_) => {}
            Term::Anyone | Term::Owner if reference.is_none() || parts.is_empty() => return None,
            Term::Anyone | Term::Owner => users.extend(estate.people().all()),
        }
    }
    if let Some(reference) = reference {
        // Of a resource nothing is known, so that what is false is so by the user alone.
        users.retain(|user| parts.iter().all(|part| reference.condition(part, Some(*user), None).not_false()));
    }
    Some(users)
}

/// Whether a condition asks for attributes of the user, and for nothing that takes long to find out.
fn is_about(condition: &Condition, estate: &Estate) -> bool {
    let (mut user, mut slow) = (false, false);
    condition.visit(&mut |inner| match inner.test.elsewhere() {
        Some(Elsewhere::Decision(..)) => slow = true,
        Some(Elsewhere::Group(group)) => {
            user = true;
            slow |= !estate.groups().through(group).is_empty();
        }
        None => user |= inner.mentions().user,
    });
    user && !slow
}

/// The members of a group, where none of them is computed.
fn members(estate: &Estate, group: GroupId) -> Option<Vec<UserId>> {
    let groups = estate.groups();
    groups.through(group).is_empty().then(|| groups.users(group).ones().map(UserId::new).collect())
}

/// The estate with the users alone whom changes can touch at a moment, before the changes and after them, where these
/// users can be told and are few.
pub fn narrowed(estate: &Estate, changes: &[Change], moment: &Moment) -> Option<(Estate, Estate)> {
    UserSubset::of(estate, changes, moment)?.both(estate, changes)
}
