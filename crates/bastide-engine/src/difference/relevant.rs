//! Which actions changes can touch. Only on these, and on what they hang on, decisions before and after are worked out.

use super::affected::{changed_fields, changed_groups, changed_statements, touched};
use bastide_model::condition::Condition;
use bastide_model::groups::Computed;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use std::sync::Arc;

/// The actions whose outcomes can differ, and those that they hang on; none where that cannot be told.
pub(super) fn relevant_actions(old: &Estate, new: &Estate) -> Option<FixedBitSet> {
    // Which layer controls a resource may hang on statements that speak of other actions.
    if !Arc::ptr_eq(old.catalog(), new.catalog()) || !old.layers().is_empty() || !new.layers().is_empty() {
        return None;
    }
    let schema = new.schema();
    let mut wanted = FixedBitSet::with_capacity(schema.actions.len());
    let fields = changed_fields(old, new)?;
    let groups = changed_groups(old, new, &fields);
    let (was, is) = changed_statements(old, new);
    let all = [(old, was), (new, is)];
    for (estate, changed) in &all {
        for id in changed.iter().copied().chain(touched(estate, &groups, &fields)) {
            wanted.union_with(&spoken_of(estate.statement(id), schema));
        }
    }
    let estates = all.map(|(estate, _)| estate);
    let statements = || estates.into_iter().flat_map(|estate| estate.statements());
    let in_groups = in_groups(estates);
    grow(&mut wanted, |wanted| {
        for action in ActionId::all(schema.actions.len()) {
            let needs = &schema.actions[action.index()].needs;
            if needs.iter().any(|need| wanted.contains(need.action.index())) {
                wanted.insert(action.index());
            }
        }
        for statement in statements() {
            if statement.conditions().any(|condition| !asked(condition).is_disjoint(wanted)) {
                wanted.union_with(&spoken_of(statement, schema));
            }
        }
    });
    if !in_groups.is_disjoint(&wanted) {
        // Who is in a group hangs on what can differ, and more hangs on that.
        return None;
    }
    // These can differ. From here on, what they hang on.
    wanted.union_with(&in_groups);
    grow(&mut wanted, |wanted| {
        for action in wanted.clone().ones() {
            schema.actions[action].needs.iter().for_each(|need| wanted.insert(need.action.index()));
        }
        for statement in statements() {
            if !spoken_of(statement, schema).is_disjoint(wanted) {
                statement.conditions().for_each(|condition| wanted.union_with(&asked(condition)));
            }
        }
    });
    Some(wanted)
}

/// Takes more in as long as there is more.
fn grow(actions: &mut FixedBitSet, more: impl Fn(&mut FixedBitSet)) {
    let mut known = usize::MAX;
    while known != actions.count_ones(..) {
        known = actions.count_ones(..);
        more(actions);
    }
}

/// The actions that a statement decides on: those it lists; of a cap that leaves some, the others.
fn spoken_of(statement: &Statement, schema: &Schema) -> FixedBitSet {
    let mut actions = statement.actions.clone();
    actions.grow(schema.actions.len());
    if statement.modality == Modality::MayOnly {
        actions.toggle_range(..);
    }
    actions
}

/// The actions whose decisions a condition asks for.
fn asked(condition: &Condition) -> FixedBitSet {
    let mut actions = FixedBitSet::new();
    condition.decisions().for_each(|(action, _)| actions.grow_and_insert(action.index()));
    actions
}

/// The actions on whose decisions it hangs who is in a group.
fn in_groups(estates: [&Estate; 2]) -> FixedBitSet {
    let mut actions = FixedBitSet::new();
    for body in estates.into_iter().flat_map(|estate| estate.groups().bodies()) {
        match body {
            Computed::Holders(action, _) => actions.grow_and_insert(action.index()),
            Computed::Who(who) => who.condition.iter().for_each(|condition| actions.union_with(&asked(condition))),
        }
    }
    actions
}

#[cfg(test)]
mod tests {
    use super::*;
    use bastide_testkit::random::{Shape, plan};

    /// Where a statement goes, what it speaks of is wanted, and so is whatever that needs, and whatever statements speak of
    /// that ask for decisions on it; often other actions are not.
    #[test]
    fn what_a_statement_speaks_of_is_wanted() {
        let (mut all, mut fewer, mut asking, mut grouped) = (0, 0, 0, 0);
        for seed in 0..300 {
            let before = plan(seed, Shape::ALL).case().estate();
            for at in 0..before.statements().len() {
                let mut statements = before.statements().to_vec();
                statements.remove(at);
                let after = before.with_statements(statements);
                all += 1;
                let spoken = spoken_of(&before.statements()[at], before.schema());
                let wanted = relevant_actions(&before, &after);
                if !in_groups([&before, &after]).is_disjoint(&spoken) {
                    assert_eq!(wanted, None, "estate {seed}: who is in a group hangs on it");
                    grouped += 1;
                }
                let Some(wanted) = wanted else { continue };
                assert!(spoken.is_subset(&wanted), "estate {seed}");
                for other in after.statements() {
                    if other.conditions().any(|condition| !asked(condition).is_disjoint(&spoken)) {
                        assert!(spoken_of(other, before.schema()).is_subset(&wanted), "estate {seed}");
                        asking += 1;
                    }
                }
                for action in wanted.ones() {
                    let mut needs = before.schema().actions[action].needs.iter();
                    assert!(needs.all(|need| wanted.contains(need.action.index())), "estate {seed}");
                }
                fewer += usize::from(wanted.count_ones(..) < before.schema().actions.len());
            }
        }
        assert!(fewer > all / 20, "of {all} statements, at {fewer} actions are left out");
        assert!(asking > 20 && grouped > 20, "{asking} statements ask, groups hang on {grouped}");
    }
}
