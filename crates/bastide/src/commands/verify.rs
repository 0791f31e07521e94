//! `bastide verify`

use crate::about::About;
use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::found::verify::{NotHere, Verified};
use crate::open::{EstateArgs, MomentArgs};
use crate::print::{diagnostics, json, verify};
use crate::terminal::Terminal;
use bastide_engine::access::{Claim, agreement};
use bastide_engine::{Snapshot, find};
use bastide_formats::decisions::{self, Decided};
use bastide_formats::manifest;
use bastide_model::{ActionId, ResourceId, UserId};
use bastide_syntax::{Diagnostic, Diagnostics, Sources};
use clap::Args;
use std::collections::{BTreeMap, HashMap};
use std::path::PathBuf;

/// Of the differences of one cause, so many are named.
const MOST: usize = 3;
/// Of what is not here, so many are named.
const MOST_NAMED: usize = 5;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum VerifyFormat {
    /// In words
    Table,
    /// For programs
    Json,
}

#[derive(Args, Debug)]
pub struct VerifyArgs {
    /// The platform's own decisions: `user,resource,action,decision`, as CSV or JSON Lines
    file: PathBuf,
    /// Every difference
    #[arg(long)]
    all: bool,
    #[command(flatten)]
    moment: MomentArgs,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: VerifyFormat,
    /// Write the answer to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: VerifyArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let shown = args.file.display().to_string();
    let bytes = std::fs::read(&args.file).map_err(|e| Failure::Outside(format!("`{shown}` cannot be read: {e}")))?;
    let text = String::from_utf8(bytes).map_err(|e| {
        Failure::Outside(format!("`{shown}` is not valid UTF-8 at byte {}", e.utf8_error().valid_up_to()))
    })?;
    let Some(format) = manifest::Format::of_name(&shown)
        .filter(|f| matches!(f, manifest::Format::Csv | manifest::Format::JsonLines))
        .filter(|_| !shown.ends_with(".gz"))
    else {
        let hint = "decisions are read as `.csv` and as `.jsonl`".to_string();
        return Err(Failure::Usage(format!("the name `{shown}` does not tell a format that is read here"), vec![hint]));
    };
    let opened = estate.open(terminal)?;
    let mut sources = Sources::new();
    let file = sources.add(&shown, text);
    let mut out = Diagnostics::new();
    let decided = decisions::read(file, sources.text(file), format, &mut out);
    let said = out.finish();
    let errors: Vec<&Diagnostic> = said.iter().filter(|d| d.is_error()).collect();
    if !errors.is_empty() {
        return Err(Failure::Estate(diagnostics::report(&sources, &errors, terminal)));
    }
    if decided.is_empty() {
        return Err(Failure::Outside(format!("`{shown}` holds no decision")));
    }
    let moment = args.moment.moment(opened.estate())?;
    let found = verified(&opened.snapshot(&moment, terminal)?, &decided, args.all || args.format == VerifyFormat::Json);
    let text = match args.format {
        VerifyFormat::Table => verify::verified(&found, terminal.width()),
        VerifyFormat::Json => {
            json::document("verify", &About::of(&opened, &moment), &crate::answers::verify::Verified::from(&found))
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(if found.holds() { DONE } else { BAD_NEWS })
}

/// Compares decisions with ours.
pub fn verified(snapshot: &Snapshot, decided: &[Decided], all: bool) -> Verified {
    let estate = snapshot.estate();
    let mut users: HashMap<&str, Option<UserId>> = HashMap::new();
    let mut resources: HashMap<&str, Option<ResourceId>> = HashMap::new();
    let mut actions: HashMap<&str, Option<ActionId>> = HashMap::new();
    let mut missing: BTreeMap<(usize, &str), usize> = BTreeMap::new();
    let mut claims = Vec::new();
    for one in decided {
        let user = *users.entry(&one.user).or_insert_with(|| estate.people().find(&one.user));
        let resource = *resources.entry(&one.resource).or_insert_with(|| find::exact_resource(estate, &one.resource));
        let action = *actions.entry(&one.action).or_insert_with(|| estate.schema().action(&one.action));
        match (user, resource, action) {
            (Some(user), Some(resource), Some(action)) => {
                claims.push(Claim { resource, user, action, allowed: one.allowed })
            }
            _ => {
                // Of a decision that speaks of several, the first is to blame.
                let blamed = match (user, resource) {
                    (None, _) => (0, one.user.as_str()),
                    (_, None) => (1, one.resource.as_str()),
                    _ => (2, one.action.as_str()),
                };
                *missing.entry(blamed).or_default() += 1;
            }
        }
    }
    let most = if all { usize::MAX } else { MOST };
    let not_here = ["user", "resource", "action"].into_iter().enumerate().filter_map(|(at, what)| {
        let of: Vec<(&str, usize)> =
            missing.iter().filter(|((sort, _), _)| *sort == at).map(|((_, name), count)| (*name, *count)).collect();
        let some =
            of.iter().take(if all { usize::MAX } else { MOST_NAMED }).map(|(name, _)| name.to_string()).collect();
        let decisions = of.iter().map(|(_, count)| count).sum();
        (!of.is_empty()).then(|| NotHere { what: what.to_string(), decisions, count: of.len(), some })
    });
    let not_here = not_here.collect();
    Verified { agreement: agreement(snapshot, claims, most), not_here }
}
