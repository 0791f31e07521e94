//! `bastide-sql`: everybody's access as tables, asked in SQL. The main program starts it as `bastide sql`.

mod asked;
mod cluster;
mod columns;
mod content;
mod counted;
mod functions;
mod given;
mod ground;
mod output;
mod prompt;
mod scan;
mod session;
mod small;
mod tallies;
mod told;

use bastide_formats::pieces::Tallies;
use clap::{Args, Parser, Subcommand};
use datafusion::error::DataFusionError;
use datafusion::execution::context::SessionContext;
use ground::{Fault, Held, OUTSIDE, USAGE};
use jiff::civil::Date;
use output::{Format, How};
use prompt::{Names, Prompt, Said};
use std::io::{IsTerminal, Read};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;

/// Ask about everybody's access in SQL
#[derive(Parser, Debug)]
#[command(name = "bastide-sql", version, args_conflicts_with_subcommands = true)]
struct Cli {
    #[command(subcommand)]
    server: Option<Server>,
    #[command(flatten)]
    ask: Ask,
}

#[derive(Args, Debug)]
struct Ask {
    /// The question; without it and without --file a prompt
    question: Option<String>,
    /// Read the question from a file; `-` is the standard input
    #[arg(short, long, value_name = "FILE", conflicts_with = "question")]
    file: Option<PathBuf>,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: Format,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// An answer with more rows than so many is an error
    #[arg(long, value_name = "N", default_value = "1000000")]
    limit_rows: usize,
    /// Write CSV cells that a spreadsheet would run as a formula so that it does not
    #[arg(long)]
    for_spreadsheet: bool,
    /// Let a cluster answer: the host and port of its scheduler
    #[arg(long, value_name = "HOST:PORT")]
    cluster: Option<String>,
    /// The day asked about; today otherwise
    #[arg(long, value_name = "DATE")]
    on: Option<Date>,
    /// A session attribute; repeat it for several values
    #[arg(long, value_name = "NAME=VALUE")]
    session: Vec<String>,
    /// The folder of the estate; otherwise the nearest one upward that holds one
    #[arg(short = 'C', long = "estate", value_name = "DIR", env = "BASTIDE_ESTATE", hide_env_values = true)]
    estate: Option<PathBuf>,
    /// Say nothing beside the answer and what went wrong
    #[arg(short, long)]
    quiet: bool,
    /// The main program, which works out `findings` and `differences`
    #[arg(long, value_name = "FILE", hide = true)]
    program: Option<PathBuf>,
    /// When to colour: on a terminal, unless `NO_COLOR` is set; always; never
    #[arg(long, value_enum, default_value = "auto", hide = true)]
    color: Color,
    /// How many cores answer; all otherwise
    #[arg(long, value_name = "N", hide = true)]
    cores: Option<usize>,
}

/// When to colour.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
enum Color {
    Auto,
    Always,
    Never,
}

#[derive(Subcommand, Debug)]
enum Server {
    /// Run the scheduler of a cluster until it is ended
    Scheduler {
        /// Where it listens
        #[arg(long, value_name = "HOST:PORT", default_value = "127.0.0.1:50050")]
        listen: SocketAddr,
    },
    /// Run an executor of a cluster until it is ended
    Executor {
        /// The scheduler
        #[arg(long, value_name = "HOST:PORT", default_value = "127.0.0.1:50050")]
        scheduler: String,
        /// The address by which others reach it
        #[arg(long, value_name = "HOST", default_value = "127.0.0.1")]
        host: String,
        /// The port from which others take results
        #[arg(long, value_name = "PORT", default_value = "50051")]
        port: u16,
        /// The port on which it is given tasks
        #[arg(long, value_name = "PORT", default_value = "50052")]
        tasks_port: u16,
        /// How many tasks it does at the same time; one a core otherwise
        #[arg(long, value_name = "N", default_value = "0")]
        tasks: usize,
        /// Where the estate lies on this machine, where that is not where it was asked about
        #[arg(short = 'C', long = "estate", value_name = "DIR")]
        estate: Option<PathBuf>,
        /// Where results lie on their way; a temporary folder otherwise
        #[arg(long, value_name = "DIR")]
        work: Option<String>,
    },
    /// Let a cluster count for the main program
    #[command(hide = true)]
    Tallies {
        /// What is counted
        of: String,
        /// The scheduler
        #[arg(long, value_name = "HOST:PORT")]
        cluster: String,
    },
}

fn main() -> ExitCode {
    let cli = Cli::parse();
    match run(cli) {
        Ok(()) => ExitCode::SUCCESS,
        // Whoever read the answer has gone away.
        Err(fault) if fault.text.contains("Broken pipe") => ExitCode::SUCCESS,
        Err(fault) => {
            tell(&fault);
            ExitCode::from(fault.status)
        }
    }
}

#[expect(clippy::print_stderr, reason = "what went wrong belongs there")]
fn tell(fault: &Fault) {
    let text = fault.text.trim_end();
    let text: Vec<String> = text.split('\n').map(|line| bastide_syntax::visible(line).into_owned()).collect();
    let text = text.join("\n");
    eprintln!("{}", if text.starts_with("error") { text } else { format!("error: {text}") });
}

#[expect(clippy::print_stderr, reason = "what is said beside an answer belongs there")]
fn say(text: &str) {
    eprintln!("{text}");
}

/// The folder of an estate.
fn root(given: Option<&Path>) -> Result<PathBuf, Fault> {
    let has = |folder: &Path| folder.join(bastide_formats::manifest::NAME).is_file();
    let here = std::env::current_dir().map_err(Fault::outside)?;
    let found = match given {
        Some(given) => {
            let given = if given.is_file() { given.parent().unwrap_or(Path::new(".")) } else { given };
            Some(here.join(given)).filter(|folder| has(folder))
        }
        None => here.ancestors().find(|folder| has(folder)).map(Path::to_path_buf),
    };
    let told = || Fault::usage("there is no `bastide.toml` here: name the folder of the estate with `--estate`");
    let found = found.ok_or_else(told)?;
    std::fs::canonicalize(&found).map_err(Fault::outside)
}

fn run(cli: Cli) -> Result<(), Fault> {
    let cores = match &cli.server {
        Some(Server::Executor { tasks, .. }) if *tasks > 0 => Some(*tasks),
        Some(_) => None,
        None => cli.ask.cores,
    };
    if let Some(cores) = cores {
        rayon::ThreadPoolBuilder::new().num_threads(cores).build_global().map_err(Fault::outside)?;
    }
    let cores = cores.unwrap_or_else(|| std::thread::available_parallelism().map_or(1, usize::from));
    let mut runtime = tokio::runtime::Builder::new_multi_thread();
    let runtime = runtime.worker_threads(cores.max(2)).enable_all().build().map_err(Fault::outside)?;
    runtime.block_on(async {
        match cli.server {
            Some(Server::Scheduler { listen }) => {
                say(&format!("scheduler at {listen}"));
                cluster::scheduler(listen).await
            }
            Some(Server::Executor { scheduler, host, port, tasks_port, tasks, estate, work }) => {
                let told = || Fault::usage(format!("`{scheduler}` is no host and port"));
                let at = scheduler.clone();
                let (name, number) = scheduler.rsplit_once(':').ok_or_else(told)?;
                let scheduler = (name.to_string(), number.parse().map_err(|_| told())?);
                if let Some(estate) = estate {
                    ground::lies_here(root(Some(&estate))?);
                }
                say(&format!("executor at {host}:{port}"));
                if let Err(Fault { text, .. }) = cluster::answers(&at) {
                    say(&format!("note: {text}; it is waited for"));
                }
                let tasks = if tasks == 0 { cores } else { tasks };
                cluster::executor(cluster::Executor { scheduler, host, ports: (port, tasks_port), tasks, work }).await
            }
            Some(Server::Tallies { of, cluster }) => {
                let known = Tallies::ALL.into_iter().find(|(word, _)| *word == of);
                let (_, of) = known.ok_or_else(|| Fault::usage(format!("`{of}` is not counted")))?;
                told::tell(of, &cluster).await
            }
            None => answer(cli.ask, cores).await,
        }
    })
}

/// What to tell of an error of the SQL engine.
fn fault(error: &DataFusionError) -> Fault {
    let root = error.find_root();
    if let DataFusionError::External(inner) = root
        && let Some(fault) = inner.downcast_ref::<Fault>()
    {
        return fault.clone();
    }
    // What went wrong in another process comes as a text.
    if let Some(fault) = elsewhere(&root.to_string()) {
        return fault;
    }
    let status = match root {
        DataFusionError::SQL(..) | DataFusionError::Plan(_) | DataFusionError::SchemaError(..) => USAGE,
        DataFusionError::NotImplemented(_) | DataFusionError::Configuration(_) => USAGE,
        _ => OUTSIDE,
    };
    // The names in front of a table's are of no use to whoever asks.
    Fault { status, text: root.message().replace("bastide.estate.", "") }
}

/// A fault of ours in what another process says.
fn elsewhere(text: &str) -> Option<Fault> {
    let (_, told) = text.rsplit_once("Fault { status: ")?;
    let (status, told) = told.split_once(", text: ")?;
    let mut values = serde_json::Deserializer::from_str(told).into_iter::<String>();
    Some(Fault { status: status.parse().ok()?, text: values.next()?.ok()? })
}

async fn answer(ask: Ask, cores: usize) -> Result<(), Fault> {
    let root = root(ask.estate.as_deref())?;
    let day = ask.on.unwrap_or_else(|| jiff::ZonedDateTime::now().date());
    let mut given = Vec::new();
    for text in &ask.session {
        let (name, value) = text
            .split_once('=')
            .ok_or_else(|| Fault::usage(format!("`{text}` is no session value: write it as `--session NAME=VALUE`")))?;
        given.push((name.to_string(), value.to_string()));
    }
    let question = match (&ask.question, &ask.file) {
        (Some(question), _) => Some(question.clone()),
        (None, Some(file)) => Some(read(file)?),
        (None, None) => None,
    };
    let held = ground::keep(Held::open(&root, day, &given, None)?);
    for lost in held.lost.iter().filter(|_| !ask.quiet) {
        say(&format!("warning: {}", bastide_syntax::visible(lost)));
    }
    let context = match &ask.cluster {
        None => session::local(&held, ask.program.clone(), cores),
        Some(address) => cluster::remote(address, &held, ask.program.clone()).await,
    };
    let context = context.map_err(|error| fault(&error))?;
    let color = match ask.color {
        Color::Auto => std::io::stdout().is_terminal() && std::env::var_os("NO_COLOR").is_none(),
        Color::Always => true,
        Color::Never => false,
    };
    let how = How { format: ask.format, limit: ask.limit_rows, guard: ask.for_spreadsheet, color };
    match question {
        Some(question) => one(&context, &held, &question, how, ask.output.as_deref()).await.map(drop),
        None => many(&context, &held, how).await,
    }
}

fn read(file: &Path) -> Result<String, Fault> {
    let named = |error: std::io::Error| Fault::outside(format!("`{}` cannot be read: {error}", file.display()));
    if file == Path::new("-") {
        let mut text = String::new();
        std::io::stdin().read_to_string(&mut text).map_err(named)?;
        return Ok(text);
    }
    std::fs::read_to_string(file).map_err(named)
}

/// Answers one question; how many rows there were.
async fn one(
    context: &SessionContext,
    held: &Held,
    question: &str,
    how: How,
    file: Option<&Path>,
) -> Result<usize, Fault> {
    let answered = async {
        let frame = session::ask(context, question.trim().trim_end_matches(';')).await?;
        scan::are_places(held, &asked::places(frame.logical_plan())?)?;
        output::write(frame.execute_stream().await?, how, file).await
    };
    let written = answered.await.map_err(|error| fault(&error))?;
    // What was read on the way is what was looked at before.
    held.unchanged()?;
    Ok(written.rows)
}

async fn names(context: &SessionContext) -> Names {
    let mut names = Names { tables: Vec::new(), functions: Vec::new() };
    names.functions = ["under(", "label_at_least(", "differences("].map(str::to_string).to_vec();
    let Some(schema) = context.catalog("bastide").and_then(|catalog| catalog.schema("estate")) else { return names };
    for table in schema.table_names() {
        // What the main program works out is not worked out for its columns.
        if table == "findings" {
            names.tables.push((table, session::FINDING_COLUMNS.map(str::to_string).to_vec()));
            continue;
        }
        if let Ok(Some(provider)) = schema.table(&table).await {
            let columns = provider.schema().fields().iter().map(|field| field.name().clone()).collect();
            names.tables.push((table, columns));
        }
    }
    names
}

const HELP: &str = "A question is SQL and ends with `;`. `tables` lists the tables, `columns TABLE` what one holds,\n\
                    `quit` ends. Tab completes; the keys up and down go through what was asked before.";

async fn many(context: &SessionContext, held: &Arc<Held>, how: How) -> Result<(), Fault> {
    if !std::io::stdin().is_terminal() {
        return Err(Fault::usage("there is nobody to ask: give a question, or `--file FILE`"));
    }
    let names = names(context).await;
    let (mut prompt, told) = Prompt::new(names.clone()).map_err(Fault::outside)?;
    let warn = |told: String| say(&format!("warning: {}", bastide_syntax::visible(&told)));
    told.into_iter().for_each(warn);
    say(&format!(
        "{}, on {}: {} users, {} resources. `help` says what can be asked.",
        held.estate().name(),
        held.ground.day,
        held.ground.users,
        held.ground.resources
    ));
    loop {
        let text = match prompt.next().map_err(Fault::outside)? {
            Said::End => break,
            Said::Nothing => continue,
            Said::Text(text) => text,
        };
        prompt.remember().into_iter().for_each(warn);
        match text.trim() {
            "" => {}
            "quit" => break,
            "help" => say(HELP),
            "tables" => {
                names.tables.iter().for_each(|(table, columns)| say(&format!("{table}: {}", columns.join(", "))))
            }
            text if text.starts_with("columns ") => {
                let table = text.trim_start_matches("columns ").trim().trim_end_matches(';');
                match names.tables.iter().find(|(name, _)| name == table) {
                    Some((_, columns)) => say(&columns.join("\n")),
                    None => say(&format!("there is no table `{table}`: `tables` lists them")),
                }
            }
            question => match one(context, held, question, how, None).await {
                Ok(1) => say("1 row"),
                Ok(rows) => say(&format!("{rows} rows")),
                Err(fault) => tell(&fault),
            },
        }
    }
    Ok(())
}
