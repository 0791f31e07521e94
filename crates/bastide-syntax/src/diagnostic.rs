//! The one form in which anything wrong is reported: a code, a severity, a place, a message, and
//! what to do about it. How it is drawn is somebody else's business.

use crate::codes::{Code, Severity};
use crate::source::{FileId, Span};
use std::collections::HashMap;

/// A second place, with what it has to do with the first.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Label {
    /// Where.
    pub span: Span,
    /// What is there.
    pub text: String,
}

/// A replacement of text that would mend it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Edit {
    /// What to replace.
    pub span: Span,
    /// With what.
    pub replacement: String,
}

/// Advice, beginning with the goal.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Help {
    /// The advice.
    pub text: String,
    /// The edit that follows it, where it is known.
    pub edit: Option<Edit>,
}

/// Something to say about a place in the estate's files.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Diagnostic {
    /// What sort of thing it is; its severity comes from there, unless it has a level of its own.
    pub code: &'static Code,
    /// One line, lower case, no full stop.
    pub message: String,
    /// Where; none where a whole file or the command line is meant.
    pub place: Option<Span>,
    /// The file by name, where there is no text to point into (a missing file).
    pub file: Option<String>,
    /// What is written beside the underlined place.
    pub label: String,
    /// Other places.
    pub others: Vec<Label>,
    /// Facts that explain.
    pub notes: Vec<String>,
    /// What to do.
    pub helps: Vec<Help>,
    /// How bad it is, where that is not what its code says.
    pub level: Option<Severity>,
    /// What else it is, where one thing was told as another that it brings about.
    pub was: Option<&'static Code>,
    /// How many more of its code there are in its file that are not listed.
    pub more: usize,
    /// What is looked for among the names that are known, to suggest the nearest.
    pub seek: Option<Seek>,
}

/// A name that leads nowhere, of which the nearest known one is to be suggested. That takes a look at every known name, so it
/// is done for the first few only, once all are told.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Seek {
    /// Among what: `user`, `group` or `resource`.
    pub among: &'static str,
    /// The name.
    pub name: String,
    /// Whether the place of the diagnostic holds the name alone, so that it can be replaced.
    pub edit: bool,
}

/// So many of one code are listed of one file; of more, only the number is known.
pub const MOST_LISTED: usize = 200;

/// Diagnostics as they are told, within bounds: whatever is wrong with a file, what is kept of it stays small.
#[derive(Default, Debug)]
pub struct Diagnostics {
    list: Vec<Diagnostic>,
    /// By code and file, how many are listed and how many more there are.
    counts: HashMap<(&'static str, Option<FileId>), (usize, usize)>,
}

impl Diagnostics {
    /// None yet.
    pub fn new() -> Diagnostics {
        Diagnostics::default()
    }

    /// Takes one in, or its number.
    pub fn push(&mut self, mut diagnostic: Diagnostic) {
        let file = diagnostic.place.map(|place| place.file);
        let (listed, more) = self.counts.entry((diagnostic.code.name, file)).or_default();
        *more += std::mem::take(&mut diagnostic.more);
        if *listed < MOST_LISTED {
            *listed += 1;
            self.list.push(diagnostic);
        } else {
            *more += 1;
        }
    }

    /// Keeps those that are wanted.
    pub fn retain(&mut self, wanted: impl FnMut(&Diagnostic) -> bool) {
        self.list.retain(wanted);
    }

    /// All of them; the last of each code and file knows how many more there are.
    pub fn finish(mut self) -> Vec<Diagnostic> {
        for diagnostic in self.list.iter_mut().rev() {
            let key = (diagnostic.code.name, diagnostic.place.map(|place| place.file));
            if let Some((_, more)) = self.counts.remove(&key) {
                diagnostic.more = more;
            }
        }
        self.list
    }
}

impl Extend<Diagnostic> for Diagnostics {
    fn extend<I: IntoIterator<Item = Diagnostic>>(&mut self, all: I) {
        all.into_iter().for_each(|diagnostic| self.push(diagnostic));
    }
}

impl IntoIterator for Diagnostics {
    type Item = Diagnostic;
    type IntoIter = std::vec::IntoIter<Diagnostic>;

    fn into_iter(self) -> Self::IntoIter {
        self.finish().into_iter()
    }
}

impl std::ops::Deref for Diagnostics {
    type Target = [Diagnostic];

    fn deref(&self) -> &[Diagnostic] {
        &self.list
    }
}

impl std::ops::DerefMut for Diagnostics {
    fn deref_mut(&mut self) -> &mut [Diagnostic] {
        &mut self.list
    }
}

impl Diagnostic {
    /// A diagnostic with a place to underline.
    pub fn at(code: &'static Code, place: Span, message: impl Into<String>) -> Self {
        Diagnostic { place: Some(place), ..Self::general(code, message) }
    }

    /// A diagnostic about a file as a whole, named as the user knows it.
    pub fn file(code: &'static Code, file: impl Into<String>, message: impl Into<String>) -> Self {
        Diagnostic { file: Some(file.into()), ..Self::general(code, message) }
    }

    fn general(code: &'static Code, message: impl Into<String>) -> Self {
        Diagnostic {
            code,
            message: message.into(),
            place: None,
            file: None,
            label: String::new(),
            others: Vec::new(),
            notes: Vec::new(),
            helps: Vec::new(),
            level: None,
            was: None,
            more: 0,
            seek: None,
        }
    }

    /// How bad it is.
    pub fn severity(&self) -> Severity {
        self.level.unwrap_or(self.code.severity)
    }

    /// Whether evaluation must not go on.
    pub fn is_error(&self) -> bool {
        self.severity() == Severity::Error
    }

    /// Adds what is written beside the underlined place.
    pub fn label(mut self, text: impl Into<String>) -> Self {
        self.label = text.into();
        self
    }

    /// Adds a second place.
    pub fn other(mut self, span: Span, text: impl Into<String>) -> Self {
        self.others.push(Label { span, text: text.into() });
        self
    }

    /// Adds a fact.
    pub fn note(mut self, text: impl Into<String>) -> Self {
        self.notes.push(text.into());
        self
    }

    /// Adds advice.
    pub fn help(mut self, text: impl Into<String>) -> Self {
        self.helps.push(Help { text: text.into(), edit: None });
        self
    }

    /// Has the nearest known name suggested later; see [`Seek`].
    pub fn seek(mut self, among: &'static str, name: &str, edit: bool) -> Self {
        self.seek = Some(Seek { among, name: name.to_string(), edit });
        self
    }

    /// Adds "did you mean", with the edit, where a known name is near.
    pub fn suggest(mut self, name: Option<&str>) -> Self {
        if let (Some(name), Some(span)) = (name, self.place) {
            self.helps.push(Help {
                text: format!("did you mean `{name}`?"),
                edit: Some(Edit { span, replacement: crate::quote::name(name) }),
            });
        }
        self
    }
}

/// Puts diagnostics in the order of their places, errors and warnings mixed, so that the same
/// estate always reports the same text.
pub fn sort(diagnostics: &mut [Diagnostic]) {
    diagnostics.sort_by(|a, b| {
        let key = |d: &Diagnostic| (d.place.map(|p| (p.file, p.start, p.end)), d.file.clone(), d.code.name);
        key(a).cmp(&key(b)).then_with(|| a.message.cmp(&b.message))
    });
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::codes;

    #[test]
    fn none_is_lost_in_the_count() {
        let one = |file: u32| Diagnostic::at(&codes::BAD_ROW, Span::new(FileId(file), 0, 1), "x");
        let mut some = Diagnostics::new();
        (0..1000).for_each(|i| some.push(one(i % 2)));
        some.push(Diagnostic::at(&codes::UNUSED, Span::new(FileId(0), 0, 1), "y"));
        let mut all = Diagnostics::new();
        all.push(one(0));
        all.extend(some);
        let all = all.finish();
        assert_eq!(all.len(), 2 * MOST_LISTED + 1);
        let number = |file: u32| -> usize {
            let of =
                all.iter().filter(|d| *d.code == codes::BAD_ROW && d.place.is_some_and(|p| p.file == FileId(file)));
            of.map(|d| 1 + d.more).sum()
        };
        assert_eq!((number(0), number(1)), (501, 500));
    }
}
