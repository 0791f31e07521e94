//! `bastide about`

use crate::about::About;
use crate::complete;
use crate::failure::{DONE, Failure};
use crate::open::{self, EstateArgs, MomentArgs};
use crate::print::{json, known};
use crate::terminal::Terminal;
use bastide_engine::access::{self, Subject};
use bastide_engine::find::{self, FindError};
use bastide_model::Estate;
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum AboutFormat {
    /// In words
    Table,
    /// For programs
    Json,
}

#[derive(Args, Debug)]
pub struct AboutArgs {
    /// A user, a group or a place: by id or path; `user:`, `group:` or `resource:` before it says which
    #[arg(add = complete::anything())]
    what: String,
    /// Every line of long lists
    #[arg(long)]
    all: bool,
    #[command(flatten)]
    moment: MomentArgs,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: AboutFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: AboutArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let opened = estate.open(terminal)?;
    let moment = args.moment.moment(opened.estate())?;
    let subject = subject(opened.estate(), &args.what, terminal)?;
    let found = access::known(&opened.snapshot(&moment, terminal)?, subject);
    let text = match args.format {
        AboutFormat::Table => known::known(&found, args.all, terminal.width()),
        AboutFormat::Json => {
            json::document("about", &About::of(&opened, &moment), &bastide_answers::access::Known::from(&found))
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(DONE)
}

/// What a name leads to. Without a word before it, it must lead to one thing alone.
fn subject(estate: &Estate, name: &str, terminal: &Terminal) -> Result<Subject, Failure> {
    match name.split_once(':') {
        Some(("user", id)) => return Ok(Subject::User(open::user(estate, id, terminal)?)),
        Some(("group", id)) => return Ok(Subject::Group(find::group(estate, id)?)),
        Some(("resource", id)) => return Ok(Subject::Resource(open::resource(estate, id, terminal)?)),
        _ => {}
    }
    let user = estate.people().find(name).map(Subject::User);
    let group = estate.groups().find(name).map(Subject::Group);
    let resource = find::exact_resource(estate, name).map(Subject::Resource);
    let exact: Vec<Subject> = [user, group, resource].into_iter().flatten().collect();
    match exact.as_slice() {
        [only] => Ok(*only),
        [] => match (find::user(estate, name), find::resource(estate, name)) {
            (Err(user), Err(resource)) => {
                let begun = (find::user_begun(estate, name), find::resource_begun(estate, name));
                match begun {
                    (Some(_), None) if terminal.by_hand() => Ok(Subject::User(open::user(estate, name, terminal)?)),
                    (None, Some(_)) if terminal.by_hand() => {
                        Ok(Subject::Resource(open::resource(estate, name, terminal)?))
                    }
                    _ => Err(unknown(estate, name, [user, resource])),
                }
            }
            (Ok(user), Err(_)) => Ok(Subject::User(user)),
            (_, Ok(resource)) => Ok(Subject::Resource(resource)),
        },
        _ => {
            let hint = "write `user:`, `group:` or `resource:` before it".to_string();
            Err(Failure::Usage(format!("`{name}` is more than one thing"), vec![hint]))
        }
    }
}

/// A name that leads nowhere, with what is near it among users and places, or the command that is meant.
fn unknown(estate: &Estate, name: &str, errors: [FindError; 2]) -> Failure {
    let rule = name.strip_prefix("rule:").unwrap_or(name);
    if estate.statements().iter().any(|s| s.name == rule) {
        let hint = format!("`bastide reach {rule}` says what is known of a rule or entry");
        return Failure::Usage(format!("`{rule}` is a rule or entry, not a user, group or place"), vec![hint]);
    }
    let candidates = errors.into_iter().flat_map(|error| match error {
        FindError::Unknown { candidates, .. } | FindError::Ambiguous { candidates, .. } => candidates,
    });
    let candidates = candidates.collect();
    FindError::Unknown { what: "user, group or place", name: name.to_string(), candidates }.into()
}
