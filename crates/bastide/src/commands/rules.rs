//! `bastide rules`

use crate::about::About;
use crate::failure::{DONE, Failure};
use crate::open::{EstateArgs, MomentArgs};
use crate::print::{json, rules};
use crate::terminal::Terminal;
use bastide_engine::access;
use bastide_model::value::Pattern;
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum RulesFormat {
    /// One line each
    Table,
    /// For programs
    Json,
    /// One row each
    Csv,
}

/// What the list is ordered by.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum By {
    /// As they stand in the policy
    Order,
    /// What reaches the most first
    Reach,
}

#[derive(Args, Debug)]
pub struct RulesArgs {
    /// Only those whose name fits; `*` stands for anything
    #[arg(long, value_name = "NAME")]
    only: Vec<String>,
    /// Entries, too, in the table
    #[arg(long)]
    all: bool,
    /// What comes first
    #[arg(long, value_enum, default_value = "order")]
    by: By,
    #[command(flatten)]
    moment: MomentArgs,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: RulesFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: RulesArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let opened = estate.open(terminal)?;
    let moment = args.moment.moment(opened.estate())?;
    let mut found = access::statements(&opened.snapshot(&moment, terminal)?);
    let patterns: Vec<Pattern> = args.only.iter().map(|text| Pattern::new(text, false)).collect();
    found.statements.retain(|s| patterns.is_empty() || patterns.iter().any(|p| p.fits(&s.name)));
    if args.by == By::Reach {
        found.statements.sort_by_key(|s| std::cmp::Reverse(s.triples));
    }
    let text = match args.format {
        RulesFormat::Table => rules::listed(&found, args.all || !patterns.is_empty(), terminal.width()),
        RulesFormat::Json => {
            json::document("rules", &About::of(&opened, &moment), &bastide_answers::access::Statements::from(&found))
        }
        RulesFormat::Csv => rules::csv(&found),
    };
    terminal.deliver(&text, args.output.as_deref())?;
    if args.format == RulesFormat::Csv {
        About::of(&opened, &moment).beside(terminal, args.output.as_deref())?;
    }
    Ok(DONE)
}
