//! An estate in which one user is left. What that user may do is the same in both, and it is worked
//! out in a fraction of the time: no decision looks at another user.

use super::Change;
use bastide_model::column::Column;
use bastide_model::condition::Term;
use bastide_model::groups::{Groups, Member, Membership};
use bastide_model::people::People;
use bastide_model::strings::{Index, Strings};
use bastide_model::*;
use fixedbitset::FixedBitSet;
use std::sync::Arc;

/// The number of the one user.
const ONE: UserId = UserId(0);

/// The estate with one user left, who has the number 0 there.
pub fn only(estate: &Estate, user: UserId) -> Estate {
    let mut small = estate.clone();
    small.people = Arc::new(people(&estate.people, user));
    small.groups = Arc::new(groups(&estate.groups, user));
    let catalog = Arc::make_mut(&mut small.catalog);
    for owner in &mut catalog.owner_users {
        *owner = owner.filter(|o| *o == user).map(|_| ONE);
    }
    for statement in &mut small.statements {
        if statement.who.terms.iter().any(|t| matches!(t, Term::User(_))) {
            let statement = Arc::make_mut(statement);
            statement.who.terms.iter_mut().for_each(|term| turn(term, estate, user));
        }
    }
    for computed in &mut Arc::make_mut(&mut small.groups).computed {
        if let Some(groups::Computed::Who(who)) = computed {
            who.terms.iter_mut().for_each(|term| turn(term, estate, user));
        }
    }
    small
}

/// A user who is not there is nobody.
fn turn(term: &mut Term, estate: &Estate, user: UserId) {
    if let Term::User(named) = term {
        *term = if *named == user { Term::User(ONE) } else { Term::Nobody(estate.people.id(*named).to_string()) };
    }
}

fn people(all: &People, user: UserId) -> People {
    let row = user.index();
    let one = |text: &str| [text].into_iter().collect::<Strings>();
    let ids = one(all.id(user));
    let column = |of: &Column| {
        let mut small = Column::default();
        if let Some(value) = of.get(row) {
            let code = small.intern(value.clone());
            small.set_code(0, 1, Some(code));
        }
        small
    };
    let mut active = FixedBitSet::with_capacity(1);
    active.set(0, all.is_active(user));
    People {
        index: Index::of(&ids).0,
        ids,
        names: one(all.name(user)),
        kinds: vec![all.kinds[row]],
        active,
        realms: column(&all.realms),
        attributes: all.attributes.iter().map(column).collect(),
        origins: vec![all.origins[row]],
        farewells: Vec::new(),
    }
}

fn groups(all: &Groups, user: UserId) -> Groups {
    let mut small = all.clone();
    for list in &mut small.members {
        let kept = list.iter().filter_map(|m| match m.member {
            Member::User(member) => (member == user).then_some(Membership { member: Member::User(ONE), ..*m }),
            Member::Group(_) => Some(*m),
        });
        *list = kept.collect();
        list.sort();
    }
    small.close(1);
    small
}

/// The one user that changes can touch, where there is one.
pub fn only_user(estate: &Estate, changes: &[Change]) -> Option<UserId> {
    let user = match changes.first()? {
        Change::Join(Member::User(user), _) | Change::Leave(Member::User(user), _) => *user,
        Change::User(user, ..) | Change::Except(_, user) => *user,
        Change::Off(id) | Change::On(id) | Change::Window(id, ..) | Change::Actions(id, _) => {
            match estate.statement(*id).who.terms.as_slice() {
                [Term::User(user)] => *user,
                _ => return None,
            }
        }
        Change::Give(statement) => match statement.who.terms.as_slice() {
            [Term::User(user)] => *user,
            _ => return None,
        },
        _ => return None,
    };
    only_changes(estate, changes, user).map(|_| user)
}

/// The changes as they are in the small estate, where they can touch nobody but the user.
pub fn only_changes(estate: &Estate, changes: &[Change], user: UserId) -> Option<Vec<Change>> {
    let own =
        |id: &StatementId| matches!(estate.statement(*id).who.terms.as_slice(), [Term::User(one)] if *one == user);
    changes
        .iter()
        .map(|change| match change {
            Change::Join(Member::User(one), group) if *one == user => Some(Change::Join(Member::User(ONE), *group)),
            Change::Leave(Member::User(one), group) if *one == user => Some(Change::Leave(Member::User(ONE), *group)),
            Change::User(one, cell, value) if *one == user => Some(Change::User(ONE, *cell, value.clone())),
            Change::Except(id, one) if *one == user => Some(Change::Except(*id, ONE)),
            Change::Off(id) | Change::On(id) | Change::Window(id, ..) | Change::Actions(id, _) if own(id) => {
                Some(change.clone())
            }
            Change::Give(statement) => match statement.who.terms.as_slice() {
                [Term::User(one)] if *one == user => {
                    let mut statement = Statement::clone(statement);
                    statement.who.terms = vec![Term::User(ONE)];
                    Some(Change::Give(Arc::new(statement)))
                }
                _ => None,
            },
            _ => None,
        })
        .collect()
}
