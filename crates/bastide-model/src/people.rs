//! Users, in byte order of their ids.

use crate::column::{Column, NONE};
use crate::groups::Groups;
use crate::ids::{GroupId, Origin, SessionAttributeId, UserAttributeId, UserId};
use crate::schema::USER_KINDS;
use crate::strings::{Index, Strings};
use crate::value::Value;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::collections::BTreeMap;
use std::ops::Range;

/// The users of an estate: every list and column has a place for each.
#[derive(Clone, Default)]
pub struct People {
    ids: Strings,
    index: Index,
    names: Strings,
    /// Positions in [`USER_KINDS`].
    kinds: Vec<u8>,
    active: FixedBitSet,
    realms: Column,
    attributes: Vec<Column>,
    sign_ins: BTreeMap<SessionAttributeId, Column>,
    signed_in_at: BTreeMap<(SessionAttributeId, UserId), Origin>,
    origins: Vec<Origin>,
    farewells: Vec<Farewell>,
    /// Of each user the first of the same id; empty where each stands there once.
    firsts: Vec<u32>,
}

/// What users are made of, a value a user in each list.
#[derive(Default)]
pub struct PeopleLists {
    /// Ids, sorted, each once.
    pub ids: Strings,
    /// Names; the id where none is given.
    pub names: Strings,
    /// `person`, `guest` or `service`: positions in [`USER_KINDS`].
    pub kinds: Vec<u8>,
    /// Who is active.
    pub active: FixedBitSet,
    /// Directories they come from.
    pub realms: Column,
    /// One column an attribute, defaults applied.
    pub attributes: Vec<Column>,
    /// Where each one stands in the files.
    pub origins: Vec<Origin>,
    /// What the data says in words of users who by those words are gone, in order of users.
    pub farewells: Vec<Farewell>,
}

/// A user who stands behind all others, whatever the id.
pub struct Newcomer<'n> {
    /// The id, which is the name, too.
    pub id: &'n str,
    /// The kind: a position in [`USER_KINDS`].
    pub kind: u8,
    /// The directory.
    pub realm: Option<&'n Value>,
    /// Values of attributes.
    pub values: &'n [(UserAttributeId, Value)],
    /// Where it stands in the files.
    pub origin: Origin,
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
    /// Users, of whom nothing is known of sign-ins yet.
    ///
    /// # Panics
    /// Ids are not in order, or a list is longer or shorter than that of the ids.
    pub fn new(lists: PeopleLists) -> People {
        let ids = &lists.ids;
        assert!(ids.iter().zip(ids.iter().skip(1)).all(|(a, b)| a < b), "ids are sorted, each once");
        People::of(lists)
    }

    fn of(lists: PeopleLists) -> People {
        let PeopleLists { ids, names, kinds, mut active, realms, attributes, origins, farewells } = lists;
        let count = ids.len();
        assert!([names.len(), kinds.len(), origins.len()] == [count; 3], "lists have a place for each user");
        active.grow(count);
        let (sign_ins, signed_in_at) = (BTreeMap::new(), BTreeMap::new());
        let index = Index::of(&ids).0;
        let firsts = Vec::new();
        People {
            ids,
            index,
            names,
            kinds,
            active,
            realms,
            attributes,
            sign_ins,
            signed_in_at,
            origins,
            farewells,
            firsts,
        }
    }

    /// These users alone, in the same order; what the data says of who is gone is left out. Who is listed several times stands
    /// there as often.
    pub fn restricted_to(&self, users: &[UserId]) -> People {
        let count = users.len();
        let column = |of: &Column| {
            let mut few = Column::default();
            for (number, user) in users.iter().enumerate() {
                if let Some(value) = of.get(user.index()) {
                    let code = few.intern(value.clone());
                    few.set_code(number, count, Some(code));
                }
            }
            few
        };
        let mut active = FixedBitSet::with_capacity(count);
        users.iter().enumerate().for_each(|(number, user)| active.set(number, self.is_active(*user)));
        let number = |user: &UserId| users.binary_search(user).ok().map(UserId::new);
        let mut firsts: Vec<u32> = (0..count as u32).collect();
        (1..count).filter(|at| users[*at] == users[at - 1]).for_each(|at| firsts[at] = firsts[at - 1]);
        let once = firsts.iter().zip(0..).all(|(first, at)| *first == at);
        let signed_in_at = self.signed_in_at.iter();
        // Newcomers stand behind the others, whatever their ids.
        let few = People::of(PeopleLists {
            ids: users.iter().map(|user| self.id(*user)).collect(),
            names: users.iter().map(|user| self.name(*user)).collect(),
            kinds: users.iter().map(|user| self.kinds[user.index()]).collect(),
            active,
            realms: column(&self.realms),
            attributes: self.attributes.iter().map(column).collect(),
            origins: users.iter().map(|user| self.origin(*user)).collect(),
            farewells: Vec::new(),
        });
        People {
            sign_ins: self.sign_ins.iter().map(|(id, of)| (*id, column(of))).collect(),
            signed_in_at: signed_in_at
                .filter_map(|((id, user), origin)| Some(((*id, number(user)?), *origin)))
                .collect(),
            firsts: if once { Vec::new() } else { firsts },
            ..few
        }
    }

    /// The same users with others behind them, active. What they lack is missing: defaults are the caller's to fill in.
    pub fn with(mut self, newcomers: &[Newcomer]) -> People {
        let rows = self.len() + newcomers.len();
        self.active.grow(rows);
        for newcomer in newcomers {
            let row = self.len();
            self.ids.push(newcomer.id);
            self.names.push(newcomer.id);
            self.kinds.push(newcomer.kind);
            self.origins.push(newcomer.origin);
            self.active.insert(row);
            if !self.firsts.is_empty() {
                self.firsts.push(row as u32);
            }
            let realm = newcomer.realm.map(|realm| self.realms.intern(realm.clone()));
            self.realms.set_code(row, rows, realm);
            for (id, value) in newcomer.values {
                let column = &mut self.attributes[id.index()];
                let code = column.intern(value.clone());
                column.set_code(row, rows, Some(code));
            }
        }
        self.index = Index::of(&self.ids).0;
        self
    }

    /// A user by all the numbers under which the user stands there: one, but where [`People::restricted_to`] listed the user
    /// several times.
    pub fn copies(&self, user: UserId) -> Range<u32> {
        let Some(first) = self.firsts.get(user.index()) else { return user.0..user.0 + 1 };
        let same = self.firsts[*first as usize..].iter().take_while(|of| *of == first);
        *first..*first + same.count() as u32
    }

    /// Gives users what their sign-ins tell: the values, defaults applied, and where each stands in the files.
    pub fn sign_in_by(
        &mut self,
        columns: BTreeMap<SessionAttributeId, Column>,
        at: BTreeMap<(SessionAttributeId, UserId), Origin>,
    ) {
        (self.sign_ins, self.signed_in_at) = (columns, at);
    }

    /// Makes a user active or not.
    pub fn set_active(&mut self, user: UserId, active: bool) {
        self.active.set(user.index(), active);
    }

    /// Makes a user of another kind: a position in [`USER_KINDS`].
    pub fn set_kind(&mut self, user: UserId, kind: u8) {
        self.kinds[user.index()] = kind;
    }

    /// Gives a user another directory, or none.
    pub fn set_realm(&mut self, user: UserId, realm: Option<Value>) {
        let rows = self.len();
        let code = realm.map(|realm| self.realms.intern(realm));
        self.realms.set_code(user.index(), rows, code);
    }

    /// The column of an attribute, to write into.
    pub fn attribute_mut(&mut self, attribute: UserAttributeId) -> &mut Column {
        &mut self.attributes[attribute.index()]
    }

    /// The column of what sign-ins tell of an attribute of the session, to write into.
    pub fn sign_ins_mut(&mut self) -> impl Iterator<Item = (SessionAttributeId, &mut Column)> {
        self.sign_ins.iter_mut().map(|(id, column)| (*id, column))
    }

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
        USER_KINDS[self.kinds[user.index()] as usize]
    }

    /// All ids.
    pub fn ids(&self) -> impl ExactSizeIterator<Item = &str> {
        self.ids.iter()
    }

    /// Who is active, a bit a user.
    pub fn active(&self) -> &FixedBitSet {
        &self.active
    }

    /// Kinds, by user: positions in [`USER_KINDS`].
    pub fn kinds(&self) -> &[u8] {
        &self.kinds
    }

    /// The directories they come from.
    pub fn realms(&self) -> &Column {
        &self.realms
    }

    /// One column an attribute, defaults applied.
    pub fn attributes(&self) -> &[Column] {
        &self.attributes
    }

    /// The column of an attribute.
    pub fn attribute(&self, attribute: UserAttributeId) -> &Column {
        &self.attributes[attribute.index()]
    }

    /// What each one's sign-in tells of an attribute of the session, defaults applied, where any source tells it.
    pub fn sign_in(&self, attribute: SessionAttributeId) -> Option<&Column> {
        self.sign_ins.get(&attribute)
    }

    /// The attributes of the session that sign-ins tell.
    pub fn sign_ins(&self) -> impl Iterator<Item = (SessionAttributeId, &Column)> {
        self.sign_ins.iter().map(|(id, column)| (*id, column))
    }

    /// Where a user's value of such an attribute stands in the files.
    pub fn signed_in_at(&self, attribute: SessionAttributeId, user: UserId) -> Option<Origin> {
        self.signed_in_at.get(&(attribute, user)).copied()
    }

    /// Where a user stands in the files.
    pub fn origin(&self, user: UserId) -> Origin {
        self.origins[user.index()]
    }

    /// What the data says in words of users who by those words are gone, in order of users.
    pub fn farewells(&self) -> &[Farewell] {
        &self.farewells
    }

    /// Whether the user is active.
    pub fn is_active(&self, user: UserId) -> bool {
        self.active.contains(user.index())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn people() -> People {
        let ids = ["b", "d", "f"];
        let mut realms = Column::default();
        let code = realms.intern(Value::Text("north".into()));
        realms.set_code(1, 3, Some(code));
        let origin = Origin { file: bastide_syntax::FileId(0), line: 1 };
        People::new(PeopleLists {
            ids: ids.into_iter().collect(),
            names: ids.into_iter().collect(),
            kinds: vec![0, 1, 0],
            active: [0, 1].into_iter().collect(),
            realms,
            origins: vec![origin; 3],
            ..PeopleLists::default()
        })
    }

    #[test]
    fn newcomers_stand_behind_and_can_be_left_alone() {
        let origin = people().origin(UserId::new(0));
        let newcomer = Newcomer { id: "a", kind: 2, realm: None, values: &[], origin };
        let people = people().with(&[newcomer]);
        assert_eq!((people.len(), people.find("a"), people.find("b")), (4, Some(UserId::new(3)), Some(UserId::new(0))));
        assert!(people.is_active(UserId::new(3)) && people.kind(UserId::new(3)) == USER_KINDS[2]);
        // Ids are not in order any more, and need not be.
        let few = people.restricted_to(&[UserId::new(1), UserId::new(3)]);
        assert_eq!(few.ids().collect::<Vec<_>>(), ["d", "a"]);
        assert_eq!(few.realms().get(0), people.realms().get(1));
        assert_eq!((few.realms().get(1), few.active().count_ones(..)), (None, 2));
        assert_eq!(few.find("d"), Some(UserId::new(0)));
    }

    #[test]
    #[should_panic = "sorted"]
    fn ids_out_of_order_are_refused() {
        let lists = |ids: [&str; 2]| PeopleLists {
            ids: ids.into_iter().collect(),
            names: ids.into_iter().collect(),
            kinds: vec![0; 2],
            origins: vec![people().origin(UserId::new(0)); 2],
            ..PeopleLists::default()
        };
        assert_eq!(People::new(lists(["a", "b"])).len(), 2);
        People::new(lists(["b", "a"]));
    }
}
