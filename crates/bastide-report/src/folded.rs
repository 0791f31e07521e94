//! Who can do what where: the lines of the searchable table.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use bastide_answers::explain::StatementRef;
use bastide_audit::Case;
use bastide_engine::Snapshot;
use bastide_engine::access::{LedgerLine, ledger};
use bastide_model::*;
use hashbrown::HashMap;
use serde::Serialize;

/// The catalog is cut so deep that the table has no more places than this.
pub(crate) const MOST_PLACES: usize = 400;
/// So many names stand in a line; of the others only the number.
const MOST_NAMES: usize = 3;

/// How the catalog is cut into places.
pub(crate) struct Cut {
    /// Of each resource, the position of its place.
    pub of: Vec<u32>,
    /// The places.
    pub places: Vec<ResourceId>,
}

impl Cut {
    /// Containers down to a depth. Without one, the deepest cut, of three levels at most, that gives no
    /// more than so many places.
    pub fn new(estate: &Estate, depth: Option<u16>, most: usize) -> Cut {
        let catalog = estate.catalog();
        // Only what can hold something is a place; an item counts to its container.
        let holds = |r: ResourceId| !catalog.is_leaf(r) || catalog.depth(r) == 1;
        let upto = |depth: u16| catalog.all().filter(|r| catalog.depth(*r) <= depth && holds(*r)).count();
        let deepest = catalog.depths.iter().copied().max().unwrap_or(1);
        let depth = depth.unwrap_or_else(|| (1..=deepest.min(3)).rev().find(|d| upto(*d) <= most).unwrap_or(1));
        let mut cut = Cut { of: vec![0; catalog.len()], places: Vec::new() };
        for resource in catalog.all() {
            cut.of[resource.index()] = if catalog.depth(resource) <= depth && holds(resource) {
                cut.places.push(resource);
                cut.places.len() as u32 - 1
            } else {
                catalog.parent(resource).map_or(0, |parent| cut.of[parent.index()])
            };
        }
        cut
    }
}

/// The table.
#[derive(Serialize)]
pub struct Folded {
    /// Everybody active.
    pub people: Vec<PersonRef>,
    /// The actions, in declared order.
    pub actions: Vec<String>,
    /// Whether each action is harmless.
    pub harmless: Vec<bool>,
    /// The kinds.
    pub kinds: Vec<String>,
    /// The places.
    pub places: Vec<Place>,
    /// The statements that decide anything.
    pub statements: Vec<StatementRef>,
    /// The sets of people: what they are called, how many they are, and who.
    pub sets: Vec<(String, usize, Who)>,
    /// The lines.
    pub lines: Vec<Line>,
}

/// Who is in a set, in whichever form is shorter: where hardly anybody has the same access as somebody else, there are very many
/// sets of one.
#[derive(Serialize)]
#[serde(untagged)]
pub enum Who {
    /// Their positions among `people`.
    Listed(Vec<usize>),
    /// A bit for each of `people` in base64, the lowest bit of a byte first.
    Bits(String),
}

impl Who {
    /// `users` are in ascending order; `position` says where each stands among so many people.
    fn new(users: &[UserId], position: &[usize], people: usize) -> Who {
        let bytes = people.div_ceil(8);
        let listed = users.iter().map(|user| position[user.index()]);
        // A position has at most as many digits as their number, and a comma.
        let digits = people.max(1).ilog10() as usize + 2;
        if users.len() * digits <= bytes.div_ceil(3) * 4 {
            return Who::Listed(listed.collect());
        }
        let mut bits = vec![0u8; bytes];
        listed.for_each(|at| bits[at / 8] |= 1 << (at % 8));
        Who::Bits(STANDARD.encode(bits))
    }
}

/// Somebody.
#[derive(Serialize)]
pub struct PersonRef {
    /// The id.
    pub id: String,
    /// The name.
    pub name: String,
    /// `person`, `guest` or `service`.
    pub kind: &'static str,
}

/// A place.
#[derive(Serialize)]
pub struct Place {
    /// Its path.
    pub path: String,
    /// Its kind.
    pub kind: String,
}

/// A line, as short as can be: there may be very many.
#[derive(Serialize)]
pub struct Line {
    /// The position of the place.
    pub p: u32,
    /// The position of the kind.
    pub k: usize,
    /// On how many resources.
    pub n: usize,
    /// Of how many.
    pub m: usize,
    /// The position of the set of people.
    pub s: usize,
    /// Whether it is said of the owners alone.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub o: bool,
    /// Whether it is said of all of them but whoever owns the resource.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub x: bool,
    /// The positions of the actions.
    pub a: Vec<usize>,
    /// The reason's word.
    pub r: &'static str,
    /// The position of the statement.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by: Option<usize>,
    /// An example: the position of a person, and a resource's path.
    pub e: (usize, String),
}

/// Everybody's access, folded.
pub(crate) fn fold(case: &Case, snapshot: &Snapshot, cut: &Cut) -> Folded {
    let estate = snapshot.estate();
    let (people, catalog, schema) = (estate.people(), estate.catalog(), estate.schema());
    let found = ledger(snapshot, &|r| cut.of[r.index()], true);
    let active: Vec<UserId> = people.all().filter(|u| people.is_active(*u)).collect();
    let mut position = vec![usize::MAX; people.len()];
    active.iter().enumerate().for_each(|(at, user)| position[user.index()] = at);
    let names = Names::new(estate, &active);
    let mut statements: Vec<StatementRef> = Vec::new();
    let mut known: HashMap<StatementId, usize> = HashMap::new();
    let mut statement = |id: StatementId| {
        *known.entry(id).or_insert_with(|| {
            statements.push(StatementRef::from(&bastide_engine::explain::StatementRef::new(estate, id)));
            statements.len() - 1
        })
    };
    let line = |line: &LedgerLine, by: Option<usize>| Line {
        p: line.section,
        k: line.kind.index(),
        n: line.resources,
        m: found.sizes[&(line.section, line.kind)],
        s: line.set,
        o: line.owners,
        x: line.others,
        a: line.actions.iter().map(|a| a.index()).collect(),
        r: line.reason.word(),
        by,
        e: (position[line.user.index()], catalog.path(line.resource)),
    };
    let lines: Vec<Line> = found.lines.iter().map(|l| line(l, l.by.map(&mut statement))).collect();
    let sets =
        found.sets.iter().map(|users| (names.of(estate, users), users.len(), Who::new(users, &position, active.len())));
    Folded {
        sets: sets.collect(),
        lines,
        actions: schema.actions.iter().map(|a| a.name.clone()).collect(),
        harmless: ActionId::all(schema.actions.len()).map(|a| case.is_harmless(a)).collect(),
        kinds: schema.kinds.iter().map(|k| k.name.clone()).collect(),
        places: cut
            .places
            .iter()
            .map(|r| Place { path: catalog.path(*r), kind: schema.kinds[catalog.kind(*r).index()].name.clone() })
            .collect(),
        statements,
        people: active
            .iter()
            .map(|u| PersonRef {
                id: people.id(*u).to_string(),
                name: people.name(*u).to_string(),
                kind: people.kind(*u),
            })
            .collect(),
    }
}

/// What sets of people are called.
struct Names {
    everybody: usize,
    groups: HashMap<Vec<UserId>, String>,
}

impl Names {
    fn new(estate: &Estate, active: &[UserId]) -> Names {
        let mut groups: HashMap<Vec<UserId>, String> = HashMap::new();
        for group in estate.groups().all() {
            let members = estate.groups().users(group);
            let users: Vec<UserId> = active.iter().copied().filter(|u| members.contains(u.index())).collect();
            if users.len() > 1 {
                let name = format!("members of {}", estate.groups().id(group));
                groups.entry(users).and_modify(|known| *known = known.clone().min(name.clone())).or_insert(name);
            }
        }
        Names { everybody: active.len(), groups }
    }

    fn of(&self, estate: &Estate, users: &[UserId]) -> String {
        let name = |u: &UserId| {
            let name = estate.people().name(*u);
            if name.is_empty() { estate.people().id(*u).to_string() } else { name.to_string() }
        };
        if users.len() == self.everybody {
            return "everybody".to_string();
        }
        if let Some(group) = self.groups.get(users) {
            return group.clone();
        }
        let first: Vec<String> = users.iter().take(MOST_NAMES).map(name).collect();
        match users.len().saturating_sub(MOST_NAMES) {
            0 => first.join(", "),
            more => format!("{} and {more} more", first.join(", ")),
        }
    }
}
