//! How bad a finding is.

/// How bad a finding is; the worst first.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Level {
    /// It must be mended.
    Error,
    /// Somebody should look at it.
    Warning,
    /// Good to know.
    Note,
    /// It is not reported.
    None,
}

impl Level {
    /// The level of a word.
    pub fn of_word(word: &str) -> Option<Level> {
        [Level::Error, Level::Warning, Level::Note, Level::None].into_iter().find(|level| level.word() == word)
    }

    /// As it is written everywhere.
    pub fn word(self) -> &'static str {
        match self {
            Level::Error => "error",
            Level::Warning => "warning",
            Level::Note => "note",
            Level::None => "none",
        }
    }
}
