//! Runs a command and a bare pass over the same CSV files in turn, and prints the ratio pair by
//! pair: a comparison that holds on a noisy machine.
//!
//! `measure RUNS BASTIDE BARE-PASS ESTATE...`
#![allow(clippy::print_stdout, reason = "a tool that says what it found")]

use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Instant;

fn seconds(command: &mut Command) -> io::Result<(f64, String)> {
    let started = Instant::now();
    let output = command.stderr(Stdio::null()).output()?;
    let took = started.elapsed().as_secs_f64();
    if !output.status.success() {
        return Err(io::Error::other(format!("{command:?} failed")));
    }
    Ok((took, String::from_utf8_lossy(&output.stdout).into_owned()))
}

/// A number of the summary's last line, by the words before it.
fn number(text: &str, words: &str) -> f64 {
    let at = text.rfind(words).map_or(text.len(), |at| at + words.len());
    let digits: String = text[at..].chars().take_while(|c| c.is_ascii_digit() || *c == '.').collect();
    digits.parse().unwrap_or(f64::NAN)
}

fn median(mut list: Vec<f64>) -> f64 {
    list.sort_by(f64::total_cmp);
    list[list.len() / 2]
}

fn main() -> io::Result<()> {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [runs, bastide, pass, estates @ ..] = &args[..] else {
        return Err(io::Error::other("RUNS BASTIDE BARE-PASS ESTATE..."));
    };
    let runs: usize = runs.parse().map_err(io::Error::other)?;
    println!(
        "| estate | a pass | summary | in passes | loading | evaluating | in passes: loading | evaluating | MiB |"
    );
    println!("|---|---|---|---|---|---|---|---|---|");
    for estate in estates {
        // They lie in the folder itself, or in `data`.
        let data = Path::new(estate).join("data");
        let folder: PathBuf = if data.is_dir() { data } else { estate.into() };
        let files = ["people.csv", "groups.csv", "catalog.csv", "entries.csv"].map(|file| folder.join(file));
        let mut columns: [Vec<f64>; 8] = Default::default();
        for _ in 0..runs {
            let (bare, _) = seconds(Command::new(pass).args(&files))?;
            let summary = ["-C", estate, "matrix", "--summary", "--on", "2026-11-24"];
            let (whole, text) = seconds(Command::new(bastide).args(summary))?;
            let (load, evaluate) = (number(&text, "loaded in "), number(&text, "evaluated in "));
            let peak = number(&text, "at most ");
            let row = [bare, whole, whole / bare, load, evaluate, load / bare, evaluate / bare, peak];
            columns.iter_mut().zip(row).for_each(|(column, value)| column.push(value));
        }
        let [bare, whole, ratio, load, evaluate, loads, evaluates, peak] = columns.map(median);
        let name = Path::new(estate).file_name().unwrap_or_default().to_string_lossy();
        println!(
            "| {name} | {bare:.2} | {whole:.2} | {ratio:.1} | {load:.2} | {evaluate:.2} | {loads:.1} | {evaluates:.1} | {peak:.0} |"
        );
    }
    Ok(())
}
