//! `bastide who`

use crate::about::About;
use crate::complete;
use crate::failure::{DONE, Failure};
use crate::open::{EstateArgs, MomentArgs, cycle, judge};
use crate::print::{json, who};
use crate::stage::Stage;
use bastide_engine::{access, find};
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum Format {
    /// Users by the statement that lets them in
    Table,
    /// For programs
    Json,
}

#[derive(Args, Debug)]
pub struct WhoArgs {
    /// The action
    #[arg(add = complete::actions())]
    action: String,
    /// The resource, by id or path, or the unique beginning of a path
    #[arg(add = complete::resources())]
    resource: String,
    #[command(flatten)]
    moment: MomentArgs,
    /// Those who cannot, too, by reason
    #[arg(long)]
    not: bool,
    /// The chain by which each user is meant
    #[arg(long)]
    via: bool,
    /// Every user of long lists
    #[arg(long)]
    all: bool,
    /// Inactive users, too
    #[arg(long)]
    inactive: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: Format,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: WhoArgs, estate: &EstateArgs, stage: &mut Stage) -> Result<u8, Failure> {
    let opened = estate.open(stage)?;
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let action = find::action(estate, &args.action)?;
    let resource = find::resource(estate, &args.resource)?;
    let judge = judge(&opened, &moment, stage)?;
    let holders =
        access::holders(&judge, action, resource, args.inactive).map_err(|cycles| cycle(&opened, &cycles, stage))?;
    let detail = who::Detail { not: args.not, via: args.via, all: args.all };
    let text = match args.format {
        Format::Table => who::holders(&holders, detail, stage.width()),
        Format::Json => json::document("who", &About::of(&opened, &moment), &holders),
    };
    stage.deliver(&text, args.output.as_deref())?;
    Ok(DONE)
}
