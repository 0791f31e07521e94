//! The canonical layout of a policy file: one form for everybody, comments kept.
//!
//! Declarations stay where they are; the clauses of a rule come in the order of the language
//! reference. Simple declarations of one sort that follow each other are lined up. A comment on a
//! line of its own stays before what follows it, one at the end of a line stays there, and one in
//! the middle of a clause moves before it.
//!
//! Formatting changes no meaning: [`format()`] compares the words before and after and gives up
//! rather than lose one.

mod body;
mod flow;
mod simple;

use crate::diagnostic::Diagnostic;
use crate::lexer::{TokenKind, tokens, unquote};
use crate::source::{FileId, Span};
use crate::tree::{Declaration, File};
use crate::{parse, quote};

/// Lines are broken where they would grow longer than this.
pub const WIDTH: usize = 100;

/// Why a text was not formatted.
#[derive(Debug)]
pub enum FormatError {
    /// The text has mistakes.
    Mistakes(Vec<Diagnostic>),
    /// The result would not say the same: a fault of the formatter.
    Fault,
}

/// The canonical form of a policy file. Cost: linear in the text.
///
/// # Errors
/// The mistakes of a text that cannot be read.
pub fn format(file: FileId, text: &str) -> Result<String, FormatError> {
    let parsed = parse(file, text);
    if !parsed.diagnostics.is_empty() {
        return Err(FormatError::Mistakes(parsed.diagnostics));
    }
    let mut printer = Printer { text, comments: parsed.tree.comments.clone(), next: 0, out: String::new() };
    printer.file(&parsed.tree);
    let out = printer.out;
    if words(file, text) == words(file, &out) { Ok(out) } else { Err(FormatError::Fault) }
}

/// Every word of a text, unquoted, and every comment, in one order whatever the layout.
fn words(file: FileId, text: &str) -> Vec<String> {
    let lexed = tokens(file, text);
    let mut words: Vec<String> = lexed
        .tokens
        .iter()
        .filter(|t| t.kind != TokenKind::End)
        .map(|t| match t.kind {
            TokenKind::Text => unquote(&text[t.span.range()]),
            _ => text[t.span.range()].to_string(),
        })
        .chain(lexed.comments.iter().map(|c| text[c.range()].to_string()))
        .collect();
    words.sort_unstable();
    words
}

pub(super) struct Printer<'t> {
    text: &'t str,
    comments: Vec<Span>,
    next: usize,
    out: String,
}

/// The comments around a piece of the file.
#[derive(Default)]
pub(super) struct Around {
    /// On lines of their own, before it; an empty text is an empty line.
    before: Vec<String>,
    /// At the end of its last line.
    after: Option<String>,
}

impl Printer<'_> {
    fn source(&self, span: Span) -> &str {
        &self.text[span.range()]
    }

    /// Whether an empty line stands between two places.
    fn is_apart(&self, from: usize, upto: usize) -> bool {
        self.text[from..upto].matches('\n').count() > 1
    }

    /// The comments that stand before or in a piece, and one that follows it on its line.
    fn around(&mut self, span: Span) -> Around {
        let mut around = Around::default();
        let mut last: Option<usize> = None;
        while let Some(comment) = self.comments.get(self.next).copied().filter(|c| c.start < span.end) {
            if last.is_some_and(|at| self.is_apart(at, comment.start as usize)) {
                around.before.push(String::new());
            }
            around.before.push(self.source(comment).to_string());
            last = (comment.end <= span.start).then_some(comment.end as usize);
            self.next += 1;
        }
        if last.is_some_and(|at| self.is_apart(at, span.start as usize)) {
            around.before.push(String::new());
        }
        if let Some(comment) = self.comments.get(self.next)
            && !self.text[span.end as usize..comment.start as usize].contains('\n')
            && self.text[span.end as usize..comment.start as usize].trim().is_empty()
        {
            around.after = Some(self.source(*comment).to_string());
            self.next += 1;
        }
        around
    }

    fn line(&mut self, indent: usize, text: &str) {
        if !text.is_empty() {
            self.out.extend(std::iter::repeat_n(' ', indent));
            self.out.push_str(text.trim_end());
        }
        self.out.push('\n');
    }

    fn file(&mut self, file: &File) {
        let pieces: Vec<(Around, bool)> = {
            let mut end = 0usize;
            let mut pieces = Vec::new();
            for declaration in &file.declarations {
                let span = declaration.span();
                let first =
                    self.comments.get(self.next).filter(|c| c.start < span.start).map_or(span.start, |c| c.start);
                let apart = self.is_apart(end, first as usize);
                // A block looks after the comments inside it by itself.
                let head = if declaration.is_block() { Span { end: span.start + 1, ..span } } else { span };
                let mut around = self.around(head);
                if declaration.is_block() {
                    around.after = None;
                    while self.comments.get(self.next).is_some_and(|c| c.start < span.end) {
                        self.next += 1;
                    }
                    let rest = Span { start: span.end - 1, ..span };
                    around.after = self.around(rest).after;
                }
                pieces.push((around, apart));
                end = span.end as usize;
            }
            pieces
        };
        let tail_from = self.next;
        let mut at = 0;
        while at < file.declarations.len() {
            let run = self.run(&file.declarations[at..], &pieces[at..]);
            let lined_up = simple::lines(&file.declarations[at..at + run]);
            for (i, declaration) in file.declarations[at..at + run].iter().enumerate() {
                let (around, apart) = &pieces[at + i];
                let block = declaration.is_block() || (at + i > 0 && file.declarations[at + i - 1].is_block());
                if at + i > 0 && (*apart || block) {
                    self.out.push('\n');
                }
                around.before.clone().iter().for_each(|line| self.line(0, line));
                let after = around.after.as_ref().map_or(String::new(), |c| format!("  {c}"));
                match lined_up.get(i) {
                    Some(line) => flow::print(&mut self.out, 0, line, &after),
                    None => self.block(declaration, &after),
                }
            }
            at += run;
        }
        self.next = tail_from;
        self.tail(file.declarations.last().map_or(0, |d| d.span().end as usize));
    }

    /// How many simple declarations of one sort follow each other without a gap: they are lined up.
    fn run(&self, declarations: &[Declaration], pieces: &[(Around, bool)]) -> usize {
        let first = &declarations[0];
        if first.is_block() {
            return 1;
        }
        let same = |d: &Declaration| std::mem::discriminant(d) == std::mem::discriminant(first);
        let follows =
            |(d, (around, apart)): &(&Declaration, &(Around, bool))| same(d) && !apart && around.before.is_empty();
        1 + declarations[1..].iter().zip(&pieces[1..]).take_while(follows).count()
    }

    /// Comments after the last declaration.
    fn tail(&mut self, mut end: usize) {
        while let Some(comment) = self.comments.get(self.next).copied() {
            if !self.out.is_empty() && self.is_apart(end, comment.start as usize) {
                self.out.push('\n');
            }
            let text = self.source(comment).to_string();
            self.line(0, &text);
            end = comment.end as usize;
            self.next += 1;
        }
    }
}

impl Declaration {
    /// Whether it is written with braces.
    fn is_block(&self) -> bool {
        matches!(
            self,
            Declaration::Rule(_)
                | Declaration::Expect(_)
                | Declaration::Guarantee(_)
                | Declaration::Persona(_)
                | Declaration::Waive(_)
        )
    }
}

/// Names joined by commas.
pub(super) fn names(names: &[crate::tree::Name]) -> String {
    names.iter().map(|n| quote::name(&n.text)).collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests;
