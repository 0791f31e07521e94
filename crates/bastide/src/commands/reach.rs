//! `bastide reach`

use super::picture;
use crate::about::About;
use crate::changing::laid_over;
use crate::complete;
use crate::failure::{DONE, Failure};
use crate::open::{EstateArgs, MomentArgs, cycle};
use crate::print::{json, reach, trial};
use crate::terminal::Terminal;
use bastide_engine::{Snapshot, access, change};
use bastide_report::picture::{Medium, narrowing};
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum ReachFormat {
    /// In words
    Table,
    /// For programs
    Json,
    /// A picture: users and resources left after each word
    Svg,
    /// The same picture in points
    Png,
}

#[derive(Args, Debug)]
pub struct ReachArgs {
    /// The rule by its name, or an entry by its file and line; a unique beginning or end will do
    #[arg(required_unless_present = "text", add = complete::statements())]
    rule: Option<String>,
    /// A rule that is not saved yet: its clauses, as in `who members of lenders may read what report`
    #[arg(long, conflicts_with = "rule")]
    text: Option<String>,
    #[command(flatten)]
    moment: MomentArgs,
    /// Every user, gain and loss of long lists
    #[arg(long)]
    all: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: ReachFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

/// The name of a rule that is given as a text.
const DRAFT: &str = "not-saved-yet";

pub fn run(args: ReachArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let root = estate.root()?;
    let mut opened = estate.open(terminal)?;
    let text = args.text.as_ref().map(|text| {
        let whole = if text.trim_start().starts_with("rule ") {
            text.clone()
        } else {
            format!("rule {DRAFT} {{\n{text}\n}}\n")
        };
        vec![("the rule given by --text".to_string(), whole)]
    });
    let laid = laid_over(&mut opened, &root, &text.unwrap_or_default(), terminal)?;
    let estate = laid.as_ref().unwrap_or(opened.estate());
    let id = match &args.rule {
        Some(name) => change::statement(estate, name)?,
        None => {
            let new = estate
                .statements()
                .iter()
                .position(|s| opened.estate().statements().iter().all(|o| !std::sync::Arc::ptr_eq(o, s)));
            let new = new.ok_or_else(|| Failure::Usage("the text holds no rule".to_string(), Vec::new()))?;
            bastide_model::StatementId::new(new)
        }
    };
    let moment = args.moment.moment(estate)?;
    let most = trial::most(args.all || args.format == ReachFormat::Json);
    let failed = |cycles: Vec<bastide_syntax::Diagnostic>| cycle(&opened, &cycles, terminal);
    let snapshot = Snapshot::new(estate, &moment).map_err(failed)?;
    let reached = access::reach(&snapshot, id, args.text.is_some(), &opened.loaded.audit.harmless, most);
    let reached = reached.map_err(failed)?;
    let medium = match args.format {
        ReachFormat::Svg => Some(Medium::Svg),
        ReachFormat::Png => Some(Medium::Png),
        _ => None,
    };
    if let Some(medium) = medium {
        picture::deliver(narrowing(&reached, medium), medium, args.output.as_deref(), terminal)?;
        return Ok(DONE);
    }
    let text = match args.format {
        ReachFormat::Json => {
            json::document("reach", &About::of(&opened, &moment), &bastide_answers::access::Reached::from(&reached))
        }
        _ => reach::reached(&reached, args.text.is_some(), args.all, terminal.width()),
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(DONE)
}
