//! Names in the tables of an estate: which cell names what.

use crate::desk::Desk;
use bastide_formats::Loaded;
use bastide_formats::csv_table::{Cells, CsvTable};
use bastide_formats::manifest::Format;
use bastide_model::schema::elements_of;
use bastide_syntax::tree::Domain;
use bastide_syntax::{Diagnostics, FileId};
use std::ops::Range;

/// What a cell, or a part of one, names.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Sort {
    /// A user.
    User,
    /// A group.
    Group,
    /// A kind.
    Kind,
    /// An action or a role.
    Item,
    /// A place, by its id.
    Place,
    /// The name of the place with this id.
    PlaceName(String),
    /// An attribute, in the head of a table.
    Attribute(Domain),
    /// A value of an attribute.
    Value(Domain, String),
}

/// A name in a table.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Use {
    /// What it names.
    pub sort: Sort,
    /// The name.
    pub name: String,
    /// The bytes it takes.
    pub range: Range<usize>,
    /// Whether it may be replaced where it stands: it is written there as it is.
    pub plain: bool,
    /// Whether a record of its own says that it is there.
    pub declares: bool,
}

/// What a table holds.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
enum Holds {
    People,
    Groups,
    Catalog,
    Entries,
    Users,
}

/// The tables that are CSV, each with what it holds.
fn csv(loaded: &Loaded) -> impl Iterator<Item = (FileId, Holds)> {
    let tables = &loaded.tables;
    let lists = [
        (&tables.people, Holds::People),
        (&tables.groups, Holds::Groups),
        (&tables.catalog, Holds::Catalog),
        (&tables.entries, Holds::Entries),
    ];
    let known: Vec<(FileId, Format, Holds)> = lists
        .into_iter()
        .flat_map(|(list, holds)| list.iter().map(move |(file, format)| (*file, *format, holds)))
        .collect();
    let all = (0..loaded.sources.len()).map(|at| FileId(at as u32));
    let others: Vec<(FileId, Holds)> = all
        .filter(|file| loaded.sources.name(*file).ends_with(".csv") && !known.iter().any(|(known, ..)| known == file))
        .map(|file| (file, Holds::Users))
        .collect();
    let csv = known.into_iter().filter(|(_, format, _)| *format == Format::Csv).map(|(file, _, holds)| (file, holds));
    csv.chain(others)
}

/// The files with people, groups, content or entries that are no CSV: what they name cannot be changed here.
pub fn others(loaded: &Loaded) -> Vec<FileId> {
    let tables = &loaded.tables;
    let all = [&tables.people, &tables.groups, &tables.catalog, &tables.entries];
    all.into_iter().flatten().filter(|(_, format)| *format != Format::Csv).map(|(file, _)| *file).collect()
}

/// The name at a byte of a table.
pub fn at(desk: &Desk, file: FileId, byte: usize) -> Option<Use> {
    let loaded = desk.loaded()?;
    let (_, holds) = csv(loaded).find(|(known, _)| *known == file)?;
    let mut found = None;
    // Only the line in question, and the head, are looked at closely.
    each(loaded, file, holds, Some(byte), &mut |one| {
        if one.range.start <= byte && byte <= one.range.end {
            found = found.take().or(Some(one));
        }
    });
    found
}

/// Every name in every table. Cost: all tables once.
pub fn all(desk: &Desk, take: &mut dyn FnMut(FileId, Use)) {
    let Some(loaded) = desk.loaded() else { return };
    for (file, holds) in csv(loaded) {
        each(loaded, file, holds, None, &mut |one| take(file, one));
    }
}

fn each(loaded: &Loaded, file: FileId, holds: Holds, only: Option<usize>, take: &mut dyn FnMut(Use)) {
    let text = loaded.sources.text(file);
    let mut out = Diagnostics::new();
    let Some(mut table) = CsvTable::open(file, text, &mut out) else { return };
    let columns = loaded.tables.columns.get(&file);
    let ours = |theirs: &str| {
        let mapped = columns.and_then(|all| all.iter().find(|(known, _)| known == theirs));
        mapped.map_or_else(|| theirs.to_string(), |(_, ours)| ours.clone())
    };
    let names: Vec<String> = table.header.iter().map(|cell| ours(&cell.text)).collect();
    let domain = match holds {
        Holds::People => Some((Domain::User, &bastide_model::schema::PEOPLE_COLUMNS[..])),
        Holds::Catalog => Some((Domain::Resource, &bastide_model::schema::CATALOG_COLUMNS[..])),
        Holds::Groups | Holds::Entries | Holds::Users => None,
    };
    for (cell, ours) in table.header.iter().zip(&names) {
        if let Some((domain, _)) = domain.filter(|(_, fixed)| !fixed.contains(&ours.as_str())) {
            let plain = text[cell.span.range()] == cell.text && *ours == cell.text;
            let range = cell.span.range();
            take(Use { sort: Sort::Attribute(domain), name: ours.clone(), range, plain, declares: false });
        }
    }
    let id = names.iter().position(|name| name == "id");
    let mut row = table.row();
    while table.next(&mut row, &mut out) {
        let place = row.place();
        if only.is_some_and(|byte| byte < place.start as usize || byte > place.end as usize) {
            continue;
        }
        for (column, ours) in names.iter().enumerate() {
            let (cell, span) = (row.text(column), row.span(column).range());
            if cell.is_empty() {
                continue;
            }
            let mut whole = |sort: Sort, skip: usize, declares: bool| {
                let written = &text[span.clone()];
                // A cell in quotes is plain between them, where nothing in it is doubled.
                let (range, plain) = match written.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')) {
                    Some(inner) => (span.start + 1 + skip..span.end - 1, inner == cell),
                    None => (span.start + skip..span.end, written == cell),
                };
                let range = if plain { range } else { span.clone() };
                take(Use { sort, name: cell[skip..].to_string(), range, plain, declares });
            };
            let group = |cell: &str| cell.strip_prefix("group:").is_some().then_some("group:".len());
            let user = |cell: &str| cell.strip_prefix("user:").is_some().then_some("user:".len());
            match (holds, ours.as_str()) {
                (Holds::People, "id") => whole(Sort::User, 0, true),
                (Holds::Groups, "group") => whole(Sort::Group, 0, true),
                (Holds::Groups, "member") => match group(cell) {
                    Some(skip) => whole(Sort::Group, skip, false),
                    None => whole(Sort::User, 0, false),
                },
                (Holds::Catalog, "id") => whole(Sort::Place, 0, true),
                (Holds::Catalog, "parent") if !loaded.tables.by_path.contains(&file) => whole(Sort::Place, 0, false),
                (Holds::Catalog, "kind") => whole(Sort::Kind, 0, false),
                (Holds::Catalog, "owner") => whole(Sort::User, 0, false),
                (Holds::Catalog, "name") => {
                    if let Some(id) = id {
                        whole(Sort::PlaceName(row.text(id).to_string()), 0, false);
                    }
                }
                (Holds::Catalog, "inherits" | "sources") | (Holds::People, "name" | "kind" | "active" | "realm") => {}
                (Holds::Entries, "subject") => match (group(cell), user(cell)) {
                    (Some(skip), _) => whole(Sort::Group, skip, false),
                    (_, Some(skip)) => whole(Sort::User, skip, false),
                    (None, None) => {}
                },
                (Holds::Entries, "place") => whole(Sort::Place, 0, false),
                (Holds::Entries, "actions") => elements(text, &span, cell, &Sort::Item, take),
                (Holds::Users, "user") => whole(Sort::User, 0, false),
                (Holds::Users, "action") => whole(Sort::Item, 0, false),
                (Holds::Users, "resource") => whole(Sort::Place, 0, false),
                (Holds::People | Holds::Catalog, _) => {
                    let domain = if holds == Holds::People { Domain::User } else { Domain::Resource };
                    elements(text, &span, cell, &Sort::Value(domain, ours.clone()), take);
                }
                (Holds::Groups | Holds::Entries | Holds::Users, _) => {}
            }
        }
    }
}

/// The elements of a set, each where it stands in its cell.
fn elements(text: &str, span: &Range<usize>, cell: &str, sort: &Sort, take: &mut dyn FnMut(Use)) {
    let mut at = span.start;
    for element in elements_of(cell) {
        let Some(found) = text.get(at..span.end).and_then(|rest| rest.find(&*element)) else { return };
        let range = at + found..at + found + element.len();
        at = range.end;
        take(Use { sort: sort.clone(), name: element.into_owned(), range, plain: true, declares: false });
    }
}
