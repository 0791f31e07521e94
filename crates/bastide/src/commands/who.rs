//! `bastide who`

use crate::about::About;
use crate::complete;
use crate::failure::{DONE, Failure};
use crate::open::{self, EstateArgs, MomentArgs};
use crate::print::{json, who};
use crate::terminal::Terminal;
use bastide_engine::{access, find};
use bastide_model::{ActionId, Estate, ResourceId};
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum WhoFormat {
    /// Users by the statement that lets them in
    Table,
    /// For programs
    Json,
    /// One row a user
    Csv,
}

#[derive(Args, Debug)]
pub struct WhoArgs {
    /// The action; several parted by commas, or a role: whoever can do all of them
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
    format: WhoFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

/// The actions that a word names: one, several parted by commas, or those of a role.
///
/// Of a role those count that have a meaning on the resource.
fn actions(estate: &Estate, text: &str, resource: ResourceId) -> Result<Vec<ActionId>, Failure> {
    if let Some(action) = estate.schema().action(text) {
        return Ok(vec![action]);
    }
    if let Some(role) = estate.schema().role(text) {
        let actions: Vec<ActionId> = estate.schema().roles[role.index()].actions.ones().map(ActionId::new).collect();
        if actions.is_empty() {
            return Err(Failure::Usage(format!("role `{text}` is off, or has no actions"), Vec::new()));
        }
        let kind = estate.catalog().kind(resource);
        let fits: Vec<ActionId> = actions.into_iter().filter(|action| estate.schema().fits(*action, kind)).collect();
        if fits.is_empty() {
            let kind = &estate.schema().kinds[kind.index()].name;
            return Err(Failure::Usage(format!("no action of role `{text}` has a meaning on a {kind}"), Vec::new()));
        }
        return Ok(fits);
    }
    let mut found = Vec::new();
    for name in text.split(',').map(str::trim).filter(|name| !name.is_empty()) {
        found.push(find::action(estate, name)?);
    }
    found.sort();
    found.dedup();
    if found.is_empty() {
        Err(find::action(estate, text).err().map_or(Failure::Closed, Failure::from))
    } else {
        Ok(found)
    }
}

pub fn run(args: WhoArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let opened = estate.open(terminal)?;
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let resource = open::resource(estate, &args.resource, terminal)?;
    let actions = actions(estate, &args.action, resource)?;
    let snapshot = opened.snapshot(&moment, terminal)?;
    let holders = access::holders(&snapshot, &actions, resource, args.inactive);
    let detail = who::Detail { not: args.not, via: args.via, all: args.all };
    let text = match args.format {
        WhoFormat::Table => who::holders(&holders, detail, terminal.width()),
        WhoFormat::Csv => who::csv(&holders, args.not),
        WhoFormat::Json => {
            json::document("who", &About::of(&opened, &moment), &bastide_answers::access::Holders::from(&holders))
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    if args.format == WhoFormat::Csv {
        About::of(&opened, &moment).beside(terminal, args.output.as_deref())?;
    }
    Ok(DONE)
}
