//! `bastide matrix`

use super::cluster::Asked;
use super::pairs::{Pairs, joined};
use super::{parts, picture};
use crate::about::About;
use crate::complete;
use crate::failure::{DONE, Failure};
use crate::open::{self, EstateArgs, MomentArgs, Opened};
use crate::print::csv::{style, writer};
use crate::print::summary::Cost;
use crate::print::{json, matrix, summary};
use crate::progress::Progress;
use crate::terminal::Terminal;
use bastide_engine::Snapshot;
use bastide_engine::access::{self, Portion, Row, Running, Summary, sweep};
use bastide_engine::find;
use bastide_formats::parquet::{Cell, Holds, ParquetRows};
use bastide_model::{ActionId, Estate, Moment, ResourceId, UserId};
use bastide_report::picture::{Medium, heat_map};
use bastide_syntax::escaped_json;
use clap::Args;
use std::io::{self, Write};
use std::path::PathBuf;
use std::time::Instant;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum Format {
    /// Resources down, profiles across
    Table,
    /// One row a user and resource
    Csv,
    /// One object a user and resource
    Jsonl,
    /// The table, for programs
    Json,
    /// Apache Parquet: the rows of csv, in columns
    Parquet,
    /// A picture: profiles by places, coloured by how far access goes
    Svg,
    /// The same picture in points
    Png,
}

/// What totals are by.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum By {
    /// One row a user
    Users,
    /// One row a resource
    Resources,
}

/// What stands in the rows of the table.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum Rows {
    /// Places down, profiles of users across
    Places,
    /// Users down, places across
    Users,
}

#[derive(Args, Debug)]
pub struct MatrixArgs {
    #[command(flatten)]
    pub(super) moment: MomentArgs,
    /// How many levels of the tree, from the top or from --under: 2 in a table or picture, all of them in a list
    #[arg(long, value_name = "N")]
    depth: Option<u16>,
    /// Only this place and what lies beneath it; repeat it for several
    #[arg(long, value_name = "PLACE", add = complete::resources())]
    pub(super) under: Vec<String>,
    /// This place, too, wherever it lies; repeat it for several
    #[arg(long, value_name = "PLACE", add = complete::resources())]
    pub(super) also: Vec<String>,
    /// What stands in the rows of the table
    #[arg(long, value_enum, default_value = "places")]
    rows: Rows,
    /// Only resources of this kind, at every depth unless --depth says otherwise
    #[arg(long, value_name = "KIND", add = complete::kinds())]
    kind: Option<String>,
    /// Only these users: ids, `group:GROUP` for its members, `persona:NAME`
    #[arg(long, value_name = "USER", value_delimiter = ',', add = complete::stand_ins())]
    pub(super) users: Vec<String>,
    /// Only this action; repeat it for several
    #[arg(long, value_name = "ACTION", add = complete::actions())]
    pub(super) action: Vec<String>,
    /// Inactive users, too
    #[arg(long)]
    pub(super) inactive: bool,
    /// Everybody on everything: inactive users, every depth, and pairs without any access
    #[arg(long)]
    pub(super) all: bool,
    /// One row a triple, with its reason and the statement that decides (csv, jsonl, parquet)
    #[arg(long)]
    reasons: bool,
    /// Totals of everybody on everything instead
    #[arg(long, conflicts_with_all = ["depth", "under", "also", "rows", "kind", "users", "action", "reasons", "totals"])]
    pub(super) summary: bool,
    /// The number of allowed pairs by user or by resource instead, as CSV
    #[arg(long, value_enum, value_name = "BY", conflicts_with_all = ["depth", "under", "also", "rows", "kind", "users", "action", "reasons"])]
    pub(super) totals: Option<By>,
    /// Let a cluster count: the host and port of its scheduler
    #[arg(long, value_name = "HOST:PORT")]
    pub(super) cluster: Option<String>,
    /// Write CSV cells that a spreadsheet would run as a formula so that it does not
    #[arg(long)]
    for_spreadsheet: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    pub(super) format: Format,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    pub(super) output: Option<PathBuf>,
}

impl MatrixArgs {
    /// Whether rows are wanted, one after the other.
    fn is_list(&self) -> bool {
        matches!(self.format, Format::Csv | Format::Jsonl | Format::Parquet)
    }
}

pub fn run(args: MatrixArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    if args.reasons && matches!(args.format, Format::Table | Format::Json | Format::Svg | Format::Png) {
        let hint = vec!["reasons are long lists: write `--format csv`, `jsonl` or `parquet`".to_string()];
        return Err(Failure::Usage("`--reasons` has no table".to_string(), hint));
    }
    if args.for_spreadsheet && args.format != Format::Csv && args.totals.is_none() {
        return Err(Failure::Usage("`--for-spreadsheet` goes with `--format csv`".to_string(), Vec::new()));
    }
    if args.rows == Rows::Users && args.format != Format::Table {
        let hint = vec!["lists have a row a user and resource anyway".to_string()];
        return Err(Failure::Usage("`--rows users` goes with the table".to_string(), hint));
    }
    if args.cluster.is_some() && !args.summary && args.totals.is_none() {
        let hint =
            vec!["to ask a cluster anything else, write the question in SQL: `bastide sql --cluster`".to_string()];
        return Err(Failure::Usage("`--cluster` goes with `--summary` or `--totals`".to_string(), hint));
    }
    if (args.summary || args.totals.is_some() || args.is_list())
        && let Some(parts) = estate.open_parts(terminal)?
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
        return totals(&args, by, &opened, &moment, terminal);
    }
    let resources = resources(&args, opened.estate(), terminal)?;
    let wanted = actions(&args, opened.estate())?;
    let snapshot = opened.snapshot(&moment, terminal)?;
    match args.format {
        Format::Svg | Format::Png => {
            let table = access::matrix(&snapshot, &users, &resources, &wanted);
            let medium = if args.format == Format::Svg { Medium::Svg } else { Medium::Png };
            let made = heat(&table, &opened, &resources, &wanted, &moment, medium);
            picture::deliver(made, medium, args.output.as_deref(), terminal)?;
        }
        Format::Table | Format::Json => {
            let table = access::matrix(&snapshot, &users, &resources, &wanted);
            if args.format == Format::Json {
                terminal
                    .deliver(&json::document("matrix", &About::of(&opened, &moment), &table), args.output.as_deref())?;
                return Ok(DONE);
            }
            let inactive = opened.estate().people.len() - opened.estate().people.active().count_ones(..);
            let inactive = if args.inactive || args.all || !args.users.is_empty() { 0 } else { inactive };
            let aside = matrix::Aside { inactive, depth: depth(&args) };
            let text = match args.rows {
                Rows::Places => matrix::table(&table, &aside, args.all, terminal.width()),
                Rows::Users => matrix::by_user(&table, &aside, args.all, terminal.width()),
            };
            terminal.deliver(&text, args.output.as_deref())?;
        }
        Format::Csv | Format::Jsonl | Format::Parquet => {
            long(&args, (&opened, &snapshot), &users, &resources, &wanted, terminal)?;
            // Parquet holds it within.
            if args.format != Format::Parquet {
                About::of(&opened, &moment).beside(terminal, args.output.as_deref())?;
            }
        }
    }
    Ok(DONE)
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
    let fits = |r: &ResourceId| wanted.iter().filter(|a| estate.schema.fits(**a, estate.catalog.kind(*r))).count();
    let harmless = &opened.loaded.audit.harmless;
    let title = format!("{}: who can do how much where, on {}", estate.name, moment.date);
    let harmless = table.actions.iter().map(|a| harmless.contains(a)).collect();
    heat_map(table, &title, resources.iter().map(fits).collect(), harmless, medium)
}

pub(super) fn selected(args: &MatrixArgs, opened: &mut Opened, terminal: &Terminal) -> Result<Vec<UserId>, Failure> {
    if args.users.is_empty() {
        let people = &opened.estate().people;
        return Ok(people.all().filter(|u| args.inactive || args.all || people.is_active(*u)).collect());
    }
    let (groups, names): (Vec<&str>, Vec<&str>) =
        args.users.iter().map(String::as_str).partition(|name| name.starts_with("group:"));
    let mut users = opened.somebody(&names, terminal)?;
    let estate = opened.estate();
    for name in groups {
        let group = find::group(estate, name.trim_start_matches("group:"))?;
        let members = estate.groups.users(group).ones().map(UserId::new);
        users.extend(members.filter(|u| args.inactive || args.all || estate.people.is_active(*u)));
    }
    users.sort();
    users.dedup();
    Ok(users)
}

pub(super) fn actions(args: &MatrixArgs, estate: &Estate) -> Result<Vec<ActionId>, Failure> {
    if args.action.is_empty() {
        return Ok(ActionId::all(estate.schema.actions.len()).collect());
    }
    let mut actions = Vec::new();
    for name in &args.action {
        actions.push(find::action(estate, name)?);
    }
    actions.sort();
    actions.dedup();
    Ok(actions)
}

/// How deep the tree is shown: two levels, unless asked otherwise. A list goes through all of it.
fn depth(args: &MatrixArgs) -> Option<u16> {
    args.depth.or(if args.all || args.kind.is_some() || args.is_list() { None } else { Some(2) })
}

fn resources(args: &MatrixArgs, estate: &Estate, terminal: &Terminal) -> Result<Vec<ResourceId>, Failure> {
    let place = |name: &String| open::resource(estate, name, terminal);
    let under = args.under.iter().map(place).collect::<Result<Vec<_>, Failure>>()?;
    let also = args.also.iter().map(place).collect::<Result<Vec<_>, Failure>>()?;
    within(args, estate, &under, &also)
}

/// The resources that are asked for, where the places are known: without any, all.
pub(super) fn within(
    args: &MatrixArgs,
    estate: &Estate,
    under: &[ResourceId],
    also: &[ResourceId],
) -> Result<Vec<ResourceId>, Failure> {
    let catalog = &estate.catalog;
    // Each place with what lies beneath it, and the depth at which it begins.
    let mut within: Vec<(ResourceId, u16)> = Vec::new();
    if args.under.is_empty() {
        within.extend(catalog.all().map(|resource| (resource, 1)));
    }
    for &place in under {
        let top = catalog.depth(place);
        within.extend(catalog.subtree(place).map(|resource| (ResourceId(resource), top)));
    }
    let kind = args.kind.as_ref().map(|name| find::kind(estate, name)).transpose()?;
    let depth = depth(args);
    let shallow = |(r, top): &(ResourceId, u16)| depth.is_none_or(|d| catalog.depth(*r) < top + d);
    let of_kind = |r: &ResourceId| kind.is_none_or(|k| estate.schema.is_kind(catalog.kind(*r), k));
    let mut found: Vec<ResourceId> = within.into_iter().filter(shallow).map(|(r, _)| r).filter(of_kind).collect();
    found.extend_from_slice(also);
    // In the order of the tree, each once.
    found.sort_unstable();
    found.dedup();
    Ok(found)
}

fn totals_of_all(args: &MatrixArgs, opened: &Opened, moment: &Moment, terminal: &mut Terminal) -> Result<u8, Failure> {
    let started = Instant::now();
    let estate = opened.estate();
    let totals = if let Some(cluster) = &args.cluster {
        let mut running = Running::new(estate);
        let distinct = Asked::of(cluster, args, opened, estate.catalog.len())?.summary(&mut running)?;
        running.finish(estate, moment, distinct)
    } else {
        let progress = Progress::new(estate.catalog.len());
        access::summary(&opened.snapshot(moment, terminal)?, &|n| progress.advance(n))
    };
    let cost = Cost { load: opened.seconds, evaluate: started.elapsed().as_secs_f64(), peak: peak_bytes() };
    deliver_summary(args, opened, moment, &totals, &cost, terminal)
}

pub(super) fn deliver_summary(
    args: &MatrixArgs,
    opened: &Opened,
    moment: &Moment,
    totals: &Summary,
    cost: &Cost,
    terminal: &mut Terminal,
) -> Result<u8, Failure> {
    let text = match args.format {
        Format::Table => summary::summary(totals, cost, terminal.width()),
        Format::Json => {
            let mut value = serde_json::to_value(totals).expect("plain values always serialise");
            value["seconds"] = serde_json::json!({"load": cost.load, "evaluate": cost.evaluate});
            value["peak_bytes"] = serde_json::json!(cost.peak);
            json::document("summary", &About::of(opened, moment), &value)
        }
        _ => {
            let hint = "write `--format json`, or `--totals users` for CSV".to_string();
            return Err(Failure::Usage("a summary has no rows".to_string(), vec![hint]));
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(DONE)
}

/// Peak resident memory by the system's own account, where it gives one.
pub(super) fn peak_bytes() -> Option<u64> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find_map(|l| l.strip_prefix("VmHWM:"))?;
    line.trim().strip_suffix("kB")?.trim().parse::<u64>().ok().map(|kib| kib * 1024)
}

fn totals(args: &MatrixArgs, by: By, opened: &Opened, moment: &Moment, terminal: &mut Terminal) -> Result<u8, Failure> {
    let estate = opened.estate();
    if let Some(cluster) = &args.cluster {
        let counted = Asked::of(cluster, args, opened, estate.catalog.len())?.totals(by)?;
        parts::clustered(args, counted, estate, terminal)?;
        About::of(opened, moment).beside(terminal, args.output.as_deref())?;
        return Ok(DONE);
    }
    let progress = Progress::new(estate.catalog.len());
    let snapshot = opened.snapshot(moment, terminal)?;
    let totals = access::totals(&snapshot, &Portion::default(), by == By::Users, &|n| progress.advance(n));
    drop(progress);
    terminal.stream(args.output.as_deref(), |out| {
        let mut table = TotalsTable::new(args, estate, out)?;
        table.rows(&totals.rows)?;
        table.finish()
    })?;
    About::of(opened, moment).beside(terminal, args.output.as_deref())?;
    Ok(DONE)
}

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
        let header = std::iter::once("id").chain(estate.schema.actions.iter().map(|a| a.name.as_str()));
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
        let mut list = List::new(args, opened.estate(), users, wanted, out, &about)?;
        let listed = list.part(snapshot, resources, &progress).and_then(|()| list.finish());
        drop(progress);
        listed
    })
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
            Format::Csv if !args.reasons => To::Pairs(out),
            Format::Csv => To::Target(Target::Csv(Box::new(writer(out, quote)))),
            Format::Parquet => {
                let holds = |name: &&'static str| (*name, if *name == "actions" { Holds::Texts } else { Holds::Text });
                let columns: Vec<(&str, Holds)> = columns(args.reasons).iter().map(holds).collect();
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

    fn write(&mut self, cells: &[Cell]) -> io::Result<()> {
        let guard = self.args.for_spreadsheet;
        let columns = columns(self.args.reasons);
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
            Target::Jsonl(out) => {
                let value = |name: &str, cell: &Cell| match cell {
                    Cell::Texts(texts) => serde_json::json!(texts),
                    Cell::Text("") if name == "statement" => serde_json::Value::Null,
                    Cell::Text(text) => serde_json::json!(text),
                };
                let pairs = columns.iter().zip(cells).map(|(name, cell)| (name.to_string(), value(name, cell)));
                writeln!(out, "{}", escaped_json(&serde_json::Value::Object(pairs.collect()).to_string()))
            }
        }
    }

    fn row(&mut self, row: &Row) -> io::Result<()> {
        let estate = self.estate;
        let resource = estate.catalog.id(row.resource);
        let names = &estate.schema.actions;
        for (at, user) in self.users.iter().enumerate() {
            let user = estate.people.id(*user);
            if !self.args.reasons {
                let allowed: Vec<&str> = row
                    .allowed(at)
                    .filter(|a| self.wanted.contains(a))
                    .map(|a| names[a.index()].name.as_str())
                    .collect();
                if self.args.all || !allowed.is_empty() {
                    self.write(&[Cell::Text(user), Cell::Text(resource), Cell::Texts(&allowed)])?;
                }
                continue;
            }
            if !self.args.all && row.allowed(at).next().is_none() {
                continue;
            }
            for action in self.wanted {
                let decision = row.decision(at, *action);
                let word = if decision.is_allowed() { "allowed" } else { "refused" };
                let by = decision.by.map_or("", |by| estate.statement(by).name.as_str());
                let action = &names[action.index()].name;
                self.write(&[user, resource, action, word, decision.reason.word(), by].map(Cell::Text))?;
            }
        }
        Ok(())
    }
}
