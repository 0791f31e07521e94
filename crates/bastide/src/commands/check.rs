//! `bastide check`

use crate::about::About;
use crate::answers::check::Checked;
use crate::failure::{DONE, ESTATE, Failure};
use crate::open::{EstateArgs, MomentArgs};
use crate::print::text::{bold, count, grouped, hang, visible};
use crate::print::{diagnostics, json};
use crate::terminal::Terminal;
use bastide_engine::{ReferenceEvaluator, advice};
use bastide_formats::write::Texts;
use bastide_formats::{Loaded, sarif};
use bastide_model::statement::Sort;
use bastide_model::{Estate, Member};
use bastide_syntax::{Diagnostic, diagnostic, escaped_json};
use clap::Args;
use std::path::PathBuf;

/// How to print what was found.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum CheckFormat {
    /// With the lines in question
    Table,
    /// For programs
    Json,
    /// SARIF 2.1.0, for code review
    Sarif,
}

#[derive(Args, Debug)]
pub struct CheckArgs {
    #[command(flatten)]
    moment: MomentArgs,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: CheckFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: CheckArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    let root = estate.root()?;
    let mut loaded = crate::open::read(&root, &Texts::new())?;
    crate::open::say_settled(&loaded, terminal);
    if let Some(estate) = &loaded.estate {
        let moment = args.moment.moment(estate)?;
        match ReferenceEvaluator::new(estate, &moment) {
            Ok(reference) => loaded.diagnostics.extend(advice::missing_in_restrictions(&reference)),
            Err(cycles) => loaded.diagnostics.extend(cycles),
        }
        diagnostic::sort(&mut loaded.diagnostics);
    }
    let errors = loaded.diagnostics.iter().any(Diagnostic::is_error);
    let text = match args.format {
        CheckFormat::Table => {
            let all: Vec<&Diagnostic> = loaded.diagnostics.iter().collect();
            let counted = loaded
                .estate
                .as_ref()
                .filter(|_| !errors)
                .map_or(String::new(), |e| counts(e, &loaded, terminal.width()));
            format!("{}{counted}", diagnostics::report(&loaded.sources, &all, terminal))
        }
        CheckFormat::Json => {
            let checked = Checked::of(&loaded.sources, &loaded.diagnostics);
            json::document("check", &About::loaded(&loaded, &root), &checked)
        }
        CheckFormat::Sarif => {
            let about = About::loaded(&loaded, &root);
            let log = sarif::log(&loaded.sources, &loaded.diagnostics, &about.run(&root));
            format!("{}\n", escaped_json(&serde_json::to_string_pretty(&log).expect("JSON always serialises")))
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    Ok(if errors { ESTATE } else { DONE })
}

/// What was loaded, in counts.
fn counts(estate: &Estate, loaded: &Loaded, columns: usize) -> String {
    let people = estate.people();
    let kinds: Vec<String> = ["person", "guest", "service"]
        .iter()
        .map(|kind| (people.all().filter(|u| people.kind(*u) == *kind).count(), kind))
        .filter(|(n, _)| *n > 0)
        .map(|(n, kind)| count(n, kind))
        .collect();
    let inactive = people.len() - people.active().count_ones(..);
    let groups = estate.groups();
    let computed = groups.all().filter(|g| groups.computed(*g).is_some()).count();
    let nested = |g: &bastide_model::GroupId| groups.members(*g).iter().any(|m| matches!(m.member, Member::Group(_)));
    let nested = groups.all().filter(nested).count();
    let resources: Vec<String> = estate
        .schema()
        .kinds
        .iter()
        .enumerate()
        .map(|(k, kind)| (estate.catalog().kinds.iter().filter(|x| x.index() == k).count(), &kind.name))
        .filter(|(n, _)| *n > 0)
        .map(|(n, kind)| format!("{kind} {}", grouped(n as u64)))
        .collect();
    let of = |sort: Sort| estate.statements().iter().filter(|s| s.sort == sort).count();
    let off = estate.statements().iter().filter(|s| !s.is_on()).count();
    let deepest = estate.catalog().depths.iter().max().copied().unwrap_or(0);
    let mut lines = vec![
        ("people", format!("{}: {}; {inactive} inactive", count(people.len(), "user"), kinds.join(", "))),
        ("groups", format!("{}: {nested} hold other groups, {computed} computed", count(groups.len(), "group"))),
        (
            "catalog",
            format!("{}, {deepest} levels deep: {}", count(estate.catalog().len(), "resource"), resources.join(", ")),
        ),
        (
            "policy",
            format!("{} and {}; {off} switched off", count(of(Sort::Rule), "rule"), count(of(Sort::Entry), "entry")),
        ),
        ("decided by", estate.combining().name().to_string()),
    ];
    if !estate.layers().is_empty() {
        lines.push(("layers", estate.layers().join(", ")));
    }
    if loaded.usage_rows > 0 {
        lines.push(("usage", count(loaded.usage_rows, "row")));
    }
    if !loaded.passed.is_empty() {
        let mut classes = loaded.passed.clone();
        classes.sort_by_key(|(class, count)| (std::cmp::Reverse(*count), class.clone()));
        let all: usize = classes.iter().map(|(_, count)| count).sum();
        let told: Vec<String> =
            classes.iter().map(|(class, count)| format!("{class} {}", grouped(*count as u64))).collect();
        lines.push(("left out", format!("{} passed over: {}", count(all, "entry of exports"), told.join(", "))));
    }
    let lines: String =
        lines.iter().map(|(head, text)| hang(&format!("  {head:<11}"), &visible(text), columns)).collect();
    format!("\n{}\n{lines}", bold(&visible(estate.name())))
}
