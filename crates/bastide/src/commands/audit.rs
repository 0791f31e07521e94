//! `bastide audit`

use crate::about::About;
use crate::complete;
use crate::failure::{BAD_NEWS, DONE, Failure};
use crate::found::audit::Audited;
use crate::history::History;
use crate::open::{EstateArgs, MomentArgs, cycle};
use crate::print::{audit, json};
use crate::progress::Telling;
use crate::terminal::Terminal;
use bastide_audit::{ALL, Case, Finding, Level, Limits, Survey, audit_by, by_value, fewest, idle_waivers, leave_out};
use bastide_formats::{Loaded, sarif};
use bastide_model::*;
use bastide_syntax::Span;
use bastide_syntax::escaped_json;
use clap::Args;
use jiff::ToSpan;
use std::path::{Path, PathBuf};

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum AuditFormat {
    /// Grouped by level, with the lines they are about
    Table,
    /// For programs, and for `--baseline`
    Json,
    /// One row a finding
    Csv,
    /// Markdown
    Md,
    /// SARIF 2.1.0, for code review
    Sarif,
}

/// From which level on the audit is bad news.
#[derive(Clone, Copy, PartialEq, Eq, Debug, clap::ValueEnum)]
pub enum FailOn {
    /// Errors
    Error,
    /// Warnings and errors
    Warning,
    /// Anything
    Note,
    /// Nothing
    Never,
}

#[derive(Args, Debug)]
pub struct AuditArgs {
    /// Only findings of this name; repeat it for several
    #[arg(long, value_name = "NAME", add = complete::findings())]
    only: Vec<String>,
    /// Explain a finding: what it is, why it matters, when not to mind
    #[arg(long, value_name = "NAME", exclusive = true, add = complete::findings())]
    explain: Option<String>,
    /// Report only what an earlier audit (`--format json`) did not
    #[arg(long, value_name = "FILE")]
    baseline: Option<PathBuf>,
    /// End with status 1 from this level on
    #[arg(long, value_enum, default_value = "error")]
    fail_on: FailOn,
    /// Where to start: findings, power and broad access by the values of an attribute of users or resources
    #[arg(long, value_name = "ATTRIBUTE")]
    by: Option<String>,
    /// Also look for the smallest set of rules and entries that gives the same access today
    #[arg(long)]
    fewest: bool,
    /// Every finding of long lists
    #[arg(long)]
    all: bool,
    #[command(flatten)]
    moment: MomentArgs,
    /// How to print
    #[arg(long, value_enum, default_value = "table")]
    format: AuditFormat,
    /// Write to a file
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

pub fn run(args: AuditArgs, estate: &EstateArgs, terminal: &mut Terminal) -> Result<u8, Failure> {
    if let Some(name) = &args.explain {
        let descriptor = ALL.iter().find(|d| d.name == name).ok_or_else(|| unknown(name))?;
        terminal.deliver(&audit::explained(descriptor, terminal.width()), args.output.as_deref())?;
        return Ok(DONE);
    }
    for name in &args.only {
        if !ALL.iter().any(|d| d.name == name) {
            return Err(unknown(name));
        }
    }
    let root = estate.root()?;
    let opened = estate.open(terminal)?;
    let estate = opened.estate();
    let moment = args.moment.moment(estate)?;
    let case = case(&opened.loaded, &moment)?;
    let wanted = |name: &str| args.only.is_empty() || args.only.iter().any(|n| n == name);
    let telling = Telling::new();
    telling.tell("everybody's access");
    let failed = |cycles: Vec<bastide_syntax::Diagnostic>| cycle(&opened, &cycles, terminal);
    let survey = Survey::new(&case).map_err(failed)?;
    let mut findings = audit_by(&case, &survey, &wanted, &|what| telling.tell(what));
    let fewest = if args.fewest {
        let told = |n: usize| telling.tell(&format!("the smallest set: {n} statements looked at"));
        Some(fewest(&case, &survey, &told).map_err(failed)?)
    } else {
        None
    };
    drop(telling);
    added_by(&mut findings, &mut History::of(&root));
    let by = match &args.by {
        Some(name) => by_value(&case, &survey, &findings, name).map_err(|near| {
            let hints = near.map(|n| vec![format!("did you mean `{n}`?")]).unwrap_or_default();
            Failure::Usage(format!("neither users nor resources have an attribute `{name}`"), hints)
        })?,
        None => Vec::new(),
    };
    let (waived, findings): (Vec<Finding>, Vec<Finding>) = findings.into_iter().partition(|f| f.waived.is_some());
    let idle_waivers = idle_waivers(&case, &waived, &args.only);
    let date = moment.date.to_string();
    let mut audited = Audited { date, findings, waived, idle_waivers, known: 0, gone: 0, by, fewest };
    if let Some(file) = &args.baseline {
        baseline(&mut audited, file, &args.only)?;
    }
    let text = match args.format {
        AuditFormat::Table => audit::audited(&audited, &opened.loaded.sources, args.all, terminal.width()),
        AuditFormat::Json => {
            json::document("audit", &About::of(&opened, &moment), &crate::answers::audit::Audited::from(&audited))
        }
        AuditFormat::Csv => audit::csv(&audited),
        AuditFormat::Md => audit::markdown(&audited),
        AuditFormat::Sarif => {
            let log = sarif::findings(&audited.findings, &About::of(&opened, &moment).run(&root));
            format!("{}\n", escaped_json(&serde_json::to_string_pretty(&log).expect("JSON always serialises")))
        }
    };
    terminal.deliver(&text, args.output.as_deref())?;
    if args.format == AuditFormat::Csv {
        About::of(&opened, &moment).beside(terminal, args.output.as_deref())?;
    }
    let worst = audited.findings.iter().map(|f| f.level).min();
    let limit = match args.fail_on {
        FailOn::Error => Some(Level::Error),
        FailOn::Warning => Some(Level::Warning),
        FailOn::Note => Some(Level::Note),
        FailOn::Never => None,
    };
    Ok(if worst.zip(limit).is_some_and(|(worst, limit)| worst <= limit) { BAD_NEWS } else { DONE })
}

fn unknown(name: &str) -> Failure {
    let hints = match bastide_audit::nearest(name) {
        Some(near) => vec![format!("did you mean `{near}`?")],
        None => vec![format!("the findings are {}", ALL.iter().map(|d| d.name).collect::<Vec<_>>().join(", "))],
    };
    Failure::Usage(format!("there is no finding `{}`", crate::print::text::visible(name)), hints)
}

/// Says of each membership by which somebody has full power who added it and when, in a git checkout.
pub fn added_by(findings: &mut [Finding], history: &mut History) {
    for finding in findings.iter_mut().filter(|f| f.name == "full-power") {
        for (evidence, places) in finding.evidence.iter_mut().zip(&finding.places) {
            let told = places.iter().filter_map(|place| history.touched(place));
            let told: Vec<String> = told.map(|t| format!("{} by {} on {}", t.place, t.author, t.date)).collect();
            if !told.is_empty() {
                evidence.push_str(&format!("; added: {}", told.join(", ")));
            }
        }
    }
}

/// What the audit goes by. Names in the manifest that mean nothing are wrong usage.
pub fn case<'e>(loaded: &'e Loaded, moment: &'e Moment) -> Result<Case<'e>, Failure> {
    let settings = &loaded.audit;
    let estate = loaded.estate.as_ref().expect("an estate with errors is not audited");
    let wrong = |what: &str, name: &str, near: Option<&str>| {
        let hints = near.map(|near| vec![format!("did you mean `{near}`?")]).unwrap_or_default();
        let name = crate::print::text::visible(name);
        Failure::Usage(format!("`[audit.{what}]` in the manifest: there is no `{name}`"), hints)
    };
    let mut limits = Limits::default();
    for (name, value) in &settings.limits {
        limits.set(&name.text, *value).map_err(|near| wrong("limits", &name.text, near))?;
    }
    let limits_days = limits.usage_days;
    let mut levels = Vec::new();
    for (name, level) in &settings.levels {
        if !ALL.iter().any(|d| d.name == name.text) {
            return Err(wrong("levels", &name.text, bastide_audit::nearest(&name.text)));
        }
        levels.extend(Level::of_word(level).map(|level| (name.text.clone(), level)));
    }
    for waiver in &estate.proofs().waivers {
        if !ALL.iter().any(|d| d.name == waiver.finding) {
            let near = bastide_audit::nearest(&waiver.finding).map(|near| format!("did you mean `{near}`?"));
            let place = estate.place(waiver.origin);
            let name = crate::print::text::visible(&waiver.finding);
            let message = format!("{place}: there is no finding `{name}` to waive");
            return Err(Failure::Usage(message, near.into_iter().collect()));
        }
    }
    Ok(Case {
        estate,
        moment,
        harmless: settings.harmless.clone(),
        limits,
        levels,
        diagnostics: &loaded.diagnostics,
        lines: lines(loaded),
        used: used(loaded, estate, moment, &limits_days),
    })
}

/// The line of each diagnostic's place.
pub fn lines(loaded: &Loaded) -> Vec<Option<Origin>> {
    let line = |place: Span| Origin { file: place.file, line: loaded.sources.position(place).line };
    loaded.diagnostics.iter().map(|d| d.place.map(line)).collect()
}

/// Usage of the window, where the manifest names any; what is not there any more is history.
fn used(loaded: &Loaded, estate: &Estate, moment: &Moment, days: &f64) -> Option<Vec<(UserId, ActionId, ResourceId)>> {
    if loaded.usage_rows == 0 {
        return None;
    }
    let first = moment.date.saturating_sub((*days as i64).days());
    let rows = loaded.used.iter().filter(|row| {
        let day = jiff::tz::Offset::UTC.to_datetime(row.when).date();
        day >= first && day <= moment.date
    });
    Some(
        rows.filter_map(|r| Some((estate.people().find(&r.user)?, r.action, estate.catalog().find(&r.resource)?)))
            .collect(),
    )
}

/// Leaves out what an earlier audit reported.
fn baseline(audited: &mut Audited, file: &Path, only: &[String]) -> Result<(), Failure> {
    let outside = |why: String| Failure::Outside(format!("`{}` is no earlier audit: {why}", file.display()));
    let text = std::fs::read_to_string(file).map_err(|e| outside(e.to_string()))?;
    let value: serde_json::Value = serde_json::from_str(&text).map_err(|e| outside(e.to_string()))?;
    if value["schema"] != "bastide.audit/1" {
        return Err(outside("it was not written by `bastide audit --format json`".to_string()));
    }
    let old = value["findings"].as_array().cloned().unwrap_or_default();
    let known: Vec<&str> = old.iter().filter_map(|f| f["fingerprint"].as_str()).collect();
    (audited.known, audited.gone) = leave_out(&mut audited.findings, &audited.waived, &known, only);
    Ok(())
}
