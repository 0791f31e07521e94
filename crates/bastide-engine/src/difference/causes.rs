//! Which statement brought a difference about: of what is gained the statement that permits it now,
//! of what is lost the one that forbids it now or permitted it before, or that permits what it needs, where that statement is new,
//! gone or worded otherwise. What no statement accounts for comes from elsewhere: memberships, attributes, the tree.

use super::{Axis, Difference, Joint, Turn};
use crate::Snapshot;
use crate::decide::{Reason, targets};
use crate::evaluate::{Decided, Evaluator, Work, put};
use bastide_model::condition::Term;
use bastide_model::groups::Member;
use bastide_model::show;
use bastide_model::statement::Sort;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;

/// How far needs are followed.
const DEEPEST: usize = 8;

/// What brought triples about.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct Cause {
    /// `new`, `gone`, `changed` or `data`.
    pub how: CauseHow,
    /// `rule`, `entry` or `membership`; empty for other data.
    pub sort: String,
    /// The rule's name, what the entry says, or who is in which group; empty for other data.
    pub statement: String,
    /// File and line, in the estate that has it; empty for data.
    pub place: String,
}

/// How a statement changed.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum CauseHow {
    /// It is new.
    New,
    /// It is gone.
    Gone,
    /// It is worded otherwise, or was switched on or off.
    Changed,
    /// No statement: memberships, attributes, the tree.
    Data,
}

/// A cause and what it brought about.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Effect {
    /// The cause.
    pub cause: Cause,
    /// Triples gained.
    pub gained: u64,
    /// Triples lost.
    pub lost: u64,
}

/// Statements of one estate by what they say, whatever their numbers.
struct Wording {
    /// For each statement its words.
    words: Vec<String>,
    rules: HashMap<String, String>,
    all: HashSet<String>,
}

impl Wording {
    fn of(estate: &Estate) -> Wording {
        let words: Vec<String> = estate.statements().iter().map(|s| words(estate, s)).collect();
        let rules = estate.statements().iter().zip(&words).filter(|(s, _)| s.sort == Sort::Rule);
        let rules = rules.map(|(s, w)| (s.name.clone(), w.clone())).collect();
        Wording { rules, all: words.iter().cloned().collect(), words }
    }
}

/// Everything a statement says, its place in the files and its reason left aside.
fn words(estate: &Estate, s: &Statement) -> String {
    let kinds: Vec<&str> =
        s.what.kinds.iter().flatten().map(|k| estate.schema().kinds[k.index()].name.as_str()).collect();
    let places: Option<Vec<String>> = s.what.places.as_ref().map(|places| {
        places.iter().map(|p| format!("{} {}", p.reach.word(), estate.catalog().id(p.resource))).collect()
    });
    let actions: Vec<&str> = s.actions.ones().map(|a| estate.schema().actions[a].name.as_str()).collect();
    let condition = |c: &Option<condition::Condition>| c.as_ref().map(|c| show::condition(estate, c));
    let name = if s.sort == Sort::Rule { s.name.as_str() } else { "" };
    format!(
        "{name} {} {} {} {:?} {:?} {places:?} {:?} {:?} {:?} {:?} {}",
        s.modality.words(),
        show::who(estate, &s.who),
        actions.join(","),
        s.what.kinds.as_ref().map(|_| kinds),
        s.layer.map(|l| estate.layers()[l.index().min(estate.layers().len().saturating_sub(1))].clone()),
        condition(&s.what.condition),
        condition(&s.condition),
        s.from,
        s.until,
        s.off
    )
}

/// A cause, whether triples are gained by it, and how many.
type Counted = (Cause, bool, u64);

/// How many triples each cause gave and took.
type Sums = HashMap<Cause, (u64, u64)>;

/// Fewer resources are not worth the way to another core.
const SHARE: usize = 1 << 10;

/// What brought a difference about, the most triples first. Cost: the resources on which something differs, twice, and words
/// for each statement that decides on them; on all cores.
pub fn effects(difference: &Difference) -> Vec<Effect> {
    let estates = difference.sides.map(Snapshot::estate);
    let [old, new] = estates.map(Wording::of);
    let others =
        [Others::of(estates[0], &old, &new, CauseHow::Gone), Others::of(estates[1], &new, &old, CauseHow::New)];
    let share = difference.changed.len().div_ceil(rayon::current_num_threads()).max(SHARE);
    let shares: Vec<Sums> =
        difference.changed.par_chunks(share).map(|changed| sums(difference, &others, changed)).collect();
    let mut by = Sums::new();
    for (cause, (gained, lost)) in shares.into_iter().flatten() {
        let sum = by.entry(cause).or_default();
        *sum = (sum.0 + gained, sum.1 + lost);
    }
    let mut effects: Vec<Effect> =
        by.into_iter().map(|(cause, (gained, lost))| Effect { cause, gained, lost }).collect();
    effects.sort_by(|a, b| (b.gained + b.lost, &a.cause).cmp(&(a.gained + a.lost, &b.cause)));
    effects
}

/// What brought about what differs on some resources.
fn sums(difference: &Difference, others: &[Others; 2], changed: &[(u32, u32)]) -> Sums {
    let [old, new] = [0, 1].map(|side| CauseSide { engine: difference.sides[side].evaluator(), others: &others[side] });
    let mut sides = [old, new];
    let mut by = Sums::new();
    let mut known: HashMap<Box<[u32]>, Vec<Counted>> = HashMap::new();
    for &(resource, row) in changed {
        let axis = &difference.joint.resources;
        let places = [axis.before(resource), axis.after(resource)].map(|own| own.map(ResourceId));
        let [old, new] = &mut sides;
        let works = [places[0].map(|at| old.engine.decide(at)), places[1].map(|at| new.engine.decide(at))];
        let mut at: [Option<OnResource>; 2] = [None, None];
        for (at, (place, work)) in at.iter_mut().zip(places.into_iter().zip(works)) {
            *at = place.zip(work);
        }
        let key = key(difference, &sides, &at, row);
        let found = match key.as_ref().and_then(|key| known.get(key)) {
            Some(found) => found.clone(),
            None => {
                let found = causes(difference, difference.turns(row), &mut sides, &mut at);
                key.map(|key| known.insert(key, found.clone()));
                found
            }
        };
        for (cause, gained, count) in found {
            let sum = by.entry(cause).or_default();
            *(if gained { &mut sum.0 } else { &mut sum.1 }) += count;
        }
        for (side, at) in sides.iter_mut().zip(at) {
            at.into_iter().for_each(|(_, work)| side.engine.done(work));
        }
    }
    by
}

/// The statements of one side that the other side does not have as they are.
struct Others {
    /// By statement; none where the other side has it.
    causes: Vec<Option<Cause>>,
    /// The actions that one of them can decide, on their own or through what they need.
    actions: FixedBitSet,
}

impl Others {
    /// `how`: what a statement is that only this side has.
    fn of(estate: &Estate, own: &Wording, other: &Wording, how: CauseHow) -> Others {
        let all = (0..estate.statements().len()).map(StatementId::new);
        let causes: Vec<Option<Cause>> = all.map(|id| changed(estate, id, own, other, how)).collect();
        let count = estate.schema().actions.len();
        let mut actions = FixedBitSet::with_capacity(count);
        for (statement, _) in estate.statements().iter().zip(&causes).filter(|(_, cause)| cause.is_some()) {
            actions.extend(ActionId::all(count).filter(|a| statement.speaks_of(*a)).map(|action| action.index()));
        }
        loop {
            let before = actions.count_ones(..);
            for (at, action) in estate.schema().actions.iter().enumerate() {
                if action.needs.iter().any(|need| actions.contains(need.action.index())) {
                    actions.insert(at);
                }
            }
            if actions.count_ones(..) == before {
                return Others { causes, actions };
            }
        }
    }

    fn cause(&self, id: Option<StatementId>) -> Option<&Cause> {
        id.and_then(|id| self.causes[id.index()].as_ref())
    }
}

/// One side of a difference.
struct CauseSide<'w, 's> {
    engine: Evaluator<'s>,
    others: &'w Others,
}

/// A resource that is decided on.
type OnResource<'s> = (ResourceId, Work<'s>);

/// What the causes on a resource hang on: the row, and on both sides the outcomes and what is needed for them. None where users
/// are decided one by one.
fn key(difference: &Difference, sides: &[CauseSide; 2], at: &[Option<OnResource>; 2], row: u32) -> Option<Box<[u32]>> {
    let mut key = vec![row];
    for turn in difference.turns(row) {
        let joint = &difference.joint.actions;
        for (side, own) in [joint.before(turn.action), joint.after(turn.action)].into_iter().enumerate() {
            let (Some((resource, work)), Some(action)) = (&at[side], own.map(ActionId)) else {
                key.push(u32::MAX);
                continue;
            };
            hangs_on(sides[side].engine.estate(), work, (action, *resource), 0, &mut key)?;
        }
    }
    Some(key.into())
}

/// The outcome of an action on a resource, and of what it needs there; of what it needs elsewhere, where that is.
fn hangs_on(
    estate: &Estate,
    work: &Work,
    (action, resource): (ActionId, ResourceId),
    depth: usize,
    key: &mut Vec<u32>,
) -> Option<()> {
    let Decided::Base(outcome) = work.decided(action) else { return None };
    if !work.cells(action).is_empty() || depth > DEEPEST {
        return None;
    }
    key.push(outcome.0);
    for need in &estate.schema().actions[action.index()].needs {
        for target in targets(estate, resource, need.target).found {
            if target == resource {
                hangs_on(estate, work, (need.action, resource), depth + 1, key)?;
            } else {
                key.push(target.0);
            }
        }
        // Where the next need's begin.
        key.push(u32::MAX);
    }
    Some(())
}

/// Users by joint numbers, by the statement that decides on them.
type UsersByStatement = Vec<(Option<StatementId>, FixedBitSet)>;

fn causes<'s>(
    difference: &Difference,
    turns: &[Turn],
    sides: &mut [CauseSide<'_, 's>; 2],
    at: &mut [Option<OnResource<'s>>; 2],
) -> Vec<Counted> {
    let joint = &difference.joint;
    let mut counts: HashMap<(Cause, bool), u64> = HashMap::new();
    for turn in turns {
        let actions =
            [joint.actions.before(turn.action), joint.actions.after(turn.action)].map(|own| own.map(ActionId));
        for (users, gained) in [(turn.gained, true), (turn.lost, false)] {
            if difference.count(users) == 0 {
                continue;
            }
            let mut left =
                difference.kept(users).unwrap_or_else(|| allowed_on(joint, sides, at, actions, usize::from(gained)));
            let mut count = |cause: &Cause, own: &FixedBitSet, left: &mut FixedBitSet| {
                let number = own.intersection_count(left) as u64;
                if number > 0 {
                    *counts.entry((cause.clone(), gained)).or_default() += number;
                    left.difference_with(own);
                }
            };
            // What decides now speaks first, then what decided before.
            let mut by: [UsersByStatement; 2] = Default::default();
            for side in [1, 0] {
                let (Some(action), Some((resource, work))) = (actions[side], &mut at[side]) else { continue };
                let speaks = sides[side].others.actions.contains(action.index());
                // Where groups differ, whoever decides may mean somebody by a membership.
                if left.is_clear() || (!speaks && difference.same_groups) {
                    continue;
                }
                let own = from_joint(joint, side, &left);
                let found = deciders(&mut sides[side].engine, work, (action, *resource), own, 0);
                by[side] = found.into_iter().map(|(by, own)| (by, to_joint(joint, side, own))).collect();
                for (id, own) in &by[side] {
                    if let Some(cause) = sides[side].others.cause(*id) {
                        count(cause, own, &mut left);
                    }
                }
            }
            // Then what permits what is needed, on the side on which it is allowed.
            let side = usize::from(gained);
            if let (Some(action), Some((resource, _)), false) = (actions[side], &at[side], left.is_clear()) {
                let own = from_joint(joint, side, &left);
                for (id, own) in needed(&mut sides[side], (action, *resource), own, 0) {
                    if let Some(cause) = sides[side].others.cause(id) {
                        count(cause, &to_joint(joint, side, own), &mut left);
                    }
                }
            }
            // Then a membership by which the one or the other means the user.
            let [old, new] = sides.each_ref().map(|side| side.engine.estate());
            for (side, from, other, how) in [(1, new, old, CauseHow::New), (0, old, new, CauseHow::Gone)] {
                for (id, own) in by[side].iter().filter(|_| !difference.same_groups) {
                    let Some(id) = id else { continue };
                    for user in own.intersection(&left).collect::<Vec<usize>>() {
                        let number = user as u32;
                        let number = if side == 0 { joint.users.before(number) } else { joint.users.after(number) };
                        if let Some(cause) = number.and_then(|number| membership(from, *id, number, other, how)) {
                            *counts.entry((cause, gained)).or_default() += 1;
                            left.set(user, false);
                        }
                    }
                }
            }
            let rest = left.count_ones(..) as u64;
            if rest > 0 {
                let data =
                    Cause { how: CauseHow::Data, sort: String::new(), statement: String::new(), place: String::new() };
                *counts.entry((data, gained)).or_default() += rest;
            }
        }
    }
    counts.into_iter().map(|((cause, gained), count)| (cause, gained, count)).collect()
}

/// For whom an action is allowed on one side and not on the other, by joint numbers.
fn allowed_on<'s>(
    joint: &Joint,
    sides: &mut [CauseSide<'_, 's>; 2],
    at: &[Option<OnResource<'s>>; 2],
    actions: [Option<ActionId>; 2],
    side: usize,
) -> FixedBitSet {
    let [not, mut found] = [1 - side, side].map(|side| {
        let engine = &mut sides[side].engine;
        let mut own = engine.nobody();
        if let (Some(action), Some((_, work))) = (actions[side], &at[side]) {
            engine.allowed_users(work, action, &mut own);
        }
        to_joint(joint, side, own)
    });
    found.difference_with(&not);
    found
}

/// Users of one side by its own numbers.
fn from_joint(joint: &Joint, side: usize, users: &FixedBitSet) -> FixedBitSet {
    if matches!(joint.users, Axis::Same(_)) {
        return users.clone();
    }
    let number = |user: usize| if side == 0 { joint.users.before(user as u32) } else { joint.users.after(user as u32) };
    let numbers: Vec<usize> = users.ones().filter_map(number).map(|user| user as usize).collect();
    let mut found = FixedBitSet::with_capacity(joint.users.len());
    found.extend(numbers);
    found
}

/// Users of one side by joint numbers.
fn to_joint(joint: &Joint, side: usize, own: FixedBitSet) -> FixedBitSet {
    if matches!(joint.users, Axis::Same(_)) {
        return own;
    }
    let number = |user: u32| if side == 0 { joint.users.from_before(user) } else { joint.users.from_after(user) };
    let mut found = FixedBitSet::with_capacity(joint.users.len());
    found.extend(own.ones().map(|user| number(user as u32) as usize));
    found
}

/// Whether two estates have the same groups with the same members, numbered alike.
pub(super) fn same_groups(old: &Estate, new: &Estate, joint: &Joint) -> bool {
    let (a, b) = (old.groups(), new.groups());
    let members = |groups: &groups::Groups, group: GroupId| -> Vec<Member> {
        groups.members(group).iter().map(|membership| membership.member).collect()
    };
    std::ptr::eq(a, b)
        || matches!(joint.users, Axis::Same(_))
            && a.len() == b.len()
            && a.all().all(|group| a.id(group) == b.id(group) && members(a, group) == members(b, group))
}

/// The membership by which a statement of one estate means a user, where the other estate lacks it: the first such on the
/// chain from the user to the group that the statement names.
fn membership(estate: &Estate, id: StatementId, user: u32, other: &Estate, how: CauseHow) -> Option<Cause> {
    let (groups, user) = (estate.groups(), UserId(user));
    let id_of = |member: Member| match member {
        Member::User(user) => estate.people().id(user),
        Member::Group(group) => groups.id(group),
    };
    let there = |member: Member| match member {
        Member::User(user) => other.people().find(estate.people().id(user)).map(Member::User),
        Member::Group(group) => other.groups().find(groups.id(group)).map(Member::Group),
    };
    let known = |member: Member, group: GroupId| {
        let (member, group) = (there(member), other.groups().find(groups.id(group)));
        member.zip(group).is_some_and(|(member, group)| other.groups().origin(group, member).is_some())
    };
    for term in &estate.statement(id).who.terms {
        let Term::Members(group) = term else { continue };
        let Some(chain) = groups.chain(user, &[], *group) else { continue };
        let mut member = Member::User(user);
        for group in chain {
            if let Some(origin) = groups.origin(group, member).filter(|_| !known(member, group)) {
                return Some(Cause {
                    how,
                    sort: "membership".to_string(),
                    statement: format!("{} in {}", id_of(member), groups.id(group)),
                    place: estate.place(origin),
                });
            }
            member = Member::Group(group);
        }
    }
    None
}

/// Users by the statement that decides on them; where a need is not met, by the one that decides on the need. Cost: words for each
/// statement that speaks of the action, and the same for what it needs.
fn deciders<'s>(
    engine: &mut Evaluator<'s>,
    work: &mut Work<'s>,
    (action, resource): (ActionId, ResourceId),
    users: FixedBitSet,
    depth: usize,
) -> UsersByStatement {
    let mut found: HashMap<Option<StatementId>, FixedBitSet> = HashMap::new();
    let mut blocked: Vec<(Option<StatementId>, FixedBitSet)> = Vec::new();
    let mut part = engine.nobody();
    let mut left = users.clone();
    engine.each_part(work, action, |reason, by, words| {
        if words.iter().zip(left.as_slice()).all(|(words, left)| *words as usize & left == 0) {
            return;
        }
        put(words, &mut part);
        part.intersect_with(&left);
        left.difference_with(&part);
        if reason == Reason::Blocked && depth <= DEEPEST {
            blocked.push((by, part.clone()));
        } else {
            found.entry(by).and_modify(|all| all.union_with(&part)).or_insert_with(|| part.clone());
        }
    });
    let estate = engine.estate();
    let mut allowed = engine.nobody();
    for (by, mut users) in blocked {
        let needs = estate.schema().actions[action.index()].needs.iter();
        let asked = needs.flat_map(|need| {
            targets(estate, resource, need.target).found.into_iter().map(move |target| (need.action, target))
        });
        for (action, target) in asked {
            if users.is_clear() {
                break;
            }
            let mut there = engine.look(target);
            engine.decide_on(&mut there, action);
            engine.allowed_users(&there, action, &mut allowed);
            let mut refused = users.clone();
            refused.difference_with(&allowed);
            if !refused.is_clear() {
                users.intersect_with(&allowed);
                for (by, users) in deciders(engine, &mut there, (action, target), refused, depth + 1) {
                    found.entry(by).and_modify(|all| all.union_with(&users)).or_insert(users);
                }
            }
            engine.done(there);
        }
        if !users.is_clear() {
            found.entry(by).and_modify(|all| all.union_with(&users)).or_insert(users);
        }
    }
    // On whom an action without a meaning is decided.
    if !left.is_clear() {
        found.entry(None).and_modify(|all| all.union_with(&left)).or_insert(left);
    }
    let mut found: Vec<(Option<StatementId>, FixedBitSet)> = found.into_iter().collect();
    found.sort_unstable_by_key(|(by, _)| *by);
    found
}

/// Users to whom what an action needs is permitted, by the statement that permits it, or that permits what that needs: the same
/// user may come several times. Cost: as for [`deciders`], for each need.
fn needed<'s>(
    side: &mut CauseSide<'_, 's>,
    (action, resource): (ActionId, ResourceId),
    users: FixedBitSet,
    depth: usize,
) -> UsersByStatement {
    let mut found = UsersByStatement::new();
    let estate = side.engine.estate();
    if depth > DEEPEST {
        return found;
    }
    for need in &estate.schema().actions[action.index()].needs {
        if !side.others.actions.contains(need.action.index()) {
            continue;
        }
        for target in targets(estate, resource, need.target).found {
            let engine = &mut side.engine;
            let mut there = engine.look(target);
            engine.decide_on(&mut there, need.action);
            found.extend(deciders(engine, &mut there, (need.action, target), users.clone(), depth + 1));
            engine.done(there);
            found.extend(needed(side, (need.action, target), users.clone(), depth + 1));
        }
    }
    found
}

/// The cause where a statement of one estate is not in the other as it is.
fn changed(estate: &Estate, id: StatementId, own: &Wording, other: &Wording, how: CauseHow) -> Option<Cause> {
    let statement = estate.statement(id);
    let words = &own.words[id.index()];
    let how = match statement.sort {
        Sort::Rule => match other.rules.get(&statement.name) {
            Some(theirs) if theirs == words => return None,
            Some(_) => CauseHow::Changed,
            None => how,
        },
        Sort::Entry if other.all.contains(words) => return None,
        Sort::Entry => how,
    };
    let (sort, name) = match statement.sort {
        Sort::Rule => ("rule", statement.name.clone()),
        Sort::Entry => ("entry", crate::change::gist(estate, statement)),
    };
    Some(Cause { how, sort: sort.into(), statement: name, place: estate.place(statement.origin) })
}
