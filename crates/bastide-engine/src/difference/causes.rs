//! Which statement brought a difference about: of what is gained the statement that permits it now,
//! of what is lost the one that forbids it now or permitted it before, where that statement is new,
//! gone or worded otherwise. What no statement accounts for comes from data: memberships, attributes,
//! the tree.

use super::{Difference, Lister, Turn};
use crate::decide::{Reason, targets};
use crate::evaluate::{Decided, Evaluator, Work};
use crate::show;
use bastide_model::condition::Term;
use bastide_model::groups::Member;
use bastide_model::schema::Target;
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

/// What brought a difference about, the most triples first. Cost: the resources on which something differs, twice, and the
/// users of each different row.
pub fn effects(difference: &Difference) -> Vec<Effect> {
    let [old, new] = difference.sides.map(|side| Wording::of(side.estate()));
    let mut sides = [
        Side { engine: difference.sides[0].evaluator(), own: &old, other: &new, how: How::Gone },
        Side { engine: difference.sides[1].evaluator(), own: &new, other: &old, how: How::New },
    ];
    let mut lister = difference.lister();
    let mut by: HashMap<Cause, (u64, u64)> = HashMap::new();
    let mut known: HashMap<Box<[u32]>, Vec<Counted>> = HashMap::new();
    for &(resource, row) in &difference.changed {
        let axis = &difference.joint.resources;
        let places = [axis.before(resource), axis.after(resource)].map(|own| own.map(ResourceId));
        let [old, new] = &mut sides;
        let works = [places[0].map(|at| old.engine.decide(at)), places[1].map(|at| new.engine.decide(at))];
        let mut at: [Option<At>; 2] = [None, None];
        for (at, (place, work)) in at.iter_mut().zip(places.into_iter().zip(works)) {
            *at = place.zip(work);
        }
        let key = key(difference, &sides, &at, row);
        let found = match key.as_ref().and_then(|key| known.get(key)) {
            Some(found) => found.clone(),
            None => {
                let found = causes(difference, &mut lister, difference.turns(row), &mut sides, &mut at);
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
    let mut effects: Vec<Effect> =
        by.into_iter().map(|(cause, (gained, lost))| Effect { cause, gained, lost }).collect();
    effects.sort_by(|a, b| (b.gained + b.lost, &a.cause).cmp(&(a.gained + a.lost, &b.cause)));
    effects
}

/// One side of a difference.
struct Side<'w, 's> {
    engine: Evaluator<'s>,
    own: &'w Wording,
    other: &'w Wording,
    /// What a statement is that only this side has.
    how: How,
}

/// A resource that is decided on.
type At<'s> = (ResourceId, Work<'s>);

/// What the causes on a resource hang on: the row, the outcomes on both sides, and where needs are not met, what is asked for
/// them. None where users are decided one by one.
fn key(difference: &Difference, sides: &[Side; 2], at: &[Option<At>; 2], row: u32) -> Option<Box<[u32]>> {
    let mut key = vec![row];
    for turn in difference.turns(row) {
        let joint = &difference.joint.actions;
        for (side, own) in [joint.before(turn.action), joint.after(turn.action)].into_iter().enumerate() {
            let (Some((resource, work)), Some(action)) = (&at[side], own.map(ActionId)) else {
                key.push(u32::MAX);
                continue;
            };
            let Decided::Base(outcome) = work.decided(action) else { return None };
            if !work.cells(action).is_empty() {
                return None;
            }
            key.push(outcome.0);
            let (engine, estate) = (&sides[side].engine, sides[side].engine.estate());
            if engine.outcome(outcome).parts.iter().any(|part| part.reason == Reason::Blocked) {
                let needs = &estate.schema.actions[action.index()].needs;
                if needs.iter().any(|need| !matches!(need.target, Target::Own | Target::Parent)) {
                    return None;
                }
                key.push(estate.catalog.parent(*resource).map_or(u32::MAX, |parent| parent.0));
            }
        }
    }
    Some(key.into())
}

fn causes<'s>(
    difference: &Difference,
    lister: &mut Lister,
    turns: &[Turn],
    sides: &mut [Side<'_, 's>; 2],
    at: &mut [Option<At<'s>>; 2],
) -> Vec<Counted> {
    let joint = &difference.joint;
    let mut counts: HashMap<(Cause, bool), u64> = HashMap::new();
    // By what decides on both sides, what that comes to; memberships aside.
    let mut known: HashMap<[Option<StatementId>; 2], Option<Cause>> = HashMap::new();
    for turn in turns {
        let actions = [joint.actions.before(turn.action), joint.actions.after(turn.action)];
        for (users, gained) in [(turn.gained, true), (turn.lost, false)] {
            for user in lister.users(users) {
                let numbers = [joint.users.before(user), joint.users.after(user)];
                let mut by = [None, None];
                for side in 0..2 {
                    if let (Some(user), Some(action), Some((resource, work))) =
                        (numbers[side], actions[side], &mut at[side])
                    {
                        let engine = &mut sides[side].engine;
                        by[side] = decider(engine, work, UserId(user), ActionId(action), *resource, 0);
                    }
                }
                let [old, new] = sides.each_ref().map(|side| side.engine.estate());
                // What decides now speaks first, then what decided before.
                let cause = known.entry(by).or_insert_with(|| {
                    let cause = |side: usize| changed(&sides[side], by[side]?);
                    cause(1).or_else(|| cause(0))
                });
                // Then a membership by which the one or the other means the user.
                let came = || membership(new, by[1]?, numbers[1]?, old, How::New);
                let went = || membership(old, by[0]?, numbers[0]?, new, How::Gone);
                let cause = cause.clone().or_else(came).or_else(went);
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

/// The statement that decides; where a need is not met, the one that decides on the need.
fn decider<'s>(
    engine: &mut Evaluator<'s>,
    work: &mut Work<'s>,
    user: UserId,
    action: ActionId,
    resource: ResourceId,
    depth: usize,
) -> Option<StatementId> {
    let (reason, by) = engine.cause_in(work, action, user);
    if reason != Reason::Blocked || depth > DEEPEST {
        return by;
    }
    let estate = engine.estate();
    for need in &estate.schema.actions[action.index()].needs {
        for target in targets(estate, resource, need.target).found {
            let mut there = engine.look(target);
            engine.decide_on(&mut there, need.action);
            let refused = !engine.allows_in(&there, need.action, UserId(user.0));
            let found = refused.then(|| decider(engine, &mut there, user, need.action, target, depth + 1));
            engine.done(there);
            if let Some(found) = found {
                return found;
            }
        }
    }
    by
}

/// The cause where a statement of one estate is not in the other as it is.
fn changed(side: &Side, id: StatementId) -> Option<Cause> {
    let estate = side.engine.estate();
    let statement = estate.statement(id);
    let words = &side.own.words[id.index()];
    let how = match statement.sort {
        Sort::Rule => match side.other.rules.get(&statement.name) {
            Some(theirs) if theirs == words => return None,
            Some(_) => How::Changed,
            None => side.how,
        },
        Sort::Entry if side.other.all.contains(words) => return None,
        Sort::Entry => side.how,
    };
    let (sort, name) = match statement.sort {
        Sort::Rule => ("rule", statement.name.clone()),
        Sort::Entry => ("entry", crate::change::gist(estate, statement)),
    };
    Some(Cause { how, sort: sort.into(), statement: name, place: estate.place(statement.origin) })
}
