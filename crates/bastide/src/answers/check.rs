//! What `check` answers.

use bastide_syntax::{Diagnostic, Sources, Span};
use schemars::JsonSchema;
use serde::Serialize;

/// What is wrong with an estate.
#[derive(Serialize, JsonSchema)]
#[schemars(rename = "Check")]
pub struct Checked {
    /// How many errors there are.
    pub errors: usize,
    /// How many warnings.
    pub warnings: usize,
    /// Each of them.
    pub diagnostics: Vec<Said>,
}

/// A mistake.
#[derive(Serialize, JsonSchema)]
pub struct Said {
    /// Its code.
    pub code: String,
    /// How bad it is.
    pub severity: SaidAs,
    /// One line.
    pub message: String,
    /// How many more of its code there are in its file that are not listed.
    pub more: usize,
    /// Where it is; the file alone where it has no line; none where it has no file.
    pub place: Option<TextPlace>,
    /// Other places that matter, each with what stands there.
    pub others: Vec<OtherPlace>,
    /// What else there is to know.
    pub notes: Vec<String>,
    /// What would help.
    pub helps: Vec<Help>,
}

/// How bad a mistake is.
#[derive(Clone, Copy, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum SaidAs {
    /// Nothing is answered before it is mended.
    Error,
    /// It should be looked at.
    Warning,
}

/// A place in a file, from its first character to behind its last.
#[derive(Serialize, JsonSchema)]
pub struct TextPlace {
    /// The file.
    pub file: String,
    /// The line, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// The column, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<u32>,
    /// The line in which it ends.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub end_line: Option<u32>,
    /// The column behind its end.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub end_column: Option<u32>,
}

/// Another place that matters.
#[derive(Serialize, JsonSchema)]
pub struct OtherPlace {
    /// Where.
    pub place: TextPlace,
    /// What stands there.
    pub text: String,
}

/// What would help.
#[derive(Serialize, JsonSchema)]
pub struct Help {
    /// In words.
    pub text: String,
    /// As a change of the text, where it is one.
    pub edit: Option<Edit>,
}

/// A change of a text.
#[derive(Serialize, JsonSchema)]
pub struct Edit {
    /// What is replaced.
    pub place: TextPlace,
    /// By what.
    pub replacement: String,
}

impl Checked {
    /// What was said of texts.
    pub fn of(sources: &Sources, said: &[Diagnostic]) -> Checked {
        let number = |is: bool| said.iter().filter(|d| d.is_error() == is).map(|d| 1 + d.more).sum();
        let diagnostics = said.iter().map(|d| Said::of(sources, d)).collect();
        Checked { errors: number(true), warnings: number(false), diagnostics }
    }
}

impl Said {
    fn of(sources: &Sources, d: &Diagnostic) -> Said {
        let place = |span: Span| TextPlace::of(sources, span);
        Said {
            code: d.code.name.to_string(),
            severity: if d.is_error() { SaidAs::Error } else { SaidAs::Warning },
            message: d.message.clone(),
            more: d.more,
            place: d.place.map(place).or_else(|| d.file.as_ref().map(|file| TextPlace::whole(file))),
            others: d.others.iter().map(|o| OtherPlace { place: place(o.span), text: o.text.clone() }).collect(),
            notes: d.notes.clone(),
            helps: d
                .helps
                .iter()
                .map(|h| Help {
                    text: h.text.clone(),
                    edit: h.edit.as_ref().map(|e| Edit { place: place(e.span), replacement: e.replacement.clone() }),
                })
                .collect(),
        }
    }
}

impl TextPlace {
    fn of(sources: &Sources, span: Span) -> TextPlace {
        let (from, upto) = (sources.position(span), sources.position(Span { start: span.end, ..span }));
        TextPlace {
            file: sources.name(span.file).to_string(),
            line: Some(from.line),
            column: Some(from.column),
            end_line: Some(upto.line),
            end_column: Some(upto.column),
        }
    }

    fn whole(file: &str) -> TextPlace {
        TextPlace { file: file.to_string(), line: None, column: None, end_line: None, end_column: None }
    }
}
