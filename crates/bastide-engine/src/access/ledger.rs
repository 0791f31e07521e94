//! Who may do what where, and by what: everybody's access folded into as few lines as say all of it.
//!
//! The catalog is cut into sections by the caller. Within a section, resources of a kind on which
//! everybody's decisions are the same are looked at once; then a line says for one set of users, with one
//! cause, which actions they may do on how many of the resources.

use crate::decide::Reason;
use crate::sets::store::SetId;
use crate::sets::{RowId, SetEngine};
use bastide_model::*;
use bastide_syntax::Diagnostic;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;

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
type Cause = (Reason, Option<StatementId>, SetId);

/// What is gathered under a key.
struct Heap {
    resources: usize,
    resource: ResourceId,
    /// Where owners are spoken of: them.
    owners: Vec<UserId>,
    /// The owner of the resource, where that is not one of those who are spoken of.
    but: Option<UserId>,
}

/// A line that a row gives: its cause, the users, and the actions.
type Said = (Cause, FixedBitSet);

/// The lines of everybody active. With `refused`, also those that say what somebody is refused by a
/// statement or for a need; what nothing permits is never listed. Cost: every resource once, and the
/// different outcomes of each section.
///
/// # Errors
/// A decision that depends on itself.
pub fn ledger(
    estate: &Estate,
    moment: &Moment,
    section: &dyn Fn(ResourceId) -> u32,
    refused: bool,
) -> Result<Ledger, Vec<Diagnostic>> {
    let mut engine = SetEngine::new(estate, moment)?;
    let active = engine.set_of(estate.people.active.ones());
    let mut sizes: HashMap<(u32, KindId), usize> = HashMap::new();
    let mut rows: HashMap<(u32, KindId, RowId), (usize, ResourceId)> = HashMap::new();
    let mut heaps: HashMap<Key, Heap> = HashMap::new();
    let told = |reason: Reason| match reason {
        Reason::Granted | Reason::Assured => true,
        Reason::Capped | Reason::Denied | Reason::Blocked => refused,
        Reason::Inactive | Reason::Silent => false,
    };
    // What the rows say of everybody, each worked out once.
    let mut said: HashMap<(KindId, RowId), Vec<Said>> = HashMap::new();
    for resource in estate.catalog.all() {
        let decided = engine.row(resource);
        let (at, kind) = (section(resource), estate.catalog.kind(resource));
        *sizes.entry((at, kind)).or_default() += 1;
        let Some((owner, owners)) = decided.owner.filter(|(o, _)| estate.people.is_active(*o)) else {
            rows.entry((at, kind, decided.others)).or_insert((0, resource)).0 += 1;
            continue;
        };
        let actions = estate.schema.actions.len();
        // As an owner somebody may fare otherwise: those actions are told apart.
        let mut by_cause: Vec<(Reason, Option<StatementId>, FixedBitSet)> = Vec::new();
        let mut apart = no_actions(actions);
        for action in ActionId::all(actions).filter(|a| estate.schema.fits(*a, kind)) {
            let (before, after) =
                (engine.part_of(decided.others, owner, action), engine.part_of(owners, owner, action));
            if (before.reason, before.by) == (after.reason, after.by) {
                continue;
            }
            apart.insert(action.index());
            if told(after.reason) {
                note(&mut by_cause, after.reason, after.by, action, actions);
            }
        }
        for (reason, by, actions) in by_cause {
            let key = Key { section: at, kind, users: Whom::Owners, reason, by, actions };
            let heap =
                heaps.entry(key).or_insert_with(|| Heap { resources: 0, resource, owners: Vec::new(), but: None });
            heap.resources += 1;
            heap.owners.push(owner);
        }
        // The others, without the owner where the owner is among them and fares otherwise.
        for ((reason, by, users), actions) in row_says(&mut said, &mut engine, active, kind, decided.others, &told) {
            let (mut with, mut without) = (actions.clone(), actions);
            if engine.sets().contains(users, owner.index()) {
                with.difference_with(&apart);
                without.intersect_with(&apart);
            } else {
                without.clear();
            }
            let alone = engine.sets().count(users) == 1;
            for (whom, actions) in [(Whom::All(users), with), (Whom::Others(users), without)] {
                let others = matches!(whom, Whom::Others(_));
                if actions.is_clear() || others && alone {
                    continue;
                }
                let key = Key { section: at, kind, users: whom, reason, by, actions };
                let but = others.then_some(owner);
                let heap = heaps.entry(key).or_insert_with(|| Heap { resources: 0, resource, owners: Vec::new(), but });
                heap.resources += 1;
            }
        }
    }
    for ((at, kind, row), (times, resource)) in rows {
        for ((reason, by, users), actions) in row_says(&mut said, &mut engine, active, kind, row, &told) {
            let key = Key { section: at, kind, users: Whom::All(users), reason, by, actions };
            let heap =
                heaps.entry(key).or_insert_with(|| Heap { resources: 0, resource, owners: Vec::new(), but: None });
            heap.resources += times;
            heap.resource = heap.resource.min(resource);
        }
    }
    Ok(Ledger { sizes, ..sorted(heaps, &engine) })
}

/// What a row says of everybody active, one line a cause.
fn row_says(
    known: &mut HashMap<(KindId, RowId), Vec<Said>>,
    engine: &mut SetEngine,
    active: SetId,
    kind: KindId,
    row: RowId,
    told: &dyn Fn(Reason) -> bool,
) -> Vec<Said> {
    if let Some(known) = known.get(&(kind, row)) {
        return known.clone();
    }
    let schema = &engine.estate().schema;
    let mut by_cause: Vec<Said> = Vec::new();
    for action in ActionId::all(schema.actions.len()).filter(|a| schema.fits(*a, kind)) {
        let parts = engine.outcome(row, action).parts.clone();
        for part in parts.iter().filter(|p| told(p.reason)) {
            let users = engine.both(part.users, active);
            if users == SetId::NONE {
                continue;
            }
            let cause = (part.reason, part.by, users);
            match by_cause.iter_mut().find(|(c, _)| *c == cause) {
                Some((_, actions)) => actions.insert(action.index()),
                None => {
                    let mut actions = no_actions(schema.actions.len());
                    actions.insert(action.index());
                    by_cause.push((cause, actions));
                }
            }
        }
    }
    known.insert((kind, row), by_cause.clone());
    by_cause
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

fn sorted(heaps: HashMap<Key, Heap>, engine: &SetEngine) -> Ledger {
    let mut sets: Vec<Vec<UserId>> = Vec::new();
    let mut known: HashMap<Vec<UserId>, usize> = HashMap::new();
    let mut keep = |users: Vec<UserId>| {
        *known.entry(users).or_insert_with_key(|users| {
            sets.push(users.clone());
            sets.len() - 1
        })
    };
    let mut heaps: Vec<(Key, Heap)> = heaps.into_iter().collect();
    heaps.sort_by_cached_key(|(key, heap)| {
        let first: Vec<usize> = key.actions.ones().collect();
        let (set, whom) = match key.users {
            Whom::All(set) => (u64::from(engine.sets().count(set)), 0),
            Whom::Others(set) => (u64::from(engine.sets().count(set)), 1),
            Whom::Owners => (0, 2),
        };
        let refused = !key.reason.is_allowed();
        let size = std::cmp::Reverse((heap.resources, set));
        (key.section, key.kind, refused, first, size, key.by, heap.resource, whom)
    });
    let lines = heaps.into_iter().map(|(key, heap)| {
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
        LedgerLine {
            section: key.section,
            kind: key.kind,
            set: keep(users),
            owners,
            others: matches!(key.users, Whom::Others(_)),
            reason: key.reason,
            by: key.by,
            actions: key.actions.ones().map(ActionId::new).collect(),
            resources: heap.resources,
            resource: heap.resource,
            user,
        }
    });
    let lines: Vec<LedgerLine> = lines.collect();
    Ledger { lines, sets, sizes: HashMap::new() }
}
