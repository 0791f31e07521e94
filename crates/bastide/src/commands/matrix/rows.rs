//! Rows being written, one after the other: totals, and the long form of the table.

use super::args::{MatrixArgs, MatrixFormat};
use super::pairs::{Pairs, joined};
use crate::answers::matrix::{MatrixDecision, MatrixPair, MatrixRow, MatrixTriple};
use crate::print::csv::{style, writer};
use crate::progress::Progress;
use bastide_answers::Tell;
use bastide_engine::Snapshot;
use bastide_engine::access::{Row, sweep};
use bastide_formats::parquet::{Cell, CellKind, ParquetRows};
use bastide_model::{ActionId, Estate, ResourceId, UserId};
use bastide_syntax::escaped_json;
use std::io::{self, Write};

/// Totals by user or by resource, being written.
pub(super) struct TotalsTable<'o> {
    csv: csv::Writer<&'o mut (dyn Write + Send)>,
    guard: bool,
}

impl<'o> TotalsTable<'o> {
    pub(super) fn new(
        args: &MatrixArgs,
        estate: &Estate,
        out: &'o mut (dyn Write + Send),
    ) -> io::Result<TotalsTable<'o>> {
        let mut csv = writer(out, style(estate, args.for_spreadsheet));
        let header = std::iter::once("id").chain(estate.schema().actions.iter().map(|a| a.name.as_str()));
        csv.write_record(header).map_err(plain)?;
        Ok(TotalsTable { csv, guard: args.for_spreadsheet })
    }

    pub(super) fn finish(&mut self) -> io::Result<()> {
        self.csv.flush()
    }

    pub(super) fn rows(&mut self, rows: &[(String, Vec<u64>)]) -> io::Result<()> {
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

/// The long form being written, of one part of the catalog after the other.
pub(super) struct List<'a, 'o> {
    args: &'a MatrixArgs,
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
    pub(super) fn new(
        args: &'a MatrixArgs,
        estate: &Estate,
        users: &'a [UserId],
        wanted: &'a [ActionId],
        out: &'o mut (dyn Write + Send),
        about: &dyn Fn() -> Vec<(String, String)>,
    ) -> io::Result<List<'a, 'o>> {
        let quote = style(estate, args.for_spreadsheet);
        let to = match args.format {
            MatrixFormat::Csv if !args.reasons => To::Pairs(out),
            MatrixFormat::Csv => To::Target(Target::Csv(Box::new(writer(out, quote)))),
            MatrixFormat::Parquet => {
                let holds =
                    |name: &&'static str| (*name, if *name == "actions" { CellKind::Texts } else { CellKind::Text });
                let columns: Vec<(&str, CellKind)> = columns(args.reasons).iter().map(holds).collect();
                To::Target(Target::Parquet(Some(Box::new(ParquetRows::new(out, &columns, &about())?))))
            }
            _ => To::Target(Target::Jsonl(out)),
        };
        Ok(List { args, users, wanted, quote, to, begun: false })
    }

    pub(super) fn part(
        &mut self,
        snapshot: &Snapshot,
        resources: &[ResourceId],
        progress: &Progress,
    ) -> io::Result<()> {
        let List { args, users, wanted, quote, to, begun } = self;
        let header = !std::mem::replace(begun, true);
        let estate = snapshot.estate();
        match to {
            To::Pairs(out) => {
                let guard: fn(&str) -> String =
                    if args.for_spreadsheet { |c| guarded(c, true) } else { str::to_string };
                let mut pairs = Pairs::new(estate, users, wanted, (args.all, header), (guard, *quote));
                sweep(snapshot, users, resources, |row| {
                    progress.advance(1);
                    pairs.row(&row, out)
                })
                .and_then(|()| pairs.finish(out))
            }
            To::Target(target) => {
                let mut lines = Lines { args, estate, users, wanted, out: target };
                // The header comes with the first rows, so that nothing stands there where nothing can be evaluated.
                if header {
                    lines.head()?;
                }
                sweep(snapshot, users, resources, |row| {
                    progress.advance(1);
                    lines.row(&row)
                })
            }
        }
    }

    pub(super) fn finish(&mut self) -> io::Result<()> {
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
    args: &'a MatrixArgs,
    estate: &'a Estate,
    users: &'a [UserId],
    wanted: &'a [ActionId],
    out: &'t mut Target<'o>,
}

impl Lines<'_, '_, '_> {
    fn head(&mut self) -> io::Result<()> {
        match &mut *self.out {
            Target::Csv(csv) => csv.write_record(columns(self.args.reasons)).map_err(plain),
            _ => Ok(()),
        }
    }

    /// Writes cells, or the line that says the same.
    fn write(&mut self, cells: &[Cell], line: &MatrixRow) -> io::Result<()> {
        let guard = self.args.for_spreadsheet;
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
            if !self.args.reasons {
                let allowed: Vec<&str> = row
                    .allowed(at)
                    .filter(|a| self.wanted.contains(a))
                    .map(|a| names[a.index()].name.as_str())
                    .collect();
                if self.args.all || !allowed.is_empty() {
                    let line = MatrixRow::Pair(MatrixPair { user, resource, actions: &allowed });
                    self.write(&[Cell::Text(user), Cell::Text(resource), Cell::Texts(&allowed)], &line)?;
                }
                continue;
            }
            if !self.args.all && row.allowed(at).next().is_none() {
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
