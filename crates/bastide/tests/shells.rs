//! Completion as it is typed, in real shells on a terminal of their own. Those of zsh and fish are ignored by default,
//! because these shells may be missing: `tests/shells.sh` sees to that and runs them.

mod common;

use common::{demo, run_in};
use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// How long an answer may take on a busy machine.
const PATIENCE: Duration = Duration::from_secs(30);

/// A shell on a terminal.
struct Terminal {
    child: Child,
    shown: Arc<Mutex<Vec<u8>>>,
    seen: usize,
}

impl Terminal {
    fn start(dir: &Path, shell: &str) -> Terminal {
        let program = assert_cmd::cargo::cargo_bin("bastide");
        let path = format!("{}:{}", program.parent().unwrap().display(), std::env::var("PATH").unwrap());
        let mut child = Command::new("script")
            .args(["-qfec", shell, "/dev/null"])
            .current_dir(dir)
            .envs([("PATH", path.as_str()), ("TERM", "dumb"), ("HOME", dir.to_str().unwrap())])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("`script` gives a terminal");
        let shown = Arc::new(Mutex::new(Vec::new()));
        let (mut out, into) = (child.stdout.take().unwrap(), shown.clone());
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(number @ 1..) = out.read(&mut buffer) {
                into.lock().unwrap().extend(&buffer[..number]);
            }
        });
        Terminal { child, shown, seen: 0 }
    }

    fn keys(&mut self, keys: &str) {
        let stdin = self.child.stdin.as_mut().unwrap();
        stdin.write_all(keys.as_bytes()).unwrap();
        stdin.flush().unwrap();
    }

    /// Waits until a text is shown behind what was waited for before.
    #[track_caller]
    fn shows(&mut self, text: &str) {
        let since = Instant::now();
        loop {
            let all = String::from_utf8_lossy(&self.shown.lock().unwrap()).into_owned();
            if let Some(at) = all.get(self.seen..).and_then(|rest| rest.find(text)) {
                self.seen += at + text.len();
                return;
            }
            assert!(since.elapsed() < PATIENCE, "no `{text}` in: {}", all.get(self.seen..).unwrap_or(&all));
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

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
    let mut terminal = Terminal::start(demo.path(), "bash --norc --noprofile -i");
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
    let mut terminal = Terminal::start(demo.path(), "zsh -f -i");
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
