//! What came and went between two estates read by themselves: users, groups, memberships, resources and entries, and whose
//! values are others now. Cost: linear in both, and a text for every value.

use crate::change::{cell_text, entry_cells};
use bastide_model::groups::Member;
use bastide_model::statement::Sort;
use bastide_model::{Estate, ResourceId};
use hashbrown::HashMap;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

/// How one sort of data moved.
#[derive(Clone, PartialEq, Eq, Debug, Serialize, JsonSchema)]
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
#[derive(Clone, Default, PartialEq, Eq, Debug, Serialize, JsonSchema)]
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
    let sorts: [(&str, fn(&Estate) -> Rows); 5] = [
        ("users", users),
        ("groups", groups),
        ("memberships", memberships),
        ("resources", resources),
        ("entries", entries),
    ];
    sorts
        .into_iter()
        .map(|(of, rows)| movement(of, before.map_or_else(Rows::default, rows), rows(after), most))
        .collect()
}

/// What tells a row, what it is called, and all that it says; a row may stand there several times.
type Rows = HashMap<String, (String, Vec<String>)>;

fn movement(of: &str, mut before: Rows, after: Rows, most: usize) -> Movement {
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

fn put(rows: &mut Rows, key: String, name: String, says: String) {
    let (_, said) = rows.entry(key).or_insert_with(|| (name, Vec::new()));
    said.push(says);
}

/// Cells as one text that no two lists of cells have in common.
fn text(cells: BTreeMap<String, String>) -> String {
    format!("{cells:?}")
}

fn users(estate: &Estate) -> Rows {
    let (people, schema) = (&estate.people, &estate.schema);
    let mut rows = Rows::default();
    for user in people.all() {
        let at = user.index();
        let mut cells: BTreeMap<String, String> = [
            ("name", people.name(user).to_string()),
            ("kind", people.kind(user).to_string()),
            ("active", people.is_active(user).to_string()),
            ("realm", cell_text(schema, &people.realms.get(at).cloned())),
        ]
        .map(|(name, value)| (format!("user {name}"), value))
        .into();
        for (attribute, column) in schema.user_attributes.iter().zip(&people.attributes) {
            cells.extend(column.get(at).map(|value| (attribute.name.clone(), schema.show(value))));
        }
        put(&mut rows, people.id(user).to_string(), people.id(user).to_string(), text(cells));
    }
    rows
}

fn groups(estate: &Estate) -> Rows {
    let groups = &estate.groups;
    let mut rows = Rows::default();
    for group in groups.all().filter(|group| groups.computed[group.index()].is_none()) {
        let name = groups.names.get(group.index()).to_string();
        put(&mut rows, groups.id(group).to_string(), groups.id(group).to_string(), name);
    }
    rows
}

fn memberships(estate: &Estate) -> Rows {
    let (groups, people) = (&estate.groups, &estate.people);
    let mut rows = Rows::default();
    for group in groups.all() {
        for membership in &groups.members[group.index()] {
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

fn resources(estate: &Estate) -> Rows {
    let catalog = &estate.catalog;
    let mut rows = Rows::default();
    for resource in catalog.all() {
        put(
            &mut rows,
            catalog.id(resource).to_string(),
            catalog.id(resource).to_string(),
            text(values(estate, resource)),
        );
    }
    rows
}

/// What a resource says of itself. What it has from others is theirs.
fn values(estate: &Estate, resource: ResourceId) -> BTreeMap<String, String> {
    let (catalog, schema) = (&estate.catalog, &estate.schema);
    let at = resource.index();
    let id = |resource: ResourceId| catalog.id(resource).to_string();
    let mut cells: BTreeMap<String, String> = [
        ("name", catalog.name(resource).to_string()),
        ("parent", catalog.parent(resource).map_or(String::new(), id)),
        ("kind", schema.kinds[catalog.kind(resource).index()].name.clone()),
        ("owner", cell_text(schema, &catalog.owners.get(at).cloned())),
        ("state", cell_text(schema, &catalog.states.get(at).cloned())),
        ("inherits", (!catalog.barriers.contains(at)).to_string()),
        ("sources", format!("{:?}", catalog.sources(resource).iter().map(|s| source(estate, s)).collect::<Vec<_>>())),
    ]
    .map(|(name, value)| (format!("resource {name}"), value))
    .into();
    for (number, attribute) in schema.resource_attributes.iter().enumerate() {
        let own = catalog.own.get(number).and_then(Option::as_ref);
        let column = own.or_else(|| catalog.attributes.get(number));
        let value = column.and_then(|column| column.get(at));
        cells.extend(value.map(|value| (attribute.name.clone(), schema.show(value))));
    }
    cells
}

fn source(estate: &Estate, source: &bastide_model::catalog::Source) -> String {
    match source {
        bastide_model::catalog::Source::Resource(resource) => estate.catalog.id(*resource).to_string(),
        bastide_model::catalog::Source::Missing(name) => name.to_string(),
    }
}

fn entries(estate: &Estate) -> Rows {
    let mut rows = Rows::default();
    for statement in estate.statements.iter().filter(|s| s.sort == Sort::Entry) {
        let mut cells = entry_cells(estate, statement);
        let day = |day: Option<jiff::civil::Date>| day.map_or(String::new(), |day| day.to_string());
        cells.extend([day(statement.from), day(statement.until)]);
        let layer = statement.layer.map_or(String::new(), |layer| format!("{layer:?}"));
        let shown: Vec<&str> = cells.iter().map(String::as_str).filter(|cell| !cell.is_empty()).collect();
        put(&mut rows, format!("{cells:?}{layer}"), shown.join(" "), String::new());
    }
    rows
}
