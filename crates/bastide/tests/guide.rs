//! Every command in the guide, run as it is written, in a folder of its own for each page; what comes back is
//! what the page shows. `BASTIDE_WRITE_DOCS=1` writes the outputs into the pages instead, to be read there.
//!
//! In a block that begins with three backticks and `console`, a line `$ COMMAND` is run: `bastide`, `cd`, `cat`, `git`,
//! `sed` and `printf ... >> FILE`. A line `…` stands for any number of lines; `…N`, when outputs are written, for all but
//! the first N. A block whose first line names a language and a file puts that file there. Commands that ask about
//! a day are asked about 24 November 2026.

mod common;

use assert_cmd::cargo::cargo_bin;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;

const DAY: &str = "2026-11-24";
/// Commands that ask about a day.
const DATED: [&str; 15] = [
    "check", "reach", "matrix", "what", "who", "why", "diff", "audit", "test", "compare", "try", "report", "review",
    "answers", "explore",
];

fn docs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs")
}

/// What a command gives back: output, and the error output where it failed.
fn run(dir: &mut PathBuf, line: &str) -> String {
    if let Some(folder) = line.strip_prefix("cd ") {
        dir.push(folder);
        return String::new();
    }
    let name = line.split_whitespace().next().unwrap_or_default();
    assert!(["bastide", "cat", "git", "printf", "sed"].contains(&name), "the guide runs no `{name}`");
    let mut line = line.to_string();
    let second = line.split_whitespace().nth(1).unwrap_or_default();
    if name == "bastide" && DATED.contains(&second) && !line.contains("--on ") && !line.contains("--explain") {
        line = match line.split_once(" | ") {
            Some((first, rest)) => format!("{first} --on {DAY} | {rest}"),
            None => format!("{line} --on {DAY}"),
        };
    }
    let program = cargo_bin("bastide");
    let path = format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap_or_default());
    let output = Command::new("bash")
        .args(["-c", &line])
        .current_dir(&dir)
        .env("PATH", path)
        .env("COLUMNS", "100")
        .env("GIT_AUTHOR_DATE", "2026-11-20T10:00:00Z")
        .env("GIT_COMMITTER_DATE", "2026-11-20T10:00:00Z")
        .env("GIT_CONFIG_GLOBAL", "/dev/null")
        .env_remove("NO_COLOR")
        .output()
        .expect("bash is there");
    let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
    let mut out = text(&output.stdout);
    if output.status.code().is_none_or(|code| code > 1) {
        out.push_str(&text(&output.stderr));
    }
    out
}

/// Whether an output is as the page shows it.
fn fits(shown: &[&str], found: &[&str]) -> bool {
    match shown.split_first() {
        None => found.is_empty(),
        Some((&"…", rest)) => (0..=found.len()).any(|skip| fits(rest, &found[skip..])),
        Some((line, rest)) => found.first().is_some_and(|f| f.trim_end() == *line) && fits(rest, &found[1..]),
    }
}

/// The output as it is written into a page: all of it, or the first lines.
fn cut(shown: &[&str], out: &str) -> Vec<String> {
    let lines: Vec<&str> = out.lines().map(str::trim_end).collect();
    let most = shown.iter().enumerate().find_map(|(at, line)| match line.strip_prefix('…') {
        Some("") => Some(at),
        Some(number) => number.parse().ok(),
        None => None,
    });
    match most {
        Some(most) if lines.len() > most => {
            let mut kept: Vec<String> = lines[..most].iter().map(|l| l.to_string()).collect();
            kept.push("…".to_string());
            kept
        }
        _ => lines.iter().map(|l| l.to_string()).collect(),
    }
}

/// Runs a page; the page as it would be with the outputs that came.
fn page(name: &str, text: &str, mistakes: &mut Vec<String>) -> (String, usize) {
    let temporary = tempfile::tempdir().unwrap();
    let mut dir = temporary.path().to_path_buf();
    let mut out: Vec<String> = Vec::new();
    let mut ran = 0;
    let mut lines = text.lines().peekable();
    while let Some(line) = lines.next() {
        out.push(line.to_string());
        let Some(info) = line.strip_prefix("```").filter(|i| !i.is_empty()) else { continue };
        let mut body: Vec<&str> = Vec::new();
        for line in lines.by_ref() {
            if line == "```" {
                break;
            }
            body.push(line);
        }
        if let Some((_, file)) = info.split_once(' ') {
            let path = dir.join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, format!("{}\n", body.join("\n"))).unwrap();
        }
        if info != "console" {
            out.extend(body.iter().map(|l| l.to_string()));
            out.push("```".to_string());
            continue;
        }
        let mut rest = body.as_slice();
        while let Some((command, after)) = rest.split_first() {
            let line = command.strip_prefix("$ ").unwrap_or_else(|| panic!("{name}: `{command}` is no command"));
            let shown: Vec<&str> = after.iter().copied().take_while(|l| !l.starts_with("$ ")).collect();
            rest = &after[shown.len()..];
            let found = run(&mut dir, line);
            // A page that forgot to lay its estate out would show this for good, once it was written by this test.
            assert!(!found.contains("there is no `bastide.toml` here"), "{name}: $ {line}: {found}");
            ran += 1;
            let found_lines: Vec<&str> = found.lines().collect();
            if !fits(&shown, &found_lines) {
                mistakes.push(format!("{name}: $ {line}\n--- shown\n{}\n--- found\n{found}", shown.join("\n")));
            }
            out.push(command.to_string());
            out.extend(cut(&shown, &found));
        }
        out.push("```".to_string());
    }
    (format!("{}\n", out.join("\n")), ran)
}

#[test]
fn every_command_of_the_guide_gives_what_the_page_shows() {
    let write = std::env::var_os("BASTIDE_WRITE_DOCS").is_some();
    let (mut mistakes, mut ran) = (Vec::new(), 0);
    let mut pages: Vec<PathBuf> = fs::read_dir(docs()).unwrap().map(|e| e.unwrap().path()).collect();
    pages.retain(|p| p.extension().is_some_and(|e| e == "md"));
    pages.sort();
    for path in pages {
        let text = fs::read_to_string(&path).unwrap();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let (new, commands) = page(&name, &text, &mut mistakes);
        ran += commands;
        if write {
            fs::write(&path, new).unwrap();
        }
    }
    assert!(write || mistakes.is_empty(), "{}", mistakes.join("\n\n"));
    assert!(ran >= 40, "only {ran} commands in the guide");
}

/// Every command has a part of its own on the page of commands, with an output that a test runs.
#[test]
fn every_command_is_shown_with_an_output() {
    let text = fs::read_to_string(docs().join("commands.md")).unwrap();
    let help = common::run_in(Path::new("."), &["--help"]).ok();
    let lines = help.lines().skip_while(|l| *l != "Commands:").skip(1).take_while(|l| !l.is_empty());
    let names = lines.filter(|l| !l.starts_with("    ")).filter_map(|l| l.split_whitespace().next());
    for name in names.filter(|n| *n != "help") {
        let part = text.split(&format!("\n## {name}\n")).nth(1).unwrap_or_else(|| panic!("no part on `{name}`"));
        let part = part.split("\n## ").next().unwrap();
        assert!(part.contains(&format!("\n$ bastide {name}")), "`{name}` is not shown");
    }
}
