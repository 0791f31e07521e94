//! Tokens to tree, by recursive descent with two tokens of look-ahead.
//!
//! A mistake is reported at its place and parsing goes on at the next clause or declaration that
//! begins a line, so that one run reports every mistake. The tree of a file with errors holds what
//! could be read of it; nothing is evaluated from it.

mod body;
mod declaration;
mod expression;
#[cfg(test)]
mod tests;

pub use declaration::DECLARATIONS;

use crate::codes;
use crate::codes::Code;
use crate::diagnostic::{Diagnostic, Diagnostics};
use crate::lexer::{Symbol, Token, TokenKind, inside, tokens, unquote};
use crate::nearest::nearest;
use crate::quote::is_reserved;
use crate::source::{FileId, Span};
use crate::tree::{DateText, File, Name, Place, Text};
use std::cell::RefCell;

/// An expression nested deeper than this is an error.
pub const DEEPEST: usize = 200;

/// What a file came to.
pub struct Parsed {
    /// The tree, as far as it could be read.
    pub tree: File,
    /// Every mistake.
    pub diagnostics: Vec<Diagnostic>,
}

/// What could stand at the end of a text that goes on.
#[derive(Clone, Copy, PartialEq, Eq, Hash, Debug)]
pub enum Wanted {
    /// A word of the language.
    Word(&'static str),
    /// A sign.
    Sign(&'static str),
    /// A name or a text, by what a message calls it.
    Name(&'static str),
    /// A literal or an attribute, to compare or be compared.
    Value,
}

/// What the grammar allows at the end of a text, so that it can be offered; nothing where the text before it has a mistake
/// that reaches so far. Cost: linear in the text.
pub fn wanted(text: &str) -> Vec<Wanted> {
    let lexed = tokens(FileId(0), text);
    let (diagnostics, comments) = (lexed.diagnostics, lexed.comments);
    let mut parser =
        Parser { text, tokens: lexed.tokens, at: 0, depth: 0, diagnostics, comments, wants: Some(RefCell::default()) };
    parser.declarations();
    parser.wants.map(|wants| wants.into_inner().found).unwrap_or_default()
}

/// Reads a policy file. Cost: linear in the text.
pub fn parse(file: FileId, text: &str) -> Parsed {
    let lexed = tokens(file, text);
    let mut parser = Parser {
        text,
        tokens: lexed.tokens,
        at: 0,
        depth: 0,
        diagnostics: lexed.diagnostics,
        comments: lexed.comments,
        wants: None,
    };
    let (declarations, unread) = parser.declarations();
    let Parser { diagnostics, comments, .. } = parser;
    Parsed { tree: File { file, declarations, comments, unread }, diagnostics: diagnostics.finish() }
}

/// A sign that may go on where another thing may too, as it is offered.
fn sign(symbol: Symbol) -> Option<&'static str> {
    match symbol {
        Symbol::Comma => Some(","),
        Symbol::BraceClose => Some("}"),
        Symbol::ParenOpen => Some("("),
        _ => None,
    }
}

/// What was asked for where a text ends.
#[derive(Default)]
struct Wants {
    found: Vec<Wanted>,
    /// Whether all of it is known.
    closed: bool,
}

/// Something was reported; the caller goes to the next place where it can go on.
struct Failed;
type Parse<T> = Result<T, Failed>;

struct Parser<'t> {
    text: &'t str,
    tokens: Vec<Token>,
    at: usize,
    depth: usize,
    diagnostics: Diagnostics,
    comments: Vec<Span>,
    /// What was asked for where the text ends, while that is noted.
    wants: Option<RefCell<Wants>>,
}

impl Parser<'_> {
    fn token(&self) -> Token {
        self.tokens[self.at]
    }

    fn ahead(&self) -> Token {
        self.tokens[(self.at + 1).min(self.tokens.len() - 1)]
    }

    fn span(&self) -> Span {
        self.token().span
    }

    /// The span of the token before this one.
    fn before(&self) -> Span {
        self.tokens[self.at.saturating_sub(1)].span
    }

    fn slice(&self, token: Token) -> &str {
        &self.text[token.span.range()]
    }

    fn advance(&mut self) -> Token {
        let token = self.token();
        if token.kind != TokenKind::End {
            self.at += 1;
        }
        token
    }

    fn word_at(&self, token: Token) -> &str {
        if token.kind == TokenKind::Word { self.slice(token) } else { "" }
    }

    /// The word that stands here, or nothing.
    fn word(&self) -> &str {
        self.word_at(self.token())
    }

    /// Notes what is asked for, where the text ends.
    fn wants(&self, all: impl IntoIterator<Item = Wanted>) {
        if let Some(wants) = self.wants.as_ref().filter(|_| self.token().kind == TokenKind::End) {
            let Wants { found, closed } = &mut *wants.borrow_mut();
            all.into_iter().for_each(|one| {
                if !*closed && !found.contains(&one) {
                    found.push(one);
                }
            });
        }
    }

    /// At the end, what is asked for from here on is asked where reading would have gone on after a mistake.
    fn close(&self) {
        if let (Some(wants), TokenKind::End) = (&self.wants, self.token().kind) {
            wants.borrow_mut().closed = true;
        }
    }

    fn wants_words(&self, words: &[&'static str]) {
        self.wants(words.iter().copied().map(Wanted::Word));
    }

    fn is(&self, word: &'static str) -> bool {
        self.wants([Wanted::Word(word)]);
        self.word() == word
    }

    fn take(&mut self, word: &'static str) -> Option<Span> {
        self.is(word).then(|| self.advance().span)
    }

    fn is_symbol(&self, symbol: Symbol) -> bool {
        self.token().kind == TokenKind::Symbol(symbol)
    }

    fn take_symbol(&mut self, symbol: Symbol) -> bool {
        self.wants(sign(symbol).map(Wanted::Sign));
        let found = self.is_symbol(symbol);
        if found {
            self.advance();
        }
        found
    }

    fn report(&mut self, diagnostic: Diagnostic) {
        self.diagnostics.push(diagnostic);
    }

    fn error(&mut self, code: &'static Code, span: Span, message: String) -> Failed {
        self.report(Diagnostic::at(code, span, message));
        Failed
    }

    /// "expected X, found Y", at the token that stands here; silent where the lexer has spoken.
    fn unexpected(&mut self, expected: &str, known: &[&str]) -> Failed {
        let token = self.token();
        self.close();
        let found = match token.kind {
            TokenKind::Bad => return Failed,
            TokenKind::End => "the end of the file".to_string(),
            _ => format!("`{}`", self.slice(token)),
        };
        let near = nearest(self.word(), known.iter().copied());
        let mut diagnostic =
            Diagnostic::at(&codes::UNEXPECTED, token.span, format!("expected {expected}, found {found}"));
        if let Some(near) = near {
            diagnostic.helps.push(crate::Help {
                text: format!("did you mean `{near}`?"),
                edit: Some(crate::Edit { span: token.span, replacement: near.to_string() }),
            });
        }
        self.report(diagnostic);
        Failed
    }

    fn expect(&mut self, word: &'static str) -> Parse<Span> {
        match self.take(word) {
            Some(span) => Ok(span),
            None => Err(self.unexpected(&format!("`{word}`"), &[word])),
        }
    }

    fn expect_symbol(&mut self, symbol: Symbol, shown: &'static str) -> Parse<Span> {
        self.wants([Wanted::Sign(shown)]);
        if self.is_symbol(symbol) { Ok(self.advance().span) } else { Err(self.unexpected(&format!("`{shown}`"), &[])) }
    }

    fn is_name(&self) -> bool {
        match self.token().kind {
            TokenKind::Text => true,
            TokenKind::Word => !is_reserved(self.word()),
            _ => false,
        }
    }

    /// A name: a bare word that is not reserved, or a quoted text.
    fn name(&mut self, what: &'static str) -> Parse<Name> {
        self.wants([Wanted::Name(what)]);
        let token = self.token();
        if self.is_name() {
            self.advance();
            let quoted = token.kind == TokenKind::Text;
            let text = unquote(self.slice(token));
            if text.is_empty() {
                return Err(self.error(
                    &codes::UNEXPECTED,
                    token.span,
                    format!("expected {what}, found an empty name"),
                ));
            }
            return Ok(Name { text, span: token.span, quoted });
        }
        let reserved = match token.kind {
            TokenKind::Word | TokenKind::Member => Some(self.slice(token).to_string()),
            _ => None,
        };
        if let Some(word) = reserved {
            let message = format!("expected {what}, found the reserved word `{word}`");
            let quoted = format!("\"{word}\"");
            let mut diagnostic = Diagnostic::at(&codes::UNEXPECTED, token.span, message);
            diagnostic.helps.push(crate::Help {
                text: format!("to use it as a name, quote it: `{quoted}`"),
                edit: Some(crate::Edit { span: token.span, replacement: quoted }),
            });
            self.report(diagnostic);
            return Err(Failed);
        }
        Err(self.unexpected(what, &[]))
    }

    /// Names joined by commas.
    fn names(&mut self, what: &'static str) -> Parse<Vec<Name>> {
        let mut names = vec![self.name(what)?];
        while self.take_symbol(Symbol::Comma) {
            names.push(self.name(what)?);
        }
        Ok(names)
    }

    fn quoted(&mut self, what: &'static str) -> Parse<Text> {
        self.wants([Wanted::Name(what)]);
        let token = self.token();
        if token.kind != TokenKind::Text {
            return Err(self.unexpected(what, &[]));
        }
        self.advance();
        let raw = self.slice(token);
        Ok(Text { text: unquote(raw), raw: inside(raw).to_string(), span: token.span })
    }

    fn place(&mut self) -> Parse<Place> {
        if self.take("id").is_some() {
            return Ok(Place::Id(self.quoted("an id in quotes")?));
        }
        self.wants([Wanted::Name("a path in quotes")]);
        if self.token().kind != TokenKind::Text {
            return Err(self.unexpected("a place: a path in quotes, or `id` and an id in quotes", &["id"]));
        }
        Ok(Place::Path(self.quoted("a path in quotes")?))
    }

    fn places(&mut self) -> Parse<Vec<Place>> {
        let mut places = vec![self.place()?];
        while self.take_symbol(Symbol::Comma) {
            places.push(self.place()?);
        }
        Ok(places)
    }

    fn date(&mut self) -> Parse<DateText> {
        if self.token().kind == TokenKind::Date {
            let token = self.advance();
            return Ok(DateText { text: self.slice(token).to_string(), span: token.span });
        }
        Err(self.unexpected("a date such as `2027-06-30`", &[]))
    }
}
