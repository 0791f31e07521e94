//! The one form in which anything wrong is reported: a code, a severity, a place, a message, and
//! what to do about it. How it is drawn is somebody else's business.

use crate::codes::Code;
use crate::source::Span;

/// How bad it is. Any error means that nothing is evaluated.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub enum Severity {
    /// Nothing is evaluated while it stands.
    Error,
    /// The estate can be evaluated; something in it has no effect or is not what it seems.
    Warning,
}

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
