//! `bastide why`

use super::picture;
use crate::about::About;
use crate::complete;
use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::found::why::WhyAnswer;
use crate::history::{History, Touched};
use crate::open::{self, EstateArgs, MomentArgs};
use crate::print::{changes, json, why};
use crate::terminal::Terminal;
use bastide_engine::explain::{Explanation, StatementRef};
use bastide_engine::find;
use bastide_engine::remedy::{Wish, remedies};
use bastide_report::picture::{Medium, chain, dot};
use clap::Args;
use std::path::PathBuf;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum WhyFormat {
    /// In words
    Table,
    /// For programs
    Json,
    /// A picture: from the user through groups and statements to the resource
    Svg,
    /// The same picture in points
    Png,
    /// The same graph in the DOT language, for programs that lay graphs out
    Dot,
}

/// An outcome.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum Want {
    /// It is allowed
    Allowed,
    /// It is refused
    Refused,
}

#[derive(Args, Debug)]
pub struct WhyArgs {
    /// The user, by id or its unique beginning
    #[arg(add = complete::stand_ins())]
    user: String,
    /// The action
    #[arg(add = complete::actions())]
    action: String,
    /// The resource, by id or path, or the unique beginning of a path
    #[arg(add = complete::resources())]
    resource: String,
    #[command(flatten)]
    moment: MomentArgs,
    /// The wished outcome, which the remedies would bring about; the opposite of the present one otherwise
    #[arg(long, value_enum)]
    want: Option<Want>,
    /// How many remedies; 0 for none
    #[arg(long, value_name = "N", default_value = "3")]
    remedies: usize,
    /// Every statement that passes the user by
    #[arg(long)]
    all: bool,
    /// End with status 1 where the answer is that it is refused
    #[arg(long)]
    exit_code: bool,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: WhyFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: WhyArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let mut opened = estate.open(terminal)?;
    let mut history = History::of(&estate.root()?);
    let user = opened.somebody(&[&args.user], terminal)?[0];
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let action = find::action(estate, &args.action)?;
    let resource = open::resource(estate, &args.resource, terminal)?;
    let snapshot = opened.snapshot(&moment, terminal)?;
    let explanation = snapshot.explain(user, action, resource);
    let wanted = args.want.map_or(!explanation.allowed, |want| want == Want::Allowed);
    let wish = Wish { user, action, resource, wanted };
    // A stand-in is in no directory: there is nothing to change.
    let stand_in = args.user.starts_with("persona:") || args.user.starts_with("group:");
    let told = matches!(args.format, WhyFormat::Table | WhyFormat::Json) && args.remedies > 0 && !stand_in;
    let remedies = told.then(|| remedies(&snapshot, wish, &opened.loaded.audit.harmless, args.remedies));
    let touched = touched(&explanation, &mut history);
    let answer = WhyAnswer { explanation, touched, remedies };
    let medium = match args.format {
        WhyFormat::Svg => Some(Medium::Svg),
        WhyFormat::Png => Some(Medium::Png),
        _ => None,
    };
    if let Some(medium) = medium {
        picture::deliver(chain(&answer.explanation, medium), medium, args.output.as_deref(), terminal)?;
        return Ok(status(&args, &answer));
    }
    let text = match args.format {
        WhyFormat::Json => {
            json::document("why", &About::of(&opened, &moment), &crate::answers::why::WhyAnswer::from(&answer))
        }
        WhyFormat::Dot => dot(&answer.explanation),
        _ => {
            let mut text = why::explanation(&answer.explanation, &answer.touched, args.all, terminal.width());
            text.extend(answer.remedies.iter().map(|r| changes::remedies(r, terminal.width())));
            text
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(status(&args, &answer))
}

fn status(args: &WhyArgs, answer: &WhyAnswer) -> u8 {
    if args.exit_code && !answer.explanation.allowed { BAD_NEWS } else { DONE }
}

/// Who changed the statements that apply last, and the memberships by which they do.
fn touched(explanation: &Explanation, history: &mut History) -> Vec<Touched> {
    let statements = explanation.applying.iter().map(|a| &a.statement).chain(&explanation.cut_off);
    let ways = explanation.applying.iter().flat_map(|a| &a.ways).flat_map(|w| &w.places);
    let mut places: Vec<String> = statements.map(|s: &StatementRef| s.place.clone()).chain(ways.cloned()).collect();
    places.sort();
    places.dedup();
    places.iter().filter_map(|place| history.touched(place)).collect()
}
