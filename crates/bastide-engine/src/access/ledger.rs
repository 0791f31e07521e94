//! Who may do what where, and by what: everybody's access folded into as few lines as say all of it.
//!
//! The catalog is cut into sections by the caller. Within a section, resources of a kind on which
//! everybody's decisions are the same are looked at once; then a line says for one set of users, with one
//! cause, which actions they may do on how many of the resources.

use crate::decide::Reason;
use crate::evaluate::{Decided, Evaluator, Tuning, Work};
use crate::sets::counter::Counter;
use crate::sets::store::SetId;
use crate::snapshot::Snapshot;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{DefaultHashBuilder, HashMap, HashTable};
use std::hash::BuildHasher;
use std::rc::Rc;

/// The lines, and the sets of users they speak of.
#[derive(Debug)]
pub struct Ledger {
    /// The lines: by section, then by kind, the allowed first.
    pub lines: Vec<LedgerLine>,
    /// The sets of users, each once, in ascending order within.
    pub sets: Vec<Vec<UserId>>,
    /// How many resources of each kind a section has.
    pub sizes: HashMap<(u32, KindId), usize>,
}

/// One set of users, one cause.
#[derive(Debug)]
pub struct LedgerLine {
    /// The section, as the caller numbers them.
    pub section: u32,
    /// The kind of the resources.
    pub kind: KindId,
    /// The position of the set of users.
    pub set: usize,
    /// Whether it is said of the owner of each resource alone.
    pub owners: bool,
    /// Whether it is said of them all but whoever owns the resource.
    pub others: bool,
    /// Why.
    pub reason: Reason,
    /// The statement that decides, where one does.
    pub by: Option<StatementId>,
    /// The actions.
    pub actions: Vec<ActionId>,
    /// On how many resources.
    pub resources: usize,
    /// One of them.
    pub resource: ResourceId,
    /// One of the users, for that resource.
    pub user: UserId,
}

/// What a line is about, all but how many resources.
#[derive(Clone, PartialEq, Eq, Hash)]
struct Key {
    section: u32,
    kind: KindId,
    users: Whom,
    reason: Reason,
    by: Option<StatementId>,
    actions: FixedBitSet,
}

#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Whom {
    All(SetId),
    /// All of them but the owner of each resource, who is one of them.
    Others(SetId),
    Owners,
}

/// Why, by what, for whom.
type ReasonedSet = (Reason, Option<StatementId>, SetId);

/// What is gathered under a key.
struct LedgerHeap {
    resources: usize,
    resource: ResourceId,
    /// Where owners are spoken of: them.
    owners: Vec<UserId>,
    /// The owner of the resource, where that is not one of those who are spoken of.
    but: Option<UserId>,
}

/// A line that a row gives: its cause, the users, and the actions.
type Said = (ReasonedSet, FixedBitSet);

/// What a line of single users is about, all but who and how many resources.
type SingleKey = (u32, KindId, Reason, Option<StatementId>, FixedBitSet);

/// Users of whom each has something on a number of resources of its own.
#[derive(Default)]
struct Singles {
    /// Sets, and on how many resources.
    sets: HashMap<SetId, i64>,
    /// Users, and on how many resources more or fewer than these sets say.
    users: HashMap<u32, i64>,
    /// Of a user, a resource on which it is so.
    examples: HashMap<u32, ResourceId>,
    /// Of each set, who was left out wherever it was met so far.
    left_out: HashMap<SetId, Vec<u32>>,
    /// Users of sets that are not kept, and on how many resources.
    counter: Counter,
}

/// The lines of everybody active. With `refused`, also those that say what somebody is refused by a
/// statement or for a need; what nothing permits is never listed. Where users are decided one by one, a line says of several
/// on how many resources each of them may, which need not be the same ones. Cost: every resource once, the
/// different outcomes of each section, and users who are decided one by one.
pub fn ledger(snapshot: &Snapshot, section: &dyn Fn(ResourceId) -> u32, refused: bool) -> Ledger {
    let estate = snapshot.estate();
    ledger_of(&snapshot.retuned(Tuning::of(estate).folding(estate)), section, refused)
}

/// The same of a snapshot that was made for it.
pub fn ledger_of(snapshot: &Snapshot, section: &dyn Fn(ResourceId) -> u32, refused: bool) -> Ledger {
    let estate = snapshot.estate();
    let mut engine = snapshot.evaluator();
    let actions = estate.schema().actions.len();
    let mut sizes: HashMap<(u32, KindId), usize> = HashMap::new();
    let mut numbers: HashMap<Box<[u32]>, u32> = HashMap::new();
    let mut rows: HashMap<(u32, KindId, u32), (usize, ResourceId)> = HashMap::new();
    let mut heaps: HashMap<Key, LedgerHeap> = HashMap::new();
    let mut singles: HashMap<SingleKey, Singles> = HashMap::new();
    let told = |reason: Reason| match reason {
        Reason::Granted | Reason::Assured => true,
        Reason::Capped | Reason::Denied | Reason::Blocked => refused,
        Reason::Inactive | Reason::Silent => false,
    };
    // What the rows say of everybody, each worked out once.
    let mut said: Vec<Rc<[Said]>> = Vec::new();
    let mut key: Vec<u32> = Vec::new();
    for resource in snapshot.until_stopped(estate.catalog().all()) {
        let mut work = engine.decide(resource);
        let (at, kind) = (section(resource), estate.catalog().kind(resource));
        *sizes.entry((at, kind)).or_default() += 1;
        let owner = estate.catalog().owner(resource).flatten().filter(|owner| estate.people().is_active(*owner));
        key.clear();
        let (mut wide, mut users): (bool, Vec<u32>) = (false, Vec::new());
        for action in ActionId::all(actions) {
            key.push(match work.decided(action) {
                Decided::Open => u32::MAX,
                Decided::Base(outcome) => outcome.0,
                Decided::Wide(_) => {
                    wide = true;
                    u32::MAX
                }
            });
            users.extend(work.cells(action).iter().map(|cell| cell.user));
        }
        users.sort_unstable();
        users.dedup();
        if wide {
            // Outcomes that are another one on each resource: every user is counted, action by action.
            for action in ActionId::all(actions) {
                let mut all = no_actions(actions);
                all.insert(action.index());
                engine.each_part(&mut work, action, |reason, by, words| {
                    if told(reason) {
                        let Singles { counter, examples, .. } =
                            singles.entry((at, kind, reason, by, all.clone())).or_default();
                        counter.add(words, |user| {
                            examples.entry(user).or_insert(resource);
                        });
                    }
                });
            }
            engine.done(work);
            continue;
        }
        let row = match numbers.get(&key[..]) {
            Some(known) => *known,
            None => {
                let row = said.len() as u32;
                numbers.insert(key.as_slice().into(), row);
                said.push(says(&engine, &work, &told));
                row
            }
        };
        let lines = Rc::clone(&said[row as usize]);
        if users.is_empty() {
            rows.entry((at, kind, row)).or_insert((0, resource)).0 += 1;
        } else if let Some(owner) = owner.filter(|owner| users == [owner.0]) {
            // As an owner somebody may fare otherwise: those actions are told apart.
            let mut by_cause: Vec<(Reason, Option<StatementId>, FixedBitSet)> = Vec::new();
            let mut apart = no_actions(actions);
            for action in ActionId::all(actions) {
                for cell in work.cells(action) {
                    apart.insert(action.index());
                    if told(cell.reason) {
                        note(&mut by_cause, cell.reason, cell.by, action, actions);
                    }
                }
            }
            for (reason, by, actions) in by_cause {
                let key = Key { section: at, kind, users: Whom::Owners, reason, by, actions };
                let heap = heaps.entry(key).or_insert_with(|| LedgerHeap {
                    resources: 0,
                    resource,
                    owners: Vec::new(),
                    but: None,
                });
                heap.resources += 1;
                heap.owners.push(owner);
            }
            // The others, without the owner where the owner is among them and fares otherwise.
            for ((reason, by, users), actions) in lines.iter() {
                let (mut with, mut without) = (actions.clone(), actions.clone());
                if engine.sets().contains(*users, owner.index()) {
                    with.difference_with(&apart);
                    without.intersect_with(&apart);
                } else {
                    without.clear();
                }
                let alone = engine.sets().count(*users) == 1;
                for (whom, actions) in [(Whom::All(*users), with), (Whom::Others(*users), without)] {
                    let others = matches!(whom, Whom::Others(_));
                    if actions.is_clear() || others && alone {
                        continue;
                    }
                    let key = Key { section: at, kind, users: whom, reason: *reason, by: *by, actions };
                    let but = others.then_some(owner);
                    let heap = heaps.entry(key).or_insert_with(|| LedgerHeap {
                        resources: 0,
                        resource,
                        owners: Vec::new(),
                        but,
                    });
                    heap.resources += 1;
                }
            }
        } else {
            // What the row says of everybody, and of some instead what is decided on them one by one.
            for ((reason, by, set), actions) in lines.iter() {
                let single = singles.entry((at, kind, *reason, *by, actions.clone())).or_default();
                *single.sets.entry(*set).or_default() += 1;
                let Singles { left_out, examples, .. } = single;
                match left_out.get_mut(set) {
                    Some(left_out) => left_out.retain(|user| {
                        let still = users.binary_search(user).is_ok();
                        if !still {
                            examples.entry(*user).or_insert(resource);
                        }
                        still
                    }),
                    None => {
                        let all = engine.sets().users(*set).map(|user| user as u32);
                        let (out, others): (Vec<u32>, Vec<u32>) = all.partition(|u| users.binary_search(u).is_ok());
                        for user in others {
                            examples.entry(user).or_insert(resource);
                        }
                        left_out.insert(*set, out);
                    }
                }
                for user in users.iter().filter(|user| engine.sets().contains(*set, **user as usize)) {
                    *single.users.entry(*user).or_default() -= 1;
                }
            }
            for user in users {
                let mut by_cause: Vec<(Reason, Option<StatementId>, FixedBitSet)> = Vec::new();
                for action in ActionId::all(actions).filter(|a| estate.schema().fits(*a, kind)) {
                    let (reason, by) = engine.cause_in(&mut work, action, UserId(user));
                    if told(reason) {
                        note(&mut by_cause, reason, by, action, actions);
                    }
                }
                for (reason, by, actions) in by_cause {
                    let single = singles.entry((at, kind, reason, by, actions)).or_default();
                    *single.users.entry(user).or_default() += 1;
                    single.examples.entry(user).or_insert(resource);
                }
            }
        }
        engine.done(work);
    }
    for ((at, kind, row), (times, resource)) in rows {
        for ((reason, by, users), actions) in said[row as usize].iter() {
            let key =
                Key { section: at, kind, users: Whom::All(*users), reason: *reason, by: *by, actions: actions.clone() };
            let heap = heaps.entry(key).or_insert_with(|| LedgerHeap {
                resources: 0,
                resource,
                owners: Vec::new(),
                but: None,
            });
            heap.resources += times;
            heap.resource = heap.resource.min(resource);
        }
    }
    let mut sorted: Vec<Line> = heaps.into_iter().map(|(key, heap)| line(key, heap, &engine)).collect();
    for (cause, single) in singles {
        sorted.extend(single.lines(&cause, &engine));
    }
    sorted.sort_by(|(a, _), (b, _)| a.cmp(b));
    let mut sets: Vec<Vec<UserId>> = Vec::new();
    let (mut known, hasher) = (HashTable::new(), DefaultHashBuilder::default());
    let mut keep = |users: Vec<UserId>| {
        let hash = hasher.hash_one(&users);
        if let Some(at) = known.find(hash, |at: &usize| sets[*at] == users) {
            return *at;
        }
        known.insert_unique(hash, sets.len(), |at| hasher.hash_one(&sets[*at]));
        sets.push(users);
        sets.len() - 1
    };
    let lines = sorted.into_iter().map(|(_, (line, users))| LedgerLine { set: keep(users), ..line }).collect();
    Ledger { lines, sets, sizes }
}

/// What lines are in the order of.
type Order = (u32, KindId, bool, Vec<usize>, std::cmp::Reverse<(usize, u64)>, Option<StatementId>, ResourceId, u8);

/// A line, whom it is about, and its place in the order.
type Line = (Order, (LedgerLine, Vec<UserId>));

impl Singles {
    /// The lines: users with as many resources together.
    fn lines(self, (section, kind, reason, by, actions): &SingleKey, engine: &Evaluator) -> Vec<Line> {
        let mut counts = vec![0; engine.estate().people().len()];
        self.users.into_iter().for_each(|(user, count)| counts[user as usize] += count);
        for (set, times) in &self.sets {
            engine.sets().users(*set).for_each(|user| counts[user] += times);
        }
        self.counter.counts().for_each(|(user, count)| counts[user as usize] += count as i64);
        let examples = self.examples;
        let users = counts.into_iter().enumerate().filter(|(_, count)| *count > 0);
        let mut users: Vec<(i64, UserId)> = users.map(|(user, count)| (count, UserId::new(user))).collect();
        users.sort_unstable();
        let told = |same: &[(i64, UserId)]| {
            let (count, users): (i64, Vec<UserId>) = (same[0].0, same.iter().map(|(_, user)| *user).collect());
            let (user, resource) = (users[0], examples[&users[0].0]);
            let line = LedgerLine {
                section: *section,
                kind: *kind,
                set: 0,
                owners: false,
                others: false,
                reason: *reason,
                by: *by,
                actions: actions.ones().map(ActionId::new).collect(),
                resources: count as usize,
                resource,
                user,
            };
            let size = std::cmp::Reverse((count as usize, users.len() as u64));
            let first = actions.ones().collect();
            let order = (*section, *kind, !reason.is_allowed(), first, size, *by, resource, 3);
            (order, (line, users))
        };
        users.chunk_by(|a, b| a.0 == b.0).map(told).collect()
    }
}

/// What a row says of everybody active, one line a cause.
fn says(engine: &Evaluator, work: &Work, told: &dyn Fn(Reason) -> bool) -> Rc<[Said]> {
    let actions = engine.estate().schema().actions.len();
    let mut by_cause: Vec<Said> = Vec::new();
    for action in ActionId::all(actions) {
        let Decided::Base(outcome) = work.decided(action) else { continue };
        for part in engine.outcome(outcome).parts.iter().filter(|part| told(part.reason)) {
            let cause = (part.reason, part.by, part.users);
            match by_cause.iter_mut().find(|(c, _)| *c == cause) {
                Some((_, actions)) => actions.insert(action.index()),
                None => {
                    let mut all = no_actions(actions);
                    all.insert(action.index());
                    by_cause.push((cause, all));
                }
            }
        }
    }
    by_cause.into()
}

/// A list of so many actions with none on it.
fn no_actions(actions: usize) -> FixedBitSet {
    FixedBitSet::with_capacity(actions)
}

fn note(
    list: &mut Vec<(Reason, Option<StatementId>, FixedBitSet)>,
    reason: Reason,
    by: Option<StatementId>,
    action: ActionId,
    actions: usize,
) {
    match list.iter_mut().find(|(r, b, _)| (*r, *b) == (reason, by)) {
        Some((_, _, set)) => set.insert(action.index()),
        None => {
            let mut set = no_actions(actions);
            set.insert(action.index());
            list.push((reason, by, set));
        }
    }
}

/// The line of what was gathered.
fn line(key: Key, heap: LedgerHeap, engine: &Evaluator) -> Line {
    let first: Vec<usize> = key.actions.ones().collect();
    let (set, whom) = match key.users {
        Whom::All(set) => (u64::from(engine.sets().count(set)), 0),
        Whom::Others(set) => (u64::from(engine.sets().count(set)), 1),
        Whom::Owners => (0, 2),
    };
    let refused = !key.reason.is_allowed();
    let size = std::cmp::Reverse((heap.resources, set));
    let order = (key.section, key.kind, refused, first, size, key.by, heap.resource, whom);
    let (users, owners): (Vec<UserId>, bool) = match key.users {
        Whom::All(set) | Whom::Others(set) => (engine.sets().users(set).map(UserId::new).collect(), false),
        Whom::Owners => {
            let mut owners = heap.owners.clone();
            owners.sort_unstable();
            owners.dedup();
            (owners, true)
        }
    };
    // The first resource of a line is the first owner's.
    let other = users.iter().find(|user| heap.but != Some(**user));
    let user = if owners { heap.owners[0] } else { *other.expect("the owner is not alone") };
    let line = LedgerLine {
        section: key.section,
        kind: key.kind,
        set: 0,
        owners,
        others: matches!(key.users, Whom::Others(_)),
        reason: key.reason,
        by: key.by,
        actions: key.actions.ones().map(ActionId::new).collect(),
        resources: heap.resources,
        resource: heap.resource,
        user,
    };
    (order, (line, users))
}
