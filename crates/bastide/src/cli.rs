//! The command line: arguments, and from a command's end to the exit status.

use crate::commands::{
    about, audit, check, compare, diff, editor, filter, fmt, import, matrix, new, reach, report, review, rules, schema,
    setup, sql, test, r#try, verify, what, who, why,
};
use crate::failure::{FAULT, Failure};
use crate::open::EstateArgs;
use crate::terminal::{Color, Terminal};
use crate::{commands, demo, examples};
use clap::{CommandFactory, Parser, Subcommand};
use std::ffi::OsString;
use std::process::ExitCode;

/// What `--version` says; `-V` says the number alone.
const VERSION: &str = concat!(
    env!("CARGO_PKG_VERSION"),
    "\ncommit    ",
    env!("BASTIDE_COMMIT"),
    "\nbuilt for ",
    env!("BASTIDE_TARGET"),
    ", ",
    env!("BASTIDE_PROFILE"),
    "\nbuilt by  ",
    env!("BASTIDE_RUSTC"),
);

const STATUS: &str = "Exit status: 0 done; 1 the answer is bad news; 2 wrong usage; 3 the estate has errors; \
4 something outside failed (a file, a server); 70 a fault of Bastide itself.";

/// Who can do what, where, why, what changes if, and what is wrong: access rules of a content
/// platform, evaluated and audited.
#[derive(Parser, Debug)]
#[command(name = "bastide", version, long_version = VERSION, after_help = help_end(), max_term_width = 100)]
pub struct Cli {
    #[command(flatten)]
    pub estate: EstateArgs,
    /// When to colour
    #[arg(long, value_enum, default_value = "auto", global = true, display_order = 902)]
    pub color: Color,
    #[command(subcommand)]
    pub command: Command,
}

#[derive(Subcommand, Debug)]
#[allow(clippy::large_enum_variant, reason = "there is one of them")]
pub enum Command {
    /// Lay out the demo estate and walk through the whole job on it
    #[command(after_help = examples::DEMO)]
    Demo(demo::DemoArgs),
    /// Begin an estate: a small, commented one to start from
    #[command(after_help = examples::NEW)]
    New(new::NewArgs),
    /// Find every mistake in policy and data, then count what was loaded
    #[command(after_help = examples::CHECK)]
    Check(check::CheckArgs),
    /// Bring people and content in from a directory, a database or a file share, after showing what it does
    #[command(after_help = examples::IMPORT)]
    Import(import::ImportArgs),
    /// Bring policy files into their canonical layout
    #[command(after_help = examples::FMT)]
    Fmt(fmt::FmtArgs),
    /// List the rules and entries, with what each reaches
    #[command(after_help = examples::RULES)]
    Rules(rules::RulesArgs),
    /// Show whom and what one rule reaches, and what is solely its doing
    #[command(after_help = examples::REACH)]
    Reach(reach::ReachArgs),
    /// Show everybody's effective access on everything
    #[command(after_help = examples::MATRIX)]
    Matrix(matrix::MatrixArgs),
    /// Show what one user can do, where, and through what
    #[command(after_help = examples::WHAT)]
    What(what::WhatArgs),
    /// Show everything known of one user, group or place
    #[command(after_help = examples::ABOUT)]
    About(about::AboutArgs),
    /// Show who can do one thing in one place, and through what
    #[command(after_help = examples::WHO)]
    Who(who::WhoArgs),
    /// Fill the terminal with everybody's access: look around, find a cause, try changes, save them
    #[command(after_help = examples::EXPLORE)]
    Explore(crate::explore::ExploreArgs),
    /// Explain one decision: its cause, what lost, what it needs, and what would turn it
    #[command(after_help = examples::WHY)]
    Why(why::WhyArgs),
    /// Ask anything in SQL: people, content, rules and everybody's access as tables
    #[command(after_help = examples::SQL)]
    Sql(sql::SqlArgs),
    /// Show who can do more and who less than in an earlier estate: a folder, an archive, a git revision
    #[command(after_help = examples::DIFF)]
    Diff(diff::DiffArgs),
    /// Find conflicts, over-broad access, and stale, brittle and leaking policy
    #[command(after_help = examples::AUDIT)]
    Audit(audit::AuditArgs),
    /// Ask every expectation and guarantee whether it holds
    #[command(after_help = examples::TEST)]
    Test(test::TestArgs),
    /// Hold the platform's own decisions against ours, and say why they differ
    #[command(after_help = examples::VERIFY)]
    Verify(verify::VerifyArgs),
    /// Compare two users, or a user with the members of a group
    #[command(after_help = examples::COMPARE)]
    Compare(compare::CompareArgs),
    /// Show which rows and columns of a dataset somebody gets: in words, as SQL, as the rows themselves
    #[command(after_help = examples::FILTER)]
    Filter(filter::FilterArgs),
    /// Show who would gain and who would lose what by a change, before anybody saves it
    #[command(after_help = examples::TRY)]
    Try(r#try::TryArgs),
    /// Write one page for people who do not use terminals: findings, power, and who can do what where
    #[command(after_help = examples::REPORT)]
    Report(report::ReportArgs),
    /// Help while rules are written: speaks with an editor over standard input and output
    #[command(after_help = examples::EDITOR)]
    Editor(editor::EditorArgs),
    /// Let owners confirm access: sheets to fill in, and what the answers come to
    #[command(after_help = examples::REVIEW)]
    Review(review::ReviewArgs),
    /// Print the JSON Schema of an output
    #[command(after_help = examples::SCHEMA)]
    Schema(schema::SchemaArgs),
    /// Write manual pages and completion scripts into a folder, for whoever installs Bastide
    #[command(after_help = examples::SETUP)]
    Setup(setup::SetupArgs),
}

fn help_end() -> String {
    format!("{}\n\n{STATUS}", examples::ALL)
}

/// The words of a command line with `--on` and `--session` that stand before the command put behind it, where each command
/// says whether it takes them.
fn moved(words: Vec<OsString>) -> Vec<OsString> {
    let takes_value = |word: &str| matches!(word, "-C" | "--estate" | "--color" | "--zone" | "--on" | "--session");
    let (mut before, mut behind) = (Vec::new(), Vec::new());
    let mut words = words.into_iter();
    before.extend(words.next());
    while let Some(word) = words.next() {
        let text = word.to_string_lossy().into_owned();
        if !text.starts_with('-') || text == "--" {
            before.push(word);
            break;
        }
        let moves = ["--on", "--session"]
            .iter()
            .any(|o| text == *o || text.strip_prefix(o).is_some_and(|r| r.starts_with('=')));
        let list = if moves { &mut behind } else { &mut before };
        list.push(word);
        if takes_value(&text) {
            list.extend(words.next());
        }
    }
    before.extend(behind);
    before.extend(words);
    before
}

/// Runs the command line and gives its exit status.
pub fn main() -> ExitCode {
    crate::tidy::on_faults();
    // A shell that asks what could come next gets its answer here, and the program ends.
    clap_complete::CompleteEnv::with_factory(Cli::command).shells(crate::shells::all()).complete();
    crate::tidy::on_signals();
    let cli = match Cli::try_parse_from(moved(std::env::args_os().collect())) {
        Ok(cli) => cli,
        Err(error) => return told(&error),
    };
    let work = std::thread::Builder::new().spawn(move || {
        let mut terminal = Terminal::real(cli.color);
        let status = run(cli, &mut terminal);
        status.unwrap_or_else(|failure| {
            terminal.complain(&failure.text());
            failure.status()
        })
    });
    match work.map(std::thread::JoinHandle::join) {
        Ok(Ok(status)) => ExitCode::from(status),
        Ok(Err(_)) => ExitCode::from(FAULT),
        Err(error) => {
            Terminal::real(Color::Never).complain(&format!("error: no thread can be started: {error}\n"));
            ExitCode::from(crate::failure::OUTSIDE)
        }
    }
}

/// Tells what is wrong with a command line, or its help. What was typed is made harmless, for it may come from elsewhere.
fn told(error: &clap::Error) -> ExitCode {
    let plain = error.render().to_string();
    let harmless = crate::failure::harmless(&plain);
    if plain == harmless && bastide_syntax::no_commands(&plain) == plain {
        error.exit();
    }
    Terminal::real(Color::Never).complain(&harmless);
    ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(crate::failure::USAGE))
}

/// Runs one command; its status where it came to its end.
pub fn run(cli: Cli, terminal: &mut Terminal) -> Result<u8, Failure> {
    match cli.command {
        Command::Demo(args) => demo::run(args, cli.color, terminal),
        Command::New(args) => commands::new::run(args, terminal),
        Command::Check(args) => check::run(args, &cli.estate, terminal),
        Command::Import(args) => import::run(args, &cli.estate, terminal),
        Command::Verify(args) => verify::run(args, &cli.estate, terminal),
        Command::Fmt(args) => fmt::run(args, &cli.estate, terminal),
        Command::Rules(args) => rules::run(args, &cli.estate, terminal),
        Command::About(args) => about::run(args, &cli.estate, terminal),
        Command::Reach(args) => reach::run(args, &cli.estate, terminal),
        Command::Matrix(args) => matrix::run(args, &cli.estate, terminal),
        Command::What(args) => what::run(args, &cli.estate, terminal),
        Command::Who(args) => who::run(args, &cli.estate, terminal),
        Command::Why(args) => why::run(args, &cli.estate, terminal),
        Command::Compare(args) => compare::run(args, &cli.estate, terminal),
        Command::Filter(args) => filter::run(args, &cli.estate, terminal),
        Command::Sql(args) => sql::run(args, &cli.estate, cli.color),
        Command::Diff(args) => diff::run(args, &cli.estate, terminal),
        Command::Audit(args) => audit::run(args, &cli.estate, terminal),
        Command::Test(args) => test::run(args, &cli.estate, terminal),
        Command::Try(args) => r#try::run(args, &cli.estate, terminal),
        Command::Report(args) => report::run(args, &cli.estate, terminal),
        Command::Explore(args) => crate::explore::run(&args, &cli.estate, terminal),
        Command::Editor(_) => editor::run(terminal),
        Command::Review(args) => review::run(args, &cli.estate, terminal),
        Command::Schema(args) => schema::run(args, terminal),
        Command::Setup(args) => setup::run(args, terminal),
    }
}
