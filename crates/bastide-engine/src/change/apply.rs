//! From an estate and changes to the estate after them.

use super::{Change, ChangeError, ResourceCell, UserCell};
use bastide_model::condition::{Condition, Operand, Test, UserField};
use bastide_model::groups::{Groups, Member, Membership};
use bastide_model::schema::USER_KINDS;
use bastide_model::statement::{Comparison, Sort, Statement};
use bastide_model::*;
use bastide_resolve::derived::barrier_depths;
use bastide_resolve::derived::fill;
use bastide_resolve::derived::travelled;
use bastide_resolve::derived::{computed_cycles, cycle_text};
use bastide_syntax::{FileId, Span};
use std::collections::BTreeMap;
use std::sync::Arc;

/// The name of the file that statements and memberships stand in which only a change has made.
pub(super) const TRIED: &str = "(tried)";

/// The estate after the changes, one after the other. The first is left as it is.
///
/// # Errors
/// The first change that cannot be made, by its position.
pub fn apply(estate: &Estate, changes: &[Change]) -> Result<Estate, (usize, ChangeError)> {
    let mut after = estate.clone();
    let mut regrouped = false;
    let mut open = Open::default();
    for (i, change) in changes.iter().enumerate() {
        if let Err(error) = make(&mut after, (i, change), &mut open) {
            // Something before it may not be possible, either.
            open.close(&mut after)?;
            return Err((i, error));
        }
        regrouped |= matches!(change, Change::Join(..) | Change::Leave(..));
    }
    open.close(&mut after)?;
    if regrouped {
        let users = after.people().len();
        let groups = after.groups_mut();
        groups.close(users);
        if let Some(cycle) = computed_cycles(groups).first() {
            let last = changes.iter().rposition(|c| matches!(c, Change::Join(..))).unwrap_or(0);
            return Err((last, ChangeError::Circle(cycle_text(groups, cycle))));
        }
        if let Some(attribute) = after.schema().member_of {
            let groups = Arc::clone(after.groups());
            after.people_mut().hold_groups(attribute, &groups);
        }
    }
    Ok(after)
}

/// The file of what only a change has made.
pub(super) fn tried(estate: &mut Estate) -> Origin {
    Origin { file: estate.file(TRIED), line: 0 }
}

fn make(estate: &mut Estate, (position, change): (usize, &Change), open: &mut Open) -> Result<(), ChangeError> {
    match change {
        Change::Off(id) => switch(estate, *id, true),
        Change::On(id) => switch(estate, *id, false),
        Change::Window(id, from, until) => {
            let statement = estate.statement_mut(*id);
            (statement.from, statement.until) = (*from, *until);
            Ok(())
        }
        Change::Actions(id, actions) => {
            let statement = estate.statement_mut(*id);
            statement.actions.clear();
            actions.iter().for_each(|a| statement.actions.insert(a.index()));
            statement.everything = false;
            Ok(())
        }
        Change::Join(member, group) => join(estate, *member, *group),
        Change::Leave(member, group) => leave(estate, *member, *group),
        Change::User(user, cell, value) => set_user(estate, *user, *cell, value.clone()),
        Change::Resource(resource, cell, value) => {
            open.set_resource(estate, (position, *resource), *cell, value.clone())
        }
        Change::Give(statement) => {
            let origin = tried(estate);
            let mut statement = Statement::clone(statement);
            statement.origin = origin;
            estate.add_entry(statement);
            Ok(())
        }
        Change::Except(id, user) => except(estate, *id, *user),
    }
}

fn switch(estate: &mut Estate, id: StatementId, off: bool) -> Result<(), ChangeError> {
    let statement = estate.statement(id);
    if statement.off == off {
        let word = if off { "off" } else { "on" };
        return Err(ChangeError::Already(format!("`{}` is {word} already", statement.name)));
    }
    if !off && statement.sort == Sort::Entry {
        return Err(ChangeError::Absent(format!("`{}` is an entry, which is there or not", statement.name)));
    }
    estate.statement_mut(id).off = off;
    Ok(())
}

fn shown(estate: &Estate, member: Member) -> String {
    match member {
        Member::User(user) => format!("user `{}`", estate.people().id(user)),
        Member::Group(group) => format!("group `{}`", estate.groups().id(group)),
    }
}

/// A group's members, to be changed: not where they are computed.
fn groups(estate: &mut Estate, group: GroupId) -> Result<&mut Groups, ChangeError> {
    match estate.groups().computed(group) {
        Some(_) => Err(ChangeError::Computed(estate.groups().id(group).to_string())),
        None => Ok(estate.groups_mut()),
    }
}

fn join(estate: &mut Estate, member: Member, group: GroupId) -> Result<(), ChangeError> {
    let origin = tried(estate);
    let (who, id) = (shown(estate, member), estate.groups().id(group).to_string());
    if member == Member::Group(group) {
        return Err(ChangeError::Circle(format!("{who} cannot be a member of itself")));
    }
    match groups(estate, group)?.join(group, Membership { member, origin }) {
        true => Ok(()),
        false => Err(ChangeError::Already(format!("{who} is a member of `{id}` already"))),
    }
}

fn leave(estate: &mut Estate, member: Member, group: GroupId) -> Result<(), ChangeError> {
    let (who, id) = (shown(estate, member), estate.groups().id(group).to_string());
    match groups(estate, group)?.leave(group, member) {
        true => Ok(()),
        false => Err(ChangeError::Absent(format!("{who} is no direct member of `{id}`"))),
    }
}

fn set_user(estate: &mut Estate, user: UserId, cell: UserCell, value: Option<Value>) -> Result<(), ChangeError> {
    let schema = Arc::clone(estate.schema());
    let people = estate.people_mut();
    let (row, rows) = (user.index(), people.len());
    let missing = |name: &str| ChangeError::Required(format!("a user has no missing `{name}`"));
    match cell {
        UserCell::Active => match value {
            Some(Value::Flag(active)) => {
                people.set_active(user, active);
            }
            _ => return Err(missing("active")),
        },
        UserCell::Kind => match value {
            Some(Value::Text(kind)) if USER_KINDS.contains(&&*kind) => {
                let at = USER_KINDS.iter().position(|k| *k == &*kind).expect("just seen");
                people.set_kind(user, at as u8);
            }
            _ => return Err(missing("kind")),
        },
        UserCell::Realm => {
            people.set_realm(user, value);
        }
        UserCell::Attribute(id) if schema.member_of == Some(id) => {
            return Err(ChangeError::Filled(schema.user_attributes[id.index()].name.clone()));
        }
        UserCell::Attribute(id) => {
            let attribute = &schema.user_attributes[id.index()];
            let column = people.attribute_mut(id);
            let code = value.map(|v| column.intern(v));
            column.set_code(row, rows, code);
            fill(column, attribute, rows, |r| r == row);
            if attribute.required && column.get(row).is_none_or(Value::is_empty_set) {
                let message = format!("user `{}` must have a `{}`", people.id(UserId::new(row)), attribute.name);
                return Err(ChangeError::Required(message));
            }
        }
    }
    Ok(())
}

/// What follows from changes of resources, and is worked out once for all of them.
#[derive(Default)]
struct Open {
    barriers: bool,
    /// By attribute, the changes by their positions and what they set it on.
    attributes: BTreeMap<usize, Vec<(usize, ResourceId)>>,
}

impl Open {
    fn set_resource(
        &mut self,
        estate: &mut Estate,
        (position, resource): (usize, ResourceId),
        cell: ResourceCell,
        value: Option<Value>,
    ) -> Result<(), ChangeError> {
        if let Some(dataset) = estate.dataset_around(resource) {
            return Err(ChangeError::NotHere(format!(
                "`{}` lies inside `{}`: what it is follows from the data there",
                estate.catalog().name(resource),
                estate.catalog().path(dataset)
            )));
        }
        let schema = Arc::clone(estate.schema());
        let people = Arc::clone(estate.people());
        let catalog = estate.catalog_mut();
        let (row, rows) = (resource.index(), catalog.len());
        match cell {
            ResourceCell::Owner => {
                let code = value.map(|v| {
                    let owner = if let Value::Text(id) = &v { people.find(id) } else { None };
                    let code = catalog.owners.intern(v);
                    if code as usize == catalog.owner_users.len() {
                        catalog.owner_users.push(owner);
                    }
                    code
                });
                catalog.owners.set_code(row, rows, code);
            }
            ResourceCell::State => {
                let code = value.map(|v| catalog.states.intern(v));
                catalog.states.set_code(row, rows, code);
            }
            ResourceCell::Inherits => {
                let inherits = !matches!(value, Some(Value::Flag(false)));
                catalog.barriers.grow(rows);
                catalog.barriers.set(row, !inherits);
                self.barriers = true;
            }
            ResourceCell::Attribute(id) => {
                let attribute = &schema.resource_attributes[id.index()];
                let kind = catalog.kind(resource);
                if !schema.is_any(kind, attribute.kinds.as_deref()) {
                    let kind = &schema.kinds[kind.index()].name;
                    return Err(ChangeError::NotHere(format!("`{}` is no attribute of kind `{kind}`", attribute.name)));
                }
                let Catalog { own, attributes, .. } = catalog;
                let column = own[id.index()].as_mut().unwrap_or(&mut attributes[id.index()]);
                let code = value.map(|v| column.intern(v));
                column.set_code(row, rows, code);
                self.attributes.entry(id.index()).or_default().push((position, resource));
            }
        }
        Ok(())
    }

    /// Lets values travel, and sees whether all that must be there is.
    fn close(self, estate: &mut Estate) -> Result<(), (usize, ChangeError)> {
        if !self.barriers && self.attributes.is_empty() {
            return Ok(());
        }
        let schema = Arc::clone(estate.schema());
        let catalog = estate.catalog_mut();
        if self.barriers {
            catalog.barrier_depths = Arc::new(barrier_depths(catalog));
        }
        let mut missing: Option<(usize, ChangeError)> = None;
        for (at, set) in self.attributes {
            let attribute = &schema.resource_attributes[at];
            let own = catalog.own[at].clone().unwrap_or_else(|| catalog.attributes[at].clone());
            let has = |r: usize| schema.is_any(catalog.kinds[r], attribute.kinds.as_deref());
            let column = travelled(own, attribute, catalog, has);
            if attribute.required {
                let lacks =
                    |(_, resource): &&(usize, ResourceId)| column.get(resource.index()).is_none_or(Value::is_empty_set);
                if let Some((position, resource)) = set.iter().find(lacks)
                    && missing.as_ref().is_none_or(|(first, _)| position < first)
                {
                    let id = catalog.labels.id(resource.index());
                    let message = format!("resource `{id}` must have a `{}`", attribute.name);
                    missing = Some((*position, ChangeError::Required(message)));
                }
            }
            catalog.attributes[at] = column;
        }
        missing.map_or(Ok(()), Err)
    }
}

/// `user.id != "..."` in addition to what the who-clause asks.
fn except(estate: &mut Estate, id: StatementId, user: UserId) -> Result<(), ChangeError> {
    let value = Value::Text(estate.people().id(user).into());
    let statement = estate.statement_mut(id);
    if statement.sort == Sort::Entry {
        return Err(ChangeError::NotHere(format!("`{}` is an entry, which has no conditions", statement.name)));
    }
    let span: Span = statement.who.condition.as_ref().map_or(Span { file: FileId(0), start: 0, end: 0 }, |c| c.span);
    let test = Test::Compare {
        left: Operand::User(UserField::Id),
        comparison: Comparison::NotEqual,
        right: Operand::Literal(value),
        caseless: false,
    };
    let exception = Condition { test, span };
    statement.who.condition = Some(match statement.who.condition.take() {
        None => exception,
        Some(before) => Condition { test: Test::And(vec![before, exception]), span },
    });
    Ok(())
}
