//! `bastide matrix`

mod args;
mod cluster;
mod parts;
mod totals;

use super::picture;
use crate::about::About;
use crate::failure::{DONE, Failure};
use crate::open::{self, EstateArgs, Opened};
use crate::print::summary::Cost;
use crate::print::text::grouped;
use crate::print::{json, matrix};
use crate::progress::Progress;
use crate::terminal::Terminal;
use bastide_engine::Snapshot;
use bastide_engine::access::{self, Portion, Running, TooLarge};
use bastide_model::{ActionId, Estate, Moment, ResourceId, UserId};
use bastide_report::picture::{Medium, heat_map};
use bastide_rows::{List, TotalsTable};
use cluster::Asked;
use parts::Parts;
use std::time::Instant;
use totals::{deliver_summary, peak_bytes};

pub use args::MatrixArgs;
use args::{Down, MatrixFormat, TotalsBy, actions, depth, selected, within};

pub fn run(args: MatrixArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    if args.reasons
        && matches!(args.format, MatrixFormat::Table | MatrixFormat::Json | MatrixFormat::Svg | MatrixFormat::Png)
    {
        let hint = vec!["reasons are long lists: write `--format csv`, `jsonl` or `parquet`".to_string()];
        return Err(Failure::Usage("`--reasons` has no table".to_string(), hint));
    }
    if args.for_spreadsheet && args.format != MatrixFormat::Csv && args.totals.is_none() {
        return Err(Failure::Usage("`--for-spreadsheet` goes with `--format csv`".to_string(), Vec::new()));
    }
    if args.rows == Down::Users && args.format != MatrixFormat::Table {
        let hint = vec!["lists have a row a user and resource anyway".to_string()];
        return Err(Failure::Usage("`--rows users` goes with the table".to_string(), hint));
    }
    if args.cluster.is_some() && !args.summary && args.totals.is_none() {
        let hint =
            vec!["to ask a cluster anything else, write the question in SQL: `bastide sql --cluster`".to_string()];
        return Err(Failure::Usage("`--cluster` goes with `--summary` or `--totals`".to_string(), hint));
    }
    if (args.summary || args.totals.is_some() || args.is_list())
        && let Some(parts) = Parts::open(estate, terminal)?
    {
        return parts::run(&args, parts, terminal);
    }
    let mut opened = estate.open(terminal)?;
    let users = selected(&args, &mut opened, terminal)?;
    let opened = opened;
    let moment = args.moment.moment(opened.estate())?;
    if args.summary {
        return totals_of_all(&args, &opened, &moment, terminal);
    }
    if let Some(by) = args.totals {
        return totals_of_each(&args, by, &opened, &moment, terminal);
    }
    let resources = resources(&args, opened.estate(), terminal)?;
    let wanted = actions(&args, opened.estate())?;
    let snapshot = opened.snapshot(&moment, terminal)?;
    match args.format {
        MatrixFormat::Svg | MatrixFormat::Png => {
            let table = table(&snapshot, &users, &resources, &wanted)?;
            let medium = if args.format == MatrixFormat::Svg { Medium::Svg } else { Medium::Png };
            let made = heat(&table, &opened, &resources, &wanted, &moment, medium);
            picture::deliver(made, medium, args.output.as_deref(), terminal)?;
        }
        MatrixFormat::Table | MatrixFormat::Json => {
            let table = table(&snapshot, &users, &resources, &wanted)?;
            if args.format == MatrixFormat::Json {
                terminal.deliver(
                    &json::document(
                        "matrix",
                        &About::of(&opened, &moment),
                        &bastide_answers::access::Matrix::from(&table),
                    ),
                    args.output.as_deref(),
                )?;
                return Ok(DONE);
            }
            let inactive = opened.estate().people().len() - opened.estate().people().active().count_ones(..);
            let inactive = if args.inactive || args.all || !args.users.is_empty() { 0 } else { inactive };
            let aside = matrix::Aside { inactive, depth: depth(&args) };
            let text = match args.rows {
                Down::Places => matrix::table(&table, &aside, args.all, terminal.width()),
                Down::Users => matrix::by_user(&table, &aside, args.all, terminal.width()),
            };
            terminal.deliver(&text, args.output.as_deref())?;
        }
        MatrixFormat::Csv | MatrixFormat::Jsonl | MatrixFormat::Parquet => {
            long(&args, (&opened, &snapshot), &users, &resources, &wanted, terminal)?;
            // Parquet holds it within.
            if args.format != MatrixFormat::Parquet {
                About::of(&opened, &moment).beside(terminal, args.output.as_deref())?;
            }
        }
    }
    Ok(DONE)
}

/// A table has at most so many cells: some hundreds of megabytes.
const MOST_CELLS: usize = 50_000_000;

fn table(
    snapshot: &Snapshot,
    users: &[UserId],
    resources: &[ResourceId],
    wanted: &[ActionId],
) -> Result<access::Matrix, Failure> {
    access::matrix(snapshot, users, resources, wanted, MOST_CELLS).map_err(|TooLarge { rows, profiles }| {
        let [rows, profiles] = [rows, profiles].map(|number| grouped(number as u64));
        let message = format!("a table of {rows} places and at least {profiles} profiles is too large");
        let hints = vec![
            "`--under`, `--depth`, `--users` and `--action` narrow it".to_string(),
            "lists may be of any length: `--format csv`, `jsonl` or `parquet`".to_string(),
        ];
        Failure::Usage(message, hints)
    })
}

/// The table as a picture.
fn heat(
    table: &access::Matrix,
    opened: &Opened,
    resources: &[ResourceId],
    wanted: &[ActionId],
    moment: &Moment,
    medium: Medium,
) -> Result<Vec<u8>, String> {
    let estate = opened.estate();
    let fits = |r: &ResourceId| wanted.iter().filter(|a| estate.schema().fits(**a, estate.catalog().kind(*r))).count();
    let harmless = &opened.loaded.audit.harmless;
    let title = format!("{}: who can do how much where, on {}", estate.name(), moment.date);
    let harmless = table.actions.iter().map(|a| harmless.contains(a)).collect();
    heat_map(table, &title, resources.iter().map(fits).collect(), harmless, medium)
}

fn resources(args: &MatrixArgs, estate: &Estate, terminal: &Terminal) -> Result<Vec<ResourceId>, Failure> {
    let place = |name: &String| open::resource(estate, name, terminal);
    let under = args.under.iter().map(place).collect::<Result<Vec<_>, Failure>>()?;
    let also = args.also.iter().map(place).collect::<Result<Vec<_>, Failure>>()?;
    within(args, estate, &under, &also)
}

fn totals_of_all(args: &MatrixArgs, opened: &Opened, moment: &Moment, terminal: &mut Terminal) -> Result<u8, Failure> {
    let started = Instant::now();
    let estate = opened.estate();
    let totals = if let Some(cluster) = &args.cluster {
        let mut running = Running::new(estate);
        let distinct = Asked::of(cluster, args, opened, estate.catalog().len())?.summary(&mut running)?;
        running.finish(estate, moment, distinct)
    } else {
        let progress = Progress::new(estate.catalog().len());
        access::summary(&opened.snapshot(moment, terminal)?, &|n| progress.advance(n))
    };
    let cost = Cost { load: opened.seconds, evaluate: started.elapsed().as_secs_f64(), peak: peak_bytes() };
    deliver_summary(args, opened, moment, &totals, &cost, terminal)
}

fn totals_of_each(
    args: &MatrixArgs,
    by: TotalsBy,
    opened: &Opened,
    moment: &Moment,
    terminal: &mut Terminal,
) -> Result<u8, Failure> {
    let estate = opened.estate();
    if let Some(cluster) = &args.cluster {
        let counted = Asked::of(cluster, args, opened, estate.catalog().len())?.totals(by)?;
        parts::clustered(args, counted, estate, terminal)?;
        About::of(opened, moment).beside(terminal, args.output.as_deref())?;
        return Ok(DONE);
    }
    let progress = Progress::new(estate.catalog().len());
    let snapshot = opened.snapshot(moment, terminal)?;
    let totals = access::totals(&snapshot, &Portion::default(), by == TotalsBy::Users, &|n| progress.advance(n));
    drop(progress);
    terminal.stream(args.output.as_deref(), |out| {
        let mut table = TotalsTable::new(estate, args.for_spreadsheet, out)?;
        table.rows(&totals.rows)?;
        table.finish()
    })?;
    About::of(opened, moment).beside(terminal, args.output.as_deref())?;
    Ok(DONE)
}

/// The long form, streamed row by row.
fn long(
    args: &MatrixArgs,
    (opened, snapshot): (&Opened, &Snapshot),
    users: &[UserId],
    resources: &[ResourceId],
    wanted: &[ActionId],
    terminal: &mut Terminal,
) -> Result<(), Failure> {
    terminal.stream(args.output.as_deref(), |out| {
        let progress = Progress::new(resources.len());
        let about = || About::of(opened, snapshot.moment()).pairs();
        let mut list = List::new(args.form(), opened.estate(), users, wanted, out, &about)?;
        let listed = list.part(snapshot, resources, &|n| progress.advance(n)).and_then(|()| list.finish());
        drop(progress);
        listed
    })
}
