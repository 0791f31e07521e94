//! `bastide diff`

use crate::about::About;
use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::found::diff::{Count, Differing};
use crate::open::{EstateArgs, MomentArgs, cycle};
use crate::print::{diff, json, trial};
use crate::revision::named;
use crate::terminal::Terminal;
use bastide_engine::Snapshot;
use bastide_engine::difference::{Difference, blocks, difference, effects, radius};
use bastide_engine::inside::moved;
use bastide_engine::prove::{broken_by, prove};
use bastide_model::*;
use bastide_rows::quoting::{style, writer};
use clap::Args;
use std::io::{self, Write};
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum DiffFormat {
    /// Gains and losses in words
    Table,
    /// For programs
    Json,
    /// One row a triple: `user,resource,action,change`
    Csv,
    /// Markdown, for the comment of a merge request
    Md,
}

#[derive(Args, Debug)]
pub struct DiffArgs {
    /// The earlier estate: a folder, an archive, or a git revision; `OLD..NEW` names both
    old: String,
    /// The later estate; the one at hand otherwise
    new: Option<String>,
    #[command(flatten)]
    moment: MomentArgs,
    /// Every gain and loss of long lists
    #[arg(long)]
    all: bool,
    /// End with status 1 where anything differs
    #[arg(long)]
    exit_code: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: DiffFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: DiffArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let here = estate.root().ok();
    let (old, new) = match (args.old.split_once(".."), &args.new) {
        (Some((old, new)), None) if !old.is_empty() && !args.old.starts_with('.') => {
            (old.to_string(), (!new.is_empty()).then(|| new.trim_start_matches('.').to_string()))
        }
        _ => (args.old.clone(), args.new.clone()),
    };
    let old_named = named(&old, here.as_deref())?;
    let new_named = new.as_deref().map(|new| named(new, here.as_deref())).transpose()?;
    let before = estate.open_named(&old_named, terminal)?;
    let after = match &new_named {
        Some(new) => estate.open_named(new, terminal)?,
        None => estate.open(terminal)?,
    };
    let (a, b) = (before.estate(), after.estate());
    let (was, is) = (args.moment.moment(a)?, args.moment.moment(b)?);
    let old_snapshot = Snapshot::new(a, &was).map_err(|c| cycle(&before, &c, terminal))?;
    let new_snapshot = Snapshot::new(b, &is).map_err(|c| cycle(&after, &c, terminal))?;
    let found = difference(&old_snapshot, &new_snapshot, None);
    let status = if args.exit_code && !found.is_empty() { BAD_NEWS } else { DONE };
    if args.format == DiffFormat::Csv {
        terminal.stream(args.output.as_deref(), |out| csv(out, &found, a, b))?;
        About::of(&after, &is).beside(terminal, args.output.as_deref())?;
        return Ok(status);
    }
    let harmless = &after.loaded.audit.harmless;
    let most = trial::most(args.all || args.format == DiffFormat::Json);
    let held = prove(a, &was, &|_| true).map_err(|c| cycle(&before, &c, terminal))?;
    let proofs = prove(b, &is, &|_| true).map_err(|c| cycle(&after, &c, terminal))?;
    let differing = Differing {
        old: old_named.name.clone(),
        new: new_named.as_ref().map_or_else(|| "the estate at hand".to_string(), |n| n.name.clone()),
        date: is.date.to_string(),
        radius: radius(&found),
        counts: counts(&found, a, b),
        causes: effects(&found),
        blocks: blocks(&found, a, b, b.groups(), harmless, most),
        rows: if found.is_empty() { Vec::new() } else { moved(&old_snapshot, &new_snapshot) },
        broken: broken_by(&held, proofs),
    };
    let text = match args.format {
        DiffFormat::Json => {
            json::document("diff", &About::of(&after, &is), &crate::answers::diff::Differing::from(&differing))
        }
        DiffFormat::Md => diff::markdown(&differing),
        _ => diff::differing(&differing, terminal.width()),
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(status)
}

fn counts(found: &Difference, before: &Estate, after: &Estate) -> Vec<Count> {
    let axis = |axis: &bastide_engine::difference::Axis| {
        let all = 0..axis.len() as u32;
        (all.clone().filter(|i| axis.before(*i).is_none()).count(), all.filter(|i| axis.after(*i).is_none()).count())
    };
    let (users, resources) = (axis(&found.joint.users), axis(&found.joint.resources));
    let rules = |estate: &Estate| -> Vec<String> {
        estate.statements().iter().filter(|s| s.sort == statement::Sort::Rule).map(|s| s.name.clone()).collect()
    };
    let (old, new) = (rules(before), rules(after));
    let come = new.iter().filter(|name| !old.contains(name)).count();
    let gone = old.iter().filter(|name| !new.contains(name)).count();
    let all = [("users", users), ("resources", resources), ("rules", (come, gone))];
    all.into_iter().map(|(of, (come, gone))| Count { of: of.to_string(), come, gone }).collect()
}

fn csv(out: &mut dyn Write, found: &Difference, before: &Estate, after: &Estate) -> io::Result<()> {
    let odd = [before, after].iter().any(|estate| matches!(style(estate, false), csv::QuoteStyle::Always));
    let quote = if odd { csv::QuoteStyle::Always } else { csv::QuoteStyle::Necessary };
    let mut writer = writer(out, quote);
    writer.write_record(["user", "resource", "action", "change"])?;
    let joint = &found.joint;
    let mut failed = None;
    found.triples(|user, action, resource, gained| {
        let user = match joint.users.after(user) {
            Some(user) => after.people().id(UserId(user)),
            None => joint.users.before(user).map_or("", |u| before.people().id(UserId(u))),
        };
        let resource = match joint.resources.after(resource) {
            Some(resource) => after.catalog().id(ResourceId(resource)),
            None => joint.resources.before(resource).map_or("", |r| before.catalog().id(ResourceId(r))),
        };
        let action = match joint.actions.after(action) {
            Some(action) => &after.schema().actions[action as usize].name,
            None => &before.schema().actions[joint.actions.before(action).unwrap_or_default() as usize].name,
        };
        let change = if gained { "gained" } else { "lost" };
        if failed.is_none() {
            failed = writer.write_record([user, resource, action, change]).err();
        }
    });
    match failed {
        Some(error) => Err(error.into()),
        None => writer.flush(),
    }
}
