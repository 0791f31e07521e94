//! What differs between two outcomes: who gains and who loses what, where.
//!
//! Both estates are evaluated by set engines of their own. Where the second came about by a few
//! changes of the first, only what the changes can touch is evaluated (`suspects`): resources that
//! a changed statement reaches, and from there whatever looks at a decision that did change. Where
//! they are two estates read by themselves, everything is, and users, resources and actions are
//! matched by their ids and names ([`Joint`]).

mod alike;
mod causes;
mod joint;
mod places;
mod radius;
mod suspects;
mod twins;
mod users;
mod wanted;

pub use alike::{Alike, radius_without};
pub use causes::{Cause, Effect, How as CauseHow, effects};
pub use joint::{Axis, Joint};
pub use places::{Fold, How, fold};
pub use radius::{Block, Blocks, Labelled, Radius, Side, blocks, is_labelled, radius};
pub use users::Users;
pub use wanted::sides;

use crate::sets::store::{SetId, SetStore};
use crate::sets::{Decided, RowId, SetEngine, ViewsId};
use bastide_model::*;
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use rayon::prelude::*;
use std::hash::BuildHasher;
use std::sync::Arc;
use suspects::Suspects;
use twins::{Twins, UNKNOWN};

/// The triples whose outcome differs: allowed before and refused after, or the other way round.
pub struct Difference {
    /// How users, resources and actions of both sides are numbered together.
    pub joint: Joint,
    /// The sets of users, by their joint numbers.
    pub sets: SetStore,
    /// The different rows.
    rows: Rows,
    /// Resources on which something differs, by their joint numbers, and their row, in order.
    pub changed: Vec<(u32, u32)>,
}

/// Who gains and who loses one action.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub struct Turn {
    /// The action, by its joint number.
    pub action: u32,
    /// Who may after, and might not before.
    pub gained: Users,
    /// Who might before, and may not after.
    pub lost: Users,
}

impl Difference {
    /// What differs on a resource.
    pub fn turns(&self, row: u32) -> &[Turn] {
        self.rows.get(row)
    }

    /// By row, on how many resources that differs.
    fn times(&self) -> Vec<usize> {
        let mut times = vec![0; self.rows.len()];
        self.changed.iter().for_each(|(_, row)| times[*row as usize] += 1);
        times
    }

    /// The part of it that is about one user, by the joint number.
    pub fn only(&self, user: u32) -> Difference {
        let mut sets = SetStore::new(self.joint.users.len());
        let one = Users::of(sets.of([user as usize]));
        let mut rows = Rows::default();
        let mut row_of: HashMap<u32, u32> = HashMap::new();
        let pick = |users: Users| if users.contains(&self.sets, user as usize) { one } else { Users::NONE };
        let mut changed = Vec::new();
        for &(resource, row) in &self.changed {
            let new = *row_of.entry(row).or_insert_with(|| {
                let turns = self.turns(row).iter().map(|t| Turn { gained: pick(t.gained), lost: pick(t.lost), ..*t });
                rows.keep(&turns.filter(|t| t.gained != t.lost).collect::<Vec<Turn>>())
            });
            if new != 0 {
                changed.push((resource, new));
            }
        }
        Difference { joint: self.joint.clone(), sets, rows, changed }
    }

    /// Whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.changed.is_empty()
    }

    /// Calls `each` for every triple that differs: user, action, resource (joint numbers), and
    /// whether it is gained.
    pub fn triples(&self, mut each: impl FnMut(u32, u32, u32, bool)) {
        for &(resource, row) in &self.changed {
            for turn in self.turns(row) {
                turn.gained.iter(&self.sets).for_each(|user| each(user as u32, turn.action, resource, true));
                turn.lost.iter(&self.sets).for_each(|user| each(user as u32, turn.action, resource, false));
            }
        }
    }
}

/// Rows of turns, each kept once, one after the other. Row 0 has none.
struct Rows {
    turns: Vec<Turn>,
    ends: Vec<usize>,
    hasher: DefaultHashBuilder,
    /// Numbers of rows, found by what is in them, each with what that hashes to: there can be as many as resources.
    known: HashTable<(u64, u32)>,
}

impl Default for Rows {
    fn default() -> Rows {
        Rows { turns: Vec::new(), ends: vec![0], hasher: DefaultHashBuilder::default(), known: HashTable::new() }
    }
}

impl Rows {
    fn len(&self) -> usize {
        self.ends.len()
    }

    fn get(&self, row: u32) -> &[Turn] {
        let row = row as usize;
        &self.turns[row.checked_sub(1).map_or(0, |before| self.ends[before])..self.ends[row]]
    }

    fn keep(&mut self, turns: &[Turn]) -> u32 {
        if turns.is_empty() {
            return 0;
        }
        let hash = self.hasher.hash_one(turns);
        if let Some((_, known)) = self.known.find(hash, |(of, row)| *of == hash && self.get(*row) == turns) {
            return *known;
        }
        let next = self.ends.len() as u32;
        self.turns.extend_from_slice(turns);
        self.ends.push(self.turns.len());
        self.known.insert_unique(hash, (hash, next), |(hash, _)| *hash);
        next
    }
}

/// What differs between the outcomes of two engines. Cost: for estates that are related by changes,
/// what the changes can touch; otherwise every resource once in each.
pub fn difference(before: &mut SetEngine, after: &mut SetEngine) -> Difference {
    // From within the threads that share the work, to share it costs less than from without.
    let (difference, ()) = rayon::join(|| differ(before, after, None), || ());
    difference.expect("nobody stops it")
}

/// As [`difference`], but `go_on` is shown what differs on each resource, and stops it by saying no;
/// then there is nothing.
pub fn difference_while(
    before: &mut SetEngine,
    after: &mut SetEngine,
    mut go_on: impl FnMut(&SetStore, &[Turn]) -> bool,
) -> Option<Difference> {
    differ(before, after, Some(&mut go_on))
}

/// Who is shown what differs on each resource, and says whether to go on.
type GoOn<'g> = Option<&'g mut dyn FnMut(&SetStore, &[Turn]) -> bool>;

fn differ(before: &mut SetEngine, after: &mut SetEngine, mut go_on: GoOn) -> Option<Difference> {
    let joint = Joint::of(before.estate(), after.estate());
    // Another day or session can touch anything, and so can what is taken in the users' favour.
    let same_question = before.moment() == after.moment() && before.is_favourable() == after.is_favourable();
    let related = joint.is_same() && same_question;
    let mut suspects = if related { Suspects::of(before, after) } else { None };
    let mut twins = suspects.is_some().then(|| Twins::of(before, after));
    let mut left = 0..joint.resources.len() as u32;
    let mut walk = Walk::new(joint);
    // Few at first, since it may be that the first that differs is all that is asked for.
    let (first, most) = if go_on.is_some() { (FEW, 1 << 15) } else { (1 << 12, 1 << 17) };
    for steps in std::iter::successors(Some(first), |steps| Some((4 * steps).min(most))) {
        let some = match &mut suspects {
            Some(suspects) => suspects.take(steps),
            None => left.by_ref().take(steps).collect(),
        };
        if some.is_empty() {
            break;
        }
        let found = walk.look_up(before, after, twins.as_mut(), &some);
        let from = walk.difference.changed.len();
        for (resource, found) in some.into_iter().zip(found) {
            walk.take(before, after, resource, found);
        }
        let Walk { difference, .. } = &walk;
        if let Some(suspects) = suspects.as_mut().filter(|suspects| suspects.may_follow()) {
            for (resource, _) in &difference.changed[from..] {
                suspects.changed(ResourceId(*resource), before, after);
            }
        }
        if let Some(go_on) = &mut go_on
            && !difference.changed[from..].iter().all(|(_, row)| go_on(&difference.sets, difference.turns(*row)))
        {
            return None;
        }
    }
    let changed = &mut walk.difference.changed;
    if !changed.is_sorted_by_key(|(resource, _)| *resource) {
        changed.sort_unstable_by_key(|(resource, _)| *resource);
    }
    Some(walk.difference)
}

/// Fewer resources are not worth the way to another core.
const FEW: usize = 1 << 6;
/// The same, where little is to be done for each.
const MANY: usize = 1 << 12;

/// What differs on a resource, as far as it was looked up.
#[derive(Clone, Copy)]
enum Found {
    /// The number of a row.
    Row(u32),
    /// What is compared, by number: it hangs on the owner.
    Owned(u32),
}

/// A resource on one side: the engine that decides, and what it decides there.
struct Seen<'s, 'e> {
    engine: &'s SetEngine<'e>,
    decided: Option<Decided>,
}

impl Seen<'_, '_> {
    /// Whether an owner is decided on as everybody else.
    fn is_alike(&self, action: Option<u32>) -> bool {
        let both = self.decided.and_then(|decided| decided.owner.map(|(_, owners)| (decided.others, owners)));
        both.zip(action).is_none_or(|((others, owners), action)| self.engine.is_same(others, owners, ActionId(action)))
    }

    fn allows(&self, user: Option<u32>, action: Option<u32>) -> bool {
        match (self.decided, user, action) {
            (Some(decided), Some(user), Some(action)) => self.engine.allows(decided, UserId(user), ActionId(action)),
            _ => false,
        }
    }
}

struct Walk {
    difference: Difference,
    /// What was compared, by number.
    compared: Vec<Compared>,
    /// The numbers of what is decided before and after.
    known: HashMap<[ViewsId; 2], u32>,
    /// Whom owning makes a difference to, one after the other for all that was compared.
    owning: Vec<Owning>,
    /// Kept for its room.
    turns: Vec<Turn>,
    /// Sets of each side in joint numbers.
    of_before: HashMap<SetId, SetId>,
    of_after: HashMap<SetId, SetId>,
}

impl Walk {
    fn new(joint: Joint) -> Walk {
        Walk {
            difference: Difference {
                sets: SetStore::new(joint.users.len()),
                joint,
                rows: Rows::default(),
                changed: Vec::new(),
            },
            compared: Vec::new(),
            known: HashMap::new(),
            owning: Vec::new(),
            turns: Vec::new(),
            of_before: HashMap::new(),
            of_after: HashMap::new(),
        }
    }

    /// Of some resources the numbers of what is decided before and after, compared by then.
    fn numbers<'b, 'a>(
        &mut self,
        before: &mut SetEngine<'b>,
        after: &mut SetEngine<'a>,
        twins: Option<&mut Twins<'b, 'a>>,
        resources: &[u32],
    ) -> Vec<u32> {
        let next = self.compared.len() as u32;
        let (mut numbers, fresh) = match twins.filter(|_| resources.len() >= FEW) {
            Some(twins) => twins.look_up(before, after, resources, next),
            None => (vec![UNKNOWN; resources.len()], Vec::new()),
        };
        let others = numbers.iter().zip(resources).filter(|(number, _)| **number == UNKNOWN);
        let asked: Vec<u32> = fresh.iter().copied().chain(others.map(|(_, resource)| *resource)).collect();
        self.evaluate(before, after, &asked);
        for (place, resource) in (next as usize..).zip(fresh) {
            let number = self.number(before, after, resource);
            if place == self.compared.len() {
                // The same was met under another number.
                self.compared.push(self.compared[number as usize]);
            }
        }
        for (number, resource) in numbers.iter_mut().zip(resources).filter(|(number, _)| **number == UNKNOWN) {
            *number = self.number(before, after, *resource);
        }
        numbers
    }

    /// Evaluates some resources, each side on a core of its own.
    fn evaluate(&self, before: &mut SetEngine, after: &mut SetEngine, resources: &[u32]) {
        if resources.len() < FEW {
            return;
        }
        let axis = &self.difference.joint.resources;
        let each = |engine: &mut SetEngine, own: fn(&Axis, u32) -> Option<u32>| {
            resources.iter().filter_map(|resource| own(axis, *resource)).for_each(|resource| {
                engine.views_id(ResourceId(resource));
            });
        };
        rayon::join(|| each(before, Axis::before), || each(after, Axis::after));
    }

    /// The number of what is decided on one resource.
    fn number(&mut self, before: &mut SetEngine, after: &mut SetEngine, resource: u32) -> u32 {
        let axis = &self.difference.joint.resources;
        let (old, new) = (axis.before(resource).map(ResourceId), axis.after(resource).map(ResourceId));
        let views = |engine: &mut SetEngine, r: Option<ResourceId>| r.map_or(ViewsId::NOWHERE, |r| engine.views_id(r));
        let key = [views(before, old), views(after, new)];
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        let rows = [old.map(|r| before.views(r)), new.map(|r| after.views(r))];
        let compared = self.compare((before, rows[0]), (after, rows[1]));
        let number = self.compared.len() as u32;
        self.compared.push(compared);
        self.known.insert(key, number);
        number
    }

    /// Of some resources what differs, as far as it can be looked up.
    fn look_up<'b, 'a>(
        &mut self,
        before: &mut SetEngine<'b>,
        after: &mut SetEngine<'a>,
        twins: Option<&mut Twins<'b, 'a>>,
        resources: &[u32],
    ) -> Vec<Found> {
        let numbers = self.numbers(before, after, twins, resources);
        let catalogs = [&before.estate().catalog, &after.estate().catalog];
        let same_owners = Arc::ptr_eq(catalogs[0], catalogs[1]);
        let Difference { joint, sets, .. } = &self.difference;
        // Estates with the same catalog number resources and users alike.
        let plain = |resource: u32, set: SetId| {
            let owner = || catalogs[1].owner(ResourceId(resource)).flatten();
            set == SetId::NONE || owner().is_none_or(|owner| !sets.contains(set, owner.index()))
        };
        let found = |resource: u32, number: u32| {
            let Compared { base, owned, otherwise, .. } = &self.compared[number as usize];
            let known = !owned || same_owners && joint.is_same() && plain(resource, *otherwise);
            if known { Found::Row(*base) } else { Found::Owned(number) }
        };
        let mut rows = vec![Found::Row(0); resources.len()];
        let shares = rows.par_chunks_mut(MANY).zip(resources.par_chunks(MANY)).zip(numbers.par_chunks(MANY));
        shares.for_each(|((rows, resources), numbers)| {
            for ((row, resource), number) in rows.iter_mut().zip(resources).zip(numbers) {
                *row = found(*resource, *number);
            }
        });
        rows
    }

    /// Takes in what differs on a resource.
    #[inline]
    fn take(&mut self, before: &mut SetEngine, after: &mut SetEngine, resource: u32, found: Found) {
        let row = match found {
            Found::Row(row) => row,
            Found::Owned(number) => self.owned_row(before, after, resource, number),
        };
        if row != 0 {
            self.difference.changed.push((resource, row));
        }
    }

    /// The row of a resource, where an owner may be decided on otherwise than everybody else.
    fn owned_row(&mut self, before: &mut SetEngine, after: &mut SetEngine, resource: u32, number: u32) -> u32 {
        let Compared { base, otherwise, .. } = self.compared[number as usize];
        let catalogs = [&before.estate().catalog, &after.estate().catalog];
        let same_owners = Arc::ptr_eq(catalogs[0], catalogs[1]);
        if same_owners && otherwise == SetId::NONE {
            return base;
        }
        let Joint { resources: axis, users, .. } = &self.difference.joint;
        let (old, new) = (axis.before(resource).map(ResourceId), axis.after(resource).map(ResourceId));
        let owner = |side: usize, r: Option<ResourceId>| r.and_then(|r| catalogs[side].owner(r)?);
        let is = owner(1, new).map(|owner| users.from_after(owner.0));
        let was = if same_owners { is } else { owner(0, old).map(|owner| users.from_before(owner.0)) };
        if was != is {
            let (seen, sees) = (old.map(|r| before.row(r)), new.map(|r| after.row(r)));
            let (before, after) = (Seen { engine: before, decided: seen }, Seen { engine: after, decided: sees });
            return self.with_owners(&before, &after, base, [was, is]);
        }
        match is.filter(|owner| self.difference.sets.contains(otherwise, *owner as usize)) {
            Some(owner) => self.with_owner(number, owner),
            None => base,
        }
    }

    /// What differs for everybody, and for whom owning makes a difference to that.
    fn compare(
        &mut self,
        before: (&SetEngine, Option<(RowId, RowId)>),
        after: (&SetEngine, Option<(RowId, RowId)>),
    ) -> Compared {
        let others = |views: (RowId, RowId)| views.0;
        let owners = |views: (RowId, RowId)| views.1;
        let mut turns = Vec::new();
        let owned = [before.1, after.1].into_iter().flatten().any(|(others, owners)| others != owners);
        let mut otherwise = SetId::NONE;
        let first = self.owning.len();
        for action in 0..self.difference.joint.actions.len() as u32 {
            let [gained, lost] = self.turned(before, after, action, others);
            if gained != lost {
                turns.push(Turn { action, gained: Users::of(gained), lost: Users::of(lost) });
            }
            if owned {
                let own = self.turned(before, after, action, owners);
                if own == [gained, lost] {
                    continue;
                }
                self.owning.push(Owning { action, others: [gained, lost], owners: own });
                let sets = &mut self.difference.sets;
                for (other, own) in [gained, lost].into_iter().zip(own) {
                    for differ in [sets.subtract(other, own), sets.subtract(own, other)] {
                        otherwise = sets.union(otherwise, differ);
                    }
                }
            }
        }
        let owning = (first, self.owning.len());
        Compared { base: self.difference.rows.keep(&turns), owned, otherwise, owning }
    }

    /// Who gains and who loses an action, by one of the two rows of each side.
    fn turned(
        &mut self,
        before: (&SetEngine, Option<(RowId, RowId)>),
        after: (&SetEngine, Option<(RowId, RowId)>),
        action: u32,
        which: impl Fn((RowId, RowId)) -> RowId,
    ) -> [SetId; 2] {
        let allowed = |(engine, views): (&SetEngine, Option<(RowId, RowId)>), action: Option<u32>| {
            views.zip(action).map_or(SetId::NONE, |(views, a)| engine.outcome(which(views), ActionId(a)).allowed)
        };
        let Difference { joint, sets, .. } = &mut self.difference;
        let had = allowed(before, joint.actions.before(action));
        let has = allowed(after, joint.actions.after(action));
        let had = joined(sets, &joint.users, &mut self.of_before, before.0.sets(), had, Axis::from_before);
        let has = joined(sets, &joint.users, &mut self.of_after, after.0.sets(), has, Axis::from_after);
        [sets.subtract(has, had), sets.subtract(had, has)]
    }

    /// The row of a resource of one owner, to whom owning makes a difference, before and after.
    fn with_owner(&mut self, number: u32, owner: u32) -> u32 {
        let Compared { base, owning: (from, to), .. } = self.compared[number as usize];
        let mut turns = std::mem::take(&mut self.turns);
        turns.clear();
        turns.extend_from_slice(self.difference.turns(base));
        for at in from..to {
            let Owning { action, others, owners } = self.owning[at];
            let is = |set: SetId| self.difference.sets.contains(set, owner as usize);
            let [gained, lost] = [0, 1].map(|side| is(others[side]) != is(owners[side]));
            self.turn(&mut turns, action, owner, gained, lost);
        }
        self.kept(turns)
    }

    /// Turns what one user gains and loses of an action into the contrary, where that is so.
    fn turn(&mut self, turns: &mut Vec<Turn>, action: u32, user: u32, gained: bool, lost: bool) {
        if !gained && !lost {
            return;
        }
        let at = turns.iter().position(|turn| turn.action == action).unwrap_or_else(|| {
            turns.push(Turn { action, gained: Users::NONE, lost: Users::NONE });
            turns.len() - 1
        });
        let (turn, sets) = (&mut turns[at], &mut self.difference.sets);
        if gained {
            turn.gained = turn.gained.turned(user, sets);
        }
        if lost {
            turn.lost = turn.lost.turned(user, sets);
        }
    }

    /// The row of some turns, whose room is kept.
    fn kept(&mut self, mut turns: Vec<Turn>) -> u32 {
        let sets = &self.difference.sets;
        turns.retain(|turn| !(turn.gained.is_none(sets) && turn.lost.is_none(sets)));
        turns.sort_unstable_by_key(|turn| turn.action);
        let row = self.difference.rows.keep(&turns);
        self.turns = turns;
        row
    }

    /// The row of a resource whose owner before or after may fare otherwise than everybody else.
    fn with_owners(&mut self, before: &Seen, after: &Seen, base: u32, owners: [Option<u32>; 2]) -> u32 {
        let actions = self.difference.joint.actions.len() as u32;
        let mut turns = std::mem::take(&mut self.turns);
        turns.clear();
        turns.extend_from_slice(self.difference.turns(base));
        for user in owners.into_iter().flatten() {
            for action in 0..actions {
                let joint = &self.difference.joint;
                let (had_action, has_action) = (joint.actions.before(action), joint.actions.after(action));
                if before.is_alike(had_action) && after.is_alike(has_action) {
                    // As everybody else, and so they are counted with them.
                    continue;
                }
                let had = before.allows(joint.users.before(user), had_action);
                let has = after.allows(joint.users.after(user), has_action);
                let turn = turns.iter().find(|turn| turn.action == action);
                let sets = &self.difference.sets;
                let is = |users: fn(&Turn) -> Users| turn.is_some_and(|t| users(t).contains(sets, user as usize));
                let (gained, lost) = (is(|t| t.gained) != (has && !had), is(|t| t.lost) != (had && !has));
                self.turn(&mut turns, action, user, gained, lost);
            }
        }
        self.kept(turns)
    }
}

/// What is known of two pairs of rows.
#[derive(Clone, Copy)]
struct Compared {
    /// What differs, owners looked at as everybody else.
    base: u32,
    /// Whether an owner is decided on otherwise than everybody else, before or after.
    owned: bool,
    /// For whom it makes a difference to what differs to own a resource, before and after.
    otherwise: SetId,
    /// From where to where among all of these the actions stand on which it does.
    owning: (usize, usize),
}

/// Who gains and who loses an action where owning makes a difference.
#[derive(Clone, Copy)]
struct Owning {
    action: u32,
    others: [SetId; 2],
    owners: [SetId; 2],
}

/// A set of one side in joint numbers.
fn joined(
    sets: &mut SetStore,
    users: &Axis,
    known: &mut HashMap<SetId, SetId>,
    of: &SetStore,
    set: SetId,
    number: impl Fn(&Axis, u32) -> u32,
) -> SetId {
    if let Some(known) = known.get(&set) {
        return *known;
    }
    let found = match users {
        Axis::Same(_) => sets.of_words(of.row(set)),
        _ => sets.of(of.users(set).map(|user| number(users, user as u32) as usize)),
    };
    known.insert(set, found);
    found
}
