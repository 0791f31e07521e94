//! Which resources a change can touch. What is listed here is enough, and may be too much: whether
//! anything differs on a suspect is then seen by evaluating it.

use crate::sets::SetEngine;
use bastide_model::column::Column;
use bastide_model::condition::*;
use bastide_model::groups::Computed;
use bastide_model::schema::Target;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use hashbrown::{HashMap, HashSet};
use std::sync::Arc;

/// Resources to look at, and what makes others so.
pub(super) struct Suspects<'e> {
    before: &'e Estate,
    after: &'e Estate,
    /// Still to be looked at.
    marked: FixedBitSet,
    /// Looked at already.
    done: FixedBitSet,
    /// No mark stands before this one.
    cursor: usize,
    asks: Asks,
    /// Whether something may look at a decision on a resource that holds nothing.
    asked_anywhere: bool,
    /// For each source, what is derived from it.
    derived: HashMap<ResourceId, Vec<ResourceId>>,
    /// Statements that look at decisions on a fixed place, in each estate.
    watching: [HashMap<ResourceId, Vec<StatementId>>; 2],
}

/// Whether a decision may look at one on the parent, on something further up, on a source.
#[derive(Clone, Copy, Default)]
struct Asks {
    parent: bool,
    above: bool,
    source: bool,
}

impl<'e> Suspects<'e> {
    /// What the changes between two related estates can touch; none where that is everything.
    pub fn of<'b: 'e, 'a: 'e>(before: &mut SetEngine<'b>, after: &mut SetEngine<'a>) -> Option<Suspects<'e>> {
        let (old, new) = (before.estate(), after.estate());
        let rows = new.catalog.len();
        let mut suspects = Suspects {
            before: old,
            after: new,
            marked: FixedBitSet::with_capacity(rows),
            done: FixedBitSet::with_capacity(rows),
            cursor: 0,
            asks: Asks::default(),
            asked_anywhere: false,
            derived: HashMap::new(),
            watching: [HashMap::new(), HashMap::new()],
        };
        let fields = changed_fields(old, new)?;
        let groups = changed_groups(old, new, &fields);
        let (mut was, mut is) = changed_statements(old, new);
        if !groups.is_clear() || !fields.is_empty() {
            was.extend(touched(old, &groups, &fields));
            is.extend(touched(new, &groups, &fields));
        }
        before.mark_applying(&was, &mut suspects.marked);
        after.mark_applying(&is, &mut suspects.marked);
        suspects.changed_resources();
        if !suspects.marked.is_full() {
            suspects.dependencies();
        }
        Some(suspects)
    }

    /// The next so many resources to look at, each once.
    pub fn take(&mut self, most: usize) -> Vec<u32> {
        let bits = usize::BITS as usize;
        let mut taken = Vec::new();
        let (marked, done) = (self.marked.as_mut_slice(), self.done.as_mut_slice());
        let mut at = self.cursor / bits;
        while at < marked.len() && taken.len() < most {
            let mut left = marked[at];
            while left != 0 && taken.len() < most {
                taken.push((at * bits) as u32 + left.trailing_zeros());
                left &= left - 1;
            }
            done[at] |= marked[at] & !left;
            marked[at] = left;
            at += usize::from(left == 0);
        }
        self.cursor = at * bits;
        taken
    }

    fn mark(&mut self, resource: usize) {
        if !self.done.contains(resource) && !self.marked.put(resource) {
            self.cursor = self.cursor.min(resource);
        }
    }

    /// Whether something may have to be looked at because of a decision elsewhere that differs.
    pub fn may_follow(&self) -> bool {
        self.asks.parent || self.asks.above || self.asked_anywhere
    }

    /// Marks whatever may look at a decision on a resource that differs.
    #[inline]
    pub fn changed(&mut self, resource: ResourceId, before: &SetEngine, after: &SetEngine) {
        if self.asked_anywhere || !self.after.catalog.is_leaf(resource) {
            self.follow(resource, before, after);
        }
    }

    fn follow(&mut self, resource: ResourceId, before: &SetEngine, after: &SetEngine) {
        let catalog = &self.after.catalog;
        if catalog.is_leaf(resource) {
            // Nothing asks it from beneath.
        } else if self.asks.above {
            catalog.subtree(resource).for_each(|r| self.mark(r as usize));
        } else if self.asks.parent {
            catalog.children(resource).for_each(|r| self.mark(r.index()));
        }
        if self.asks.source {
            for derived in self.derived.get(&resource).cloned().unwrap_or_default() {
                self.mark(derived.index());
            }
        }
        for (side, engine) in [before, after].into_iter().enumerate() {
            if self.watching[side].is_empty() {
                continue;
            }
            if let Some(statements) = self.watching[side].remove(&resource) {
                let mut reached = FixedBitSet::with_capacity(catalog.len());
                engine.mark_reached(&statements, &mut reached);
                reached.ones().for_each(|r| self.mark(r));
            }
        }
    }

    /// Marks resources whose own data differ, and what lies beneath them: conditions look upward.
    fn changed_resources(&mut self) {
        let (old, new) = (&self.before.catalog, &self.after.catalog);
        if Arc::ptr_eq(old, new) {
            return;
        }
        let columns = |c: &'e Catalog| c.attributes.iter().chain([&c.owners, &c.states]);
        let mut differing: Vec<usize> = old.barriers.symmetric_difference(&new.barriers).collect();
        for (was, is) in columns(old).zip(columns(new)) {
            differing.extend(was.differing(is, new.len()));
        }
        differing.sort_unstable();
        let mut end = 0;
        for row in differing {
            // What lies beneath one that differs is marked with it.
            if row as u32 >= end {
                end = new.ends[row];
                self.marked.insert_range(row..end as usize);
            }
        }
    }

    /// Finds out what looks at decisions elsewhere.
    fn dependencies(&mut self) {
        let mut asks = Asks::default();
        let mut ask = |target: Target| match target {
            Target::Own => {}
            Target::Parent => asks.parent = true,
            Target::Kind(_) => asks.above = true,
            Target::Source => asks.source = true,
        };
        for action in &self.after.schema.actions {
            action.needs.iter().for_each(|need| ask(need.target));
        }
        for (side, estate) in [self.before, self.after].into_iter().enumerate() {
            for (at, statement) in estate.statements.iter().enumerate() {
                let mut places: Vec<ResourceId> = Vec::new();
                for condition in conditions(statement) {
                    condition.visit(&mut |inner| match inner.test {
                        Test::Holds(_, HoldsTarget::Relative(target)) => ask(target),
                        Test::Holds(_, HoldsTarget::Place(place)) => places.push(place),
                        _ => {}
                    });
                }
                for group in groups_of(statement) {
                    places.extend(holder_places(estate, group));
                }
                for place in places {
                    self.watching[side].entry(place).or_default().push(StatementId::new(at));
                }
            }
        }
        self.asks = asks;
        self.asked_anywhere = asks.source || self.watching.iter().any(|watching| !watching.is_empty());
        if asks.source {
            let mut linked: Vec<ResourceId> = self.after.catalog.sources.keys().copied().collect();
            linked.sort();
            for resource in linked {
                for source in self.after.catalog.sources(resource) {
                    if let Source::Resource(source) = source {
                        self.derived.entry(*source).or_default().push(resource);
                    }
                }
            }
        }
    }
}

/// The conditions of a statement.
pub(super) fn conditions(statement: &Statement) -> impl Iterator<Item = &Condition> {
    [&statement.who.condition, &statement.what.condition, &statement.condition].into_iter().flatten()
}

/// The groups a statement names anywhere.
fn groups_of(statement: &Statement) -> Vec<GroupId> {
    let mut found = groups_of_who(&statement.who);
    for condition in [&statement.what.condition, &statement.condition].into_iter().flatten() {
        found.extend(groups_of_condition(condition));
    }
    found
}

fn groups_of_who(who: &Who) -> Vec<GroupId> {
    let mut found: Vec<GroupId> =
        who.terms.iter().filter_map(|t| if let Term::Members(g) = t { Some(*g) } else { None }).collect();
    found.extend(who.condition.iter().flat_map(groups_of_condition));
    found
}

fn groups_of_condition(condition: &Condition) -> Vec<GroupId> {
    let mut found = Vec::new();
    condition.visit(&mut |inner| {
        if let Test::MemberOf(Some(group)) = inner.test {
            found.push(group);
        }
    });
    found
}

/// The places on whose decisions membership of a group hangs, through computed groups to the bottom.
fn holder_places(estate: &Estate, group: GroupId) -> Vec<ResourceId> {
    let mut places = Vec::new();
    let mut seen: HashSet<GroupId> = HashSet::new();
    let mut open = vec![group];
    while let Some(group) = open.pop() {
        for &inner in estate.groups.through(group) {
            if !seen.insert(inner) {
                continue;
            }
            match estate.groups.computed[inner.index()].as_ref() {
                Some(Computed::Holders(_, at)) => places.extend(at),
                Some(Computed::Who(who)) => {
                    open.extend(groups_of_who(who));
                    who.condition.iter().for_each(|c| {
                        c.visit(&mut |inner| {
                            if let Test::Holds(_, HoldsTarget::Place(place)) = inner.test {
                                places.push(place);
                            }
                        })
                    });
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
    let mut fields = HashSet::new();
    let (a, b) = (&old.people, &new.people);
    if Arc::ptr_eq(a, b) {
        return Some(fields);
    }
    if a.active.ones().ne(b.active.ones()) {
        return None;
    }
    if a.kinds != b.kinds {
        fields.insert(UserField::Kind);
    }
    let rows = a.len();
    let differs = |x: &Column, y: &Column| (0..rows).any(|row| x.get(row) != y.get(row));
    if differs(&a.realms, &b.realms) {
        fields.insert(UserField::Realm);
    }
    for (i, (x, y)) in a.attributes.iter().zip(&b.attributes).enumerate() {
        if differs(x, y) {
            fields.insert(UserField::Attribute(UserAttributeId::new(i)));
        }
    }
    Some(fields)
}

/// Groups whose members differ or hang on fields that do.
pub(super) fn changed_groups(old: &Estate, new: &Estate, fields: &HashSet<UserField>) -> FixedBitSet {
    let count = new.groups.len();
    let mut changed = FixedBitSet::with_capacity(count);
    if !Arc::ptr_eq(&old.groups, &new.groups) {
        for group in new.groups.all() {
            let same = old.groups.users(group) == new.groups.users(group)
                && old.groups.through(group) == new.groups.through(group);
            changed.set(group.index(), !same);
        }
    } else if fields.is_empty() {
        return changed;
    }
    // A computed group follows what its clause names; whatever takes it in follows it.
    loop {
        let mut grew = false;
        for group in new.groups.all().filter(|g| !changed.contains(g.index())).collect::<Vec<_>>() {
            let hangs = new.groups.through(group).iter().any(|inner| {
                changed.contains(inner.index())
                    || match &new.groups.computed[inner.index()] {
                        Some(Computed::Who(who)) => hangs(who.condition.iter(), &groups_of_who(who), &changed, fields),
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
    let mut found = false;
    let is = |o: &Operand| matches!(o, Operand::User(field) if fields.contains(field));
    condition.visit(&mut |inner| {
        found |= match &inner.test {
            Test::Flag(o) | Test::IsSet(o) | Test::IsMissing(o) | Test::IsEmpty(o) => is(o),
            Test::Like { operand, .. } => is(operand),
            Test::Compare { left, right, .. } | Test::Sets { left, right, .. } => is(left) || is(right),
            _ => false,
        };
    });
    found
}

/// Statements that differ by themselves: those of the first estate that are not in the second as
/// they are, and the other way round.
pub(super) fn changed_statements(old: &Estate, new: &Estate) -> (Vec<StatementId>, Vec<StatementId>) {
    let (a, b) = (&old.statements, &new.statements);
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
    let all = StatementId::all(estate.statements.len());
    all.filter(|id| {
        let statement = estate.statement(*id);
        hangs(conditions(statement), &groups_of(statement), groups, fields)
    })
    .collect()
}
