//! What goes with one statement, worked out once for all resources that are alike.
//!
//! Two resources are *alike* where every statement but for its number makes the same of both: the same
//! statements reach them from the same depths and apply to the same users, and what their actions ask for
//! elsewhere is alike in turn. Whatever statement goes, the same goes on both; so one of them is evaluated, and
//! counted as often as there are such. What an owner makes different is counted singly.
//!
//! Conditions that look at decisions (`holds`, `holders of`) and layers would make more of two resources than
//! can be told beforehand: an estate that has any gets no such classes, and is compared resource by resource.

use super::Radius;
use crate::sets::store::SetId;
use crate::sets::{RowId, SetEngine};
use bastide_model::condition::{Condition, Test};
use bastide_model::groups::Computed;
use bastide_model::*;
use hashbrown::HashMap;

/// The classes of an estate at a moment.
pub struct Alike {
    /// By class: its resources, in order.
    members: Vec<Vec<ResourceId>>,
    /// By class: the classes whose decisions look at one on it.
    askers: Vec<Vec<u32>>,
    /// By statement: the classes it reaches.
    reached: Vec<Vec<u32>>,
}

/// So far are sources of sources followed.
const DEEPEST: usize = 256;

/// Whether an estate has nothing that stands in the way of classes.
fn is_plain(estate: &Estate) -> bool {
    let holds = |c: &Condition| {
        let mut found = false;
        c.visit(&mut |inner| found |= matches!(inner.test, Test::Holds(..)));
        found
    };
    let statement =
        |s: &Statement| [&s.who.condition, &s.what.condition, &s.condition].into_iter().flatten().any(holds);
    let group = |c: &Computed| match c {
        Computed::Holders(..) => true,
        Computed::Who(who) => who.condition.as_ref().is_some_and(holds),
    };
    estate.layers.is_empty()
        && !estate.statements.iter().any(|s| statement(s))
        && !estate.groups.computed.iter().flatten().any(group)
}

impl Alike {
    /// The classes; none where the estate has what cannot be told beforehand. Cost: every resource once, and
    /// for each the statements that reach it.
    pub fn of(engine: &mut SetEngine) -> Option<Alike> {
        let estate = engine.estate();
        if !is_plain(estate) {
            return None;
        }
        let mut making = Making { of: vec![UNMADE; estate.catalog.len()], known: HashMap::new(), asked: Vec::new() };
        for resource in estate.catalog.all() {
            making.class(engine, resource, 0)?;
        }
        let mut members: Vec<Vec<ResourceId>> = vec![Vec::new(); making.asked.len()];
        for resource in estate.catalog.all() {
            members[making.of[resource.index()] as usize].push(resource);
        }
        let mut askers: Vec<Vec<u32>> = vec![Vec::new(); making.asked.len()];
        for (class, asked) in making.asked.iter().enumerate() {
            asked.iter().for_each(|a| askers[*a as usize].push(class as u32));
        }
        let mut reached: Vec<Vec<u32>> = vec![Vec::new(); estate.statements.len()];
        for (class, members) in members.iter().enumerate() {
            engine.reached(members[0]).for_each(|id| reached[id.index()].push(class as u32));
        }
        Some(Alike { members, askers, reached })
    }

    /// How many classes there are.
    pub fn count(&self) -> usize {
        self.members.len()
    }

    /// What is decided on each class, for others and for owners: what [`radius_without`] compares with.
    pub fn rows(&self, engine: &mut SetEngine) -> Vec<(RowId, RowId)> {
        self.members.iter().map(|members| engine.views(members[0])).collect()
    }
}

const UNMADE: u32 = u32::MAX;
const IN_WORK: u32 = u32::MAX - 1;

struct Making {
    of: Vec<u32>,
    known: HashMap<Box<[u32]>, u32>,
    /// By class: the classes it asks.
    asked: Vec<Vec<u32>>,
}

impl Making {
    fn class(&mut self, engine: &mut SetEngine, resource: ResourceId, depth: usize) -> Option<u32> {
        match self.of[resource.index()] {
            // Sources may lead in a circle.
            IN_WORK => return None,
            UNMADE if depth > DEEPEST => return None,
            UNMADE => {}
            made => return Some(made),
        }
        self.of[resource.index()] = IN_WORK;
        let (mut key, asks) = engine.likeness(resource);
        let mut asked = Vec::new();
        for target in asks {
            match target {
                Some(target) => {
                    let class = self.class(engine, target, depth + 1)?;
                    key.push(class);
                    key.push(engine.owner_that_matters(target).map_or(UNMADE, |owner| owner.0));
                    asked.push(class);
                }
                // What is asked for is not there.
                None => key.push(IN_WORK),
            }
        }
        let next = self.asked.len() as u32;
        let class = *self.known.entry(key.into_boxed_slice()).or_insert(next);
        if class == next {
            asked.sort_unstable();
            asked.dedup();
            self.asked.push(asked);
        }
        self.of[resource.index()] = class;
        Some(class)
    }
}

/// What changes where one statement goes. `after` is a fresh engine without it, `alike` the classes of `before`, and
/// `was` its rows: they are there before its sets are lent.
pub fn radius_without(
    before: &mut SetEngine,
    after: &mut SetEngine,
    id: StatementId,
    alike: &Alike,
    was: &[(RowId, RowId)],
) -> Radius {
    let mut open = alike.reached[id.index()].clone();
    let mut seen = vec![false; alike.count()];
    open.iter().for_each(|class| seen[*class as usize] = true);
    let users = before.estate().people.len().div_ceil(64).max(1);
    let mut counted = Counted {
        radius: Radius::default(),
        users: vec![0; users],
        rows: vec![Box::new([])],
        known: HashMap::new(),
        kept: HashMap::new(),
    };
    let loan = before.lend(after);
    while let Some(class) = open.pop() {
        let members = &alike.members[class as usize];
        if counted.class(before, after, was[class as usize], members) {
            for asker in &alike.askers[class as usize] {
                if !std::mem::replace(&mut seen[*asker as usize], true) {
                    open.push(*asker);
                }
            }
        }
    }
    before.take_back(after, loan);
    counted.radius.users = counted.users.iter().map(|w| w.count_ones() as usize).sum();
    counted.radius
}

/// Who gains and who loses, one pair an action on which anything differs.
type Turns = Box<[(SetId, SetId)]>;

struct Counted {
    radius: Radius,
    /// Users for whom anything differs, as words.
    users: Vec<u64>,
    /// The different turns; the first is nothing.
    rows: Vec<Turns>,
    /// Of two rows that were compared, the turns.
    known: HashMap<(RowId, RowId), u32>,
    kept: HashMap<Turns, u32>,
}

impl Counted {
    /// Counts a class; whether anything differs on any of its resources.
    fn class(
        &mut self,
        before: &SetEngine,
        after: &mut SetEngine,
        was: (RowId, RowId),
        members: &[ResourceId],
    ) -> bool {
        let is = after.views(members[0]);
        let others = self.apart(before, after, was.0, is.0);
        let owners = if was.0 == was.1 && is.0 == is.1 { others } else { self.apart(before, after, was.1, is.1) };
        let (gained, lost) = self.sizes(after, others);
        let catalog = &before.estate().catalog;
        if owners == others {
            if others == 0 {
                return false;
            }
            let times = members.len() as u64;
            self.radius.resources += members.len();
            self.radius.gained += gained * times;
            self.radius.lost += lost * times;
            self.mark_users(after, others);
            return true;
        }
        let touched = self.touched(after, others, owners);
        let (mut any, mut first_owner, mut several) = (false, None, false);
        // Resources whose owner has nothing of it: there it is as for everybody.
        let mut usual = 0;
        for resource in members {
            let owner = catalog.owner(*resource).flatten();
            several |= owner.is_none() || first_owner.is_some_and(|first| Some(first) != owner);
            first_owner = first_owner.or(owner);
            let is_touched = |owner: &UserId| touched[owner.index() / 64] >> (owner.index() % 64) & 1 == 1;
            let Some(owner) = owner.filter(is_touched) else {
                usual += 1;
                continue;
            };
            let (as_other, as_owner) = (self.turns_of(after, others, owner), self.turns_of(after, owners, owner));
            let gains = gained - as_other.0 + as_owner.0;
            let loses = lost - as_other.1 + as_owner.1;
            self.radius.gained += gains;
            self.radius.lost += loses;
            if gains + loses > 0 {
                self.radius.resources += 1;
                any = true;
            }
            if as_owner != (0, 0) {
                self.users[owner.index() / 64] |= 1 << (owner.index() % 64);
            }
        }
        if others != 0 && usual > 0 {
            self.radius.gained += gained * usual as u64;
            self.radius.lost += lost * usual as u64;
            self.radius.resources += usual;
            any = true;
        }
        // Where one user owns them all, what others would have of it does not count for that user.
        let alone = first_owner.filter(|_| !several);
        let known = alone.map(|o| self.users[o.index() / 64] >> (o.index() % 64) & 1 == 1);
        self.mark_users(after, others);
        if let (Some(owner), Some(false)) = (alone, known) {
            self.users[owner.index() / 64] &= !(1 << (owner.index() % 64));
        }
        any
    }

    /// The turns between two rows of users' outcomes; 0 where nothing differs. Both engines' rows speak of the same
    /// sets, those that were lent.
    fn apart(&mut self, before: &SetEngine, after: &mut SetEngine, was: RowId, is: RowId) -> u32 {
        if let Some(row) = self.known.get(&(was, is)) {
            return *row;
        }
        let mut turns = Vec::new();
        for action in ActionId::all(before.estate().schema.actions.len()) {
            let (had, has) = (before.outcome(was, action).allowed, after.outcome(is, action).allowed);
            if had != has {
                turns.push((after.but(has, had), after.but(had, has)));
            }
        }
        let next = self.rows.len() as u32;
        let turns: Turns = turns.into();
        let row = if turns.is_empty() { 0 } else { *self.kept.entry(turns.clone()).or_insert(next) };
        if row == next {
            self.rows.push(turns);
        }
        self.known.insert((was, is), row);
        row
    }

    /// The users for whom anything differs by either of two rows, as words.
    fn touched(&self, engine: &SetEngine, others: u32, owners: u32) -> Vec<u64> {
        let mut words = vec![0; self.users.len()];
        for (gained, lost) in self.rows[others as usize].iter().chain(&self.rows[owners as usize]) {
            for set in [*gained, *lost] {
                words.iter_mut().zip(engine.sets().row(set)).for_each(|(all, word)| *all |= word);
            }
        }
        words
    }

    /// How many gain and how many lose by a row, all actions together.
    fn sizes(&self, engine: &SetEngine, row: u32) -> (u64, u64) {
        let count = |set: SetId| u64::from(engine.sets().count(set));
        self.rows[row as usize].iter().fold((0, 0), |(g, l), (gained, lost)| (g + count(*gained), l + count(*lost)))
    }

    /// How much one user gains and loses by a row.
    fn turns_of(&self, engine: &SetEngine, row: u32, user: UserId) -> (u64, u64) {
        let is = |set: SetId| u64::from(engine.sets().contains(set, user.index()));
        self.rows[row as usize].iter().fold((0, 0), |(g, l), (gained, lost)| (g + is(*gained), l + is(*lost)))
    }

    fn mark_users(&mut self, engine: &SetEngine, row: u32) {
        for (gained, lost) in &self.rows[row as usize] {
            for set in [*gained, *lost] {
                self.users.iter_mut().zip(engine.sets().row(set)).for_each(|(all, word)| *all |= word);
            }
        }
    }
}
