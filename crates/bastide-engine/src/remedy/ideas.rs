//! What could turn a decision, read off what it hangs on. Ideas may be wrong: they are tried.

use super::Wish;
use super::affinity::{alike, odd, stranger};
use super::idea::{Idea, charge};
use super::values::About;
use crate::change::{Change, ResourceCell, UserCell};
use crate::decide::place::{covers, reaches};
use crate::decide::{ReferenceEvaluator, targets};
use bastide_model::condition::*;
use bastide_model::groups::{Computed, Member};
use bastide_model::schema::Target;
use bastide_model::statement::Sort;
use bastide_model::*;
use fixedbitset::FixedBitSet;
use jiff::ToSpan;
use std::collections::BTreeMap;
use std::sync::Arc;

/// How far needs are followed.
const DEEPEST: usize = 6;
/// For how many days an ended statement is thought to go on.
const WINDOW_DAYS: i64 = 30;
/// Groups beneath a named one that are thought of.
const MOST_BENEATH: usize = 12;
/// So many places beside the resource get an entry at most.
const MOST_PLACES: usize = 8;

/// Everything that could help.
pub fn ideas(reference: &ReferenceEvaluator, harmless: &[String], wish: Wish) -> Vec<Idea> {
    let mut found = Vec::new();
    gather(reference, harmless, wish, 0, &mut found);
    found
}

fn gather<'j>(
    reference: &'j ReferenceEvaluator,
    harmless: &'j [String],
    wish: Wish,
    depth: usize,
    found: &mut Vec<Idea>,
) {
    let estate = reference.estate();
    let Wish { user, action, resource, wanted } = wish;
    if depth > DEEPEST || !estate.schema().fits(action, estate.catalog().kind(resource)) {
        return;
    }
    let about = About { reference, harmless, user, resource };
    if wanted {
        if !estate.people().is_active(user) {
            let change = Change::User(user, UserCell::Active, Some(Value::Flag(true)));
            let hint = Some("the account is not active".into());
            found.push(Idea { hint, mends: true, ..Idea::new(change, charge::ACTIVE) });
        }
        needs(reference, harmless, wish, depth, found);
    }
    let candidates = reference.candidates(resource);
    for candidate in &candidates.list {
        let statement = estate.statement(candidate.id);
        let speaks = statement.actions.contains(action.index()) != (statement.modality == Modality::MayOnly);
        if !speaks {
            continue;
        }
        let applies = reference.applies(candidate, user, resource);
        if statement.modality.permits() == wanted && !applies {
            let mut here = Vec::new();
            // Nobody joins a group in order to lose something.
            if wanted {
                begin(&about, &statement.who, &mut here, 0);
            }
            for condition in statement.conditions() {
                here.extend(turns(&about, condition, true, depth));
            }
            found.extend(here);
        }
        if statement.modality.permits() != wanted && applies {
            end(&about, candidate.id, depth, found);
        }
    }
    if wanted {
        // A layer above keeps what would permit from being weighed.
        if !estate.layers().is_empty() {
            for candidate in &candidates.list {
                let statement = estate.statement(candidate.id);
                if reference.controls(&candidates, statement) && statement.modality == Modality::May {
                    found.push(switch(estate, candidate.id, user));
                }
            }
        }
        elsewhere(reference, wish, found);
        give(reference, wish, found);
    } else {
        let assured = candidates.list.iter().any(|c| {
            let s = estate.statement(c.id);
            s.modality == Modality::MayAlways
                && s.actions.contains(action.index())
                && reference.applies(c, user, resource)
        });
        let modality = if assured { Modality::MayNever } else { Modality::MayNot };
        found.push(entry(estate, wish, modality, charge::KEEP_OUT));
    }
}

/// Values, memberships and decisions elsewhere that turn a condition.
fn turns(about: &About, condition: &Condition, wanted: bool, depth: usize) -> Vec<Idea> {
    let mut ideas = about.turn(condition, wanted);
    let reference = about.reference;
    for asked in condition.elsewhere() {
        match asked {
            Elsewhere::Group(group) => {
                let truth = reference.member(about.user, group);
                if truth != Truth::True {
                    join(about, group, &mut ideas, 0);
                }
                if truth != Truth::False {
                    leave(about, group, &mut ideas);
                }
            }
            Elsewhere::Decision(action, target) => {
                let at = match target {
                    HoldsTarget::Relative(target) => targets(reference.estate(), about.resource, target).found,
                    HoldsTarget::Place(place) => vec![place],
                    HoldsTarget::Nowhere => Vec::new(),
                };
                for resource in at {
                    let holds = reference.allows(about.user, action, resource);
                    let wish = Wish { user: about.user, action, resource, wanted: !holds };
                    gather(reference, about.harmless, wish, depth + 2, &mut ideas);
                }
            }
        }
    }
    ideas
}

/// What makes a who-clause mean the user.
fn begin(about: &About, who: &Who, found: &mut Vec<Idea>, level: usize) {
    let reference = about.reference;
    let meant =
        who.terms.iter().map(|t| reference.term(t, about.user, Some(about.resource))).fold(Truth::False, Truth::or);
    if meant == Truth::True {
        return;
    }
    for term in &who.terms {
        match term {
            Term::Members(group) => join(about, *group, found, level),
            Term::Owner => {
                let owner = Value::Text(reference.estate().people().id(about.user).into());
                let change = Change::Resource(about.resource, ResourceCell::Owner, Some(owner));
                let amount = if meant == Truth::Unknown { charge::JOIN } else { charge::RESOURCE_VALUE + 8 };
                found.push(Idea::new(change, amount));
            }
            _ => {}
        }
    }
}

/// What brings a user into a group.
fn join(about: &About, group: GroupId, found: &mut Vec<Idea>, level: usize) {
    let groups = about.reference.estate().groups();
    for inner in groups.beneath(group).into_iter().take(MOST_BENEATH) {
        match groups.computed(inner) {
            None => {
                let hint = alike(about.reference.estate(), about.user, inner);
                let amount = if hint.is_some() { charge::JOIN_ALIKE } else { charge::JOIN };
                // A group that holds only groups is an order of them: people join what it holds.
                let only_groups = groups.members(inner).iter().all(|m| matches!(m.member, Member::Group(_)));
                let amount = amount + if only_groups { 6 } else { 0 };
                let mends = hint.is_some();
                found.push(Idea { hint, mends, ..Idea::new(Change::Join(Member::User(about.user), inner), amount) });
            }
            Some(Computed::Who(who)) if level < 3 => {
                begin(about, who, found, level + 1);
                found.extend(who.condition.iter().flat_map(|c| turns(about, c, true, DEEPEST)));
            }
            Some(Computed::Holders(action, places)) if level < 3 => {
                for place in places.iter().take(2) {
                    let wish = Wish { user: about.user, action: *action, resource: *place, wanted: true };
                    gather(about.reference, about.harmless, wish, 3, found);
                }
            }
            _ => {}
        }
    }
}

/// What takes a user out of a group: each link of the chain that leads there.
fn leave(about: &About, group: GroupId, found: &mut Vec<Idea>) {
    let reference = about.reference;
    let groups = reference.estate().groups();
    let start = crate::access::computed_groups(reference, about.user);
    let Some(chain) = groups.chain(about.user, &start, group) else { return };
    let mut odd = odd_link(reference.estate(), about.user, &chain);
    for (i, group) in chain.iter().enumerate().filter(|(i, _)| is_near(*i, chain.len())) {
        let member = if i == 0 { Member::User(about.user) } else { Member::Group(chain[i - 1]) };
        if groups.origin(*group, member).is_some() {
            // The further up a link is cut, the more people it parts from the rest: the cost says so.
            let hint = odd.take_if(|(at, _)| *at == i).map(|(_, hint)| hint);
            let amount = if hint.is_some() { charge::LEAVE_ODD } else { charge::LEAVE + i as u32 };
            let mends = hint.is_some();
            found.push(Idea { hint, mends, ..Idea::new(Change::Leave(member, *group), amount) });
        } else if let Some(Computed::Who(who)) = groups.computed(*group) {
            let inner: Vec<GroupId> =
                who.terms.iter().filter_map(|t| if let Term::Members(g) = t { Some(*g) } else { None }).collect();
            inner.into_iter().for_each(|g| leave(about, g, found));
            found.extend(who.condition.iter().flat_map(|c| about.turn(c, false)));
        }
    }
}

/// Of a longer chain, so many links at each end are thought of.
const NEAR: usize = 10;

fn is_near(link: usize, links: usize) -> bool {
    link < NEAR || link + NEAR >= links
}

/// The link of a chain that is likeliest to be a mistake, and what speaks for that.
fn odd_link(estate: &Estate, user: UserId, chain: &[GroupId]) -> Option<(usize, String)> {
    let member = |i: usize| if i == 0 { Member::User(user) } else { Member::Group(chain[i - 1]) };
    let top = *chain.last()?;
    let among = |i: usize| stranger(estate, member(i), top).map(|hint| (i, hint));
    let links = || (0..chain.len()).rev().filter(|i| is_near(*i, chain.len()));
    links().find_map(among).or_else(|| links().find_map(|i| odd(estate, member(i), chain[i]).map(|hint| (i, hint))))
}

fn switch(estate: &Estate, id: StatementId, user: UserId) -> Idea {
    let statement = estate.statement(id);
    let amount = match (statement.sort, statement.who.terms.as_slice()) {
        (Sort::Entry, [Term::User(one)]) if *one == user => charge::OWN_ENTRY,
        (Sort::Entry, _) => charge::ENTRY,
        (Sort::Rule, [Term::User(one)]) if *one == user => charge::ENTRY,
        _ => charge::RULE_OFF,
    };
    let mends = amount == charge::OWN_ENTRY;
    Idea { mends, ..Idea::new(Change::Off(id), amount) }
}

/// An entry by which a guest may do something that changes things: likely a mistake as a whole.
fn given_to_guests(about: &About, id: StatementId) -> Option<Idea> {
    let (estate, user) = (about.reference.estate(), about.user);
    let statement = estate.statement(id);
    let guest = |user: usize| estate.people().kind(UserId::new(user)) == "guest";
    let harmless = |action: usize| about.harmless.contains(&estate.schema().actions[action].name);
    let [Term::Members(group)] = statement.who.terms.as_slice() else { return None };
    let members = estate.groups().users(*group);
    let all_guests = guest(user.index()) && members.ones().all(guest);
    if statement.sort != Sort::Entry
        || !statement.modality.permits()
        || !all_guests
        || statement.actions.ones().any(harmless)
    {
        return None;
    }
    let actions: Vec<&str> = statement.actions.ones().map(|a| estate.schema().actions[a].name.as_str()).collect();
    let hint = format!("it gives {} guests more than what is harmless: {}", members.count_ones(..), actions.join(", "));
    Some(Idea { hint: Some(hint), mends: true, ..Idea::new(Change::Off(id), charge::GUEST_ENTRY) })
}

/// What ends that a statement applies to the user.
fn end(about: &About, id: StatementId, depth: usize, found: &mut Vec<Idea>) {
    let estate = about.reference.estate();
    let statement = estate.statement(id);
    found.push(given_to_guests(about, id).unwrap_or_else(|| switch(estate, id, about.user)));
    for term in &statement.who.terms {
        match term {
            Term::Members(group) if about.reference.member(about.user, *group) != Truth::False => {
                leave(about, *group, found)
            }
            Term::Owner => {
                let change = Change::Resource(about.resource, ResourceCell::Owner, None);
                found.push(Idea::new(change, charge::RESOURCE_VALUE + 8));
            }
            _ => {}
        }
    }
    for condition in statement.conditions() {
        found.extend(turns(about, condition, false, depth));
    }
    if statement.sort == Sort::Rule {
        found.push(Idea::new(Change::Except(id, about.user), charge::EXCEPT));
    }
}

/// What is permitted but for a need: remedies of the need.
fn needs(reference: &ReferenceEvaluator, harmless: &[String], wish: Wish, depth: usize, found: &mut Vec<Idea>) {
    let estate = reference.estate();
    for need in &estate.schema().actions[wish.action.index()].needs {
        for resource in targets(estate, wish.resource, need.target).found {
            if !reference.allows(wish.user, need.action, resource) {
                let inner = Wish { action: need.action, resource, ..wish };
                gather(reference, harmless, inner, depth + 1, found);
            }
        }
    }
}

/// Statements that do not reach the resource today: those that are off, and those a barrier cuts off.
fn elsewhere(reference: &ReferenceEvaluator, wish: Wish, found: &mut Vec<Idea>) {
    let estate = reference.estate();
    let catalog = estate.catalog();
    let kind = catalog.kind(wish.resource);
    let today = reference.moment().date;
    let means_then = |s: &Statement| {
        s.modality.permits()
            && s.actions.contains(wish.action.index())
            && reference.who(&s.who, wish.user, Some(wish.resource)).is_true()
    };
    let means = |s: &Statement| s.in_date(today) && means_then(s);
    let mut cut: Vec<StatementId> = Vec::new();
    for (at, s) in estate.statements().iter().enumerate() {
        if s.off {
            if s.sort == Sort::Rule && covers(estate, s, wish.resource).is_some() && means(s) {
                found.push(Idea::new(Change::On(StatementId::new(at)), charge::RULE_ON));
            }
        } else if !s.in_date(today) {
            if covers(estate, s, wish.resource).is_some() && means_then(s) {
                let from = s.from.map(|from| from.min(today));
                let until = s.until.map(|until| until.max(today.saturating_add(WINDOW_DAYS.days())));
                let hint = match s.until {
                    Some(until) if until < today => format!("it ended on {until}"),
                    _ => format!("it begins on {}", s.from.unwrap_or(today)),
                };
                let change = Change::Window(StatementId::new(at), from, until);
                found.push(Idea { hint: Some(hint), mends: true, ..Idea::new(change, charge::WINDOW) });
            }
        } else if let Some(places) = &s.what.places
            && estate.schema().is_any(kind, s.what.kinds.as_deref())
            && covers(estate, s, wish.resource).is_none()
            && places.iter().any(|p| reaches(catalog, p, wish.resource))
            && means(s)
        {
            cut.push(StatementId::new(at));
        }
    }
    let depth = catalog.barrier_depths[wish.resource.index()];
    let barrier = catalog.upward(wish.resource).find(|r| catalog.depth(*r) == depth);
    if let Some(barrier) = barrier.filter(|_| !cut.is_empty()) {
        let change = Change::Resource(barrier, ResourceCell::Inherits, Some(Value::Flag(true)));
        found.push(Idea::new(change, charge::INHERIT));
        let mut actions = FixedBitSet::with_capacity(estate.schema().actions.len());
        own_needs(estate, wish.action, &mut actions);
        for id in cut {
            let s = estate.statement(id);
            for term in s.who.terms.iter().filter(|t| matches!(t, Term::Members(_))) {
                if !reference.term(term, wish.user, Some(wish.resource)).is_true() {
                    continue;
                }
                let entry =
                    crate::change::entry(term.clone(), Modality::May, actions.clone(), Some(barrier), Reach::Under);
                let name = catalog.name(barrier);
                let hint = format!("`{}` gives it above, and `{name}`, which does not inherit, cuts it off", s.name);
                let idea = Idea::new(Change::Give(Arc::new(entry)), charge::GIVE_AGAIN);
                found.push(Idea { hint: Some(hint), mends: true, ..idea });
            }
        }
    }
}

/// An entry for this user alone: on the resource, with what the action needs there; and on what lies
/// above it, where the way is closed.
fn give(reference: &ReferenceEvaluator, wish: Wish, found: &mut Vec<Idea>) {
    let estate = reference.estate();
    let mut actions = FixedBitSet::with_capacity(estate.schema().actions.len());
    own_needs(estate, wish.action, &mut actions);
    let lacking: Vec<usize> =
        actions.ones().filter(|a| !reference.allows(wish.user, ActionId::new(*a), wish.resource)).collect();
    let lacking: FixedBitSet = lacking.into_iter().collect();
    let make = |resource: ResourceId, actions: FixedBitSet| {
        let term = Term::User(wish.user);
        Change::Give(Arc::new(crate::change::entry(term, Modality::May, actions, Some(resource), Reach::At)))
    };
    let mut lacking = lacking;
    lacking.grow(estate.schema().actions.len());
    let first = make(wish.resource, lacking);
    found.push(Idea::new(first.clone(), charge::GIVE));
    // What it needs elsewhere, one entry a place, as far as that is closed to the user: the folders above, what it is
    // derived from, the workspace around it.
    let mut changes = vec![first];
    let mut needed: BTreeMap<ResourceId, FixedBitSet> = BTreeMap::new();
    let mut open: Vec<(ResourceId, ActionId)> = actions.ones().map(|a| (wish.resource, ActionId::new(a))).collect();
    while let Some((resource, action)) = open.pop() {
        for need in &estate.schema().actions[action.index()].needs {
            for place in targets(estate, resource, need.target).found {
                let known = needed.entry(place).or_insert_with(|| FixedBitSet::with_capacity(actions.len()));
                if known.contains(need.action.index()) || reference.allows(wish.user, need.action, place) {
                    continue;
                }
                known.insert(need.action.index());
                open.push((place, need.action));
            }
        }
    }
    needed.remove(&wish.resource);
    let mut places: Vec<(ResourceId, FixedBitSet)> = needed.into_iter().filter(|(_, a)| !a.is_clear()).collect();
    places.sort_by_key(|(place, _)| std::cmp::Reverse(estate.catalog().depth(*place)));
    changes.extend(places.into_iter().take(MOST_PLACES).map(|(place, actions)| make(place, actions)));
    if changes.len() > 1 {
        let amount = charge::GIVE + 8 * (changes.len() as u32 - 1);
        let hint = Some("the way to it is closed, too".into());
        found.push(Idea { changes, charge: amount, hint, mends: false });
    }
}

/// An action and what it needs on the resource itself.
fn own_needs(estate: &Estate, action: ActionId, actions: &mut FixedBitSet) {
    if actions.put(action.index()) {
        return;
    }
    for need in &estate.schema().actions[action.index()].needs {
        if need.target == Target::Own {
            own_needs(estate, need.action, actions);
        }
    }
}

fn entry(estate: &Estate, wish: Wish, modality: Modality, charge: u32) -> Idea {
    let mut actions = FixedBitSet::with_capacity(estate.schema().actions.len());
    actions.insert(wish.action.index());
    let term = Term::User(wish.user);
    let statement = crate::change::entry(term, modality, actions, Some(wish.resource), Reach::At);
    Idea::new(Change::Give(Arc::new(statement)), charge)
}
