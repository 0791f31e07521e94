//! Rows being written, one after the other: totals, and the long form of the table.

use crate::line::{MatrixDecision, MatrixPair, MatrixRow, MatrixTriple};
use crate::pairs::{Pairs, joined};
use crate::quoting::{style, writer};
use bastide_answers::Tell;
use bastide_engine::Snapshot;
use bastide_engine::access::{Row, sweep};
use bastide_formats::parquet::{Cell, CellKind, ParquetRows};
use bastide_model::{ActionId, Estate, ResourceId, UserId};
use bastide_syntax::escaped_json;
use std::io::{self, Write};

/// Totals by user or by resource, being written.
pub struct TotalsTable<'o> {
    csv: csv::Writer<&'o mut (dyn Write + Send)>,
    guard: bool,
}

impl<'o> TotalsTable<'o> {
    /// Begins with the header.
    ///
    /// # Errors
    /// What the output says.
    pub fn new(estate: &Estate, for_spreadsheet: bool, out: &'o mut (dyn Write + Send)) -> io::Result<TotalsTable<'o>> {
        let mut csv = writer(out, style(estate, for_spreadsheet));
        let header = std::iter::once("id").chain(estate.schema().actions.iter().map(|a| a.name.as_str()));
        csv.write_record(header).map_err(plain)?;
        Ok(TotalsTable { csv, guard: for_spreadsheet })
    }

    /// Hands on what is left.
    ///
    /// # Errors
    /// What the output says.
    pub fn finish(&mut self) -> io::Result<()> {
        self.csv.flush()
    }

    /// Writes rows: an id, and how many pairs are allowed of each action.
    ///
    /// # Errors
    /// What the output says.
    pub fn rows(&mut self, rows: &[(String, Vec<u64>)]) -> io::Result<()> {
        for (id, counts) in rows {
            let id = std::iter::once(guarded(id, self.guard));
            self.csv.write_record(id.chain(counts.iter().map(u64::to_string))).map_err(plain)?;
        }
        Ok(())
    }
}

/// A cell that no spreadsheet takes for a formula, where that is wanted.
fn guarded(text: &str, guard: bool) -> String {
    if guard { bastide_formats::sheets::guarded(text) } else { text.to_string() }
}

/// The error beneath, so that a closed pipe is known as one.
fn plain(error: csv::Error) -> io::Error {
    match error.into_kind() {
        csv::ErrorKind::Io(error) => error,
        other => io::Error::other(format!("{other:?}")),
    }
}

/// How rows are written.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum RowsFormat {
    /// Comma-separated values.
    Csv,
    /// A JSON object a line.
    Jsonl,
    /// Apache Parquet.
    Parquet,
}

/// Which rows, and what stands in them.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Form {
    /// How they are written.
    pub format: RowsFormat,
    /// A row for each action, with its reason and the statement that decides, and not one for each user and resource.
    pub reasons: bool,
    /// Pairs without any access, too.
    pub all: bool,
    /// Cells of CSV that a spreadsheet would run as a formula are written so that it does not.
    pub for_spreadsheet: bool,
}

/// The long form being written, of one part of the catalog after the other.
pub struct List<'a, 'o> {
    form: Form,
    users: &'a [UserId],
    wanted: &'a [ActionId],
    quote: csv::QuoteStyle,
    to: To<'o>,
    /// Whether anything was written.
    begun: bool,
}

/// Where the rows go.
enum To<'o> {
    /// Pairs as CSV, made by a writer of their own.
    Pairs(&'o mut (dyn Write + Send)),
    Target(Target<'o>),
}

impl<'a, 'o> List<'a, 'o> {
    /// For given users and actions. `about` says what the rows are about, where the format has room for that.
    ///
    /// # Errors
    /// What the output says.
    pub fn new(
        form: Form,
        estate: &Estate,
        users: &'a [UserId],
        wanted: &'a [ActionId],
        out: &'o mut (dyn Write + Send),
        about: &dyn Fn() -> Vec<(String, String)>,
    ) -> io::Result<List<'a, 'o>> {
        let quote = style(estate, form.for_spreadsheet);
        let to = match form.format {
            RowsFormat::Csv if !form.reasons => To::Pairs(out),
            RowsFormat::Csv => To::Target(Target::Csv(Box::new(writer(out, quote)))),
            RowsFormat::Parquet => {
                let holds =
                    |name: &&'static str| (*name, if *name == "actions" { CellKind::Texts } else { CellKind::Text });
                let columns: Vec<(&str, CellKind)> = columns(form.reasons).iter().map(holds).collect();
                To::Target(Target::Parquet(Some(Box::new(ParquetRows::new(out, &columns, &about())?))))
            }
            RowsFormat::Jsonl => To::Target(Target::Jsonl(out)),
        };
        Ok(List { form, users, wanted, quote, to, begun: false })
    }

    /// Writes the rows of resources, which may be those of one part of a catalog; `done` is told how many are done.
    ///
    /// # Errors
    /// What the output says.
    pub fn part(&mut self, snapshot: &Snapshot, resources: &[ResourceId], done: &dyn Fn(u64)) -> io::Result<()> {
        let List { form, users, wanted, quote, to, begun } = self;
        let header = !std::mem::replace(begun, true);
        let estate = snapshot.estate();
        match to {
            To::Pairs(out) => {
                let guard: fn(&str) -> String =
                    if form.for_spreadsheet { |c| guarded(c, true) } else { str::to_string };
                let mut pairs = Pairs::new(estate, users, wanted, (form.all, header), (guard, *quote));
                sweep(snapshot, users, resources, |row| {
                    done(1);
                    pairs.row(&row, out)
                })
                .and_then(|()| pairs.finish(out))
            }
            To::Target(target) => {
                let mut lines = Lines { form: *form, estate, users, wanted, out: target };
                // The header comes with the first rows, so that nothing stands there where nothing can be evaluated.
                if header {
                    lines.head()?;
                }
                sweep(snapshot, users, resources, |row| {
                    done(1);
                    lines.row(&row)
                })
            }
        }
    }

    /// Ends the output.
    ///
    /// # Errors
    /// What the output says.
    pub fn finish(&mut self) -> io::Result<()> {
        match &mut self.to {
            To::Pairs(out) => out.flush(),
            To::Target(target) => target.finish(),
        }
    }
}

/// The columns of the long form.
fn columns(reasons: bool) -> &'static [&'static str] {
    if reasons {
        &["user", "resource", "action", "decision", "reason", "statement"]
    } else {
        &["user", "resource", "actions"]
    }
}

/// Where the rows go.
enum Target<'a> {
    Csv(Box<csv::Writer<&'a mut (dyn Write + Send)>>),
    Jsonl(&'a mut (dyn Write + Send)),
    Parquet(Option<Box<ParquetRows<&'a mut (dyn Write + Send)>>>),
}

impl Target<'_> {
    /// Ends the output.
    fn finish(&mut self) -> io::Result<()> {
        match self {
            Target::Csv(csv) => csv.flush(),
            Target::Jsonl(out) => out.flush(),
            Target::Parquet(rows) => rows.take().map_or(Ok(()), |rows| rows.finish()),
        }
    }
}

struct Lines<'a, 't, 'o> {
    form: Form,
    estate: &'a Estate,
    users: &'a [UserId],
    wanted: &'a [ActionId],
    out: &'t mut Target<'o>,
}

impl Lines<'_, '_, '_> {
    fn head(&mut self) -> io::Result<()> {
        match &mut *self.out {
            Target::Csv(csv) => csv.write_record(columns(self.form.reasons)).map_err(plain),
            _ => Ok(()),
        }
    }

    /// Writes cells, or the line that says the same.
    fn write(&mut self, cells: &[Cell], line: &MatrixRow) -> io::Result<()> {
        let guard = self.form.for_spreadsheet;
        match &mut *self.out {
            Target::Csv(csv) => {
                let text = |cell: &Cell| match cell {
                    Cell::Text(text) => guarded(text, guard),
                    Cell::Texts(texts) => guarded(&joined(texts.iter().copied()), guard),
                };
                csv.write_record(cells.iter().map(text)).map_err(plain)
            }
            Target::Parquet(Some(rows)) => rows.row(cells),
            Target::Parquet(None) => Ok(()),
            Target::Jsonl(out) => writeln!(out, "{}", escaped_json(&serde_json::to_string(line)?)),
        }
    }

    fn row(&mut self, row: &Row) -> io::Result<()> {
        let estate = self.estate;
        let resource = estate.catalog().id(row.resource);
        let names = &estate.schema().actions;
        for (at, user) in self.users.iter().enumerate() {
            let user = estate.people().id(*user);
            if !self.form.reasons {
                let allowed: Vec<&str> = row
                    .allowed(at)
                    .filter(|a| self.wanted.contains(a))
                    .map(|a| names[a.index()].name.as_str())
                    .collect();
                if self.form.all || !allowed.is_empty() {
                    let line = MatrixRow::Pair(MatrixPair { user, resource, actions: &allowed });
                    self.write(&[Cell::Text(user), Cell::Text(resource), Cell::Texts(&allowed)], &line)?;
                }
                continue;
            }
            if !self.form.all && row.allowed(at).next().is_none() {
                continue;
            }
            for action in self.wanted {
                let decision = row.decision(at, *action);
                let by = decision.by.map(|by| estate.statement(by).name.as_str());
                let action = names[action.index()].name.as_str();
                let (word, of) = match decision.is_allowed() {
                    true => ("allowed", MatrixDecision::Allowed),
                    false => ("refused", MatrixDecision::Refused),
                };
                let cells = [user, resource, action, word, decision.reason.word(), by.unwrap_or_default()];
                let reason = decision.reason.tell();
                let line = MatrixTriple { user, resource, action, decision: of, reason, statement: by };
                self.write(&cells.map(Cell::Text), &MatrixRow::Triple(line))?;
            }
        }
        Ok(())
    }
}
