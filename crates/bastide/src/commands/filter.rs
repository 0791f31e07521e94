//! `bastide filter`

use crate::about::About;
use crate::answers::filter::Filtered;
use crate::failure::{DONE, Failure};
use crate::found::filter::{Everybody, FilterAnswer, Same, SliceSeen};
use crate::open::{EstateArgs, MomentArgs, Opened};
use crate::print::{filter, json};
use crate::terminal::Terminal;
use bastide_engine::inside::{Contents, RowsSeen, Share, contents_named};
use bastide_engine::{Snapshot, find};
use bastide_formats::data::{self, DataColumn, DataFormat, DataRow};
use bastide_formats::sql::{self, policy};
use bastide_formats::store::Store;
use bastide_model::inside::{Inside, Literal, SlicedBy};
use bastide_model::{ActionId, UserId};
use bastide_rows::{Slice, SliceRows, quoting};
use bastide_syntax::{Diagnostics, FileId};
use clap::Args;
use hashbrown::HashSet;
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum FilterFormat {
    /// In words: how many rows and columns, and which
    Table,
    /// A query with the columns and the condition
    Sql,
    /// The rows themselves, from the file; of everybody how many each gets
    Csv,
    /// For programs
    Json,
    /// Of everybody: a script that makes a PostgreSQL database give each just that
    Postgres,
}

#[derive(Args, Debug)]
pub struct FilterArgs {
    /// The user (none with `--everybody`), the action, and the dataset by id or path
    #[arg(required = true, num_args = 2..=3, value_names = ["USER", "ACTION", "DATASET"])]
    words: Vec<String>,
    /// What every active user gets, each of them
    #[arg(long)]
    everybody: bool,
    /// With `--format postgres`: the script that takes it back
    #[arg(long)]
    take_back: bool,
    #[command(flatten)]
    moment: MomentArgs,
    /// Every slice and every user of long lists
    #[arg(long)]
    all: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: FilterFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: FilterArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let (user, action, dataset) = match (args.everybody, args.words.as_slice()) {
        (true, [action, dataset]) => (None, action, dataset),
        (false, [user, action, dataset]) => (Some(user), action, dataset),
        (true, _) => {
            return Err(usage(
                "`--everybody` takes an action and a dataset",
                "bastide filter --everybody ACTION DATASET",
            ));
        }
        (false, _) => {
            return Err(usage("whose rows is not said", "bastide filter USER ACTION DATASET, or --everybody"));
        }
    };
    let wants_script = args.format == FilterFormat::Postgres;
    if wants_script && user.is_some() {
        return Err(usage(
            "a script speaks of everybody",
            "bastide filter --everybody ACTION DATASET --format postgres",
        ));
    }
    if args.take_back && !wants_script {
        return Err(usage(
            "`--take-back` speaks of a script",
            "bastide filter --everybody ACTION DATASET --format postgres --take-back",
        ));
    }
    if user.is_none() && args.format == FilterFormat::Sql {
        return Err(usage("a query speaks of one user", "bastide filter USER ACTION DATASET --format sql"));
    }
    let mut opened = estate.open(terminal)?;
    let user = user.map(|user| opened.somebody(&[user], terminal)).transpose()?.map(|users| users[0]);
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let action = find::action(estate, action)?;
    let Some(contents) = contents_named(estate, dataset)? else {
        let known: Vec<String> = estate.insides().iter().map(|inside| format!("`{}`", inside.dataset)).collect();
        let hint = match known.is_empty() {
            true => "to tell what lies inside a dataset, write `[[inside]]` in `bastide.toml`".to_string(),
            false => format!("it is told of {}", known.join(", ")),
        };
        return Err(Failure::Usage(format!("what lies inside `{dataset}` is not told"), vec![hint]));
    };
    let snapshot = opened.snapshot(&moment, terminal)?;
    let about = About::of(&opened, &moment);
    let Some(user) = user else {
        return of_everybody(&args, &snapshot, &contents, action, &about, terminal);
    };
    let share = contents.share(&snapshot, user, action);
    match args.format {
        FilterFormat::Csv => {
            rows(&opened, &contents, &share, args.output.as_deref(), terminal)?;
            about.beside(terminal, args.output.as_deref())?;
        }
        FilterFormat::Sql => terminal.deliver(&query(&contents, &share), args.output.as_deref())?,
        FilterFormat::Table | FilterFormat::Json | FilterFormat::Postgres => {
            let answer = answer(&snapshot, &contents, &share, user, action);
            let text = match args.format {
                FilterFormat::Json => json::document("filter", &about, &Filtered::One(Box::new((&answer).into()))),
                _ => filter::answer(&answer, args.all, terminal.width()),
            };
            terminal.deliver(&text, args.output.as_deref())?;
        }
    }
    Ok(DONE)
}

fn usage(message: &str, hint: &str) -> Failure {
    Failure::Usage(message.to_string(), vec![format!("write `{hint}`")])
}

/// The values of slices, by their positions.
fn values<'c>(contents: &'c Contents, share: &Share) -> Vec<Vec<Option<&'c str>>> {
    let of = |at: &u32| contents.slices[*at as usize].values.iter().map(Option::as_deref).collect();
    share.slices.iter().map(of).collect()
}

fn columns<'c>(contents: &'c Contents, share: &Share) -> Vec<&'c str> {
    share.columns.iter().map(|at| contents.inside.columns[*at as usize].as_str()).collect()
}

fn query(contents: &Contents, share: &Share) -> String {
    sql::query(contents.inside, &columns(contents, share), &values(contents, share))
}

fn answer(snapshot: &Snapshot, contents: &Contents, share: &Share, user: UserId, action: ActionId) -> FilterAnswer {
    let estate = snapshot.estate();
    let slice = |at: &u32| {
        let slice = &contents.slices[*at as usize];
        let values = contents.inside.by.iter().zip(&slice.values).map(|(by, value)| (by.name.clone(), value.clone()));
        SliceSeen {
            id: estate.catalog().id(slice.resource).to_string(),
            name: estate.catalog().name(slice.resource).to_string(),
            values: values.collect(),
            rows: slice.rows,
        }
    };
    let without = contents.inside.columns.iter().enumerate().filter(|(at, _)| !share.columns.contains(&(*at as u32)));
    FilterAnswer {
        user: estate.people().id(user).to_string(),
        name: estate.people().name(user).to_string(),
        seen: RowsSeen::of(estate, contents, action, share),
        // Rows that are not told apart are no slice of their own.
        slices: share.slices.iter().filter(|_| contents.slice_count() > 0).map(slice).collect(),
        columns: columns(contents, share).into_iter().map(str::to_string).collect(),
        without: without.map(|(_, name)| name.clone()).collect(),
        sql: query(contents, share),
    }
}

fn of_everybody(
    args: &FilterArgs,
    snapshot: &Snapshot,
    contents: &Contents,
    action: ActionId,
    about: &About,
    terminal: &mut Terminal,
) -> Result<u8, Failure> {
    let estate = snapshot.estate();
    if args.format == FilterFormat::Postgres {
        let text = script(args, contents, snapshot, action, about)?;
        terminal.deliver(&text, args.output.as_deref())?;
        return Ok(DONE);
    }
    let shares = contents.shares(snapshot, action);
    if args.format == FilterFormat::Csv {
        let mut table = quoting::writer(Vec::new(), quoting::style(estate, false));
        table.write_record(["user", "rows", "slices", "columns"]).map_err(std::io::Error::other)?;
        for (user, share) in estate.people().all().zip(&shares).filter(|(user, _)| estate.people().is_active(*user)) {
            let numbers = [share.rows, share.slices.len() as u64, share.columns.len() as u64].map(|n| n.to_string());
            let cells = [estate.people().id(user), &numbers[0], &numbers[1], &numbers[2]];
            table.write_record(cells).map_err(std::io::Error::other)?;
        }
        let bytes = table.into_inner().map_err(|error| std::io::Error::other(error.to_string()))?;
        let text = String::from_utf8_lossy(&bytes);
        terminal.deliver(&text, args.output.as_deref())?;
        about.beside(terminal, args.output.as_deref())?;
        return Ok(DONE);
    }
    let mut alike: BTreeMap<(&[u32], &[u32]), Same> = BTreeMap::new();
    for (user, share) in estate.people().all().zip(&shares).filter(|(user, _)| estate.people().is_active(*user)) {
        let none = || Same { users: Vec::new(), seen: RowsSeen::of(estate, contents, action, share) };
        let same = alike.entry((&share.slices, &share.columns)).or_insert_with(none);
        same.users.push(estate.people().id(user).to_string());
    }
    let mut shares: Vec<Same> = alike.into_values().collect();
    shares.sort_by_key(|same| std::cmp::Reverse((same.seen.rows, same.seen.columns)));
    let all = Everybody {
        dataset: contents.inside.dataset.clone(),
        path: estate.catalog().path(contents.dataset),
        action: estate.schema().actions[action.index()].name.clone(),
        shares,
    };
    let text = match args.format {
        FilterFormat::Json => json::document("filter", about, &Filtered::All((&all).into())),
        _ => filter::everybody(&all, args.all, terminal.width()),
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(DONE)
}

fn script(
    args: &FilterArgs,
    contents: &Contents,
    snapshot: &Snapshot,
    action: ActionId,
    about: &About,
) -> Result<String, Failure> {
    let (estate, inside) = (snapshot.estate(), contents.inside);
    if inside.table.is_empty() {
        let hint = "to tell which table it is, give its `[[inside]]` `from` and `table`".to_string();
        return Err(Failure::Usage(
            format!("the rows of `{}` lie in a file, not in a database", inside.dataset),
            vec![hint],
        ));
    }
    let action_name = &estate.schema().actions[action.index()].name;
    let path = estate.catalog().path(contents.dataset);
    if args.take_back {
        let about = [format!("Takes back what the other script did for `{path}` ({}).", about.estate)];
        return Ok(policy::taken_back(inside, &about));
    }
    let shares = contents.shares(snapshot, action);
    let given: Vec<policy::Given> = estate
        .people()
        .all()
        .zip(&shares)
        .map(|(user, share)| policy::Given {
            user: estate.people().id(user),
            slices: values(contents, share),
            columns: columns(contents, share),
        })
        .collect();
    let some = given.iter().filter(|given| !given.columns.is_empty()).count();
    let lines = [
        format!("Who gets which rows and columns: {action_name} on `{path}`, {} on {}.", about.estate, about.day),
        format!("{some} of {} users get anything. Users are roles of the same name.", estate.people().len()),
        "It can be run again; `--take-back` gives the script that takes it back.".to_string(),
        "Run it as the owner of the table. Superusers and the owner are bound by no policy.".to_string(),
    ];
    Ok(policy::script(inside, &given, &lines))
}

/// Writes the rows that a share holds, from the file. What fits no slice is left out, as what nobody knew of.
fn rows(
    opened: &Opened,
    contents: &Contents,
    share: &Share,
    output: Option<&std::path::Path>,
    terminal: &mut Terminal,
) -> Result<(), Failure> {
    let inside = contents.inside;
    if !inside.table.is_empty() {
        let hint = "to have the query that gives them, write `--format sql`".to_string();
        return Err(Failure::Usage(format!("the rows of `{}` lie in a database", inside.dataset), vec![hint]));
    }
    let position = |by: &SlicedBy| inside.columns.iter().position(|name| *name == by.name);
    let by: Vec<(usize, Literal)> = inside.by.iter().filter_map(|by| Some((position(by)?, by.literal))).collect();
    let all = values(contents, share).into_iter();
    let wanted: HashSet<Slice> =
        all.map(|slice| slice.into_iter().map(|value| value.map(Cow::Borrowed)).collect()).collect();
    let columns: Vec<usize> = share.columns.iter().map(|at| *at as usize).collect();
    let columns: Vec<(usize, &str)> = columns.into_iter().map(|at| (at, inside.columns[at].as_str())).collect();
    let broken = |message: String| std::io::Error::other(format!("`{}`: {message}", inside.file));
    terminal.stream(output, |out| {
        if columns.is_empty() {
            return Ok(());
        }
        let mut rows = SliceRows::new(by, wanted, &columns, out)?;
        let mut failed = Ok(());
        let mut each = |_: &[DataColumn], row: &dyn DataRow, _| {
            failed = rows.row(row);
            failed.is_ok()
        };
        read(opened, inside, &mut each).map_err(broken)?;
        failed?;
        rows.finish()
    })
}

/// Goes through the rows of a file, as it was when the estate was read.
fn read(opened: &Opened, inside: &Inside, each: &mut data::Each<'_>) -> Result<(), String> {
    let place = bastide_model::rows::RowPlace { file: FileId(0), line: 0, start: 0, end: 0 };
    let format = DataFormat::of_name(&inside.file).ok_or("its name does not tell the format")?;
    if format == DataFormat::Parquet {
        let folder = opened.loaded.folder.as_ref().ok_or("it lies in no folder")?;
        let bytes = folder.read(&inside.file).map_err(|error| format!("the file cannot be read: {error}"))?;
        return data::parquet(bytes.into(), place, each).map(|_| ());
    }
    let sources = &opened.loaded.sources;
    let file = (0..sources.len()).map(|at| FileId(at as u32)).find(|file| sources.name(*file) == inside.file);
    let file = file.ok_or("it was not read")?;
    let mut said = Diagnostics::new();
    data::text(file, format, sources.text(file), each, &mut said);
    said.finish().first().map_or(Ok(()), |first| Err(first.message.clone()))
}
