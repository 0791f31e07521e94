//! Users, in byte order of their ids.

use crate::column::{Column, NONE};
use crate::groups::Groups;
use crate::ids::{GroupId, Origin, SessionAttributeId, UserAttributeId, UserId};
use crate::strings::{Index, Strings};
use crate::value::Value;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::collections::BTreeMap;

/// The users of an estate.
#[derive(Clone, Default)]
pub struct People {
    /// Ids, sorted.
    pub ids: Strings,
    /// Finds an id.
    pub index: Index,
    /// Names, as given; the id where none is.
    pub names: Strings,
    /// `person`, `guest` or `service`: positions in [`crate::schema::USER_KINDS`].
    pub kinds: Vec<u8>,
    /// Who is active.
    pub active: FixedBitSet,
    /// Directories they come from.
    pub realms: Column,
    /// One column an attribute, defaults applied.
    pub attributes: Vec<Column>,
    /// The session attributes that each one's sign-in tells, defaults applied.
    pub sign_ins: BTreeMap<SessionAttributeId, Column>,
    /// Where each one's value of such an attribute stands in the files, in order.
    pub signed_in_at: BTreeMap<(SessionAttributeId, UserId), Origin>,
    /// Where each one stands in the files.
    pub origins: Vec<Origin>,
    /// What the data says in words of users who by those words are gone, in order of users.
    pub farewells: Vec<Farewell>,
}

/// Words in the data by which a user is gone, whatever `active` says.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Farewell {
    /// Of whom.
    pub user: UserId,
    /// The field, as the source names it.
    pub field: String,
    /// What stands there.
    pub text: String,
}

impl People {
    /// Fills an attribute with the ids of the groups that each user is in through data, nested ones too. A column that would be
    /// the same stays. Cost: memberships, nested ones counted.
    pub fn hold_groups(&mut self, attribute: UserAttributeId, groups: &Groups) {
        let mut of: Vec<Vec<u32>> = vec![Vec::new(); self.len()];
        for group in groups.all() {
            groups.users(group).ones().for_each(|user| of[user].push(group.0));
        }
        let mut known: HashMap<Vec<u32>, u32> = HashMap::new();
        let mut values = Vec::new();
        let code = |list: Vec<u32>| {
            if list.is_empty() {
                return NONE;
            }
            *known.entry(list).or_insert_with_key(|list| {
                values.push(Value::set(list.iter().map(|group| Value::Text(groups.id(GroupId(*group)).into()))));
                values.len() as u32 - 1
            })
        };
        let codes: Vec<u32> = of.into_iter().map(code).collect();
        let column = Column::new(values, codes);
        if !column.differing(&self.attributes[attribute.index()], self.len()).is_empty() {
            self.attributes[attribute.index()] = column;
        }
    }

    /// How many.
    pub fn len(&self) -> usize {
        self.ids.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.ids.is_empty()
    }

    /// The user of an id.
    pub fn find(&self, id: &str) -> Option<UserId> {
        self.index.find(&self.ids, id).map(UserId)
    }

    /// Every user, in byte order of ids.
    pub fn all(&self) -> impl DoubleEndedIterator<Item = UserId> + ExactSizeIterator + Clone {
        UserId::all(self.len())
    }

    /// The id.
    pub fn id(&self, user: UserId) -> &str {
        self.ids.get(user.index())
    }

    /// The name.
    pub fn name(&self, user: UserId) -> &str {
        self.names.get(user.index())
    }

    /// The kind, as a word.
    pub fn kind(&self, user: UserId) -> &'static str {
        crate::schema::USER_KINDS[self.kinds[user.index()] as usize]
    }

    /// Whether the user is active.
    pub fn is_active(&self, user: UserId) -> bool {
        self.active.contains(user.index())
    }
}
