//! What came and went between two estates read by themselves: users, groups, memberships, resources and entries, and whose
//! values are others now. Cost: linear in both, and a text for every value.

use crate::change::entry_cells;
use bastide_model::groups::Member;
use bastide_model::schema::Attribute;
use bastide_model::statement::Sort;
use bastide_model::{Estate, ResourceId, Value};
use hashbrown::HashMap;
use std::fmt::Write;

/// How one sort of data moved.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Movement {
    /// `users`, `groups`, `memberships`, `resources` or `entries`.
    pub of: String,
    /// Only in the later estate.
    pub come: Moved,
    /// Only in the earlier one.
    pub gone: Moved,
    /// In both, with other values.
    pub changed: Moved,
}

/// How many, and some of them by name, in order.
#[derive(Clone, Default, PartialEq, Eq, Debug)]
pub struct Moved {
    /// How many.
    pub count: usize,
    /// The first of them.
    pub some: Vec<String>,
}

impl Movement {
    /// Whether nothing moved.
    pub fn is_still(&self) -> bool {
        self.come.count + self.gone.count + self.changed.count == 0
    }
}

/// What moved from one estate to the other, with at most so many names a list. Where there was none, everything comes.
pub fn movements(before: Option<&Estate>, after: &Estate, most: usize) -> Vec<Movement> {
    let sorts: [(&str, Reader); 5] = [
        ("users", users),
        ("groups", groups),
        ("memberships", memberships),
        ("resources", resources),
        ("entries", entries),
    ];
    sorts
        .into_iter()
        .map(|(of, rows)| movement(of, before.map_or_else(TableRows::default, rows), rows(after), most))
        .collect()
}

/// Gathers the rows of one sort.
type Reader = fn(&Estate) -> TableRows;

/// What tells a row, what it is called, and all that it says; a row may stand there several times.
type TableRows = HashMap<String, (String, Vec<String>)>;

fn movement(of: &str, mut before: TableRows, after: TableRows, most: usize) -> Movement {
    let (mut come, mut changed) = (Vec::new(), Vec::new());
    for (key, (name, says)) in after {
        match before.remove(&key) {
            None => come.extend(says.iter().map(|_| name.clone())),
            Some((_, said)) if said == says => {}
            Some((_, said)) => {
                let (more, fewer) = (says.len().saturating_sub(said.len()), said.len().saturating_sub(says.len()));
                come.extend((0..more).map(|_| name.clone()));
                // What is left over of the earlier ones goes.
                if fewer > 0 {
                    before.insert(key, (name.clone(), vec![String::new(); fewer]));
                }
                if more + fewer == 0 {
                    changed.push(name);
                }
            }
        }
    }
    let gone = before.into_values().flat_map(|(name, says)| says.into_iter().map(move |_| name.clone()));
    let moved = |mut names: Vec<String>| {
        names.sort();
        Moved { count: names.len(), some: names.into_iter().take(most).collect() }
    };
    Movement { of: of.to_string(), come: moved(come), gone: moved(gone.collect()), changed: moved(changed) }
}

fn put(rows: &mut TableRows, key: String, name: String, says: String) {
    let (_, said) = rows.entry(key).or_insert_with(|| (name, Vec::new()));
    said.push(says);
}

/// Values as one text that no two lists of values have in common.
struct Says(String);

impl Says {
    fn value(&mut self, name: &str, value: &str) {
        // Names and values are told apart by their lengths.
        let _ = write!(self.0, "{}:{name}{}:{value}", name.len(), value.len());
    }
}

/// The positions of attributes in the order of their names, which need not be the one in which they are declared.
fn by_name(attributes: &[Attribute]) -> Vec<usize> {
    let mut order: Vec<usize> = (0..attributes.len()).collect();
    order.sort_by_key(|at| &attributes[*at].name);
    order
}

fn users(estate: &Estate) -> TableRows {
    let (people, schema) = (estate.people(), estate.schema());
    let order = by_name(&schema.user_attributes);
    let mut rows = TableRows::default();
    for user in people.all() {
        let at = user.index();
        let mut says = Says(String::new());
        says.value("name", people.name(user));
        says.value("kind", people.kind(user));
        says.value("active", if people.is_active(user) { "yes" } else { "no" });
        says.value("realm", &people.realms().get(at).map_or(String::new(), |realm| schema.show(realm)));
        for &number in &order {
            if let Some(value) = people.attributes()[number].get(at) {
                says.value(&schema.user_attributes[number].name, &schema.show(value));
            }
        }
        for (id, column) in people.sign_ins() {
            if let Some(value) = column.get(at) {
                says.value(&format!("session.{}", schema.session_attributes[id.index()].name), &schema.show(value));
            }
        }
        put(&mut rows, people.id(user).to_string(), people.id(user).to_string(), says.0);
    }
    rows
}

fn groups(estate: &Estate) -> TableRows {
    let groups = estate.groups();
    let mut rows = TableRows::default();
    for group in groups.all().filter(|group| groups.computed(*group).is_none()) {
        let name = groups.name(group).to_string();
        put(&mut rows, groups.id(group).to_string(), groups.id(group).to_string(), name);
    }
    rows
}

fn memberships(estate: &Estate) -> TableRows {
    let (groups, people) = (estate.groups(), estate.people());
    let mut rows = TableRows::default();
    for group in groups.all() {
        for membership in groups.members(group) {
            let member = match membership.member {
                Member::User(user) => people.id(user).to_string(),
                Member::Group(inner) => format!("group:{}", groups.id(inner)),
            };
            let of = groups.id(group);
            let (key, name) = (format!("{:?}", (of, &member)), format!("{member} in {of}"));
            // Whoever stands in a group twice is in it once.
            rows.entry(key).or_insert_with(|| (name, vec![String::new()]));
        }
    }
    rows
}

fn resources(estate: &Estate) -> TableRows {
    let catalog = estate.catalog();
    let order = by_name(&estate.schema().resource_attributes);
    let mut rows = TableRows::default();
    for resource in catalog.all() {
        let id = catalog.id(resource).to_string();
        put(&mut rows, id.clone(), id, values(estate, resource, &order));
    }
    rows
}

/// What a resource says of itself. What it has from others is theirs.
fn values(estate: &Estate, resource: ResourceId, order: &[usize]) -> String {
    let (catalog, schema) = (estate.catalog(), estate.schema());
    let at = resource.index();
    let shown = |value: Option<&Value>| value.map_or(String::new(), |value| schema.show(value));
    let mut says = Says(String::new());
    says.value("name", catalog.name(resource));
    says.value("parent", catalog.parent(resource).map_or("", |parent| catalog.id(parent)));
    says.value("kind", &schema.kinds[catalog.kind(resource).index()].name);
    says.value("owner", &shown(catalog.owners.get(at)));
    says.value("state", &shown(catalog.states.get(at)));
    says.value("inherits", if catalog.barriers.contains(at) { "no" } else { "yes" });
    for of in catalog.sources(resource) {
        says.value("source", &source(estate, of));
    }
    for &number in order {
        let own = catalog.own.get(number).and_then(Option::as_ref);
        let column = own.or_else(|| catalog.attributes.get(number));
        if let Some(value) = column.and_then(|column| column.get(at)) {
            says.value(&schema.resource_attributes[number].name, &schema.show(value));
        }
    }
    says.0
}

fn source(estate: &Estate, source: &bastide_model::Source) -> String {
    match source {
        bastide_model::Source::Resource(resource) => estate.catalog().id(*resource).to_string(),
        bastide_model::Source::Missing(name) => name.to_string(),
    }
}

fn entries(estate: &Estate) -> TableRows {
    let mut rows = TableRows::default();
    for statement in estate.statements().iter().filter(|s| s.sort == Sort::Entry) {
        let mut cells = entry_cells(estate, statement);
        let day = |day: Option<jiff::civil::Date>| day.map_or(String::new(), |day| day.to_string());
        cells.extend([day(statement.from), day(statement.until)]);
        let layer = statement.layer.map_or(String::new(), |layer| format!("{layer:?}"));
        let shown: Vec<&str> = cells.iter().map(String::as_str).filter(|cell| !cell.is_empty()).collect();
        put(&mut rows, format!("{cells:?}{layer}"), shown.join(" "), String::new());
    }
    rows
}
