//! An estate whose catalog comes in parts: everything but the parts is linked once, and each part is put into it by itself.
//!
//! A part stands on its own: what its resources lie in and are made of is in it or in the frame. So what is decided in it is
//! what would be decided in the whole catalog. Whatever hangs on all parts together (an entry about a resource that is in
//! none, a restriction that compares with a value that nobody has any more) is gathered while parts are looked at, and told
//! once all were ([`Frame::finish`]).

use crate::{Data, Entries, Parts, Typing, data, entries, groups, lost, put, scope, settled};
use bastide_model::rows::{CatalogRows, EntryRow};
use bastide_model::{Estate, Schema, Statement};
use bastide_syntax::codes::Code;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Severity, Span, codes, tree};
use hashbrown::HashMap;
use std::sync::Arc;

/// Everything of an estate but the parts of its catalog.
pub struct Frame {
    data: Data,
    schema: Schema,
    trees: Vec<tree::File>,
    entries: Vec<EntryRow>,
    hollow: Vec<&'static Code>,
    levels: Vec<(&'static Code, Severity)>,
    base: Estate,
}

/// What was met while parts were looked at.
#[derive(Clone, Default)]
pub struct Met {
    /// By entry, in how many of the frame and the parts the resource is that it speaks of.
    entries: Vec<u32>,
    /// What restrictions have lost, by its place, and in how many.
    lost: HashMap<Span, (u32, Diagnostic)>,
    /// What entries of parts have lost, where that is no error.
    warned: HashMap<Span, Diagnostic>,
    /// How many parts were looked at, the frame among them.
    looked_at: u32,
}

impl Met {
    /// Takes in what was met elsewhere.
    pub fn join(&mut self, other: Met) {
        self.looked_at += other.looked_at;
        self.warned.extend(other.warned);
        if self.entries.is_empty() {
            self.entries = other.entries;
        } else {
            self.entries.iter_mut().zip(other.entries).for_each(|(own, more)| *own += more);
        }
        for (span, (count, told)) in other.lost {
            self.lost.entry(span).or_insert((0, told)).0 += count;
        }
    }

    /// Takes note of a part: which entries speak of it, and what restrictions have lost in it.
    fn look(&mut self, entries: &[u32], lost: Vec<Diagnostic>) {
        self.looked_at += 1;
        self.entries = entries.to_vec();
        for told in lost {
            let Some(span) = told.place else { continue };
            self.lost.entry(span).or_insert((0, told)).0 += 1;
        }
    }
}

impl Frame {
    /// Links everything; the catalog of `parts` is what no part holds. None where there is an error, which is told.
    pub fn new(mut parts: Parts, lines: &(dyn Fn(Span) -> u32 + Sync), said: &mut Diagnostics) -> Option<(Frame, Met)> {
        let (hollow, levels) = (parts.hollow.clone(), parts.levels.clone());
        let rows = std::mem::take(&mut parts.entries);
        let (schema, trees, mut data) = data(parts, lines, said);
        let found = data.entries_among(&schema, &rows, said);
        data.entries = found.statements;
        let groups = Arc::clone(&data.groups);
        let base = data.policy(schema.clone(), &trees, groups, &data.hurt, lines, said, Typing::Part);
        let mut met = Met::default();
        met.look(&found.met, data.lost_values(&base));
        settled(&hollow, &levels, said);
        let frame = Frame { data, schema, trees, entries: rows, hollow, levels, base };
        (!said.iter().any(Diagnostic::is_error)).then_some((frame, met))
    }

    /// The estate without any part.
    pub fn base(&self) -> &Estate {
        &self.base
    }

    /// The estate with one part, whose rows stand behind those of the frame in `rows` and come from the file `part`, and what
    /// was met in it. `files`: the names of all files of it. None where there is an error, which is told. Warnings are not: they
    /// speak of an estate that is not whole.
    pub fn part(
        &self,
        rows: CatalogRows,
        part: FileId,
        files: Vec<String>,
        lines: &(dyn Fn(Span) -> u32 + Sync),
        said: &mut Diagnostics,
    ) -> Option<(Estate, Met)> {
        let people = Arc::clone(&self.data.people);
        let catalog = crate::catalog::build(rows, &self.schema, &people, &[part], said);
        let mut data = Data {
            name: self.data.name.clone(),
            files,
            combining: self.data.combining,
            layers: self.data.layers.clone(),
            people,
            groups: Arc::clone(&self.data.groups),
            catalog: Arc::new(catalog),
            apart: vec![part],
            insides: Arc::clone(&self.data.insides),
            entries: Vec::new(),
            used: Default::default(),
            hurt: Vec::new(),
            suggested: self.data.suggested.clone(),
            lost: self.data.lost,
            today: self.data.today,
        };
        if data.groups.bodies().next().is_some() {
            // They may name resources, which have other numbers here.
            let mut moved = (*data.groups).clone();
            let scope = data.scope(&self.schema, &data.people, &data.groups, &[]);
            let computed = groups::computed(&scope, &self.trees, said);
            data.hurt = put(computed, &mut moved);
            data.groups = Arc::new(moved);
        }
        let found = data.entries_among(&self.schema, &self.entries, said);
        data.entries = found.statements;
        let groups = Arc::clone(&data.groups);
        let (schema, trees) = (self.schema.clone(), &self.trees);
        let estate = data.policy(schema, trees, groups, &data.hurt, lines, said, Typing::Part);
        let mut met = Met::default();
        met.look(&found.met, data.lost_values(&estate));
        settled(&self.hollow, &self.levels, said);
        // Every command repeats what restrictions have lost.
        let lost = said.iter().filter(|one| *one.code == codes::LOST_RESTRICTION && !one.is_error());
        met.warned.extend(lost.filter_map(|one| Some((one.place?, one.clone()))));
        said.retain(Diagnostic::is_error);
        said.is_empty().then_some((estate, met))
    }

    /// What is wrong with all parts together, once each was looked at. Gives the entries that speak of nothing there is.
    pub fn finish(&self, met: Met, said: &mut Diagnostics) -> Vec<Statement> {
        let mut nowhere = Vec::new();
        let scope = self.data.scope(&self.schema, &self.data.people, &self.data.groups, &self.data.hurt);
        for (row, count) in self.entries.iter().zip(&met.entries) {
            match count {
                // What it says of a resource that is nowhere is what it would say of a whole catalog.
                0 => nowhere.push(scope.entry(row, &self.data.files, said)),
                1 => {}
                // In the frame, and so in every part.
                count if *count == met.looked_at => {}
                _ => {
                    let (path, span) = (&row.place.text, row.place.span);
                    let message = format!("path `{path}` fits resources in several parts");
                    said.push(Diagnostic::at(&codes::AMBIGUOUS_PLACE, span, message).help("to name one, write its id"));
                }
            }
        }
        said.extend(met.warned.into_values());
        said.extend(met.lost.into_values().filter(|(count, _)| *count == met.looked_at).map(|(_, told)| told));
        settled(&self.hollow, &self.levels, said);
        nowhere
    }
}

/// Entries that speak of what is there.
pub(crate) struct Found {
    statements: Entries,
    /// By entry, 1 where it speaks of what is there, or of no place.
    met: Vec<u32>,
}

impl Data {
    /// What restrictions compare with and nothing here has.
    fn lost_values(&self, estate: &Estate) -> Vec<Diagnostic> {
        let mut lost = Diagnostics::new();
        lost::values(estate, &scope::Scope::of(estate, Some(self.today), &self.hurt), &mut lost);
        lost.finish()
    }

    fn entries_among(&self, schema: &Schema, rows: &[EntryRow], said: &mut Diagnostics) -> Found {
        let scope = self.scope(schema, &self.people, &self.groups, &self.hurt);
        let there = |row: &EntryRow| {
            row.place.text.is_empty()
                || scope.catalog.find(&row.place.text).is_some()
                || (row.by_path && {
                    let mut told = Diagnostics::new();
                    let found = scope.plain_path(&row.place.text, row.place.span, &mut told);
                    found.is_some() || told.iter().any(|one| *one.code == codes::AMBIGUOUS_PLACE)
                })
        };
        let met: Vec<u32> = rows.iter().map(|row| u32::from(there(row))).collect();
        let among: Vec<&EntryRow> = rows.iter().zip(&met).filter(|(_, met)| **met > 0).map(|(row, _)| row).collect();
        Found { statements: entries::entries(&scope, &among, &self.files, said), met }
    }
}
