//! `bastide review`

use super::r#try::{self, TryArgs};
use crate::changing::ChangeArgs;
use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::open::{EstateArgs, MomentArgs, Opened};
use crate::print::review;
use crate::print::text::visible;
use crate::terminal::Terminal;
use bastide_engine::change::Change;
use bastide_engine::find;
use bastide_engine::review::{Answer, Part, Sheet, proposal, sheets};
use bastide_formats::{sheets as files, workbook};
use bastide_model::Moment;
use clap::{Args, Subcommand};
use std::path::{Path, PathBuf};

#[derive(Args, Debug)]
pub struct ReviewArgs {
    #[command(subcommand)]
    step: Step,
}

#[derive(Subcommand, Debug)]
enum Step {
    /// Write a sheet for each owner or place: who has which access there, and room for an answer
    Sheets(SheetsArgs),
    /// Read the answers, and try what they come to
    Answers(AnswersArgs),
}

/// How the sheets are parted, and for which day.
#[derive(Args, Clone, Debug)]
struct PartArgs {
    /// One sheet for each `owner`, each `root`, or each resource of a kind, for example `workspace`
    #[arg(long, value_name = "WHAT", default_value = "owner")]
    by: String,
    #[command(flatten)]
    moment: MomentArgs,
}

#[derive(Args, Debug)]
struct SheetsArgs {
    /// The folder for the sheets; it is made where it is missing, and must hold none yet
    dir: PathBuf,
    /// How the sheets are written
    #[arg(long, value_enum, default_value = "csv")]
    format: ReviewFormat,
    #[command(flatten)]
    part: PartArgs,
}

/// How sheets are written.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
enum ReviewFormat {
    /// Tables, which any spreadsheet opens
    Csv,
    /// Workbooks: answers are chosen from a list, and nothing else can be changed
    Xlsx,
}

#[derive(Args, Debug)]
struct AnswersArgs {
    /// Sheets with answers, or folders of them
    #[arg(required = true)]
    sheets: Vec<PathBuf>,
    #[command(flatten)]
    part: PartArgs,
    /// Every gain and loss of long lists
    #[arg(long)]
    all: bool,
    /// Write the changes into the policy and data files, after showing what they do
    #[arg(long)]
    write: bool,
    /// Write even where a guarantee would no longer hold
    #[arg(long, requires = "write")]
    anyway: bool,
    /// Write even what reaches far, without being asked
    #[arg(long, requires = "write")]
    far: bool,
}

pub fn run(args: ReviewArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    match args.step {
        Step::Sheets(args) => write(&args, estate, terminal),
        Step::Answers(args) => read(args, estate, terminal),
    }
}

/// The sheets of the estate at hand.
fn made(opened: &Opened, moment: &Moment, by: &str, terminal: &Terminal) -> Result<Vec<Sheet>, Failure> {
    let estate = opened.estate();
    let part = match by {
        "owner" => Part::Owner,
        "root" => Part::Root,
        kind => Part::Kind(find::kind(estate, kind)?),
    };
    Ok(sheets(&opened.snapshot(moment, terminal)?, part))
}

fn write(args: &SheetsArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let opened = estate.open(terminal)?;
    let moment = args.part.moment.moment(opened.estate())?;
    let sheets = made(&opened, &moment, &args.part.by, terminal)?;
    let ending = if args.format == ReviewFormat::Xlsx { "xlsx" } else { "csv" };
    let names = files::names(&sheets, ending);
    if let Some(there) = names.iter().map(|name| args.dir.join(name)).find(|file| file.exists()) {
        let hint = "answers may stand in it; write the new sheets into another folder".to_string();
        return Err(Failure::Usage(format!("`{}` is there already", there.display()), vec![hint]));
    }
    if sheets.is_empty() {
        std::fs::create_dir_all(&args.dir)?;
    }
    let day = moment.date.to_string();
    let mut all = crate::whole::Files::new();
    for (name, sheet) in names.iter().zip(&sheets) {
        let bytes = match args.format {
            ReviewFormat::Csv => files::text(sheet, &day).into_bytes(),
            ReviewFormat::Xlsx => files::workbook(sheet, &day)
                .map_err(|e| Failure::Outside(format!("`{}` cannot be written as a workbook: {e}", visible(name))))?,
        };
        all.push((args.dir.join(name), bytes));
    }
    crate::whole::write(&all)
        .map_err(|e| Failure::Outside(format!("`{}` cannot be written: {e}", args.dir.display())))?;
    terminal.print(&review::written(&sheets, &names, &args.dir, terminal.width()))?;
    Ok(DONE)
}

/// Every sheet that is named, or stands in a folder that is.
fn found(paths: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let outside = |path: &Path, e: std::io::Error| Failure::Outside(format!("`{}`: {e}", path.display()));
    let mut found = Vec::new();
    for path in paths {
        if !path.is_dir() {
            found.push(path.clone());
            continue;
        }
        let mut inside = Vec::new();
        for entry in std::fs::read_dir(path).map_err(|e| outside(path, e))? {
            let file = entry.map_err(|e| outside(path, e))?.path();
            if file.extension().is_some_and(|e| e == "csv" || is_workbook(e)) {
                inside.push(file);
            }
        }
        inside.sort();
        found.extend(inside);
    }
    Ok(found)
}

fn is_workbook(ending: &std::ffi::OsStr) -> bool {
    ending == "xlsx" || ending == "ods"
}

/// The text of a sheet with answers, be it a table or a workbook.
fn answered(file: &Path) -> Result<String, Failure> {
    let outside = |e: String| Failure::Outside(format!("`{}` cannot be read: {e}", file.display()));
    if file.extension().is_some_and(is_workbook) {
        let bytes = std::fs::read(file).map_err(|e| outside(e.to_string()))?;
        return workbook::table(&file.display().to_string(), &bytes, None).map_err(outside);
    }
    std::fs::read_to_string(file).map_err(|e| outside(e.to_string()))
}

fn read(args: AnswersArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let _lock = if args.write { estate.lock()? } else { None };
    let mut opened = estate.open(terminal)?;
    let moment = args.part.moment.moment(opened.estate())?;
    let mut answers: Vec<Answer> = Vec::new();
    let (mut open, mut mistakes) = (0, Vec::new());
    for file in found(&args.sheets)? {
        let text = answered(&file)?;
        let read = files::answers(&file.display().to_string(), &text);
        answers.extend(read.answers);
        open += read.open;
        mistakes.extend(read.mistakes);
    }
    if !mistakes.is_empty() {
        return Err(Failure::Usage("the answers cannot be read; nothing is tried".to_string(), mistakes));
    }
    let sheets = made(&opened, &moment, &args.part.by, terminal)?;
    let proposal = proposal(opened.estate(), &sheets, &answers);
    terminal.print(&review::proposed(&proposal, &answers, open, terminal.width()))?;
    let status = if proposal.by_hand.is_empty() { DONE } else { BAD_NEWS };
    if proposal.changes.is_empty() {
        return Ok(status);
    }
    let mut given = proposal.changes;
    given.sort_by_key(rank);
    let changes = ChangeArgs { given, ..ChangeArgs::default() };
    let tried = TryArgs::of(changes, args.part.moment, args.all, args.write, args.anyway, args.far);
    Ok(status.max(r#try::try_on(tried, &mut opened, &estate.root()?, terminal)?))
}

/// The order in which `try` makes changes.
fn rank(change: &Change) -> u8 {
    match change {
        Change::Off(_) => 0,
        Change::On(_) => 1,
        Change::Leave(..) => 2,
        Change::Join(..) => 3,
        Change::User(..) | Change::Resource(..) => 4,
        Change::Give(_) => 5,
        Change::Window(..) => 6,
        Change::Actions(..) => 7,
        Change::Except(..) => 8,
    }
}
