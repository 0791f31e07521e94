//! The one place where something that went wrong gets its hint and its exit status.

use crate::print::text::visible;
use bastide_engine::change::ReadError;
use bastide_engine::find::FindError;
use bastide_engine::session::SessionError;
use std::io;

/// Done.
pub const DONE: u8 = 0;
/// The answer is bad news.
pub const BAD_NEWS: u8 = 1;
/// Wrong usage.
pub const USAGE: u8 = 2;
/// The estate has errors.
pub const ESTATE: u8 = 3;
/// Something outside failed: a file, a server.
pub const OUTSIDE: u8 = 4;
/// A fault of Bastide itself.
pub const FAULT: u8 = 70;

/// Why a command did not come to its end.
#[derive(Debug)]
pub enum Failure {
    /// The command line asks for something that is not there.
    Usage(String, Vec<String>),
    /// The estate has errors; what was to say about them.
    Estate(String),
    /// A file cannot be read or written.
    Outside(String),
    /// Another program of ours has said what went wrong; its exit status.
    Told(u8),
    /// The reader of the output went away.
    Closed,
}

impl Failure {
    /// The exit status.
    pub fn status(&self) -> u8 {
        match self {
            Failure::Usage(..) => USAGE,
            Failure::Estate(_) => ESTATE,
            Failure::Outside(_) => OUTSIDE,
            Failure::Told(status) => *status,
            Failure::Closed => DONE,
        }
    }

    /// What to tell the user.
    pub fn text(&self) -> String {
        match self {
            Failure::Usage(message, hints) => {
                let hints: String = hints.iter().map(|h| format!("  {}\n", harmless(h))).collect();
                format!("error: {}\n{hints}", harmless(message))
            }
            Failure::Estate(report) => report.clone(),
            Failure::Outside(message) => format!("error: {}\n", harmless(message)),
            Failure::Told(_) | Failure::Closed => String::new(),
        }
    }
}

/// A text of several lines in which nothing from data or arguments acts on a terminal.
pub fn harmless(text: &str) -> String {
    text.split('\n').map(visible).collect::<Vec<_>>().join("\n")
}

impl From<FindError> for Failure {
    fn from(error: FindError) -> Failure {
        let message = visible(&error.to_string()).into_owned();
        let (candidates, head) = match error {
            FindError::Unknown { candidates, .. } => (candidates, "did you mean:"),
            FindError::Ambiguous { candidates, .. } => (candidates, "some of them:"),
        };
        if candidates.is_empty() {
            return Failure::Usage(message, Vec::new());
        }
        let lines = candidates.iter().map(|c| format!("  {}", visible(c)));
        Failure::Usage(message, std::iter::once(head.to_string()).chain(lines).collect())
    }
}

/// A wrong usage without further advice.
pub fn hinted(message: String) -> Failure {
    Failure::Usage(visible(&message).into_owned(), Vec::new())
}

impl From<ReadError> for Failure {
    fn from(error: ReadError) -> Failure {
        let near = match &error {
            ReadError::Find(find) => return Failure::from(find.clone()),
            ReadError::Attribute { near: Some(near), .. } => vec![format!("did you mean `{near}`?")],
            _ => Vec::new(),
        };
        Failure::Usage(visible(&error.to_string()).into_owned(), near)
    }
}

impl From<SessionError> for Failure {
    fn from(error: SessionError) -> Failure {
        let hint = match &error {
            SessionError::Unknown { near: Some(near), .. } => vec![format!("did you mean `{near}`?")],
            SessionError::Twice { .. } => {
                vec!["only an attribute of type `set of ...` takes several values".to_string()]
            }
            _ => Vec::new(),
        };
        Failure::Usage(visible(&error.to_string()).into_owned(), hint)
    }
}

impl From<io::Error> for Failure {
    fn from(error: io::Error) -> Failure {
        match error.kind() {
            io::ErrorKind::BrokenPipe => Failure::Closed,
            _ => Failure::Outside(error.to_string()),
        }
    }
}
