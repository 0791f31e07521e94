//! `bastide compare`

use crate::about::About;
use crate::complete;
use crate::failure::{DONE, Failure};
use crate::open::{EstateArgs, MomentArgs};
use crate::print::{compare, json};
use crate::terminal::Terminal;
use bastide_engine::access::{self, Beside};
use bastide_engine::find;
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum CompareFormat {
    /// Counts side by side, then the differences
    Table,
    /// For programs
    Json,
    /// One row a difference
    Csv,
}

#[derive(Args, Debug)]
pub struct CompareArgs {
    /// The user, by id or its unique beginning
    #[arg(add = complete::users())]
    user: String,
    /// Another user, or `group:GROUP` for its active members
    #[arg(add = complete::users_and_groups())]
    other: String,
    #[command(flatten)]
    moment: MomentArgs,
    /// Every difference of long lists
    #[arg(long)]
    all: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: CompareFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: CompareArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let mut opened = estate.open(terminal)?;
    // A group on the right are its members, not somebody who is in it.
    let group = args.other.strip_prefix("group:").map(|name| find::group(opened.estate(), name)).transpose()?;
    let (user, other) = match group {
        Some(group) => (opened.somebody(&[&args.user], terminal)?[0], Beside::Group(group)),
        None => {
            let both = opened.somebody(&[&args.user, &args.other], terminal)?;
            (both[0], Beside::User(both[1]))
        }
    };
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let comparison = access::compare(&opened.snapshot(&moment, terminal)?, user, other);
    let text = match args.format {
        CompareFormat::Table => compare::comparison(&comparison, args.all, terminal.width()),
        CompareFormat::Csv => compare::csv(&comparison),
        CompareFormat::Json => json::document(
            "compare",
            &About::of(&opened, &moment),
            &bastide_answers::access::Comparison::from(&comparison),
        ),
    };
    terminal.deliver(&text, args.output.as_deref())?;
    if args.format == CompareFormat::Csv {
        About::of(&opened, &moment).beside(terminal, args.output.as_deref())?;
    }
    Ok(DONE)
}
