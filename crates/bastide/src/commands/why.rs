//! `bastide why`

use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::open::{EstateArgs, MomentArgs, judge};
use crate::print::{json, why};
use crate::stage::Stage;
use bastide_engine::{explain, find};
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum Format {
    /// In words
    Table,
    /// For programs
    Json,
}

#[derive(Args, Debug)]
pub struct WhyArgs {
    /// The user, by id or its unique beginning
    user: String,
    /// The action
    action: String,
    /// The resource, by id or path, or the unique beginning of a path
    resource: String,
    #[command(flatten)]
    moment: MomentArgs,
    /// Every statement that passes the user by
    #[arg(long)]
    all: bool,
    /// End with status 1 where the answer is that it is refused
    #[arg(long)]
    exit_code: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: Format,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: WhyArgs, estate: &EstateArgs, stage: &mut Stage) -> Result<u8, Failure> {
    let opened = estate.open(stage)?;
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let user = find::user(estate, &args.user)?;
    let action = find::action(estate, &args.action)?;
    let resource = find::resource(estate, &args.resource)?;
    let judge = judge(&opened, &moment, stage)?;
    let explanation = explain::explain(&judge, user, action, resource);
    let text = match args.format {
        Format::Table => why::explanation(&explanation, args.all, stage.width()),
        Format::Json => json::document("why", &explanation),
    };
    stage.deliver(&text, args.output.as_deref())?;
    Ok(if args.exit_code && !explanation.allowed { BAD_NEWS } else { DONE })
}
