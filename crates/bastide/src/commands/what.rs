//! `bastide what`

use crate::about::About;
use crate::complete;
use crate::failure::{DONE, Failure};
use crate::open::{self, EstateArgs, MomentArgs, cycle};
use crate::print::{json, what};
use crate::terminal::Terminal;
use bastide_engine::access;
use clap::Args;
use jiff::civil::Date;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum WhatFormat {
    /// Counts, causes and the tree
    Table,
    /// For programs
    Json,
    /// One row a resource on which anything is allowed
    Csv,
}

#[derive(Args, Debug)]
pub struct WhatArgs {
    /// The user, by id or its unique beginning; `persona:NAME`, or `group:GROUP` for somebody who is in a group and has
    /// nothing else
    #[arg(add = complete::stand_ins())]
    user: String,
    #[command(flatten)]
    moment: MomentArgs,
    /// Only this place and what lies beneath it
    #[arg(long, value_name = "PLACE", add = complete::resources())]
    under: Option<String>,
    /// The next days, up to this one, on which the answer changes because something begins or ends
    #[arg(long, value_name = "DATE")]
    until_changes: Option<Date>,
    /// How many levels of the tree
    #[arg(long, value_name = "N", default_value = "4")]
    depth: u16,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: WhatFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: WhatArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let mut opened = estate.open(terminal)?;
    let user = opened.somebody(&[&args.user], terminal)?[0];
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let under = args.under.as_ref().map(|place| open::resource(estate, place, terminal)).transpose()?;
    if let Some(through) = args.until_changes {
        let turns = access::turns(estate, &moment, user, through, &opened.loaded.audit.harmless)
            .map_err(|cycles| cycle(&opened, &cycles, terminal))?;
        let text = match args.format {
            WhatFormat::Table => what::turns(&turns, terminal.width()),
            WhatFormat::Csv => {
                let hint = "write `--format json`".to_string();
                return Err(Failure::Usage("days have no rows".to_string(), vec![hint]));
            }
            WhatFormat::Json => {
                json::document("turns", &About::of(&opened, &moment), &bastide_answers::access::Turns::from(&turns))
            }
        };
        terminal.deliver(&text, args.output.as_deref())?;
        return Ok(DONE);
    }
    let depth = args.depth.max(1);
    let extent = match args.format {
        WhatFormat::Table => access::Extent { depth: depth.into(), branches: what::MOST_LINES },
        WhatFormat::Csv | WhatFormat::Json => access::Extent::WHOLE,
    };
    let (person, left_out) = access::person(&opened.snapshot(&moment, terminal)?, user, under, extent);
    let actions: Vec<String> = estate.schema().actions.iter().map(|a| a.name.clone()).collect();
    let text = match args.format {
        WhatFormat::Table => what::person((&person, left_out), &actions, depth, terminal.width()),
        WhatFormat::Csv => what::csv(&person),
        WhatFormat::Json => {
            json::document("what", &About::of(&opened, &moment), &bastide_answers::access::Person::from(&person))
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    if args.format == WhatFormat::Csv {
        About::of(&opened, &moment).beside(terminal, args.output.as_deref())?;
    }
    Ok(DONE)
}
