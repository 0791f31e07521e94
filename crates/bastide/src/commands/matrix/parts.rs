//! `bastide matrix` over a catalog in parts, which are read and decided on one by one.

use super::args::{MatrixArgs, MatrixFormat, TotalsBy, actions, selected, within};
use super::cluster::{Asked, Counted, incomparable};
use super::totals::{deliver_summary, peak_bytes};
use crate::about::About;
use crate::failure::{DONE, Failure, hinted};
use crate::open::{self, EstateArgs, Opened, day, say_settled, tell_lost, unfit};
use crate::print::summary::Cost;
use crate::progress::Progress;
use crate::progress::Telling;
use crate::terminal::Terminal;
use bastide_engine::Snapshot;
use bastide_engine::access::{self, Portion, Running};
use bastide_formats::distinct::Distinct;
use bastide_formats::parted::{Part, Parted};
use bastide_model::{Estate, Moment, ResourceId, Statement, UserId};
use bastide_rows::{List, TotalsTable};
use std::io;
use std::time::Instant;

/// What went wrong while rows were written.
enum Unsure {
    /// They cannot be written.
    Output(io::Error),
    /// There are none.
    Estate(Failure),
}

impl From<io::Error> for Unsure {
    fn from(error: io::Error) -> Unsure {
        Unsure::Output(error)
    }
}

impl From<Failure> for Unsure {
    fn from(failure: Failure) -> Unsure {
        Unsure::Estate(failure)
    }
}

/// An estate in parts, each of which was looked at.
pub struct Parts {
    /// What all parts share.
    pub opened: Opened,
    pub parted: Parted,
    /// Resources in all.
    pub resources: usize,
    /// Entries that speak of resources that are nowhere.
    pub nowhere: Vec<Statement>,
}

impl Parts {
    /// Loads an estate whose catalog comes in parts, and looks at every part; none where it does not.
    pub fn open(args: &EstateArgs, terminal: &mut Terminal) -> Result<Option<Parts>, Failure> {
        let started = Instant::now();
        let root = args.root()?;
        let refused = |refused: bastide_formats::write::Refused| Failure::Outside(refused.to_string());
        let described = bastide_formats::described(&root).map_err(refused)?;
        if !described.manifest.is_some_and(|manifest| manifest.catalog.iter().any(|source| source.parts)) {
            return Ok(None);
        }
        let reading = Telling::reading();
        let (loaded, parted) = bastide_formats::parted(&root, day()).map_err(refused)?;
        say_settled(&loaded, terminal);
        let mut opened = args.opened(loaded, root, started, terminal)?;
        let Some(parted) = parted else { return Ok(None) };
        let surveyed = parted.survey().map_err(|found| unfit(found, terminal))?;
        drop(reading);
        if !args.quiet {
            tell_lost(&opened.loaded.sources, &surveyed.lost.iter().collect::<Vec<_>>(), terminal);
        }
        opened.loaded.part_sums = surveyed.sums;
        opened.seconds = started.elapsed().as_secs_f64();
        Ok(Some(Parts { opened, parted, resources: surveyed.resources, nowhere: surveyed.nowhere }))
    }

    /// What all parts share, at a moment, then each part, in order. The next one is read while one is gone through.
    fn each<E: From<Failure>>(
        &self,
        moment: &Moment,
        terminal: &Terminal,
        mut each: impl FnMut(u32, &Snapshot, Option<&Part>) -> Result<(), E>,
    ) -> Result<(), E> {
        each(0, &self.opened.snapshot(moment, terminal)?, None)?;
        let unfit = |found| unfit(found, terminal);
        let read = |at: usize| (at < self.parted.len()).then(|| self.parted.part(at));
        let mut next = read(0);
        let mut at = 0;
        while let Some(part) = next.take() {
            let part = part.map_err(unfit)?;
            let snapshot =
                Snapshot::new(&part.estate, moment).map_err(|cycles| open::cycle(&self.opened, &cycles, terminal))?;
            at += 1;
            let (read, gone) = std::thread::scope(|scope| {
                let ahead = scope.spawn(|| read(at));
                let gone = each(at as u32, &snapshot, Some(&part));
                // A fault on the way is one of ours, wherever it came up.
                (ahead.join().unwrap_or_else(|fault| std::panic::resume_unwind(fault)), gone)
            });
            gone?;
            next = read;
        }
        // Nothing was answered of another state than the one that was looked at.
        Ok(self.parted.unchanged().map_err(unfit)?)
    }

    /// A place by its id or path, wherever it lies: its id.
    fn place(&self, name: &str, terminal: &Terminal) -> Result<String, Failure> {
        let shared = open::resource(self.parted.shared(), name, terminal);
        let error = match shared {
            Ok(resource) => return Ok(self.parted.shared().catalog().id(resource).to_string()),
            Err(error) => error,
        };
        for at in 0..self.parted.len() {
            let part = self.parted.part(at).map_err(|found| unfit(found, terminal))?;
            if let Ok(resource) = bastide_engine::find::resource(&part.estate, name) {
                return Ok(part.estate.catalog().id(resource).to_string());
            }
        }
        Err(error)
    }
}

pub fn run(args: &MatrixArgs, mut parts: Parts, terminal: &mut Terminal) -> Result<u8, Failure> {
    if let Some(name) = args.users.iter().find(|name| name.starts_with("persona:")) {
        let message = format!("`{name}` is no user of the estate, and a catalog in parts is asked of users alone");
        return Err(hinted(message));
    }
    let users = selected(args, &mut parts.opened, terminal)?;
    let moment = args.moment.moment(parts.opened.estate())?;
    if args.summary {
        summary(args, &parts, &moment, terminal)?;
    } else if let Some(by) = args.totals {
        totals(args, by, &parts, &moment, terminal)?;
    } else {
        list(args, &parts, &users, &moment, terminal)?;
    }
    if !args.summary && args.format != MatrixFormat::Parquet {
        About::of(&parts.opened, &moment).beside(terminal, args.output.as_deref())?;
    }
    Ok(DONE)
}

fn portion(number: u32, part: Option<&Part>) -> Portion<'_> {
    Portion { number, own: part.map(|part| &part.own) }
}

fn summary(args: &MatrixArgs, parts: &Parts, moment: &Moment, terminal: &mut Terminal) -> Result<(), Failure> {
    let started = Instant::now();
    let shared = parts.parted.shared();
    let mut running = Running::new(shared);
    running.add_nowhere(&parts.nowhere, moment);
    let distinct = if let Some(cluster) = &args.cluster {
        Asked::of(cluster, args, &parts.opened, parts.resources)?.summary(&mut running)?
    } else {
        let mut rows = Distinct::default();
        let progress = Progress::new(parts.resources);
        parts.each(moment, terminal, |number, snapshot, part| {
            let prints = running.add(snapshot, &portion(number, part), &|_| {});
            running.add_entries(shared, snapshot);
            progress.advance(own(snapshot, part) as u64);
            rows.add(prints.into_iter().flatten()).map_err(incomparable)
        })?;
        rows.finish().map_err(incomparable)?.0
    };
    let totals = running.finish(shared, moment, distinct);
    let seconds = started.elapsed().as_secs_f64();
    let cost = Cost { load: parts.opened.seconds, evaluate: seconds, peak: peak_bytes() };
    deliver_summary(args, &parts.opened, moment, &totals, &cost, terminal).map(drop)
}

/// How many resources a part has of its own.
fn own(snapshot: &Snapshot, part: Option<&Part>) -> usize {
    part.map_or(snapshot.estate().catalog().len(), |part| part.own.count_ones(..))
}

/// Totals by user are gathered; those by resource are written part by part.
fn totals(
    args: &MatrixArgs,
    by: TotalsBy,
    parts: &Parts,
    moment: &Moment,
    terminal: &mut Terminal,
) -> Result<(), Failure> {
    if let Some(cluster) = &args.cluster {
        let counted = Asked::of(cluster, args, &parts.opened, parts.resources)?.totals(by)?;
        return clustered(args, counted, parts.parted.shared(), terminal);
    }
    let progress = Progress::new(parts.resources);
    let mut sums: Vec<(String, Vec<u64>)> = Vec::new();
    let by_user = by == TotalsBy::Users;
    stream(args, terminal, |terminal, out| {
        let mut table = TotalsTable::new(parts.parted.shared(), args.for_spreadsheet, out)?;
        parts.each(moment, terminal, |number, snapshot, part| {
            let totals = access::totals(snapshot, &portion(number, part), by_user, &|_| {});
            progress.advance(own(snapshot, part) as u64);
            if !by_user {
                table.rows(&totals.rows)?;
            } else if sums.is_empty() {
                sums = totals.rows;
            } else {
                let pairs = sums.iter_mut().zip(totals.rows);
                pairs.for_each(|((_, sums), (_, more))| sums.iter_mut().zip(more).for_each(|(sum, more)| *sum += more));
            }
            Ok::<(), Unsure>(())
        })?;
        table.rows(&sums)?;
        Ok(table.finish()?)
    })
}

/// The same, counted by a cluster.
pub(super) fn clustered(
    args: &MatrixArgs,
    counted: Counted,
    estate: &Estate,
    terminal: &mut Terminal,
) -> Result<(), Failure> {
    stream(args, terminal, |_, out| counted.write::<Unsure>(&mut TotalsTable::new(estate, args.for_spreadsheet, out)?))
}

fn list(
    args: &MatrixArgs,
    parts: &Parts,
    users: &[UserId],
    moment: &Moment,
    terminal: &mut Terminal,
) -> Result<(), Failure> {
    let shared = parts.parted.shared();
    let wanted = actions(args, shared)?;
    let places = |names: &[String]| -> Result<Vec<String>, Failure> {
        names.iter().map(|name| parts.place(name, terminal)).collect()
    };
    let (under, also) = (places(&args.under)?, places(&args.also)?);
    let progress = Progress::new(parts.resources);
    stream(args, terminal, |terminal, out| {
        let about = || About::of(&parts.opened, moment).pairs();
        let mut list = List::new(args.form(), shared, users, &wanted, out, &about)?;
        parts.each(moment, terminal, |_, snapshot, part| {
            let resources = asked(args, snapshot.estate(), part, &under, &also)?;
            Ok::<(), Unsure>(list.part(snapshot, &resources, &|n| progress.advance(n))?)
        })?;
        Ok(list.finish()?)
    })
}

/// The resources of a part that are asked for.
fn asked(
    args: &MatrixArgs,
    estate: &Estate,
    part: Option<&Part>,
    under: &[String],
    also: &[String],
) -> Result<Vec<ResourceId>, Failure> {
    let here =
        |names: &[String]| -> Vec<ResourceId> { names.iter().filter_map(|id| estate.catalog().find(id)).collect() };
    let (inside, also) = (here(under), here(also));
    let mut found = match under.is_empty() || !inside.is_empty() {
        true => within(args, estate, &inside, &also)?,
        // None of the places is here.
        false => also,
    };
    found.retain(|resource| part.is_none_or(|part| part.own.contains(resource.index())));
    Ok(found)
}

/// Streams what `write` writes. What goes wrong in the estate on the way is not taken for a fault of the output.
fn stream(
    args: &MatrixArgs,
    terminal: &mut Terminal,
    write: impl FnOnce(&Terminal, &mut (dyn io::Write + Send)) -> Result<(), Unsure>,
) -> Result<(), Failure> {
    let mut failed = None;
    let beside = terminal.clone();
    let streamed = terminal.stream(args.output.as_deref(), |out| match write(&beside, out) {
        Ok(()) => Ok(()),
        Err(Unsure::Output(error)) => Err(error),
        Err(Unsure::Estate(failure)) => {
            failed = Some(failure);
            Err(io::Error::other("the estate could not be read to its end"))
        }
    });
    match failed {
        Some(failure) => Err(failure),
        None => streamed,
    }
}
