//! `bastide compare`

use crate::about::About;
use crate::complete;
use crate::failure::{DONE, Failure};
use crate::open::{EstateArgs, MomentArgs, cycle};
use crate::print::{compare, json};
use crate::stage::Stage;
use bastide_engine::access::{self, Beside};
use bastide_engine::find;
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum Format {
    /// Counts side by side, then the differences
    Table,
    /// For programs
    Json,
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
    format: Format,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: CompareArgs, estate: &EstateArgs, stage: &mut Stage) -> Result<u8, Failure> {
    let opened = estate.open(stage)?;
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let user = find::user(estate, &args.user)?;
    let other = match args.other.strip_prefix("group:") {
        Some(group) => Beside::Group(find::group(estate, group)?),
        None => Beside::User(find::user(estate, &args.other)?),
    };
    let comparison = access::compare(estate, &moment, user, other).map_err(|cycles| cycle(&opened, &cycles, stage))?;
    let text = match args.format {
        Format::Table => compare::comparison(&comparison, args.all, stage.width()),
        Format::Json => json::document("compare", &About::of(&opened, &moment), &comparison),
    };
    stage.deliver(&text, args.output.as_deref())?;
    Ok(DONE)
}
