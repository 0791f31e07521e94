//! Secrets: from where the manifest says they are, and into no message.

use crate::{Asking, Failed};
use bastide_formats::manifest::{Import, Secret};

/// A longer one is none.
const LONGEST: u64 = 64 * 1024;

/// A secret, which is never shown.
pub struct Hidden(String);

impl Hidden {
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Debug for Hidden {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("(hidden)")
    }
}

/// The secret of an import; none where it names none.
pub fn of(import: &Import, asking: &Asking) -> Result<Option<Hidden>, Failed> {
    let found = match &import.secret {
        None => return Ok(None),
        Some(Secret::Environment(name)) => std::env::var(name).map_err(|error| match error {
            std::env::VarError::NotPresent => {
                Failed::new(format!("the variable `{name}`, which holds the secret, is not set"))
            }
            std::env::VarError::NotUnicode(_) => Failed::new(format!("the variable `{name}` is no text")),
        })?,
        Some(Secret::File(path)) => from_file(&asking.root.join(path), path)?,
        Some(Secret::Ask) => {
            let question = format!("secret for import `{}`", import.name.text);
            let help = "nobody is at the terminal to be asked for the secret: name it by `env:NAME` or `file:PATH`";
            (asking.ask)(&question).ok_or_else(|| Failed::new(help))?
        }
    };
    let found = found.trim_end_matches(['\n', '\r']).to_string();
    // A directory takes an empty one for nobody, and lets nobody in.
    if found.is_empty() {
        return Err(Failed::new("the secret is empty"));
    }
    Ok(Some(Hidden(found)))
}

fn from_file(path: &std::path::Path, shown: &str) -> Result<String, Failed> {
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
