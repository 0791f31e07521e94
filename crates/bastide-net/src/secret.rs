//! Secrets: from where a manifest says they are, and into no message.

use crate::Failed;
use std::path::Path;

/// A longer one is none.
const LONGEST: u64 = 64 * 1024;

/// Where a secret is.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Secret {
    /// In a variable of the environment.
    Environment(String),
    /// In a file, relative to the estate.
    File(String),
    /// Somebody at the terminal is asked for it.
    Ask,
}

/// A secret, which is never shown.
pub struct Hidden(String);

impl Hidden {
    /// The secret itself.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Debug for Hidden {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("(hidden)")
    }
}

impl Secret {
    /// The secret. Files are looked for from `root` on; `ask` asks somebody, and gives none where nobody is there.
    ///
    /// # Errors
    /// It is not there, cannot be read, others may read its file, or it is empty.
    pub fn get(&self, root: &Path, ask: &dyn Fn() -> Option<String>) -> Result<Hidden, Failed> {
        let found = match self {
            Secret::Environment(name) => std::env::var(name).map_err(|error| match error {
                std::env::VarError::NotPresent => {
                    Failed::new(format!("the variable `{name}`, which holds the secret, is not set"))
                }
                std::env::VarError::NotUnicode(_) => Failed::new(format!("the variable `{name}` is no text")),
            })?,
            Secret::File(path) => from_file(&root.join(path), path)?,
            Secret::Ask => {
                let help = "nobody is at the terminal to be asked for the secret: name it by `env:NAME` or `file:PATH`";
                ask().ok_or_else(|| Failed::new(help))?
            }
        };
        let found = found.trim_end_matches(['\n', '\r']).to_string();
        // A directory takes an empty one for nobody, and lets nobody in.
        if found.is_empty() {
            return Err(Failed::new("the secret is empty"));
        }
        Ok(Hidden(found))
    }
}

fn from_file(path: &Path, shown: &str) -> Result<String, Failed> {
    let unread = |why: String| Failed::new(format!("the secret in `{shown}` cannot be read: {why}"));
    let about = std::fs::metadata(path).map_err(|e| unread(e.to_string()))?;
    if !about.is_file() || about.len() > LONGEST {
        return Err(unread("it is no short file".to_string()));
    }
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        if about.permissions().mode() & 0o077 != 0 {
            return Err(unread("others than its owner may read it, or write to it; say `chmod 600`".to_string()));
        }
    }
    std::fs::read_to_string(path).map_err(|e| unread(e.to_string()))
}
