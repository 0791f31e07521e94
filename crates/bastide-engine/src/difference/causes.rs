//! Which statement brought a difference about: of what is gained the statement that permits it now,
//! of what is lost the one that forbids it now or permitted it before, where that statement is new,
//! gone or worded otherwise. What no statement accounts for comes from data: memberships, attributes,
//! the tree.

use super::{Difference, Turn};
use crate::decide::{Reason, targets};
use crate::sets::{Decided, SetEngine};
use crate::show;
use bastide_model::condition::Term;
use bastide_model::groups::Member;
use bastide_model::statement::Sort;
use bastide_model::*;
use hashbrown::{HashMap, HashSet};
use schemars::JsonSchema;
use serde::Serialize;

/// How far needs are followed.
const DEEPEST: usize = 8;

/// What brought triples about.
#[derive(Clone, Serialize, JsonSchema, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub struct Cause {
    /// `new`, `gone`, `changed` or `data`.
    pub how: How,
    /// `rule`, `entry` or `membership`; empty for other data.
    pub sort: String,
    /// The rule's name, what the entry says, or who is in which group; empty for other data.
    pub statement: String,
    /// File and line, in the estate that has it; empty for data.
    pub place: String,
}

/// How a statement changed.
#[derive(Clone, Copy, Serialize, JsonSchema, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
#[serde(rename_all = "lowercase")]
pub enum How {
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
#[derive(Clone, Serialize, JsonSchema, PartialEq, Eq, Debug)]
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
        let words: Vec<String> = estate.statements.iter().map(|s| words(estate, s)).collect();
        let rules = estate.statements.iter().zip(&words).filter(|(s, _)| s.sort == Sort::Rule);
        let rules = rules.map(|(s, w)| (s.name.clone(), w.clone())).collect();
        Wording { rules, all: words.iter().cloned().collect(), words }
    }
}

/// Everything a statement says, its place in the files and its reason left aside.
fn words(estate: &Estate, s: &Statement) -> String {
    let kinds: Vec<&str> =
        s.what.kinds.iter().flatten().map(|k| estate.schema.kinds[k.index()].name.as_str()).collect();
    let places: Option<Vec<String>> =
        s.what.places.as_ref().map(|places| {
            places.iter().map(|p| format!("{} {}", p.reach.word(), estate.catalog.id(p.resource))).collect()
        });
    let actions: Vec<&str> = s.actions.ones().map(|a| estate.schema.actions[a].name.as_str()).collect();
    let condition = |c: &Option<condition::Condition>| c.as_ref().map(|c| show::condition(estate, c));
    let name = if s.sort == Sort::Rule { s.name.as_str() } else { "" };
    format!(
        "{name} {} {} {} {:?} {:?} {places:?} {:?} {:?} {:?} {:?} {}",
        s.modality.words(),
        show::who(estate, &s.who),
        actions.join(","),
        s.what.kinds.as_ref().map(|_| kinds),
        s.layer.map(|l| estate.layers[l.index().min(estate.layers.len().saturating_sub(1))].clone()),
        condition(&s.what.condition),
        condition(&s.condition),
        s.from,
        s.until,
        s.off
    )
}

/// A cause, whether triples are gained by it, and how many.
type Counted = (Cause, bool, u64);

/// What brought a difference about, the most triples first. Both engines must have made the
/// difference.
pub fn effects(difference: &Difference, before: &mut SetEngine, after: &mut SetEngine) -> Vec<Effect> {
    let (old, new) = (Wording::of(before.estate()), Wording::of(after.estate()));
    let mut by: HashMap<Cause, (u64, u64)> = HashMap::new();
    let joint = &difference.joint;
    // The same rows beneath the same rows have the same causes.
    let mut known: HashMap<[Option<Decided>; 4], Vec<Counted>> = HashMap::new();
    for &(resource, row) in &difference.changed {
        let was = joint.resources.before(resource).map(ResourceId);
        let is = joint.resources.after(resource).map(ResourceId);
        let above = |engine: &SetEngine, r: Option<ResourceId>| r.and_then(|r| engine.estate().catalog.parent(r));
        let (was_above, is_above) = (above(before, was), above(after, is));
        let row_of = |engine: &mut SetEngine, r: Option<ResourceId>| r.map(|r| engine.row(r));
        let key = [row_of(before, was), row_of(after, is), row_of(before, was_above), row_of(after, is_above)];
        if !known.contains_key(&key) {
            let found = causes(difference, difference.turns(row), (before, was, &old), (after, is, &new));
            known.insert(key, found);
        }
        for (cause, gained, count) in &known[&key] {
            let sum = by.entry(cause.clone()).or_default();
            *(if *gained { &mut sum.0 } else { &mut sum.1 }) += count;
        }
    }
    let mut effects: Vec<Effect> =
        by.into_iter().map(|(cause, (gained, lost))| Effect { cause, gained, lost }).collect();
    effects.sort_by(|a, b| (b.gained + b.lost, &a.cause).cmp(&(a.gained + a.lost, &b.cause)));
    effects
}

type Side<'s, 'e> = (&'s mut SetEngine<'e>, Option<ResourceId>, &'s Wording);

fn causes(difference: &Difference, turns: &[Turn], mut before: Side, mut after: Side) -> Vec<Counted> {
    let joint = &difference.joint;
    let mut counts: HashMap<(Cause, bool), u64> = HashMap::new();
    for turn in turns {
        for (users, gained) in [(turn.gained, true), (turn.lost, false)] {
            for user in users.iter(&difference.sets) {
                let user = user as u32;
                let was = by(&mut before, joint.users.before(user), joint.actions.before(turn.action));
                let is = by(&mut after, joint.users.after(user), joint.actions.after(turn.action));
                let (old, new) = (before.0.estate(), after.0.estate());
                // What decides now speaks first, then what decided before.
                let cause = is
                    .and_then(|id| changed(new, id, after.2, before.2, How::New))
                    .or_else(|| was.and_then(|id| changed(old, id, before.2, after.2, How::Gone)));
                // Then a membership by which the one or the other means the user.
                let came = || membership(new, is?, joint.users.after(user)?, old, How::New);
                let went = || membership(old, was?, joint.users.before(user)?, new, How::Gone);
                let cause = cause.or_else(came).or_else(went);
                let data =
                    || Cause { how: How::Data, sort: String::new(), statement: String::new(), place: String::new() };
                *counts.entry((cause.unwrap_or_else(data), gained)).or_default() += 1;
            }
        }
    }
    counts.into_iter().map(|((cause, gained), count)| (cause, gained, count)).collect()
}

/// The membership by which a statement of one estate means a user, where the other estate lacks it: the first such on the
/// chain from the user to the group that the statement names.
fn membership(estate: &Estate, id: StatementId, user: u32, other: &Estate, how: How) -> Option<Cause> {
    let (groups, user) = (&estate.groups, UserId(user));
    let id_of = |member: Member| match member {
        Member::User(user) => estate.people.id(user),
        Member::Group(group) => groups.id(group),
    };
    let there = |member: Member| match member {
        Member::User(user) => other.people.find(estate.people.id(user)).map(Member::User),
        Member::Group(group) => other.groups.find(groups.id(group)).map(Member::Group),
    };
    let known = |member: Member, group: GroupId| {
        let (member, group) = (there(member), other.groups.find(groups.id(group)));
        member.zip(group).is_some_and(|(member, group)| other.groups.origin(group, member).is_some())
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

/// The statement that decides on one side.
fn by(side: &mut Side, user: Option<u32>, action: Option<u32>) -> Option<StatementId> {
    decider(side.0, UserId(user?), ActionId(action?), side.1?, 0)
}

/// The statement that decides; where a need is not met, the one that decides on the need.
fn decider(
    engine: &mut SetEngine,
    user: UserId,
    action: ActionId,
    resource: ResourceId,
    depth: usize,
) -> Option<StatementId> {
    let decided = engine.row(resource);
    let part = engine.part(decided, user, action);
    if part.reason != Reason::Blocked || depth > DEEPEST {
        return part.by;
    }
    let estate = engine.estate();
    for need in &estate.schema.actions[action.index()].needs {
        for target in targets(estate, resource, need.target).found {
            let decided = engine.row(target);
            if !engine.allows(decided, user, need.action) {
                return decider(engine, user, need.action, target, depth + 1);
            }
        }
    }
    part.by
}

/// The cause where a statement of one estate is not in the other as it is. `missing`: what it is then.
fn changed(estate: &Estate, id: StatementId, own: &Wording, other: &Wording, missing: How) -> Option<Cause> {
    let statement = estate.statement(id);
    let words = &own.words[id.index()];
    let how = match statement.sort {
        Sort::Rule => match other.rules.get(&statement.name) {
            Some(theirs) if theirs == words => return None,
            Some(_) => How::Changed,
            None => missing,
        },
        Sort::Entry if other.all.contains(words) => return None,
        Sort::Entry => missing,
    };
    let (sort, name) = match statement.sort {
        Sort::Rule => ("rule", statement.name.clone()),
        Sort::Entry => ("entry", crate::change::gist(estate, statement)),
    };
    Some(Cause { how, sort: sort.into(), statement: name, place: estate.place(statement.origin) })
}
