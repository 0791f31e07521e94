//! The installed tool: manual pages, completions, examples, `--version`, and help where no estate is found.

mod common;

use common::{demo, run_in};
use std::fs;
use std::path::Path;

/// The examples in the help of a command: what stands after `bastide `.
fn examples(help: &str) -> Vec<String> {
    let lines = help.lines().skip_while(|l| *l != "Examples:").skip(1).take_while(|l| l.starts_with("  "));
    lines.filter_map(|l| l.trim().strip_prefix("bastide ")).map(str::to_string).collect()
}

/// A line as a shell takes it apart.
fn words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut quote, mut any) = (Vec::new(), String::new(), None, false);
    for c in line.chars() {
        match (c, quote) {
            (c, Some(q)) if c == q => quote = None,
            ('"' | '\'', None) => (quote, any) = (Some(c), true),
            (' ', None) => {
                if any || !word.is_empty() {
                    words.push(std::mem::take(&mut word));
                }
                any = false;
            }
            (c, _) => word.push(c),
        }
    }
    if any || !word.is_empty() {
        words.push(word);
    }
    words
}

fn commands() -> Vec<String> {
    let help = run_in(Path::new("."), &["--help"]).ok();
    let lines = help.lines().skip_while(|l| *l != "Commands:").skip(1).take_while(|l| !l.is_empty());
    let names = lines.filter(|l| !l.starts_with("    ")).filter_map(|l| l.split_whitespace().next());
    names.filter(|c| *c != "help").map(str::to_string).collect()
}

/// Every command shows examples, and every example runs on the demo.
#[test]
fn every_example_of_the_help_runs() {
    let mut ran = 0;
    for command in commands() {
        let help = run_in(Path::new("."), &[&command, "--help"]).ok();
        let examples = examples(&help);
        assert!(!examples.is_empty(), "`{command} --help` shows no example");
        let demo = demo();
        for example in examples {
            let mut args = words(&example);
            // What needs a repository, another day's state, a system to import from, a tour or another program is tried elsewhere.
            if ["diff", "import", "explore", "sql"].contains(&args[0].as_str())
                || args.iter().any(|a| a == "--since")
                || example == "demo"
            {
                continue;
            }
            if ["demo", "new", "fmt", "schema", "setup"].iter().all(|c| *c != args[0])
                && !args.iter().any(|a| a == "--explain")
            {
                args.extend(["--on".to_string(), "2026-11-24".to_string()]);
            }
            let args: Vec<&str> = args.iter().map(String::as_str).collect();
            let run = run_in(demo.path(), &args);
            assert!(run.status <= 1, "`bastide {example}`: {}\n{}{}", run.status, run.out, run.err);
            ran += 1;
        }
    }
    assert!(ran > 35, "{ran}");
}

#[test]
fn manual_pages_and_completions_come_from_the_same_definitions() {
    let dir = tempfile::tempdir().unwrap();
    run_in(dir.path(), &["setup", "files"]).ok();
    let man = dir.path().join("files/man");
    let page = fs::read_to_string(man.join("bastide.1")).unwrap();
    assert!(page.starts_with(".") && page.contains(".TH bastide 1"), "{}", &page[..200]);
    for command in commands() {
        let page = fs::read_to_string(man.join(format!("bastide-{command}.1")))
            .unwrap_or_else(|_| panic!("no manual page of `{command}`"));
        assert!(page.contains("Examples:"), "{command}");
    }
    for (shell, file, says) in [
        ("bash", "bastide", "complete -o"),
        ("zsh", "_bastide", "#compdef bastide"),
        ("fish", "bastide.fish", "complete --keep-order"),
        ("powershell", "bastide.ps1", "Register-ArgumentCompleter"),
    ] {
        let script = fs::read_to_string(dir.path().join("files/completions").join(shell).join(file)).unwrap();
        assert!(script.contains(says), "{shell}: {script}");
    }
}

/// The bash script, run by bash, offers what the program knows.
#[test]
fn bash_is_offered_users_of_the_estate() {
    let demo = demo();
    run_in(demo.path(), &["setup", "files"]).ok();
    let program = assert_cmd::cargo::cargo_bin("bastide");
    let path = format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap());
    let script = "source files/completions/bash/bastide\n\
                  COMP_WORDS=(bastide what bruno.) COMP_CWORD=2 COMP_TYPE=9 COMP_LINE='bastide what bruno.' COMP_POINT=19\n\
                  _clap_complete_bastide\nprintf '%s\\n' \"${COMPREPLY[@]}\"\n";
    let output = std::process::Command::new("bash")
        .args(["-c", script])
        .current_dir(demo.path())
        .env("PATH", path)
        .output()
        .expect("bash is there");
    let out = String::from_utf8_lossy(&output.stdout);
    assert!(out.lines().any(|l| l.starts_with("bruno.tavares")), "{out}{}", String::from_utf8_lossy(&output.stderr));
}

/// A name that a shell could take for a pattern is offered as it is.
#[test]
fn a_name_with_a_star_is_no_pattern() {
    let demo = demo();
    run_in(demo.path(), &["setup", "files"]).ok();
    let groups = demo.path().join("data/groups.csv");
    let text = fs::read_to_string(&groups).unwrap();
    fs::write(&groups, format!("{text}st*r team?,ines.varga\n")).unwrap();
    fs::write(demo.path().join("group:star teams"), "").unwrap();
    let program = assert_cmd::cargo::cargo_bin("bastide");
    let path = format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap());
    let offered = |line: &str| {
        let script = format!(
            "source files/completions/bash/bastide\nCOMP_LINE='{line}' COMP_POINT={} COMP_WORDBREAKS=' '\n\
             _clap_complete_bastide\nprintf '%s\\n' \"${{COMPREPLY[@]}}\"\n",
            line.len()
        );
        let mut bash = std::process::Command::new("bash");
        let output = bash.args(["-c", &script]).current_dir(demo.path()).env("PATH", &path).output().unwrap();
        String::from_utf8_lossy(&output.stdout).trim().to_string()
    };
    assert_eq!(offered("bastide why \"group:st"), "group:st*r team?");
    assert_eq!(offered("bastide why group:st"), "group:st\\*r\\ team\\?");
}

#[test]
fn the_version_says_how_it_was_built() {
    let short = run_in(Path::new("."), &["-V"]).ok();
    assert_eq!(short, format!("bastide {}\n", env!("CARGO_PKG_VERSION")));
    let long = run_in(Path::new("."), &["--version"]).ok();
    for word in ["commit ", "built for ", "built by  rustc "] {
        assert!(long.contains(word), "{long}");
    }
}

/// Where no estate is found, the message says what to do, whatever was asked.
#[test]
fn without_an_estate_help_is_near() {
    let dir = tempfile::tempdir().unwrap();
    for args in [&["check"][..], &["report", "-o", "r.html"], &["review", "sheets", "s"], &["matrix"]] {
        let run = run_in(dir.path(), args);
        assert_eq!(run.status, 2, "{args:?}");
        assert!(run.err.contains("`bastide new DIR`") && run.err.contains("`bastide demo`"), "{}", run.err);
        assert_eq!(run.out, "");
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 0, "{args:?} left something behind");
    }
}
