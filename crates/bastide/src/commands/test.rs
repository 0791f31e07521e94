//! `bastide test`

use crate::about::About;
use crate::complete;
use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::found::test::Tested;
use crate::open::{self, EstateArgs, MomentArgs, cycle};
use crate::print::{json, test};
use crate::terminal::Terminal;
use bastide_engine::prove::{self, Proof, Sort};
use bastide_formats::junit;
use bastide_model::value::Pattern;
use clap::Args;
use jiff::civil::Date;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum TestFormat {
    /// One line a test, a failed one with its why
    Table,
    /// For programs
    Json,
    /// JUnit XML, for build servers
    Junit,
}

#[derive(Args, Debug)]
pub struct TestArgs {
    /// Only expectations and guarantees whose name fits; `*` stands for anything
    #[arg(long, value_name = "NAME")]
    only: Vec<String>,
    /// Guarantees also on every day, up to this one, on which something begins or ends
    #[arg(long, value_name = "DATE")]
    through: Option<Date>,
    /// Rules on which no test depends: switched off, they break none
    #[arg(long)]
    coverage: bool,
    /// Write an expectation from what a user can do now, to be trimmed by hand
    #[arg(long, value_name = "USER", conflicts_with_all = ["only", "through", "coverage", "format"], add = complete::users())]
    record: Option<String>,
    #[command(flatten)]
    moment: MomentArgs,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: TestFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: TestArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let opened = estate.open(terminal)?;
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let failed = |cycles: Vec<bastide_syntax::Diagnostic>| cycle(&opened, &cycles, terminal);
    if let Some(name) = &args.record {
        let text = prove::record(&opened.snapshot(&moment, terminal)?, open::user(estate, name, terminal)?);
        terminal.deliver(&text, args.output.as_deref())?;
        return Ok(DONE);
    }
    let patterns: Vec<Pattern> = args.only.iter().map(|text| Pattern::new(text, false)).collect();
    let wanted = |name: &str| patterns.is_empty() || patterns.iter().any(|p| p.fits(name));
    let proofs = prove::prove(estate, &moment, &wanted).map_err(failed)?;
    if proofs.is_empty() {
        let all = estate.proofs().expectations.iter().map(|e| e.name.as_str());
        let all: Vec<&str> = all.chain(estate.proofs().guarantees.iter().map(|g| g.name.as_str())).collect();
        let hint =
            match bastide_syntax::nearest::nearest(args.only.first().map_or("", String::as_str), all.iter().copied()) {
                Some(near) => format!("did you mean `{near}`?"),
                None => "to write one, begin with `bastide test --record USER`".to_string(),
            };
        return Err(Failure::Usage("there is no such expectation or guarantee".to_string(), vec![hint]));
    }
    let holds =
        |name: &str| wanted(name) && proofs.iter().any(|p| p.name == name && p.sort == Sort::Guarantee && p.holds);
    let later = match args.through {
        Some(day) => prove::through(estate, &moment, day, &holds).map_err(failed)?,
        None => Vec::new(),
    };
    let untested = if args.coverage { Some(prove::untested(estate, &moment).map_err(failed)?) } else { None };
    let broken = proofs.iter().chain(&later).filter(|p| !p.holds).count();
    let rules = estate.statements().iter().filter(|s| s.sort == bastide_model::statement::Sort::Rule).count();
    let tested =
        Tested { failed: broken, proofs, later, through: args.through.map(|d| d.to_string()), untested, rules };
    let text = match args.format {
        TestFormat::Table => test::tested(&tested, terminal.width()),
        TestFormat::Json => {
            json::document("test", &About::of(&opened, &moment), &crate::answers::test::Tested::from(&tested))
        }
        TestFormat::Junit => {
            let all: Vec<Proof> = tested.proofs.iter().chain(&tested.later).cloned().collect();
            junit::report(estate.name(), &all, &About::of(&opened, &moment).pairs())
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(if broken > 0 { BAD_NEWS } else { DONE })
}
