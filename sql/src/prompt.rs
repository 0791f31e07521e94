//! Questions one after the other, with a history and with what may follow.

use rustyline::completion::{Completer, Pair};
use rustyline::error::ReadlineError;
use rustyline::highlight::Highlighter;
use rustyline::hint::Hinter;
use rustyline::history::DefaultHistory;
use rustyline::validate::{ValidationContext, ValidationResult, Validator};
use rustyline::{Config, Context, Editor, Helper};
use std::path::PathBuf;

/// Words of questions that may follow anywhere.
const WORDS: [&str; 28] = [
    "select",
    "from",
    "where",
    "group by",
    "order by",
    "having",
    "limit",
    "join",
    "left join",
    "on",
    "using",
    "and",
    "or",
    "not",
    "in",
    "like",
    "between",
    "is null",
    "is not null",
    "count(*)",
    "distinct",
    "as",
    "with",
    "union all",
    "except",
    "case",
    "exists",
    "desc",
];

/// What may be named: tables, and the columns of each.
#[derive(Clone, Default, Debug)]
pub struct Names {
    /// Tables with their columns.
    pub tables: Vec<(String, Vec<String>)>,
    /// Functions of our own.
    pub functions: Vec<String>,
}

impl Names {
    /// What a word that has begun may become.
    pub fn following(&self, begun: &str) -> Vec<String> {
        let begun = begun.to_lowercase();
        let columns = self.tables.iter().flat_map(|(_, columns)| columns.iter().map(String::as_str));
        let mut found: Vec<String> = match begun.rsplit_once('.') {
            // Behind an alias the columns of all tables.
            Some((before, column)) => {
                columns.filter(|name| name.starts_with(column)).map(|name| format!("{before}.{name}")).collect()
            }
            None => {
                let tables = self.tables.iter().map(|(table, _)| table.as_str());
                let functions = self.functions.iter().map(String::as_str);
                let all = tables.chain(columns).chain(functions).chain(WORDS);
                all.filter(|name| name.starts_with(&begun)).map(str::to_string).collect()
            }
        };
        found.sort();
        found.dedup();
        found
    }
}

/// Whether a question is whole: it ends with `;`, or is one of the words for the prompt itself.
pub fn is_whole(text: &str) -> bool {
    let text = text.trim();
    text.is_empty() || text.ends_with(';') || matches!(text, "help" | "tables" | "quit") || text.starts_with("columns ")
}

struct Aid(Names);

impl Completer for Aid {
    type Candidate = Pair;

    fn complete(&self, line: &str, at: usize, _: &Context<'_>) -> rustyline::Result<(usize, Vec<Pair>)> {
        let is_word = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
        let from = line[..at]
            .rfind(|c| !is_word(c))
            .map_or(0, |found| found + line[found..].chars().next().map_or(1, char::len_utf8));
        let found = self.0.following(&line[from..at]);
        let pair = |text: String| Pair { display: text.clone(), replacement: text };
        Ok((from, found.into_iter().map(pair).collect()))
    }
}

impl Hinter for Aid {
    type Hint = String;
}

impl Highlighter for Aid {}

impl Validator for Aid {
    fn validate(&self, context: &mut ValidationContext) -> rustyline::Result<ValidationResult> {
        match is_whole(context.input()) {
            true => Ok(ValidationResult::Valid(None)),
            false => Ok(ValidationResult::Incomplete),
        }
    }
}

impl Helper for Aid {}

/// A prompt.
pub struct Prompt {
    editor: Editor<Aid, DefaultHistory>,
    history: Option<PathBuf>,
}

/// What somebody said at the prompt.
pub enum Said {
    /// A text.
    Text(String),
    /// That they want no answer to what they began.
    Nothing,
    /// That they are done.
    End,
}

impl Prompt {
    /// With what may be named. Questions of earlier days are remembered in the state folder of the user, where there is one;
    /// also gives what is to be told where they cannot be read.
    ///
    /// # Errors
    /// There is no terminal to ask at.
    pub fn new(names: Names) -> Result<(Prompt, Option<String>), String> {
        let config = Config::builder().auto_add_history(true).completion_type(rustyline::CompletionType::List).build();
        let mut editor = Editor::with_config(config).map_err(|error| error.to_string())?;
        editor.set_helper(Some(Aid(names)));
        let home = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
        let state = home("XDG_STATE_HOME").or_else(|| home("HOME").map(|home| home.join(".local/state")));
        let history = state.map(|state| state.join("bastide/questions"));
        // A history that is not there yet begins here.
        let there = history.as_ref().filter(|history| history.exists());
        let told = there.and_then(|history| {
            let error = editor.load_history(history).err()?;
            Some(format!("earlier questions cannot be read from `{}`: {error}", history.display()))
        });
        Ok((Prompt { editor, history }, told))
    }

    /// Asks for a question.
    ///
    /// # Errors
    /// The terminal is gone.
    pub fn next(&mut self) -> Result<Said, String> {
        match self.editor.readline("access> ") {
            Ok(text) => Ok(Said::Text(text)),
            Err(ReadlineError::Interrupted) => Ok(Said::Nothing),
            Err(ReadlineError::Eof) => Ok(Said::End),
            Err(error) => Err(error.to_string()),
        }
    }

    /// Remembers what was asked; where that cannot be done, gives once what is to be told.
    pub fn remember(&mut self) -> Option<String> {
        let history = self.history.as_ref()?;
        let folder = history.parent().map_or(Ok(()), std::fs::create_dir_all).map_err(|error| error.to_string());
        let saved = folder.and_then(|()| self.editor.save_history(history).map_err(|error| error.to_string()));
        let told = format!("questions cannot be remembered in `{}`: {}", history.display(), saved.err()?);
        self.history = None;
        Some(told)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_columns_and_words_are_completed() {
        let tables = vec![
            ("access".to_string(), vec!["user".to_string(), "resource".to_string()]),
            ("users".to_string(), vec!["id".to_string(), "unit".to_string()]),
        ];
        let names = Names { tables, functions: vec!["under(".to_string()] };
        assert_eq!(names.following("us"), ["user", "users", "using"]);
        assert_eq!(names.following("a.u"), ["a.unit", "a.user"]);
        assert_eq!(names.following("UND"), ["under("]);
        assert!(is_whole("tables") && is_whole("select 1;") && !is_whole("select 1"));
    }
}
