//! An object storage on this machine, whose bucket holds the files of a folder (`tests/storage.py`).

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};

/// The key that the storage knows.
pub const ID: &str = "reader-of-tides";
/// What its requests are signed with.
pub const SECRET: &str = "under/the+pier=7";
/// The region that it is in.
pub const REGION: &str = "north-quay";
/// The only bucket.
pub const BUCKET: &str = "tides";

/// A storage, which ends with the test.
pub struct Storage {
    child: Child,
    port: u16,
    folder: PathBuf,
    asked: Arc<Mutex<Vec<String>>>,
}

impl Storage {
    /// Of the files of a folder, as they are at each request; over a secret connection where a certificate and a key are
    /// given. None where what it is made of is not installed, which is told; a run of every test takes that for a failure.
    ///
    /// # Panics
    /// It does not start.
    #[allow(clippy::print_stderr, reason = "what is left out must not be left out in silence")]
    pub fn start(folder: &Path, certificate: Option<(&Path, &Path)>) -> Option<Storage> {
        let python = std::env::var("BASTIDE_PYTHON").unwrap_or_else(|_| "python3".to_string());
        let there = Command::new(&python).args(["-c", "import moto.server"]).output();
        if !there.is_ok_and(|there| there.status.success()) {
            let told = "left out: no storage for tests is installed (tests/systems.sh and tests/sql.sh install it)";
            assert!(std::env::var_os("BASTIDE_SYSTEMS").is_none(), "{told}");
            eprintln!("{told}");
            return None;
        }
        let program = Path::new(env!("CARGO_MANIFEST_DIR")).join("../storage.py");
        let mut command = Command::new(python);
        command.arg(program).arg(folder).arg(BUCKET);
        if let Some((certificate, key)) = certificate {
            command.arg(certificate).arg(key);
        }
        // So that a list of a few objects has several pages.
        command.env("MOTO_S3_DEFAULT_MAX_KEYS", "2").stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.spawn().expect("it starts");
        let mut said = BufReader::new(child.stdout.take().expect("it is piped"));
        let mut port = String::new();
        said.read_line(&mut port).expect("it says its port");
        let asked = Arc::new(Mutex::new(Vec::new()));
        let list = asked.clone();
        std::thread::spawn(move || {
            said.lines().map_while(Result::ok).for_each(|line| list.lock().expect("nobody failed").push(line))
        });
        let port = port.trim().parse().expect("a port");
        Some(Storage { child, port, folder: folder.to_path_buf(), asked })
    }

    /// Where it is.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// The `[storage]` of a manifest, without a key.
    pub fn section(&self) -> String {
        format!("[storage]\nat = \"http://127.0.0.1:{}\"\nregion = \"{REGION}\"\n", self.port)
    }

    /// What it was asked so far, one a line: `signed`, `unsigned` or `wrong`, the path, the condition.
    ///
    /// # Panics
    /// Another test has failed.
    pub fn asked(&self) -> Vec<String> {
        self.asked.lock().expect("nobody failed").clone()
    }

    /// Mishaps that the next objects meet, one a line: `busy`, `cut`, `elsewhere`, `change FILE`.
    ///
    /// # Panics
    /// The folder takes no file beside it.
    pub fn order(&self, orders: &str) {
        let mut name = self.folder.file_name().expect("it has a name").to_os_string();
        name.push(".orders");
        std::fs::write(self.folder.with_file_name(name), orders).expect("a file");
    }
}

impl Drop for Storage {
    fn drop(&mut self) {
        // It may have ended already.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
