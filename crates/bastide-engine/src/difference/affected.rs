//! Which resources a change can touch. What is listed here is enough, and may be too much: whether anything differs is then
//! seen by deciding there.

use crate::snapshot::Snapshot;
use bastide_model::column::Column;
use bastide_model::condition::*;
use bastide_model::groups::Computed;
use bastide_model::schema::Target;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;

/// What changes can touch, and what makes others so.
pub(super) struct Affected<'e> {
    catalog: &'e Catalog,
    /// Resources within reach of a changed statement by place: whether it applies to anybody there is to be seen.
    pub looked_at: Vec<Range<u32>>,
    /// Resources that are to be decided on in any case.
    pub marked: Vec<Range<u32>>,
    /// The changed rules, before and after.
    pub rules: [FixedBitSet; 2],
    /// Whether there are layers.
    pub layered: bool,
    dependencies: Dependencies,
}

/// What looks at decisions elsewhere.
pub(super) struct Dependencies {
    asks: Asks,
    /// For each source, what is derived from it.
    derived: HashMap<ResourceId, Vec<ResourceId>>,
    /// By places at whose decisions statements look, what these statements may reach.
    watching: HashMap<ResourceId, Vec<Range<u32>>>,
}

/// Whether a decision may look at one on the parent, on something further up, on a source.
#[derive(Clone, Copy, Default)]
struct Asks {
    parent: bool,
    above: bool,
    source: bool,
}

impl<'e> Affected<'e> {
    /// What the changes between two related estates can touch; none where that is everything.
    pub fn of(before: &'e Snapshot, after: &'e Snapshot) -> Option<Affected<'e>> {
        let (old, new) = (before.estate(), after.estate());
        let mut affected = Affected {
            catalog: new.catalog(),
            looked_at: Vec::new(),
            marked: Vec::new(),
            rules: Default::default(),
            layered: !old.layers().is_empty() || !new.layers().is_empty(),
            dependencies: Dependencies::of([old, new]),
        };
        let fields = changed_fields(old, new)?;
        let groups = changed_groups(old, new, &fields);
        let (mut was, mut is) = changed_statements(old, new);
        if !groups.is_clear() || !fields.is_empty() {
            was.extend(touched(old, &groups, &fields));
            is.extend(touched(new, &groups, &fields));
        }
        for (side, (snapshot, changed)) in [(before, was), (after, is)].into_iter().enumerate() {
            for (id, rule) in changed.iter().filter_map(|id| Some((*id, snapshot.rule_of(*id)?))) {
                affected.looked_at.extend(reach(snapshot.estate(), id));
                affected.rules[side].grow_and_insert(rule as usize);
            }
        }
        affected.changed_resources(old, new);
        affected.looked_at = joined(affected.looked_at);
        affected.marked = joined(affected.marked);
        Some(affected)
    }

    /// How many resources are looked at, others that follow aside.
    pub fn size(&self) -> usize {
        self.looked_at.iter().chain(&self.marked).map(ExactSizeIterator::len).sum()
    }

    /// What may look at a decision on a resource.
    pub fn followers(&self, resource: ResourceId) -> Vec<Range<u32>> {
        let catalog = self.catalog;
        let asks = self.dependencies.asks;
        let mut found = Vec::new();
        if catalog.is_leaf(resource) {
            // Nothing asks it from beneath.
        } else if asks.above {
            let beneath = catalog.subtree(resource);
            found.push(beneath.start + 1..beneath.end);
        } else if asks.parent {
            found.extend(catalog.children(resource).map(|child| child.0..child.0 + 1));
        }
        found.extend(self.dependencies.elsewhere(resource));
        found
    }

    /// Marks resources whose own data differ, and what lies beneath them: conditions look upward.
    fn changed_resources(&mut self, old: &Estate, new: &Estate) {
        let (old, new) = (old.catalog(), new.catalog());
        if Arc::ptr_eq(old, new) {
            return;
        }
        fn columns(c: &Catalog) -> impl Iterator<Item = &Column> {
            c.attributes.iter().chain([&c.owners, &c.states])
        }
        let mut differing: Vec<usize> = old.barriers.symmetric_difference(&new.barriers).collect();
        for (was, is) in columns(old).zip(columns(new)) {
            differing.extend(was.differing(is, new.len()));
        }
        self.marked.extend(differing.into_iter().map(|row| row as u32..new.ends[row]));
    }
}

impl Dependencies {
    /// Of one estate, or of two that changes relate.
    pub fn of(estates: [&Estate; 2]) -> Dependencies {
        let mut asks = Asks::default();
        let mut ask = |target: Target| match target {
            Target::Own => {}
            Target::Parent => asks.parent = true,
            Target::Kind(_) => asks.above = true,
            Target::Source => asks.source = true,
        };
        for action in &estates[1].schema().actions {
            action.needs.iter().for_each(|need| ask(need.target));
        }
        let mut watching: HashMap<ResourceId, Vec<Range<u32>>> = HashMap::new();
        for estate in estates {
            for (at, statement) in estate.statements().iter().enumerate() {
                let mut places: Vec<ResourceId> = Vec::new();
                for (_, target) in statement.conditions().flat_map(Condition::decisions) {
                    match target {
                        HoldsTarget::Relative(target) => ask(target),
                        HoldsTarget::Place(place) => places.push(place),
                        HoldsTarget::Nowhere => {}
                    }
                }
                for group in statement.groups() {
                    places.extend(holder_places(estate, group));
                }
                for place in places {
                    watching.entry(place).or_default().extend(reach(estate, StatementId::new(at)));
                }
            }
        }
        watching.values_mut().for_each(|ranges| *ranges = joined(std::mem::take(ranges)));
        let mut derived: HashMap<ResourceId, Vec<ResourceId>> = HashMap::new();
        let catalog = estates[1].catalog();
        for resource in catalog.sources.linked() {
            for source in catalog.sources(*resource) {
                if let Source::Resource(source) = source {
                    derived.entry(*source).or_default().push(*resource);
                }
            }
        }
        Dependencies { asks, derived, watching }
    }

    /// What may look at a decision on a resource from elsewhere than beneath it.
    pub fn elsewhere(&self, resource: ResourceId) -> impl Iterator<Item = Range<u32>> + '_ {
        let derived = self.asks.source.then(|| self.derived(resource));
        derived.into_iter().flatten().chain(self.watching.get(&resource).into_iter().flatten().cloned())
    }

    /// What is derived from a resource.
    pub fn derived(&self, resource: ResourceId) -> impl Iterator<Item = Range<u32>> + '_ {
        self.derived.get(&resource).into_iter().flatten().map(|derived| derived.0..derived.0 + 1)
    }
}

/// The resources in which a statement can apply by its places.
fn reach(estate: &Estate, id: StatementId) -> Vec<Range<u32>> {
    let catalog = estate.catalog();
    match &estate.statement(id).what.places {
        Some(places) => {
            let range = |place: &statement::Place| match place.reach {
                Reach::At => place.resource.0..place.resource.0 + 1,
                Reach::Under | Reach::Below => catalog.subtree(place.resource),
            };
            places.iter().map(range).collect()
        }
        None => std::iter::once(0..catalog.len() as u32).collect(),
    }
}

/// The same resources in ranges that are in order and apart.
fn joined(mut ranges: Vec<Range<u32>>) -> Vec<Range<u32>> {
    ranges.sort_unstable_by_key(|range| range.start);
    let mut found: Vec<Range<u32>> = Vec::with_capacity(ranges.len());
    for range in ranges {
        match found.last_mut() {
            Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
            _ => found.push(range),
        }
    }
    found
}

/// The places on whose decisions membership of a group hangs, through computed groups to the bottom.
fn holder_places(estate: &Estate, group: GroupId) -> Vec<ResourceId> {
    let mut places = Vec::new();
    let mut seen: HashSet<GroupId> = HashSet::new();
    let mut open = vec![group];
    while let Some(group) = open.pop() {
        for &inner in estate.groups().through(group) {
            if !seen.insert(inner) {
                continue;
            }
            match estate.groups().computed(inner) {
                Some(Computed::Holders(_, at)) => places.extend(at),
                Some(Computed::Who(who)) => {
                    open.extend(who.groups());
                    places.extend(who.condition.iter().flat_map(Condition::decisions).filter_map(|(_, at)| match at {
                        HoldsTarget::Place(place) => Some(place),
                        // Who is in a group hangs on no resource at hand.
                        HoldsTarget::Relative(_) | HoldsTarget::Nowhere => None,
                    }));
                }
                None => {}
            }
        }
    }
    places
}

/// The fields of users that differ for anybody. None where somebody became active or inactive, or
/// another kind of user: that touches everything.
pub(super) fn changed_fields(old: &Estate, new: &Estate) -> Option<HashSet<UserField>> {
    let (a, b) = (old.people(), new.people());
    if Arc::ptr_eq(a, b) {
        return Some(HashSet::new());
    }
    if a.active().ones().ne(b.active().ones()) || old.schema().sign_ins != new.schema().sign_ins {
        return None;
    }
    let rows = a.len();
    let cells = |x: &Column, y: &Column| (0..rows).any(|row| x.get(row) != y.get(row));
    let differs = |field: &UserField| match field {
        UserField::Id => a.all().any(|user| a.id(user) != b.id(user)),
        UserField::Name => a.all().any(|user| a.name(user) != b.name(user)),
        UserField::Kind => a.kinds() != b.kinds(),
        // Seen above.
        UserField::Active => false,
        UserField::Realm => cells(a.realms(), b.realms()),
        UserField::Attribute(id) => cells(a.attribute(*id), b.attribute(*id)),
        UserField::SignIn(id) => match (a.sign_in(*id), b.sign_in(*id)) {
            (Some(a), Some(b)) => cells(a, b),
            _ => true,
        },
    };
    Some(UserField::all(new.schema()).filter(differs).collect())
}

/// Groups whose members differ or hang on fields that do.
pub(super) fn changed_groups(old: &Estate, new: &Estate, fields: &HashSet<UserField>) -> FixedBitSet {
    let count = new.groups().len();
    let mut changed = FixedBitSet::with_capacity(count);
    if !Arc::ptr_eq(old.groups(), new.groups()) {
        for group in new.groups().all() {
            let same = old.groups().users(group) == new.groups().users(group)
                && old.groups().through(group) == new.groups().through(group);
            changed.set(group.index(), !same);
        }
    } else if fields.is_empty() {
        return changed;
    }
    // A computed group follows what its clause names; whatever takes it in follows it.
    loop {
        let mut grew = false;
        for group in new.groups().all().filter(|g| !changed.contains(g.index())).collect::<Vec<_>>() {
            let hangs = new.groups().through(group).iter().any(|inner| {
                changed.contains(inner.index())
                    || match new.groups().computed(*inner) {
                        Some(Computed::Who(who)) => hangs(who.condition.iter(), &who.groups(), &changed, fields),
                        _ => false,
                    }
            });
            if hangs {
                changed.insert(group.index());
                grew = true;
            }
        }
        if !grew {
            return changed;
        }
    }
}

fn hangs<'c>(
    mut conditions: impl Iterator<Item = &'c Condition>,
    groups: &[GroupId],
    changed: &FixedBitSet,
    fields: &HashSet<UserField>,
) -> bool {
    groups.iter().any(|g| changed.contains(g.index())) || conditions.any(|c| mentions(c, fields))
}

/// Whether a condition asks for any of these fields.
fn mentions(condition: &Condition, fields: &HashSet<UserField>) -> bool {
    condition.operands().into_iter().any(|o| matches!(o, Operand::User(field) if fields.contains(field)))
}

/// Statements that differ by themselves: those of the first estate that are not in the second as
/// they are, and the other way round.
pub(super) fn changed_statements(old: &Estate, new: &Estate) -> (Vec<StatementId>, Vec<StatementId>) {
    let (a, b) = (old.statements(), new.statements());
    let front = a.iter().zip(b).take_while(|(x, y)| Arc::ptr_eq(x, y)).count();
    let back = a[front..].iter().rev().zip(b[front..].iter().rev()).take_while(|(x, y)| Arc::ptr_eq(x, y)).count();
    let (a, b) = (&a[front..a.len() - back], &b[front..b.len() - back]);
    let only = |of: &[Arc<Statement>], not_in: &[Arc<Statement>]| {
        let known: HashSet<*const Statement> = not_in.iter().map(Arc::as_ptr).collect();
        let ids = of.iter().enumerate().filter(|(_, s)| !known.contains(&Arc::as_ptr(s)));
        ids.map(|(at, _)| StatementId::new(front + at)).collect()
    };
    (only(a, b), only(b, a))
}

/// Statements that name a changed group or ask for a changed field.
pub(super) fn touched(estate: &Estate, groups: &FixedBitSet, fields: &HashSet<UserField>) -> Vec<StatementId> {
    let all = StatementId::all(estate.statements().len());
    all.filter(|id| {
        let statement = estate.statement(*id);
        hangs(statement.conditions(), &statement.groups(), groups, fields)
    })
    .collect()
}
