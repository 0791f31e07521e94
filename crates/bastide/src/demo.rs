//! `bastide demo`: the demo estate on disk, and a tour through the whole job on it.

use crate::cli::{self, Cli};
use crate::commands::new::lay_out;
use crate::failure::{DONE, Failure};
use crate::print::text::{bold, dim, wrap};
use crate::terminal::{Color, Terminal};
use bastide_formats::stray::Stray;
use clap::{Args, Parser};
use include_dir::{Dir, include_dir};
use std::io::Write;
use std::path::{Path, PathBuf};

static DEMO: Dir = include_dir!("$CARGO_MANIFEST_DIR/demo");

/// The day of the tour, so that it tells the same story whenever it is run.
const DAY: &str = "2026-11-24";

#[derive(Args, Debug)]
pub struct DemoArgs {
    /// The folder to lay it out in; it is made, or must hold the demo already
    #[arg(default_value = "four-tides")]
    dir: PathBuf,
    /// Lay the estate out and stop there
    #[arg(long)]
    no_tour: bool,
}

/// What the tour writes.
const PAGE: &str = "report.html";
/// What is in a page of ours.
const PAGE_TITLE: &str = "Four Tides Museums";

/// One stop of the tour: what the story says, and the command that is run.
struct TourStop {
    story: &'static str,
    command: &'static [&'static str],
}

const TOUR: &[TourStop] = &[
    TourStop {
        story: "It is Tuesday morning at the Four Tides Museums. You look after the platform on which four houses prepare \
                the exhibition Tidal Light. (So that the tour always tells the same story, it is asked for 24 November 2026: \
                the commands below run with `--on 2026-11-24`.) First: does everything in policy and data fit together?",
        command: &["check"],
    },
    TourStop {
        story: "Now the overview: who can do what at the top of the tree? Users with the same access share a column; the \
                largest come first.",
        command: &["matrix"],
    },
    TourStop { story: "And the totals over everybody and everything.", command: &["matrix", "--summary"] },
    TourStop {
        story: "The phone rings. It is a conservator, Bruno Tavares: \"I cannot open the condition reports, and everybody \
                else can.\" What does he see at all?",
        command: &["what", "bruno.tavares", "--under", "Exhibitions/Tidal Light", "--depth", "3"],
    },
    TourStop {
        story: "Nothing under Condition. Who can read one of these reports?",
        command: &["who", "read", "Exhibitions/Tidal Light/Condition/Incoming/TL-007 incoming"],
    },
    TourStop {
        story: "His colleagues are there, he is not. Why?",
        command: &["why", "bruno.tavares", "read", "Exhibitions/Tidal Light/Condition/Incoming/TL-007 incoming"],
    },
    TourStop {
        story: "A `may not` that was meant for somebody else. The first remedy is to take it out. What else would that do? \
                Trying costs nothing: nothing is saved.",
        command: &["try", "--drop", "data/entries.csv:43"],
    },
    TourStop {
        story: "The same on a full screen: the entry is taken out, his column lights up, and nothing else. (The keys that were pressed \
                stand in call.keys; `bastide explore` lets you press your own.)",
        command: &["explore", "--replay", "call.keys", "--size", "100x30"],
    },
    TourStop {
        story: "One conservator gets his work back, and nobody else is touched. That was two minutes on the phone. Bruno and \
                a colleague, side by side:",
        command: &["compare", "bruno.tavares", "carys.penhale"],
    },
    TourStop {
        story: "The second caller is a lender who asks what the rule for lenders lets them see. Word by word:",
        command: &["reach", "lenders-follow-their-loans"],
    },
    TourStop {
        story: "A curator opens this year's climate measurements and finds fewer rows than a colleague of the lab. Which rows, and \
                which columns, does he get?",
        command: &["filter", "idris.merrick", "read", "d-climate"],
    },
    TourStop {
        story: "What must always hold is written down in policy/proofs.bastide. Two of the tests fail, and should: they tell \
                what the calls were about.",
        command: &["test"],
    },
    TourStop {
        story: "The guarantee that fails says so before anybody calls: couriers see insured values. The third caller is a \
                courier who should never see insured values. Can he?",
        command: &["why", "bjrn.thackeray", "read", "Exhibitions/Tidal Light/Valuations/TL-020"],
    },
    TourStop {
        story: "He can, through three nested groups that nobody remembers joining; the first remedy names the link to cut. \
                Such things are the business of an audit. What else is wrong? The errors alone:",
        command: &[
            "audit",
            "--only",
            "duty-clash",
            "--only",
            "guest-power",
            "--only",
            "open-to-anyone",
            "--only",
            "full-power",
        ],
    },
    TourStop {
        story: "The mistakes that were put into this estate on purpose are listed in NOTES.md beside it; `bastide audit` finds \
                them. A last one: a sealed agreement and somebody from finance.",
        command: &["why", "vesna.babic", "pay", "loan-004"],
    },
    TourStop {
        story: "The director wants to see all this, and opens no terminal. A page to hand over goes into the demo's folder:",
        command: &["report", "-o", PAGE],
    },
];

pub fn run(args: DemoArgs, color: Color, terminal: &mut Terminal) -> Result<u8, Failure> {
    // `check` is the first stop of the tour: its warnings need not be mentioned again.
    terminal.warned = true;
    let dir = &args.dir;
    let known = DEMO.get_file("bastide.toml").expect("the demo has a manifest").contents();
    let there = std::fs::read(dir.join("bastide.toml")).is_ok_and(|found| found == known);
    if there {
        if let Some(strange) = strange(dir, Path::new(""))? {
            let hint = "nothing is touched where something else lies: name a folder that is empty or not there yet"
                .to_string();
            let message = format!("`{}` holds `{}`, which the demo did not write", dir.display(), strange.display());
            return Err(Failure::Usage(message, vec![hint]));
        }
        terminal.print(&format!("the demo estate stands in `{}` already\n", dir.display()))?;
    } else {
        lay_out(&DEMO, dir)?;
        terminal.print(&format!("the demo estate is laid out in `{}`\n", dir.display()))?;
    }
    if args.no_tour {
        return Ok(DONE);
    }
    for (i, stop) in TOUR.iter().enumerate() {
        if i == 1 {
            mistake(dir, color, terminal)?;
        }
        tell(terminal, stop.story)?;
        step(dir, stop.command, color, terminal)?;
    }
    tell(terminal, "That was the tour. Everything it showed are files in the folder: change them and ask again.")?;
    Ok(DONE)
}

/// Something in the demo's folder that is none of its own: neither a file of the estate nor what a tour leaves.
fn strange(dir: &Path, inside: &Path) -> Result<Option<PathBuf>, Failure> {
    for entry in std::fs::read_dir(dir.join(inside))? {
        let entry = entry?;
        let path = inside.join(entry.file_name());
        let kind = entry.file_type()?;
        let known = if kind.is_dir() {
            if DEMO.get_dir(&path).is_some() {
                if let Some(strange) = strange(dir, &path)? {
                    return Ok(Some(strange));
                }
                true
            } else {
                false
            }
        } else if path == Path::new(PAGE) {
            kind.is_file() && std::fs::read_to_string(entry.path()).is_ok_and(|page| page.contains(PAGE_TITLE))
        } else {
            kind.is_file()
                && (DEMO.get_file(&path).is_some() || path == Path::new(DRAFT_FILE) && is_draft(&entry.path()))
        };
        if !known {
            return Ok(Some(path));
        }
    }
    Ok(None)
}

/// Whether a file is what a tour that was cut off left behind.
fn is_draft(path: &Path) -> bool {
    std::fs::read(path).is_ok_and(|text| text == DRAFT.as_bytes())
}

fn tell(terminal: &mut Terminal, story: &str) -> Result<(), Failure> {
    let columns = terminal.width().min(100);
    let lines = wrap(&story.split_whitespace().collect::<Vec<_>>().join(" "), columns - 2);
    let story: String = lines.iter().map(|l| format!("{}\n", dim(&format!("| {l}")))).collect();
    terminal.print(&format!("\n{story}\n"))
}

/// Runs one command as it would be typed.
fn step(dir: &Path, command: &[&str], color: Color, terminal: &mut Terminal) -> Result<(), Failure> {
    // What is written goes into the demo's folder, wherever the tour was begun.
    let file = dir.join(PAGE).to_string_lossy().into_owned();
    let command: Vec<&str> = command.iter().map(|word| if *word == PAGE { file.as_str() } else { *word }).collect();
    let quoted = |word: &&str| if word.contains(' ') { format!("\"{word}\"") } else { word.to_string() };
    let shown: Vec<String> = command.iter().map(quoted).collect();
    terminal.print(&format!("{}\n\n", bold(&format!("$ bastide {}", shown.join(" ")))))?;
    let dir = dir.to_string_lossy();
    let words = ["bastide", "-C", &dir].into_iter().chain(command.iter().copied());
    let on = if command[0] != "check" { vec!["--on", DAY] } else { Vec::new() };
    let mut cli = Cli::try_parse_from(words.chain(on)).map_err(|e| Failure::Usage(e.to_string(), Vec::new()))?;
    cli.color = color;
    match cli::run(cli, terminal) {
        Ok(DONE) => Ok(()),
        Ok(status) => terminal.print(&format!("{}\n", dim(&format!("(exit status {status})")))),
        Err(failure @ Failure::Estate(_)) => {
            let status = failure.status();
            terminal.print(&format!("{}{}\n", failure.text(), dim(&format!("(exit status {status})"))))
        }
        Err(other) => Err(other),
    }
}

/// The rule that is saved for a moment, and where.
const DRAFT: &str = "rule reading-room-sees-reports {\n    because \"Visitors ask about the state of the objects.\"\n    \
                     who     user reading-room\n    may     raed\n    what    report where resource.label <= internl\n}\n";
const DRAFT_FILE: &str = "policy/draft.bastide";

/// Shows what a mistake looks like: a rule with two of them is saved beside the others for a moment.
fn mistake(dir: &Path, color: Color, terminal: &mut Terminal) -> Result<(), Failure> {
    tell(
        terminal,
        "Those are warnings: leads for later. An error stops everything, for an answer from half an estate would be worse \
         than none. Somebody saves a new rule in policy/draft.bastide in a hurry and asks for the matrix:",
    )?;
    let draft = dir.join(DRAFT_FILE);
    if is_draft(&draft) {
        std::fs::remove_file(&draft)?;
    }
    let make = || std::fs::OpenOptions::new().write(true).create_new(true).open(&draft);
    let (mut file, stray) = Stray::make(make, |_| draft.clone())?;
    file.write_all(DRAFT.as_bytes())?;
    drop(file);
    let shown = step(dir, &["matrix"], color, terminal);
    std::fs::remove_file(&draft)?;
    drop(stray);
    shown
}
