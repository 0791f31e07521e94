//! From a name to where it is declared, to everywhere it stands, and to another name.

use crate::desk::Desk;
use crate::lines::Encoding;
use crate::publish::changes;
use crate::subject::{self, Subject, of_mention, subject_of};
use crate::tables;
use bastide_engine::difference::{difference, radius};
use bastide_engine::{Snapshot, find};
use bastide_formats::manifest;
use bastide_model::catalog::PathPattern;
use bastide_model::{Estate, Moment, Origin};
use bastide_syntax::mentions::{Mention, Sort, mentions};
use bastide_syntax::{Diagnostics, FileId, Span, quote};
use jiff::civil::Date;
use lsp_types as lsp;
use std::collections::BTreeMap;
use std::ops::Range;

/// A place where a name stands.
#[derive(Clone, Debug)]
pub struct Place {
    /// The file.
    pub file: FileId,
    /// The bytes.
    pub range: Range<usize>,
    /// Whether it is declared there.
    pub declares: bool,
    /// How the new name is written there; none where it cannot be written.
    pub writes: Option<Writes>,
}

/// How a name is written.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Writes {
    /// As the policy language writes names.
    Name,
    /// As a cell of a table, or a part of one.
    Cell,
    /// As a segment of a path.
    Segment,
    /// As a text of the manifest.
    Toml,
}

/// Everywhere something stands. Cost: the policy, and all tables once.
pub fn places(desk: &Desk, wanted: &Subject) -> Vec<Place> {
    let Some(estate) = desk.names() else { return Vec::new() };
    let wanted = &together(desk, wanted);
    let is_wanted = |subject: Option<Subject>| subject.is_some_and(|subject| wanted.contains(&subject));
    let mut found = Vec::new();
    for tree in desk.trees() {
        for mention in mentions(tree) {
            match (&wanted[0], mention.sort) {
                (Subject::Place(id), Sort::Path) => found.extend(segment(desk, estate, &mention, id)),
                _ if is_wanted(of_mention(estate, &mention)) => {
                    let (file, range) = (mention.span.file, mention.span.range());
                    let writes = (mention.sort != Sort::Id).then_some(Writes::Name);
                    found.push(Place { file, range, declares: mention.declares, writes });
                }
                _ => {}
            }
        }
    }
    tables::all(desk, &mut |file, one| {
        if !is_wanted(subject_of(estate, &one)) {
            return;
        }
        // The id of a place stays when its name changes.
        let is_id = matches!(one.sort, tables::Sort::Place);
        let writes = (one.plain && !is_id).then_some(Writes::Cell);
        found.push(Place { file, range: one.range, declares: one.declares, writes });
    });
    found.extend(in_manifest(desk, &wanted[0]));
    found
}

/// What is declared together under one name: `attribute site of user, item`.
fn together(desk: &Desk, wanted: &Subject) -> Vec<Subject> {
    let mut all = vec![wanted.clone()];
    let Subject::Attribute(_, name) = wanted else { return all };
    let declared: Vec<Mention> =
        desk.trees().iter().flat_map(mentions).filter(|mention| mention.declares && mention.name == name).collect();
    // Two domains may be joined by a third.
    for _ in 0..3 {
        for one in &declared {
            let Sort::Attribute(domain) = one.sort else { continue };
            let beside = declared.iter().filter(|other| other.span == one.span);
            let joined = beside.into_iter().any(|other| match other.sort {
                Sort::Attribute(domain) => all.contains(&Subject::Attribute(domain, name.clone())),
                _ => false,
            });
            let subject = Subject::Attribute(domain, name.clone());
            if joined && !all.contains(&subject) {
                all.push(subject);
            }
        }
    }
    all
}

/// Where the manifest speaks of an attribute.
fn in_manifest(desk: &Desk, wanted: &Subject) -> Vec<Place> {
    let (Subject::Attribute(_, name), Some(file)) = (wanted, desk.file(manifest::NAME)) else { return Vec::new() };
    let Some(text) = desk.sources().map(|sources| sources.text(file)) else { return Vec::new() };
    let read = manifest::read(file, text, &mut Diagnostics::new());
    let sources = read.people.iter().chain(&read.groups).chain(&read.catalog).chain(&read.entries);
    let mapped = sources.flat_map(|source| &source.attributes).filter(|(_, ours)| ours.text == *name);
    mapped
        .map(|(_, ours)| Place { file, range: ours.span.range(), declares: false, writes: Some(Writes::Toml) })
        .collect()
}

/// The segment of a path that names a place.
fn segment(desk: &Desk, estate: &Estate, mention: &Mention, id: &str) -> Option<Place> {
    let place = estate.catalog().find(id)?;
    // A root has the depth 1, and is the first segment.
    let depth = usize::from(estate.catalog().depth(place)).checked_sub(1)?;
    let pattern = PathPattern::new(mention.name);
    if pattern.segments.len() <= depth {
        return None;
    }
    let text = desk.sources()?.text(mention.span.file);
    let (start, end) = (mention.span.start as usize + 1, mention.span.end as usize - 1);
    let (mut cuts, mut escaped) = (vec![start], false);
    for (at, c) in text[start..end].char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '/' => cuts.push(start + at + 1),
            _ => {}
        }
    }
    let upto = cuts.get(depth + 1).map_or(end, |next| next - 1);
    let above = PathPattern::new(&text[start..upto]);
    if above.is_wild() || estate.catalog().matching(&above) != [place] {
        return None;
    }
    let range = cuts[depth]..upto;
    Some(Place { file: mention.span.file, range, declares: false, writes: Some(Writes::Segment) })
}

/// Where something is declared, or where the data says that it is there.
pub fn declared(desk: &Desk, wanted: &Subject, encoding: Encoding) -> Vec<lsp::Location> {
    let Some(estate) = desk.names() else { return Vec::new() };
    let mut found: Vec<lsp::Location> = Vec::new();
    for tree in desk.trees() {
        let here = mentions(tree).into_iter().filter(|m| m.declares && of_mention(estate, m).as_ref() == Some(wanted));
        let here: Vec<Span> = here.map(|mention| mention.span).collect();
        found.extend(here.into_iter().filter_map(|span| desk.location(span, encoding)));
    }
    found.dedup();
    let line = |origin: Origin, name: &str| {
        let sources = desk.sources()?;
        let (from, text) = sources.line(origin.file, origin.line);
        let at = text.find(name);
        let start = from as usize + at.unwrap_or(0);
        let end = if at.is_some() { start + name.len() } else { from as usize + text.len() };
        desk.location(Span::new(origin.file, start, end), encoding)
    };
    match wanted {
        Subject::User(id) => {
            let user = estate.people().find(id);
            found.extend(user.and_then(|user| line(estate.people().origin(user), id)));
        }
        Subject::Place(id) => {
            let place = subject::resource(estate, id);
            found.extend(place.and_then(|place| line(estate.catalog().origins[place.index()], id)));
        }
        Subject::Group(id) if found.is_empty() => {
            let first = find::group(estate, id).ok().and_then(|group| estate.groups().members(group).first());
            found.extend(first.and_then(|member| line(member.origin, id)));
        }
        _ => {}
    }
    found
}

/// Gives something another name, everywhere.
///
/// # Errors
/// Why that cannot be done.
pub fn rename(
    desk: &Desk,
    wanted: &Subject,
    new: &str,
    today: Date,
    encoding: Encoding,
) -> Result<lsp::WorkspaceEdit, String> {
    let (what, old) = wanted.words();
    let loaded = desk.loaded().filter(|_| desk.is_whole());
    let Some((loaded, estate)) = loaded.and_then(|loaded| Some((loaded, desk.names()?))) else {
        return Err("nothing is renamed while the estate has errors".to_string());
    };
    if new.trim() != new || new.is_empty() {
        return Err("a name has no blanks at its ends, and is not empty".to_string());
    }
    if let Some((why, better)) = bastide_model::tidy::untidy(new) {
        return Err(format!("the name {why}: write `{better}`"));
    }
    if let Subject::Finding(_) = wanted {
        return Err("findings have the names that Bastide gives them".to_string());
    }
    let all = places(desk, wanted);
    // What other files hold cannot be changed here, and would be left behind.
    for file in tables::others(loaded) {
        let holds = match wanted {
            Subject::User(id) => origin_in(estate.people().find(id).map(|u| estate.people().origin(u)), file),
            Subject::Place(id) => {
                let place = subject::resource(estate, id);
                origin_in(place.map(|place| estate.catalog().origins[place.index()]), file)
            }
            Subject::Group(id) => {
                let group = estate.groups().find(id);
                let members = group.iter().flat_map(|group| estate.groups().members(*group));
                members.into_iter().any(|member| member.origin.file == file)
                    || loaded.sources.text(file).contains(id.as_str())
            }
            Subject::Attribute(..) | Subject::Kind(_) | Subject::Value(..) => loaded.sources.text(file).contains(old),
            Subject::Action(_) | Subject::Role(_) => loaded.sources.text(file).contains(old),
            Subject::Type(_) | Subject::Persona(_) | Subject::Rule(_) => false,
            Subject::Expectation(_) | Subject::Guarantee(_) | Subject::Finding(_) => false,
        };
        if holds {
            let name = loaded.sources.name(file);
            return Err(format!("{what} `{old}` stands in `{name}`, an export that is not changed here"));
        }
    }
    let mut edits: BTreeMap<FileId, Vec<(Range<usize>, String)>> = BTreeMap::new();
    for place in all {
        if matches!(wanted, Subject::Place(_)) && place.writes.is_none() {
            continue;
        }
        let Some(writes) = place.writes else {
            let at = loaded.sources.place(Span::new(place.file, place.range.start, place.range.end));
            return Err(format!("{at}: `{old}` is written there in a way that is not changed here"));
        };
        if loaded.sources.is_hidden(place.file) {
            let name = loaded.sources.name(place.file);
            return Err(format!("`{old}` stands in `{name}`, which lies outside of the estate"));
        }
        let text = match writes {
            Writes::Name => quote::name(new),
            Writes::Segment => new.replace('\\', "\\\\").replace('/', "\\/").replace('*', "\\*").replace('"', "\\\""),
            Writes::Toml => serde_json::to_string(new).map_err(|error| error.to_string())?,
            Writes::Cell if new.contains([',', ';', '"', '\t', '|', '\n']) => {
                return Err("a name in a table has no separators and no quotes".to_string());
            }
            Writes::Cell => new.to_string(),
        };
        edits.entry(place.file).or_default().push((place.range, text));
    }
    if edits.is_empty() {
        return Err(format!("{what} `{old}` stands nowhere that could be changed"));
    }
    edits.values_mut().for_each(|list| {
        list.sort_by_key(|(range, _)| range.start);
        list.dedup();
    });
    agrees(desk, wanted, &edits, today)?;
    let mut told = Vec::new();
    for (file, list) in edits {
        let (text, uri) =
            (loaded.sources.text(file), desk.uri(file).ok_or("a file has no name that a client could open")?);
        let lines = crate::lines::Lines::new(text, encoding);
        let edit = |(range, new_text)| lsp::TextEdit { range: lines.range(text, range), new_text };
        told.push((uri, list.into_iter().map(edit).collect()));
    }
    Ok(changes(told))
}

fn origin_in(origin: Option<Origin>, file: FileId) -> bool {
    origin.is_some_and(|origin| origin.file == file)
}

/// Whether the estate with the edits says the same: no mistake comes, and nobody's access changes.
fn agrees(
    desk: &Desk,
    wanted: &Subject,
    edits: &BTreeMap<FileId, Vec<(Range<usize>, String)>>,
    today: Date,
) -> Result<(), String> {
    let Some(loaded) = desk.loaded() else { return Ok(()) };
    let mut texts: bastide_formats::write::Texts = desk.overlay();
    for (file, list) in edits {
        let mut text = loaded.sources.text(*file).to_string();
        for (range, new) in list.iter().rev() {
            text.replace_range(range.clone(), new);
        }
        texts.insert(loaded.sources.name(*file).to_string(), text);
    }
    let after = bastide_formats::load_as_of(&desk.root, &texts, today).map_err(|refused| refused.to_string())?;
    let Some(estate) = &after.estate else {
        let first = after.diagnostics.iter().find(|d| d.is_error()).map(|d| d.message.clone());
        return Err(format!("with this name the estate would have errors: {}", first.unwrap_or_default()));
    };
    let known =
        |code: &str| loaded.diagnostics.iter().filter(|d| d.code.name == code).map(|d| 1 + d.more).sum::<usize>();
    for one in &after.diagnostics {
        let now: usize = after.diagnostics.iter().filter(|d| d.code.name == one.code.name).map(|d| 1 + d.more).sum();
        if now > known(one.code.name) {
            return Err(format!("with this name there would be something new to say: {}", one.message));
        }
    }
    let moment = Moment::on(today, estate.schema());
    let circles = |_| "decisions would depend on themselves".to_string();
    let after = Snapshot::new(estate, &moment).map_err(circles)?;
    let Some(before) = desk.snapshot(today) else { return Ok(()) };
    // Users and actions are told from each other by their names: what one loses by its old name, it gains by the new one.
    let comparable = !matches!(wanted, Subject::User(_) | Subject::Action(_));
    let same = before.estate().people().len() == estate.people().len()
        && before.estate().catalog().len() == estate.catalog().len()
        && before.estate().schema().actions.len() == estate.schema().actions.len();
    if !same {
        return Err("with this name something else would be meant".to_string());
    }
    if comparable {
        let changed = radius(&difference(before, &after, None)).triples();
        if changed > 0 {
            return Err(format!("with this name the access to {changed} triples would change"));
        }
    }
    Ok(())
}
