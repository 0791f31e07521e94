//! A program on a terminal of its own, typed to and read.

use std::io::{Read, Write};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

/// How long an answer may take on a busy machine.
const PATIENCE: Duration = Duration::from_secs(30);

/// A program on a terminal.
pub struct Terminal {
    child: Child,
    shown: Arc<Mutex<Vec<u8>>>,
    seen: usize,
    reader: Option<std::thread::JoinHandle<()>>,
}

impl Terminal {
    /// Starts a command line in a folder, with `program` on its path.
    ///
    /// # Panics
    /// When nothing gives a terminal here.
    pub fn start(program: &Path, dir: &Path, line: &str, variables: &[(&str, &str)]) -> Terminal {
        let folder = program.parent().expect("a program lies in a folder");
        let path = format!("{}:{}", folder.display(), std::env::var("PATH").unwrap_or_default());
        let mut child = Command::new("script")
            .args(["-qfec", line, "/dev/null"])
            .current_dir(dir)
            .envs([("PATH", path.as_str()), ("TERM", "dumb")])
            .env("HOME", dir)
            // Some machines ask for colours everywhere by these.
            .env_remove("CI")
            .env_remove("CLICOLOR_FORCE")
            .envs(variables.iter().copied())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .expect("`script` gives a terminal");
        let shown = Arc::new(Mutex::new(Vec::new()));
        let (mut out, into) = (child.stdout.take().unwrap(), shown.clone());
        let reader = std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(number @ 1..) = out.read(&mut buffer) {
                into.lock().unwrap().extend(&buffer[..number]);
            }
        });
        Terminal { child, shown, seen: 0, reader: Some(reader) }
    }

    /// All that was shown so far.
    ///
    /// # Panics
    /// When what reads it has panicked.
    pub fn shown(&self) -> String {
        String::from_utf8_lossy(&self.shown.lock().unwrap()).into_owned()
    }

    /// Types.
    ///
    /// # Panics
    /// When the program has ended.
    pub fn keys(&mut self, keys: &str) {
        let stdin = self.child.stdin.as_mut().unwrap();
        stdin.write_all(keys.as_bytes()).unwrap();
        stdin.flush().unwrap();
    }

    /// Waits until a text is shown behind what was waited for before.
    ///
    /// # Panics
    /// When it does not come.
    #[track_caller]
    pub fn shows(&mut self, text: &str) {
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

impl Terminal {
    /// All that was shown, once the program has ended, and whether it did so well.
    ///
    /// # Panics
    /// When it does not end.
    pub fn ended(&mut self) -> (String, bool) {
        let since = Instant::now();
        let status = loop {
            match self.child.try_wait().expect("it can be asked") {
                Some(status) => break status,
                None => assert!(since.elapsed() < PATIENCE, "it does not end"),
            }
            std::thread::sleep(Duration::from_millis(20));
        };
        // What was written last may still be on its way.
        while self.reader.as_ref().is_some_and(|reader| !reader.is_finished()) && since.elapsed() < PATIENCE {
            std::thread::sleep(Duration::from_millis(20));
        }
        (String::from_utf8_lossy(&self.shown.lock().unwrap()).into_owned(), status.success())
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
