//! Decisions that hang on a missing value, by the attribute that is missing.
//!
//! A decision hangs on an unknown where it would be allowed if every missing value were settled in the user's favour. Of
//! such a triple, the attributes are named that are missing in a comparison which is unknown there, of a statement that is
//! itself left open there and speaks of the action; so a guarded comparison (`... is set and`) is not blamed.
//!
//! Cost: an evaluation of everything with missing values settled either way, then for each resource on which these differ
//! the statements that reach it and look up something that is missing somewhere; where the same statements apply to the same
//! users and miss the same values, once.

use crate::difference::{Difference, Lister, difference};
use crate::evaluate::{Evaluator, Work};
use crate::snapshot::Snapshot;
use bastide_model::column::Column;
use bastide_model::condition::*;
use bastide_model::groups::Computed;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::HashMap;
use jiff::ToSpan;
use rayon::prelude::*;
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

/// A comparison that can be unknown: it is where something that it looks up is missing, whatever the rest holds.
struct Unknowable {
    /// What it looks up that is missing somewhere.
    lookups: Vec<Lookup>,
    /// Whether something is missing that has nothing to do with user and resource: a value of the session.
    always: bool,
    /// What it looks up of users.
    fields: Vec<UserField>,
    /// What it looks up of resources.
    places: Vec<(StepKey, ResourceField)>,
}

#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Lookup {
    Realm,
    User(usize),
    State(StepKey),
    Resource(StepKey, usize),
}

impl Lookup {
    /// What it looks up of users, if it does.
    fn of_user(self) -> Option<UserField> {
        match self {
            Lookup::Realm => Some(UserField::Realm),
            Lookup::User(id) => Some(UserField::Attribute(UserAttributeId::new(id))),
            Lookup::State(_) | Lookup::Resource(..) => None,
        }
    }
}

/// As [`Step`], in an order.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum StepKey {
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

/// What hangs on a missing value on resources that are alike: of which statement, and of whom, if it is a value of users.
struct OpenOn {
    lookup: Lookup,
    statement: StatementId,
    action: ActionId,
    first: UserId,
    whom: Option<FixedBitSet>,
}

/// Resources that are alike: the row of the difference, whom the statements that reach apply to on both sides, and which of the
/// values that their comparisons look up there are missing.
type Like = Box<[u32]>;

/// The attributes on whose missing values decisions hang, by name.
pub fn hanging(snapshot: &Snapshot) -> Vec<Hanging> {
    let estate = snapshot.estate();
    let leaves: Vec<Vec<Unknowable>> =
        estate.statements().iter().map(|s| leaves(estate, snapshot.moment(), s)).collect();
    if leaves.iter().all(Vec::is_empty) {
        return Vec::new();
    }
    let sides = [snapshot.clone(), snapshot.in_favour()];
    let difference = difference(&sides[0], &sides[1], None);
    let asked = Search { estate, leaves: &leaves, without: without(snapshot, &leaves), difference: &difference };
    let share = difference.changed.len().div_ceil(rayon::current_num_threads()).max(SMALLEST_SHARE);
    let shares = difference.changed.par_chunks(share).map(|share| asked.share(share, &sides));
    let mut shares = shares.collect::<Vec<_>>().into_iter();
    let mut found = shares.next().unwrap_or_default();
    for (lookup, later) in shares.flatten() {
        found.entry(lookup).or_default().join(later);
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

/// Below so many resources a share of their own is not worth two engines.
const SMALLEST_SHARE: usize = 2_000;

/// What is asked of each resource.
struct Search<'a> {
    estate: &'a Estate,
    /// By statement.
    leaves: &'a [Vec<Unknowable>],
    /// Users who lack a value.
    without: HashMap<UserField, FixedBitSet>,
    difference: &'a Difference<'a>,
}

impl Search<'_> {
    /// Goes through some of the resources that differ.
    fn share(&self, changed: &[(u32, u32)], sides: &[Snapshot; 2]) -> BTreeMap<Lookup, Lacking> {
        let (estate, leaves) = (self.estate, self.leaves);
        let (mut lister, mut engines) = (self.difference.lister(), sides.each_ref().map(Snapshot::evaluator));
        let mut found: BTreeMap<Lookup, Lacking> = BTreeMap::new();
        let mut known: HashMap<Like, Vec<OpenOn>> = HashMap::new();
        for &(resource, row) in changed {
            let resource = ResourceId(resource);
            let mut works = engines.each_mut().map(|engine| engine.look(resource));
            let mut rules: BTreeMap<StatementId, [Option<u32>; 2]> = BTreeMap::new();
            for side in 0..2 {
                for rule in engines[side].rules(&works[side]) {
                    let id = engines[side].statement_of(rule);
                    if !leaves[id.index()].is_empty() {
                        rules.entry(id).or_default()[side] = Some(rule);
                    }
                }
            }
            let like = self.like((resource, row), &rules, &mut engines, &mut works);
            if let Some(open) = like.as_ref().and_then(|like| known.get(like)) {
                open.iter().for_each(|open| take(estate, &mut found, resource, open));
            } else {
                let open = self.open((resource, row), &rules, (&mut engines, &mut works), &mut lister);
                open.iter().for_each(|open| take(estate, &mut found, resource, open));
                if let Some(like) = like.filter(|_| known.len() < MOST_KNOWN) {
                    known.insert(like, open);
                }
            }
            for (engine, work) in engines.iter_mut().zip(works) {
                engine.done(work);
            }
        }
        found
    }

    /// What makes resources alike, where that can be told: the statements apply to sets that are kept.
    fn like<'s>(
        &self,
        (resource, row): (ResourceId, u32),
        rules: &BTreeMap<StatementId, [Option<u32>; 2]>,
        engines: &mut [Evaluator<'s>; 2],
        works: &mut [Work<'s>; 2],
    ) -> Option<Like> {
        let mut like = vec![row];
        for (id, sides) in rules {
            like.push(id.0);
            for (side, rule) in sides.iter().enumerate() {
                like.push(match rule {
                    Some(rule) => engines[side].kept_set(&mut works[side], *rule)?.0,
                    None => u32::MAX,
                });
            }
            let places = self.leaves[id.index()].iter().flat_map(|leaf| &leaf.places);
            like.extend(places.map(|place| u32::from(is_missing(self.estate, *place, resource))));
        }
        Some(like.into())
    }

    /// What hangs on missing values on a resource, wherever these are missing.
    fn open<'s>(
        &self,
        (resource, row): (ResourceId, u32),
        rules: &BTreeMap<StatementId, [Option<u32>; 2]>,
        (engines, works): (&mut [Evaluator<'s>; 2], &mut [Work<'s>; 2]),
        lister: &mut Lister,
    ) -> Vec<OpenOn> {
        let estate = self.estate;
        let turns = self.difference.turns(row);
        let [mut open, mut other] = std::array::from_fn(|_| engines[0].nobody());
        // By action, who gains it with missing values in their favour: listed where it is asked for.
        let mut gained: Vec<Option<FixedBitSet>> = vec![None; turns.len()];
        let mut found: Vec<(usize, OpenOn)> = Vec::new();
        for (id, sides) in rules {
            let statement = estate.statement(*id);
            let speaks = |turn: &usize| statement.speaks_of(ActionId(turns[*turn].action));
            let speaks: Vec<usize> = (0..turns.len()).filter(speaks).collect();
            if speaks.is_empty() {
                continue;
            }
            // A missing value taken the other way makes it apply to others: to those it is left open.
            open.clear();
            for (side, rule) in sides.iter().enumerate() {
                if let Some(rule) = rule {
                    engines[side].applies_to(&mut works[side], *rule, &mut other);
                    open.symmetric_difference_with(&other);
                }
            }
            if open.is_clear() {
                continue;
            }
            for leaf in &self.leaves[id.index()] {
                let mut unknown = open.clone();
                if !leaf.always && !leaf.places.iter().any(|place| is_missing(estate, *place, resource)) {
                    other.clear();
                    leaf.fields.iter().for_each(|field| other.union_with(&self.without[field]));
                    unknown.intersect_with(&other);
                }
                if unknown.is_clear() {
                    continue;
                }
                for turn in &speaks {
                    let gained = gained[*turn].get_or_insert_with(|| {
                        let mut users = FixedBitSet::with_capacity(estate.people().len());
                        users.extend(lister.users(turns[*turn].gained).into_iter().map(|user| user as usize));
                        users
                    });
                    for lookup in &leaf.lookups {
                        let mut whom = unknown.clone();
                        whom.intersect_with(gained);
                        let lack = lookup.of_user().map(|field| &self.without[&field]);
                        if let Some(lack) = lack {
                            whom.intersect_with(lack);
                        }
                        let Some(user) = whom.minimum() else { continue };
                        let open = OpenOn {
                            lookup: *lookup,
                            statement: *id,
                            action: ActionId(turns[*turn].action),
                            first: UserId::new(user),
                            whom: lack.is_some().then_some(whom),
                        };
                        found.push((*turn, open));
                    }
                }
            }
        }
        // The first action is the one to show.
        found.sort_by_key(|(turn, _)| *turn);
        found.into_iter().map(|(_, open)| open).collect()
    }
}

/// Takes in what hangs on a missing value on a resource, if it is missing there.
fn take(estate: &Estate, found: &mut BTreeMap<Lookup, Lacking>, resource: ResourceId, open: &OpenOn) {
    let place = match open.lookup {
        Lookup::Realm | Lookup::User(_) => None,
        Lookup::State(at) => place_without(estate, &estate.catalog().states, at, resource),
        Lookup::Resource(at, id) => place_without(estate, &estate.catalog().attributes[id], at, resource),
    };
    if open.whom.is_none() && place.is_none() {
        return;
    }
    let lacking = found.entry(open.lookup).or_default();
    lacking.statements.insert(open.statement);
    lacking.resources.extend(place);
    lacking.example = lacking.example.or(Some((open.first, open.action, resource)));
    if let Some(whom) = &open.whom {
        lacking.users.union_with(whom);
    }
}

impl Lacking {
    /// Adds what was found on the resources that follow.
    fn join(&mut self, later: Lacking) {
        self.users.union_with(&later.users);
        self.resources.extend(later.resources);
        self.statements.extend(later.statements);
        self.example = self.example.or(later.example);
    }
}

/// So many kinds of resources are kept at most by a core.
const MOST_KNOWN: usize = 1 << 16;

/// The comparisons of a statement, and of the computed groups that it names, that look up something that is missing
/// somewhere.
fn leaves(estate: &Estate, moment: &Moment, statement: &Statement) -> Vec<Unknowable> {
    let mut conditions: Vec<&Condition> = statement.conditions().collect();
    let mut groups: Vec<GroupId> = Vec::new();
    let mut open: Vec<GroupId> = statement.who.terms.iter().filter_map(members).collect();
    let mut leaves = Vec::new();
    loop {
        for condition in std::mem::take(&mut conditions) {
            open.extend(condition.groups());
            condition.visit(&mut |inner| {
                let operands = inner.test.operands();
                let lookups: Vec<Lookup> = operands.iter().filter_map(|o| lookup(estate, o)).collect();
                if can_be_unknown(&inner.test) && !lookups.is_empty() {
                    leaves.push(leaf(estate, moment, &operands, lookups));
                }
            });
        }
        let Some(group) = open.pop() else { return leaves };
        for inner in estate.groups().through(group) {
            if groups.contains(inner) {
                continue;
            }
            groups.push(*inner);
            if let Some(Computed::Who(who)) = estate.groups().computed(*inner) {
                conditions.extend(&who.condition);
                open.extend(who.terms.iter().filter_map(members));
            }
        }
    }
}

fn leaf(estate: &Estate, moment: &Moment, operands: &[&Operand], lookups: Vec<Lookup>) -> Unknowable {
    let schema = estate.schema();
    let mut leaf = Unknowable { lookups, always: false, fields: Vec::new(), places: Vec::new() };
    for operand in operands {
        match operand {
            Operand::Literal(_) | Operand::Kinds(_) => {}
            // A day that the calendar does not reach.
            Operand::Today(days) => leaf.always |= moment.date.checked_add(days.days()).is_err(),
            Operand::Session(id) => {
                leaf.always |= !schema.session_attributes[id.index()].set && moment.value(*id).is_none();
            }
            Operand::User(field) => {
                let can_lack = match field {
                    UserField::Id | UserField::Name | UserField::Kind | UserField::Active => false,
                    UserField::Realm => true,
                    UserField::Attribute(id) => !schema.user_attributes[id.index()].set,
                    UserField::SignIn(id) => !schema.session_attributes[id.index()].set,
                };
                leaf.fields.extend(can_lack.then_some(*field));
            }
            Operand::Resource(_, ResourceField::Attribute(id)) if schema.resource_attributes[id.index()].set => {}
            Operand::Resource(step, field) => leaf.places.push((at(step), *field)),
        }
    }
    leaf
}

/// Of each value of users that is looked up, the users who lack it. Cost: the users for each.
fn without(snapshot: &Snapshot, leaves: &[Vec<Unknowable>]) -> HashMap<UserField, FixedBitSet> {
    let people = snapshot.estate().people();
    let lacks = |field: UserField, user: UserId| match field {
        UserField::Id | UserField::Name | UserField::Kind | UserField::Active => false,
        UserField::Realm => people.realms().code(user.index()).is_none(),
        UserField::Attribute(id) => people.attribute(id).code(user.index()).is_none(),
        UserField::SignIn(id) => snapshot.moment().value_for(people, id, user).is_none(),
    };
    let mut found: HashMap<UserField, FixedBitSet> = HashMap::new();
    for field in leaves.iter().flatten().flat_map(|leaf| &leaf.fields) {
        found.entry(*field).or_insert_with(|| {
            let mut users = FixedBitSet::with_capacity(people.len());
            users.extend(people.all().filter(|user| lacks(*field, *user)).map(|user| user.index()));
            users
        });
    }
    found
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
    let (users, resources) = (estate.people().len(), estate.catalog().len());
    match operand {
        Operand::User(UserField::Realm) => lacks(estate.people().realms(), users).then_some(Lookup::Realm),
        Operand::User(UserField::Attribute(id)) => {
            let single = !estate.schema().user_attributes[id.index()].set;
            (single && lacks(estate.people().attribute(*id), users)).then_some(Lookup::User(id.index()))
        }
        Operand::Resource(step, field) => {
            let at = at(step);
            // A step that leads nowhere finds nothing, whatever the column holds.
            match field {
                ResourceField::State => {
                    (at != StepKey::Own || lacks(&estate.catalog().states, resources)).then_some(Lookup::State(at))
                }
                ResourceField::Attribute(id) => {
                    let single = !estate.schema().resource_attributes[id.index()].set;
                    let column = &estate.catalog().attributes[id.index()];
                    (single && (at != StepKey::Own || lacks(column, resources)))
                        .then_some(Lookup::Resource(at, id.index()))
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

fn at(step: &Step) -> StepKey {
    match step {
        Step::Own => StepKey::Own,
        Step::Parent => StepKey::Parent,
        Step::Kind(kind) => StepKey::Kind(kind.index()),
    }
}

/// Where a step leads from a resource.
fn leads(estate: &Estate, at: StepKey, from: ResourceId) -> Option<ResourceId> {
    let catalog = estate.catalog();
    match at {
        StepKey::Own => Some(from),
        StepKey::Parent => catalog.parent(from),
        StepKey::Kind(kind) => {
            catalog.upward(from).find(|r| estate.schema().is_kind(catalog.kind(*r), KindId::new(kind)))
        }
    }
}

/// Whether a value that is looked up from a resource is missing; it is none of a set.
fn is_missing(estate: &Estate, (at, field): (StepKey, ResourceField), from: ResourceId) -> bool {
    let catalog = estate.catalog();
    let Some(there) = leads(estate, at, from) else { return true };
    match field {
        ResourceField::Id | ResourceField::Name | ResourceField::Path | ResourceField::Kind => false,
        ResourceField::Owner => catalog.owners.code(there.index()).is_none(),
        ResourceField::State => catalog.states.code(there.index()).is_none(),
        ResourceField::Attribute(id) => catalog.attributes[id.index()].code(there.index()).is_none(),
    }
}

/// The resource that lacks a value which is looked up from another; that one, where the way leads nowhere.
fn place_without(estate: &Estate, column: &Column, at: StepKey, from: ResourceId) -> Option<ResourceId> {
    match leads(estate, at, from) {
        Some(found) => column.code(found.index()).is_none().then_some(found),
        None => Some(from),
    }
}

fn name(estate: &Estate, lookup: Lookup) -> String {
    let step = |at: StepKey| match at {
        StepKey::Own => String::new(),
        StepKey::Parent => "parent.".to_string(),
        StepKey::Kind(kind) => format!("{}.", estate.schema().kinds[kind].name),
    };
    match lookup {
        Lookup::Realm => "user.realm".to_string(),
        Lookup::User(id) => format!("user.{}", estate.schema().user_attributes[id].name),
        Lookup::State(at) => format!("resource.{}state", step(at)),
        Lookup::Resource(at, id) => format!("resource.{}{}", step(at), estate.schema().resource_attributes[id].name),
    }
}
