//! Completion as it is typed, in real shells on a terminal of their own. Those of zsh and fish are ignored by default,
//! because these shells may be missing: `tests/shells.sh` sees to that and runs them.

mod common;

use bastide_testkit::terminal::Terminal;
use common::{demo, on_terminal, run_in};
use std::process::Command;

/// Names with blanks, what lies below them, open quotes, and names behind a colon.
fn typed_lines(terminal: &mut Terminal) {
    for (begun, goes_on, end) in [
        ("Exhibitions/Tidal\\ L\t", "ight/", ""),
        ("\"Exhibitions/Tidal L\t", "ight/", "\""),
        ("'Exhibitions/Tidal L\t", "ight/", "'"),
    ] {
        terminal.shows("READY> ");
        terminal.keys(&format!("bastide -q about {begun}"));
        terminal.shows(goes_on);
        terminal.keys("Tr\t");
        terminal.shows("ansport/");
        terminal.keys(&format!("TL-01\t{end}"));
        // Several go on from there; one of them is typed to its end.
        terminal.keys("\u{15}bastide -q about ");
        terminal.keys(&format!("{}Tr\t", begun.replace("L\t", "Light/")));
        terminal.shows("ansport/");
        terminal.keys(&format!("TL-013{end}\r"));
        terminal.shows("resource sheet-013");
    }
    terminal.shows("READY> ");
    terminal.keys("bastide -q why group:cour\t");
    terminal.shows("iers");
    terminal.keys(" re\t");
    terminal.shows("ad");
    terminal.keys(" Pre\t");
    terminal.shows("ss");
    terminal.keys("\r");
    terminal.shows("can read `Press`");
    terminal.shows("READY> ");
    terminal.keys("bastide -q try --join bruno.tavares:cour\t");
    terminal.shows("iers");
    terminal.keys("\r");
    terminal.shows("bruno.tavares");
}

#[test]
fn in_bash() {
    let demo = demo();
    run_in(demo.path(), &["setup", "files"]).ok();
    let mut terminal = on_terminal(demo.path(), "bash --norc --noprofile -i", &[("NO_COLOR", "1")]);
    terminal.keys("PS1='REA''DY> '\r");
    terminal.shows("READY> ");
    terminal.keys("bind 'set enable-bracketed-paste off'; source files/completions/bash/bastide\r");
    typed_lines(&mut terminal);
}

#[test]
#[ignore = "needs zsh: tests/shells.sh"]
fn in_zsh() {
    let demo = demo();
    run_in(demo.path(), &["setup", "files"]).ok();
    let mut terminal = on_terminal(demo.path(), "zsh -f -i", &[("NO_COLOR", "1")]);
    terminal.keys("PS1='REA''DY> '\r");
    terminal.shows("READY> ");
    terminal.keys("fpath=(files/completions/zsh $fpath); autoload -Uz compinit; compinit -u\r");
    typed_lines(&mut terminal);
}

#[test]
#[ignore = "needs fish: tests/shells.sh"]
fn in_fish() {
    let demo = demo();
    run_in(demo.path(), &["setup", "files"]).ok();
    let program = assert_cmd::cargo::cargo_bin("bastide");
    let path = format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap());
    for (line, offered) in [
        ("bastide about Exhibitions/Tidal\\ L", "Exhibitions/Tidal Light/"),
        ("bastide about \"Exhibitions/Tidal L", "Exhibitions/Tidal Light/"),
        ("bastide about Exhibitions/Tidal\\ Light/Tr", "Exhibitions/Tidal Light/Transport/"),
        ("bastide about 'Exhibitions/Tidal Light/Tr", "Exhibitions/Tidal Light/Transport/"),
        ("bastide why group:cour", "group:couriers"),
        ("bastide try --join bruno.tavares:cour", "bruno.tavares:couriers"),
        ("bastide wh", "why"),
    ] {
        let output = Command::new("fish")
            .args(["--no-config", "-c", "source files/completions/fish/bastide.fish; complete -C $argv[1]", line])
            .current_dir(demo.path())
            .envs([("PATH", path.as_str()), ("HOME", demo.path().to_str().unwrap())])
            .output()
            .expect("fish is there");
        let out = String::from_utf8_lossy(&output.stdout);
        let values: Vec<&str> = out.lines().filter_map(|l| l.split('\t').next()).collect();
        assert!(values.contains(&offered), "{line}: {out}{}", String::from_utf8_lossy(&output.stderr));
    }
}
