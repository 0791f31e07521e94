//! Everything that is known of one user, group or resource.

use crate::decide::place::anchor;
use crate::explain::{Met, StatementRef, of_resource, of_user, signed_in};
use crate::snapshot::Snapshot;
use bastide_model::condition::{Condition, Elsewhere, Term, Test};
use bastide_model::groups::{Computed, Member};
use bastide_model::show;
use bastide_model::*;

/// What one asks about.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Subject {
    /// A user.
    User(UserId),
    /// A group.
    Group(GroupId),
    /// A resource.
    Resource(ResourceId),
}

/// What is known.
#[derive(Debug)]
pub struct Known {
    /// `user`, `group` or `resource`.
    pub sort: String,
    /// Its id.
    pub id: String,
    /// Its name; of a resource its path.
    pub name: String,
    /// File and line.
    pub place: Option<String>,
    /// Facts: what it is called and what it is.
    pub facts: Vec<(String, String)>,
    /// Its attributes, and where each value comes from.
    pub attributes: Vec<Met>,
    /// Of a user and a group the groups it is directly in; each with file and line.
    pub groups: Vec<(String, String)>,
    /// Of a group its direct members; each with file and line.
    pub members: Vec<(String, String)>,
    /// Rules and entries that name it, or reach it by place.
    pub statements: Vec<StatementRef>,
    /// Of a resource how many users may do what.
    pub allowed: Vec<(String, usize)>,
}

/// Gathers it.
pub fn known(snapshot: &Snapshot, subject: Subject) -> Known {
    let mut known = Known {
        sort: String::new(),
        id: String::new(),
        name: String::new(),
        place: None,
        facts: Vec::new(),
        attributes: Vec::new(),
        groups: Vec::new(),
        members: Vec::new(),
        statements: Vec::new(),
        allowed: Vec::new(),
    };
    match subject {
        Subject::User(user) => of_one(snapshot, user, &mut known),
        Subject::Group(group) => of_group(snapshot, group, &mut known),
        Subject::Resource(resource) => of_place(snapshot, resource, &mut known),
    }
    known
}

fn fact(known: &mut Known, name: &str, value: impl ToString) {
    known.facts.push((name.to_string(), value.to_string()));
}

fn yes(is: bool) -> &'static str {
    if is { "yes" } else { "no" }
}

/// The groups that something is directly in.
fn groups_of(estate: &Estate, member: Member) -> Vec<(String, String)> {
    let holding = estate.groups().all().filter_map(|group| {
        let origin = estate.groups().origin(group, member)?;
        Some((estate.groups().id(group).to_string(), estate.place(origin)))
    });
    holding.collect()
}

/// Statements that name something in their terms or ask for it in a condition.
fn naming(estate: &Estate, term: &Term, asks: &dyn Fn(&Test) -> bool) -> Vec<StatementRef> {
    let asked = |c: &Condition| {
        let mut found = false;
        c.visit(&mut |inner| found |= asks(&inner.test));
        found
    };
    let all = StatementId::all(estate.statements().len()).map(|id| (id, estate.statement(id)));
    let naming = all.filter(|(_, s)| s.who.terms.contains(term) || s.conditions().any(asked));
    naming.map(|(id, _)| StatementRef::new(estate, id)).collect()
}

fn of_one(snapshot: &Snapshot, user: UserId, known: &mut Known) {
    let estate = snapshot.estate();
    let people = estate.people();
    known.sort = "user".to_string();
    (known.id, known.name) = (people.id(user).to_string(), people.name(user).to_string());
    known.place = Some(estate.place(people.origin(user)));
    fact(known, "kind", people.kind(user));
    fact(known, "active", yes(people.is_active(user)));
    if let Some(realm) = people.realms().get(user.index()) {
        fact(known, "realm", estate.schema().show(realm));
    }
    let owned = estate.catalog().all().filter(|r| estate.catalog().owner(*r).flatten() == Some(user)).count();
    fact(known, "owns", owned);
    for (at, attribute) in estate.schema().user_attributes.iter().enumerate() {
        let id = UserAttributeId::new(at);
        let value = people.attributes()[at].get(user.index()).map(|value| estate.schema().show(value));
        known.attributes.push(Met { name: attribute.name.clone(), value, from: of_user(estate, id, user) });
    }
    known.attributes.extend(signed_in(estate, snapshot.moment(), user));
    known.groups = groups_of(estate, Member::User(user));
    known.statements = naming(estate, &Term::User(user), &|_| false);
}

fn of_group(snapshot: &Snapshot, group: GroupId, known: &mut Known) {
    let estate = snapshot.estate();
    let groups = estate.groups();
    known.sort = "group".to_string();
    known.id = groups.id(group).to_string();
    known.name = groups.name(group).to_string();
    if let Some(body) = groups.computed(group) {
        let words = match body {
            Computed::Who(who) => show::who(estate, who),
            Computed::Holders(action, places) => format!(
                "holders of {} on {}",
                estate.schema().actions[action.index()].name,
                places.iter().map(|p| format!("`{}`", estate.catalog().path(*p))).collect::<Vec<_>>().join(", ")
            ),
        };
        fact(known, "computed", words);
    }
    // Who is in a computed group, or in one that holds such, is asked of each.
    let (members, perhaps) = match groups.through(group).is_empty() {
        true => (groups.users(group).ones().map(UserId::new).collect(), 0),
        false => {
            let reference = snapshot.reference();
            let truths: Vec<(UserId, Truth)> = estate.people().all().map(|u| (u, reference.member(u, group))).collect();
            let members: Vec<UserId> = truths.iter().filter(|(_, t)| t.is_true()).map(|(u, _)| *u).collect();
            (members, truths.iter().filter(|(_, t)| *t == Truth::Unknown).count())
        }
    };
    fact(known, "members, nested ones among them", members.len());
    if perhaps > 0 {
        fact(known, "of whom it cannot be said", perhaps);
    }
    for kind in schema::USER_KINDS {
        let number = members.iter().filter(|u| estate.people().kind(**u) == kind).count();
        if number > 0 {
            fact(known, kind, number);
        }
    }
    let inactive = members.iter().filter(|u| !estate.people().is_active(**u)).count();
    fact(known, "inactive", inactive);
    for membership in groups.members(group) {
        let member = match membership.member {
            Member::User(user) => estate.people().id(user).to_string(),
            Member::Group(inner) => format!("group:{}", groups.id(inner)),
        };
        known.members.push((member, estate.place(membership.origin)));
    }
    known.groups = groups_of(estate, Member::Group(group));
    let asks = |test: &Test| test.elsewhere() == Some(Elsewhere::Group(group));
    known.statements = naming(estate, &Term::Members(group), &asks);
}

fn of_place(snapshot: &Snapshot, resource: ResourceId, known: &mut Known) {
    let estate = snapshot.estate();
    let catalog = estate.catalog();
    let row = resource.index();
    known.sort = "resource".to_string();
    (known.id, known.name) = (catalog.id(resource).to_string(), catalog.path(resource));
    known.place = Some(estate.place(catalog.origins[row]));
    fact(known, "kind", &estate.schema().kinds[catalog.kind(resource).index()].name);
    if let Some(parent) = catalog.parent(resource) {
        fact(known, "lies in", catalog.path(parent));
    }
    if let Some(owner) = catalog.owners.get(row) {
        fact(known, "owner", estate.schema().show(owner));
    }
    if let Some(state) = catalog.states.get(row) {
        fact(known, "state", estate.schema().show(state));
    }
    fact(known, "inherits", yes(!catalog.barriers.contains(row)));
    for source in catalog.sources(resource) {
        match source {
            Source::Resource(source) => fact(known, "derived from", catalog.path(*source)),
            Source::Missing(id) => fact(known, "derived from", format!("{id}, which does not exist")),
        }
    }
    fact(known, "holds", catalog.children(resource).count());
    fact(known, "beneath it", catalog.subtree(resource).len() - 1);
    for (at, attribute) in estate.schema().resource_attributes.iter().enumerate() {
        if !estate.schema().is_any(catalog.kind(resource), attribute.kinds.as_deref()) {
            continue;
        }
        let id = ResourceAttributeId::new(at);
        let value = catalog.attributes[at].get(row).map(|value| estate.schema().show(value));
        known.attributes.push(Met { name: attribute.name.clone(), value, from: of_resource(estate, id, resource) });
    }
    let mut engine = snapshot.evaluator();
    let reaching = |id: &StatementId| {
        let s = estate.statement(*id);
        let live = s.is_on() && s.in_date(snapshot.moment().date);
        live && estate.schema().is_any(catalog.kind(resource), s.what.kinds.as_deref())
            && (s.what.places.is_none() || anchor(estate, s, resource).is_some())
    };
    let reaching = StatementId::all(estate.statements().len()).filter(reaching);
    known.statements = reaching.map(|id| StatementRef::new(estate, id)).collect();
    let mut allowed = engine.nobody();
    for action in ActionId::all(estate.schema().actions.len()) {
        if estate.schema().fits(action, catalog.kind(resource)) {
            engine.allowed(resource, action, &mut allowed);
            known.allowed.push((estate.schema().actions[action.index()].name.clone(), allowed.count_ones(..)));
        }
    }
}
