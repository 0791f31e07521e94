//! `bastide sql`: starts the program that answers questions in SQL, which is one of its own so that this one stays small.

use crate::failure::{DONE, Failure};
use crate::open::{EstateArgs, day};
use crate::terminal::Color;
use clap::Args;
use jiff::civil::Date;
use std::path::{Path, PathBuf};
use std::process::Command;

/// The name of the program.
const PROGRAM: &str = "bastide-sql";

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum SqlFormat {
    /// Aligned columns
    Table,
    /// RFC 4180; of a list the elements, with `;` between them
    Csv,
    /// One array of objects
    Json,
    /// One object a line
    Jsonl,
    /// Apache Parquet
    Parquet,
    /// Arrow IPC, the file format
    Arrow,
}

#[derive(Args, Debug)]
pub struct SqlArgs {
    /// The question; without it and without --file a prompt
    question: Option<String>,
    /// Read the question from a file; `-` is the standard input
    #[arg(short, long, value_name = "FILE", conflicts_with = "question")]
    file: Option<PathBuf>,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: SqlFormat,
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
    #[arg(long, value_name = "DATE", value_parser = crate::open::on)]
    on: Option<Date>,
    /// A session attribute; repeat it for several values
    #[arg(long, value_name = "NAME=VALUE")]
    session: Vec<String>,
}

/// Where the program is: beside this one, or where the shell finds programs.
pub(super) fn program() -> Result<PathBuf, Failure> {
    let name = format!("{PROGRAM}{}", std::env::consts::EXE_SUFFIX);
    let beside = std::env::current_exe().ok().and_then(|own| Some(own.parent()?.join(&name)));
    let paths = std::env::var_os("PATH").unwrap_or_default();
    let mut places = beside.into_iter().chain(std::env::split_paths(&paths).map(|folder| folder.join(&name)));
    places.find(|place| place.is_file()).ok_or_else(|| {
        Failure::Outside(format!(
            "`{PROGRAM}` is not installed: it is a program of its own, and belongs beside this one. To build it, \
             `cargo build --release` in the folder `sql`"
        ))
    })
}

pub fn run(args: SqlArgs, estate: &EstateArgs, color: Color) -> Result<u8, Failure> {
    let program = program()?;
    let mut command = Command::new(&program);
    command.arg("--estate").arg(estate.root()?).args(["--on", &args.on.unwrap_or_else(day).to_string()]);
    command.args(["--limit-rows", &args.limit_rows.to_string()]);
    let format = clap::ValueEnum::to_possible_value(&args.format).map(|value| value.get_name().to_string());
    command.arg("--format").args(format);
    let color = clap::ValueEnum::to_possible_value(&color).map(|value| value.get_name().to_string());
    command.arg("--color").args(color);
    if let Ok(own) = std::env::current_exe() {
        command.arg("--program").arg(own);
    }
    let path = |command: &mut Command, name: &str, path: &Option<PathBuf>| {
        if let Some(path) = path {
            command.arg(name).arg(path);
        }
    };
    path(&mut command, "--file", &args.file);
    path(&mut command, "--output", &args.output);
    if estate.quiet {
        command.arg("--quiet");
    }
    if args.for_spreadsheet {
        command.arg("--for-spreadsheet");
    }
    if let Some(cluster) = &args.cluster {
        command.args(["--cluster", cluster]);
    }
    args.session.iter().for_each(|session| {
        command.args(["--session", session]);
    });
    if let Some(question) = &args.question {
        command.arg("--").arg(question);
    }
    finish(&mut command, &program)
}

/// Waits for the program, and ends as it does. What it has to say it has said.
fn finish(command: &mut Command, program: &Path) -> Result<u8, Failure> {
    let outside = |error: std::io::Error| Failure::Outside(format!("`{}`: {error}", program.display()));
    let status = command.status().map_err(outside)?;
    match status.code() {
        Some(0) => Ok(DONE),
        Some(code) => Ok(u8::try_from(code).unwrap_or(crate::failure::OUTSIDE)),
        None => Err(ended(program)),
    }
}

/// That the program was ended by somebody.
pub(super) fn ended(program: &Path) -> Failure {
    Failure::Outside(format!("`{}` was ended before it had answered", program.display()))
}
