//! Rows of access entries to typed statements.

use crate::scope::Scope;
use bastide_model::condition::{Term, Who};
use bastide_model::rows::{Cell, EntryRow};
use bastide_model::schema::{read_date, split_set};
use bastide_model::statement::{Place, Sort, What};
use bastide_model::*;
use bastide_syntax::nearest::nearest;
use bastide_syntax::tree::Name;
use bastide_syntax::{Diagnostic, Diagnostics, codes};
use fixedbitset::FixedBitSet;
use jiff::civil::Date;
use rayon::prelude::*;
use std::sync::Arc;

pub(crate) fn entries(
    scope: &Scope,
    rows: &[&EntryRow],
    files: &[String],
    out: &mut Diagnostics,
) -> Vec<Arc<Statement>> {
    let read = |row: &&EntryRow| {
        let mut told = Diagnostics::new();
        (Arc::new(scope.entry(row, files, &mut told)), told)
    };
    let read: Vec<(Arc<Statement>, Diagnostics)> = rows.par_iter().with_min_len(256).map(read).collect();
    let tell = |(statement, told)| {
        out.extend::<Diagnostics>(told);
        statement
    };
    read.into_iter().map(tell).collect()
}

impl Scope<'_> {
    pub(crate) fn entry(&self, row: &EntryRow, files: &[String], out: &mut Diagnostics) -> Statement {
        let modality = entry_modality(&row.modality, out);
        let said = out.len();
        let mut listed = Vec::new();
        let mut actions = FixedBitSet::with_capacity(self.schema.actions.len());
        let names = split_set(&row.actions.text);
        if names.is_empty() {
            let help = "actions and roles are joined by `;`, as in `read;update`";
            out.push(Diagnostic::at(&codes::BAD_VALUE, row.actions.span, "an entry without actions").help(help));
        }
        for text in names {
            if text == "everything" {
                let message = "`everything` is not an action list for entries";
                let help = "to give every action, declare a role: `role all = everything`";
                out.push(Diagnostic::at(&codes::BAD_VALUE, row.actions.span, message).help(help));
                continue;
            }
            let span = within(&row.actions, &text);
            let name = Name { text, span, quoted: false };
            self.add_item(&name, &mut actions, out);
            listed.push(name);
        }
        let layer = (!row.layer.text.is_empty()).then(|| Name {
            text: row.layer.text.clone(),
            span: row.layer.span,
            quoted: false,
        });
        if let Some(name) = &layer
            && !matches!(modality, Modality::May | Modality::MayNot)
        {
            let message = format!("a layer has no effect on `{}`", modality.words());
            out.push(Diagnostic::at(&codes::NO_EFFECT, name.span, message));
        }
        let statement = Statement {
            name: format!("{}:{}", files[row.row.file.0 as usize], row.row.line),
            sort: Sort::Entry,
            origin: row.row.origin(),
            because: (!row.note.text.is_empty()).then(|| row.note.text.clone()),
            layer: layer.and_then(|name| self.layer(&name, out)),
            modality,
            actions,
            everything: false,
            who: Who { terms: vec![self.subject(&row.subject, out)], condition: None },
            what: What { kinds: None, places: self.entry_places(row, out), condition: None },
            condition: None,
            from: date(&row.from, out),
            until: date(&row.until, out),
            off: false,
        };
        if let (Some(first), Some(last)) = (statement.from, statement.until)
            && last < first
        {
            let message = format!("the entry never applies: it ends on {last}, before it begins");
            out.push(Diagnostic::at(&codes::NO_EFFECT, row.until.span, message));
        }
        self.tell_lost(&statement, &mut out[said..]);
        let listed: Vec<_> = listed.iter().map(|name| (name.text.as_str(), name.span)).collect();
        self.tell_lost_roles(&statement, &listed, out);
        self.tell_lost_groups(&statement, out, row.subject.span);
        statement
    }

    fn subject(&self, cell: &Cell, out: &mut Diagnostics) -> Term {
        match cell.text.split_once(':') {
            None if cell.text == "anyone" => Term::Anyone,
            None if cell.text == "owner" => Term::Owner,
            Some(("user", id)) => {
                self.user(id, within(cell, id), out).map_or_else(|| Term::Nobody(cell.text.clone()), Term::User)
            }
            Some(("group", id)) => {
                self.group(id, within(cell, id), out).map_or_else(|| Term::Nobody(cell.text.clone()), Term::Members)
            }
            _ => {
                let message = format!("`{}` is no subject", cell.text);
                let help = "a subject is `user:ID`, `group:ID`, `anyone` or `owner`";
                out.push(Diagnostic::at(&codes::BAD_VALUE, cell.span, message).help(help));
                Term::Nobody(cell.text.clone())
            }
        }
    }

    fn entry_places(&self, row: &EntryRow, out: &mut Diagnostics) -> Option<Vec<Place>> {
        let reach = match row.reach.text.as_str() {
            "" | "under" => Reach::Under,
            "below" => Reach::Below,
            "at" => Reach::At,
            other => {
                let message = format!("`{other}` is no reach");
                let diagnostic = Diagnostic::at(&codes::BAD_VALUE, row.reach.span, message)
                    .suggest(nearest(other, ["under", "below", "at"]))
                    .help("a reach is `under`, `below` or `at`");
                out.push(diagnostic);
                Reach::At
            }
        };
        if row.place.text.is_empty() {
            return None;
        }
        let found = if row.by_path { self.catalog.find(&row.place.text) } else { None };
        let resource = match found {
            None if row.by_path => self.plain_path(&row.place.text, row.place.span, out),
            None => self.place_id(&row.place.text, row.place.span, out),
            found => found,
        };
        Some(resource.into_iter().map(|resource| Place { resource, reach, span: row.place.span }).collect())
    }
}

/// The span of a part of a cell, where it stands there as it is; else the whole cell.
fn within(cell: &Cell, part: &str) -> bastide_syntax::Span {
    let length = (cell.span.end - cell.span.start) as usize;
    match cell.text.find(part).filter(|_| length == cell.text.len()) {
        Some(at) => {
            let start = cell.span.start as usize + at;
            bastide_syntax::Span::new(cell.span.file, start, start + part.len())
        }
        None => cell.span,
    }
}

fn entry_modality(cell: &Cell, out: &mut Diagnostics) -> Modality {
    let words: Vec<&str> = cell.text.split_whitespace().collect();
    let found = Modality::ALL.into_iter().find(|m| m.words().split(' ').eq(words.iter().copied()));
    found.unwrap_or_else(|| {
        let message = format!("`{}` is no modality", cell.text);
        let known = Modality::ALL.map(Modality::words);
        let mut diagnostic = Diagnostic::at(&codes::BAD_VALUE, cell.span, message);
        if let Some(near) = nearest(&cell.text, known) {
            diagnostic = diagnostic.help(format!("did you mean `{near}`?"));
        }
        out.push(diagnostic.note("the five are `may`, `may not`, `may always`, `may never`, `may only`"));
        Modality::MayNever
    })
}

fn date(cell: &Cell, out: &mut Diagnostics) -> Option<Date> {
    if cell.text.is_empty() {
        return None;
    }
    let date = read_date(&cell.text);
    if date.is_none() {
        let message = format!("expected a date such as `2027-06-30`, found `{}`", cell.text);
        out.push(Diagnostic::at(&codes::BAD_DATE, cell.span, message));
    }
    date
}
