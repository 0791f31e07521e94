//! `bastide report`

use super::audit;
use crate::about::About;
use crate::failure::{DONE, Failure};
use crate::history::History;
use crate::open::{EstateArgs, MomentArgs, Opened, cycle};
use crate::progress::Telling;
use crate::revision::named;
use crate::terminal::Terminal;
use bastide_answers::Tell;
use bastide_audit::{Survey, audit_by};
use bastide_engine::Snapshot;
use bastide_engine::difference::{blocks, difference, effects, radius};
use bastide_engine::prove::prove;
use bastide_model::Moment;
use bastide_report::{Access, Changes, Report, Sources, page};
use clap::Args;
use std::io::{self, IsTerminal};
use std::path::PathBuf;

/// So many lines of changes are told.
const MOST_CHANGES: usize = 60;

#[derive(Args, Debug)]
pub struct ReportArgs {
    /// Also tell what changed since an earlier state: a folder, an archive, or a git revision
    #[arg(long, value_name = "STATE")]
    since: Option<String>,
    /// How many levels of the tree count as places; otherwise as many as a person can go through
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    depth: Option<u16>,
    #[command(flatten)]
    moment: MomentArgs,
    /// The file to write, for example report.html
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: ReportArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    if args.output.is_none() && io::stdout().is_terminal() {
        let hint = "name the file: `bastide report -o report.html`".to_string();
        return Err(Failure::Usage("a page is for a browser, not for a terminal".to_string(), vec![hint]));
    }
    let root = estate.root()?;
    let opened = estate.open(terminal)?;
    let moment = args.moment.moment(opened.estate())?;
    let case = audit::case(&opened.loaded, &moment)?;
    let failed = |cycles: Vec<bastide_syntax::Diagnostic>| cycle(&opened, &cycles, terminal);
    let telling = Telling::new();
    telling.tell("everybody's access");
    let survey = Survey::new(&case).map_err(failed)?;
    // What goes from one resource to the next by itself, and what has to wait: together they keep all cores at work.
    let (access, mut findings) = rayon::join(
        || Access::new(&case, &survey, args.depth),
        || audit_by(&case, &survey, &|_| true, &|what| telling.tell(what)),
    );
    audit::added_by(&mut findings, &mut History::of(&root));
    telling.tell("tests that fail");
    let proofs = prove(opened.estate(), &moment, &|_| true).map_err(failed)?;
    let changes = match &args.since {
        Some(since) => {
            telling.tell("what changed");
            Some(changes(since, &args, estate, (&opened, &moment), &case.harmless, terminal)?)
        }
        None => None,
    };
    telling.tell("who can do what where");
    let version = env!("CARGO_PKG_VERSION").to_string();
    let pairs = About::of(&opened, &moment).pairs().into_iter();
    let about = pairs.map(|(key, value)| (key.trim_start_matches("bastide.").to_string(), value)).collect();
    let sources = Sources { case: &case, access, findings, proofs, changes, version, about };
    let text = page(&Report::new(sources));
    drop(telling);
    let file = args.output.as_deref();
    terminal.stream(file, |out| out.write_all(text.as_bytes()))?;
    if let Some(file) = file {
        let size = text.len() as f64 / 1e6;
        terminal.print(&format!("written: {} ({size:.1} MB); open it in a browser\n", file.display()))?;
    }
    Ok(DONE)
}

/// What changed since an earlier state.
fn changes(
    since: &str,
    args: &ReportArgs,
    estate: &EstateArgs,
    (after, is): (&Opened, &Moment),
    harmless: &[String],
    terminal: &mut Terminal,
) -> Result<Changes, Failure> {
    let old = named(since, estate.root().ok().as_deref())?;
    let before = estate.open_named(&old, terminal)?;
    let was = args.moment.moment(before.estate())?;
    let a = Snapshot::new(before.estate(), &was).map_err(|c| cycle(&before, &c, terminal))?;
    let b = Snapshot::new(after.estate(), is).map_err(|c| cycle(after, &c, terminal))?;
    let found = difference(&a, &b, None);
    Ok(Changes {
        since: old.name.clone(),
        radius: radius(&found).tell(),
        causes: effects(&found).tell(),
        blocks: blocks(&found, before.estate(), after.estate(), after.estate().groups(), harmless, MOST_CHANGES).tell(),
    })
}
