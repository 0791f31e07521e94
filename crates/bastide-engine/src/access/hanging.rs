//! Decisions that hang on a missing value, by the attribute that is missing.
//!
//! A decision hangs on an unknown where it would be allowed if every missing value were settled in the user's favour. Of
//! such a triple, the attributes are named that are missing in a comparison which is unknown there, of a statement that is
//! itself left open there and speaks of the action; so a guarded comparison (`... is set and`) is not blamed.
//!
//! Cost: an evaluation of everything with missing values settled either way, then for each resource on which these differ
//! the statements that reach it and look up something that is missing somewhere.

use crate::difference::{Turn, difference};
use crate::evaluate::Probe;
use crate::snapshot::Snapshot;
use bastide_model::column::Column;
use bastide_model::condition::*;
use bastide_model::groups::Computed;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use std::collections::{BTreeMap, BTreeSet};

/// An attribute on whose missing value decisions hang.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Hanging {
    /// As it is written in a condition: `user.age`, `resource.due`.
    pub attribute: String,
    /// The users who lack it; none where it is one of resources.
    pub users: Vec<UserId>,
    /// The resources that lack it; none where it is one of users.
    pub resources: Vec<ResourceId>,
    /// The statements that ask for it.
    pub statements: Vec<StatementId>,
    /// A decision that hangs on it.
    pub example: (UserId, ActionId, ResourceId),
}

/// A comparison that can be unknown, and what it looks up that is missing somewhere.
struct Leaf<'e> {
    condition: &'e Condition,
    lookups: Vec<Lookup>,
}

#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Lookup {
    Realm,
    User(usize),
    State(At),
    Resource(At, usize),
}

/// As [`Step`], in an order.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum At {
    Own,
    Parent,
    Kind(usize),
}

#[derive(Default)]
struct Lacking {
    users: FixedBitSet,
    resources: BTreeSet<ResourceId>,
    statements: BTreeSet<StatementId>,
    example: Option<(UserId, ActionId, ResourceId)>,
}

/// The attributes on whose missing values decisions hang, by name.
pub fn hanging(snapshot: &Snapshot) -> Vec<Hanging> {
    let estate = snapshot.estate();
    let leaves: Vec<Vec<Leaf>> = estate.statements.iter().map(|s| leaves(estate, s)).collect();
    if leaves.iter().all(Vec::is_empty) {
        return Vec::new();
    }
    // Of each comparison: for whom it is true, and for whom it is not false.
    let mut first = Vec::with_capacity(leaves.len());
    let mut probes = Vec::new();
    for leaf in &leaves {
        first.push(probes.len());
        probes.extend(leaf.iter().flat_map(|leaf| [false, true].map(|open| Probe::Condition(leaf.condition, open))));
    }
    let (usual, favourable) = (snapshot.asking(&probes), snapshot.in_favour());
    let difference = difference(&usual, &favourable, None);
    let (mut lister, mut engines) = (difference.lister(), [usual.evaluator(), favourable.evaluator()]);
    let mut found: BTreeMap<Lookup, Lacking> = BTreeMap::new();
    let mut lack: HashMap<Lookup, FixedBitSet> = HashMap::new();
    let [mut open, mut other, mut unknown] = std::array::from_fn(|_| engines[0].nobody());
    for &(resource, row) in &difference.changed {
        let resource = ResourceId(resource);
        let mut works = engines.each_mut().map(|engine| engine.look(resource));
        let rules = [0, 1].map(|side| {
            let rules = engines[side].rules(&works[side]).into_iter();
            rules.map(|rule| (engines[side].statement_of(rule), rule)).collect::<BTreeMap<StatementId, u32>>()
        });
        let reached: BTreeSet<StatementId> = rules.iter().flat_map(|rules| rules.keys().copied()).collect();
        let reached: Vec<StatementId> = reached.into_iter().filter(|id| !leaves[id.index()].is_empty()).collect();
        for Turn { action, gained, .. } in difference.turns(row) {
            let action = ActionId(*action);
            let mut concerned = engines[0].nobody();
            lister.users(*gained).into_iter().for_each(|user| concerned.insert(user as usize));
            for id in reached.iter().filter(|id| estate.statement(**id).speaks_of(action)) {
                // A missing value taken the other way makes it apply to others: to those it is left open.
                open.clear();
                for side in 0..2 {
                    if let Some(rule) = rules[side].get(id) {
                        engines[side].applies_to(&mut works[side], *rule, &mut other);
                        open.symmetric_difference_with(&other);
                    }
                }
                open.intersect_with(&concerned);
                if open.is_clear() {
                    continue;
                }
                for (at, leaf) in leaves[id.index()].iter().enumerate() {
                    let probe = first[id.index()] + 2 * at;
                    engines[0].probe(&mut works[0], probe + 1, &mut unknown);
                    engines[0].probe(&mut works[0], probe, &mut other);
                    unknown.difference_with(&other);
                    unknown.intersect_with(&open);
                    if unknown.is_clear() {
                        continue;
                    }
                    for lookup in &leaf.lookups {
                        let of_user = matches!(lookup, Lookup::Realm | Lookup::User(_));
                        let (mut whom, mut place) = (unknown.clone(), None);
                        match lookup {
                            Lookup::Realm | Lookup::User(_) => whom.intersect_with(
                                lack.entry(*lookup).or_insert_with(|| users_without(estate, *lookup).collect()),
                            ),
                            Lookup::State(at) => place = place_without(estate, &estate.catalog.states, *at, resource),
                            Lookup::Resource(at, id) => {
                                place = place_without(estate, &estate.catalog.attributes[*id], *at, resource);
                            }
                        }
                        let Some(user) = whom.minimum().filter(|_| of_user || place.is_some()) else { continue };
                        let lacking = found.entry(*lookup).or_default();
                        lacking.statements.insert(*id);
                        lacking.resources.extend(place);
                        lacking.example = lacking.example.or(Some((UserId::new(user), action, resource)));
                        if of_user {
                            lacking.users.grow(estate.people.len());
                            lacking.users.union_with(&whom);
                        }
                    }
                }
            }
        }
        for (engine, work) in engines.iter_mut().zip(works) {
            engine.done(work);
        }
    }
    let told = |(lookup, lacking): (Lookup, Lacking)| {
        Some(Hanging {
            attribute: name(estate, lookup),
            users: lacking.users.ones().map(UserId::new).collect(),
            resources: lacking.resources.into_iter().collect(),
            statements: lacking.statements.into_iter().collect(),
            example: lacking.example?,
        })
    };
    found.into_iter().filter_map(told).collect()
}

/// The comparisons of a statement, and of the computed groups that it names, that look up something that is missing
/// somewhere.
fn leaves<'e>(estate: &'e Estate, statement: &'e Statement) -> Vec<Leaf<'e>> {
    let mut conditions: Vec<&Condition> = statement.conditions().collect();
    let mut groups: Vec<GroupId> = Vec::new();
    let mut open: Vec<GroupId> = statement.who.terms.iter().filter_map(members).collect();
    let mut leaves = Vec::new();
    loop {
        for condition in std::mem::take(&mut conditions) {
            open.extend(condition.groups());
            condition.visit(&mut |inner| {
                let lookups: Vec<Lookup> =
                    inner.test.operands().into_iter().filter_map(|o| lookup(estate, o)).collect();
                if can_be_unknown(&inner.test) && !lookups.is_empty() {
                    leaves.push(Leaf { condition: inner, lookups });
                }
            });
        }
        let Some(group) = open.pop() else { return leaves };
        for inner in estate.groups.through(group) {
            if groups.contains(inner) {
                continue;
            }
            groups.push(*inner);
            if let Some(Computed::Who(who)) = &estate.groups.computed[inner.index()] {
                conditions.extend(&who.condition);
                open.extend(who.terms.iter().filter_map(members));
            }
        }
    }
}

fn members(term: &Term) -> Option<GroupId> {
    if let Term::Members(group) = term { Some(*group) } else { None }
}

/// Whether a missing value leaves it open: whether there is one never is.
fn can_be_unknown(test: &Test) -> bool {
    match test {
        Test::Or(_) | Test::And(_) | Test::Not(_) | Test::Holds(..) | Test::MemberOf(_) => false,
        Test::IsSet(_) | Test::IsMissing(_) | Test::IsEmpty(_) | Test::IsOwner => false,
        Test::Flag(_) | Test::Like { .. } | Test::Compare { .. } | Test::Sets { .. } => true,
    }
}

/// What an operand looks up, where that is missing for anybody or anything.
fn lookup(estate: &Estate, operand: &Operand) -> Option<Lookup> {
    let lacks = |column: &Column, rows: usize| (0..rows).any(|row| column.code(row).is_none());
    let (users, resources) = (estate.people.len(), estate.catalog.len());
    match operand {
        Operand::User(UserField::Realm) => lacks(&estate.people.realms, users).then_some(Lookup::Realm),
        Operand::User(UserField::Attribute(id)) => {
            let single = !estate.schema.user_attributes[id.index()].set;
            (single && lacks(&estate.people.attributes[id.index()], users)).then_some(Lookup::User(id.index()))
        }
        Operand::Resource(step, field) => {
            let at = match step {
                Step::Own => At::Own,
                Step::Parent => At::Parent,
                Step::Kind(kind) => At::Kind(kind.index()),
            };
            // A step that leads nowhere finds nothing, whatever the column holds.
            match field {
                ResourceField::State => {
                    (at != At::Own || lacks(&estate.catalog.states, resources)).then_some(Lookup::State(at))
                }
                ResourceField::Attribute(id) => {
                    let single = !estate.schema.resource_attributes[id.index()].set;
                    let column = &estate.catalog.attributes[id.index()];
                    (single && (at != At::Own || lacks(column, resources))).then_some(Lookup::Resource(at, id.index()))
                }
                // Whoever has no owner is told of by `ownerless`; the others are always there.
                ResourceField::Id
                | ResourceField::Name
                | ResourceField::Path
                | ResourceField::Kind
                | ResourceField::Owner => None,
            }
        }
        Operand::User(UserField::Id | UserField::Name | UserField::Kind | UserField::Active) => None,
        // What a session lacks cannot be filled in.
        Operand::User(UserField::SignIn(_))
        | Operand::Session(_)
        | Operand::Literal(_)
        | Operand::Kinds(_)
        | Operand::Today(_) => None,
    }
}

fn users_without(estate: &Estate, lookup: Lookup) -> impl Iterator<Item = usize> {
    let column = match lookup {
        Lookup::Realm => Some(&estate.people.realms),
        Lookup::User(id) => Some(&estate.people.attributes[id]),
        Lookup::State(_) | Lookup::Resource(..) => None,
    };
    let users = 0..estate.people.len();
    users.filter(move |user| column.is_some_and(|column| column.code(*user).is_none()))
}

/// The resource that lacks a value which is looked up from another; that one, where the way leads nowhere.
fn place_without(estate: &Estate, column: &Column, at: At, from: ResourceId) -> Option<ResourceId> {
    let catalog = &estate.catalog;
    let found = match at {
        At::Own => Some(from),
        At::Parent => catalog.parent(from),
        At::Kind(kind) => catalog.upward(from).find(|r| estate.schema.is_kind(catalog.kind(*r), KindId::new(kind))),
    };
    match found {
        Some(found) => column.code(found.index()).is_none().then_some(found),
        None => Some(from),
    }
}

fn name(estate: &Estate, lookup: Lookup) -> String {
    let step = |at: At| match at {
        At::Own => String::new(),
        At::Parent => "parent.".to_string(),
        At::Kind(kind) => format!("{}.", estate.schema.kinds[kind].name),
    };
    match lookup {
        Lookup::Realm => "user.realm".to_string(),
        Lookup::User(id) => format!("user.{}", estate.schema.user_attributes[id].name),
        Lookup::State(at) => format!("resource.{}state", step(at)),
        Lookup::Resource(at, id) => format!("resource.{}{}", step(at), estate.schema.resource_attributes[id].name),
    }
}
