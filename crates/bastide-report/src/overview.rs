//! The first lines of the page: what somebody who reads nothing else should know.

use crate::exposure::Exposure;
use crate::power::{FullPower, Weight};
use bastide_audit::{Case, Finding, Group, Level};
use bastide_engine::prove::Proof;
use bastide_model::UserId;
use serde::Serialize;

/// The first lines.
#[derive(Serialize)]
pub struct Overview {
    /// Sentences.
    pub words: Vec<String>,
    /// The numbers that count most.
    pub tiles: Vec<Tile>,
    /// Who has too much, and where: the worst finding of each sort that says so.
    pub first: Vec<First>,
}

/// A finding to look at first.
#[derive(Serialize)]
pub struct First {
    /// Its level.
    pub level: &'static str,
    /// Its name.
    pub name: String,
    /// One line.
    pub message: String,
    /// How many there are of its sort.
    pub count: usize,
}

/// So many findings are to be looked at first.
const MOST_FIRST: usize = 8;

/// One number.
#[derive(Serialize)]
pub struct Tile {
    /// The number.
    pub number: usize,
    /// What it counts.
    pub label: String,
    /// `bad`, `doubt` or `good`.
    pub mood: &'static str,
    /// The part of the page that says more.
    pub part: &'static str,
}

pub(crate) fn overview(
    case: &Case,
    findings: &[Finding],
    proofs: &[Proof],
    full_power: &[FullPower],
    exposure: Option<&Exposure>,
    weights: &[Weight],
) -> Overview {
    let estate = case.estate;
    let active = estate.people().active().count_ones(..);
    let guest = |u: &UserId| estate.people().is_active(*u) && estate.people().kind(*u) == "guest";
    let guests = estate.people().all().filter(guest).count();
    let mut words = vec![format!(
        "{}, {} among them, in {}; {}; {} in force on this day.",
        many(active, "active user"),
        many(guests, "guest"),
        many(estate.groups().len(), "group"),
        many(estate.catalog().len(), "resource"),
        many(case.live().count(), "rule or entry")
    )];
    let mut power = match full_power {
        [] => "Nobody may do everything everywhere".to_string(),
        [one] => format!("One user may do everything everywhere: {}", shown(&one.name, &one.id)),
        all => format!("{} users may do everything everywhere", all.len()),
    };
    let next = weights.iter().take(3);
    let named: Vec<String> = next.map(|w| format!("{} ({:.0}\u{a0}%)", shown(&w.name, &w.id), w.share)).collect();
    if named.is_empty() {
        power.push('.');
    } else {
        power.push_str(&format!(
            "; the widest power to change things beside that, as a share of all resources: {}.",
            named.join(", ")
        ));
    }
    words.push(power);
    if let Some(top) = exposure.and_then(|e| e.most.first().map(|most| (e, most))) {
        let (e, (path, step, readers, guests)) = top;
        let guests =
            if *guests > 0 { format!(", {} among them", many(*guests as usize, "guest")) } else { String::new() };
        words.push(format!(
            "Of what is labelled {step} or next to it, “{path}” is the most exposed: {} can {} it{guests}.",
            many(*readers as usize, "user"),
            e.action
        ));
    }
    let of = |level: Level| findings.iter().filter(|f| f.level == level).count();
    let wide = findings.iter().filter(|f| f.group == Group::OverBroad && f.level <= Level::Warning).count();
    let broken = proofs.iter().filter(|p| !p.holds).count();
    let mood = |bad: bool, doubt: bool| match (bad, doubt) {
        (true, _) => "bad",
        (_, true) => "doubt",
        _ => "good",
    };
    let exposed: usize = exposure.map_or(0, |e| e.steps.first().map_or(0, |s| s.open_to_guests));
    let mut tiles = vec![
        Tile {
            number: full_power.len(),
            label: "with full power".into(),
            mood: mood(full_power.len() as f64 > case.limits.full_power, !full_power.is_empty()),
            part: "power",
        },
        Tile {
            number: wide,
            label: "findings of too much access".into(),
            mood: mood(wide > 0, false),
            part: "findings",
        },
        Tile {
            number: of(Level::Error),
            label: "findings that are errors".into(),
            mood: mood(of(Level::Error) > 0, false),
            part: "findings",
        },
        Tile {
            number: of(Level::Warning),
            label: "warnings".into(),
            mood: mood(false, of(Level::Warning) > 0),
            part: "findings",
        },
    ];
    if let Some(step) = exposure.and_then(|e| e.steps.first()) {
        tiles.push(Tile {
            number: exposed,
            label: format!("{} things a guest can open", step.step),
            mood: mood(exposed > 0, false),
            part: "exposure",
        });
    }
    if !proofs.is_empty() {
        tiles.push(Tile {
            number: broken,
            label: format!("of {} tests fail", proofs.len()),
            mood: mood(broken > 0, false),
            part: "tests",
        });
    }
    Overview { words, tiles, first: first(findings) }
}

fn first(findings: &[Finding]) -> Vec<First> {
    let mut list: Vec<First> = Vec::new();
    let wide = |f: &&Finding| matches!(f.group, Group::OverBroad | Group::Leak | Group::Duties);
    for finding in findings.iter().filter(|f| f.level <= Level::Warning).filter(wide) {
        match list.iter_mut().find(|first| first.name == finding.name) {
            Some(known) => known.count += 1,
            None => list.push(First {
                level: finding.level.word(),
                name: finding.name.clone(),
                message: finding.message.clone(),
                count: 1,
            }),
        }
    }
    list.truncate(MOST_FIRST);
    list
}

fn shown<'a>(name: &'a str, id: &'a str) -> &'a str {
    if name.is_empty() { id } else { name }
}

/// A number with its noun.
fn many(number: usize, noun: &str) -> String {
    let noun = match (number, noun) {
        (1, noun) => noun.to_string(),
        (_, "rule or entry") => "rules and entries".to_string(),
        (_, noun) => format!("{noun}s"),
    };
    format!("{number} {noun}")
}
