//! Text to tokens. Never fails: what is no token becomes a [`TokenKind::Bad`] with a diagnostic.
//! Comments are kept aside, so that a formatter can put them back.

use crate::codes;
use crate::diagnostic::{Diagnostic, Diagnostics};
use crate::source::{FileId, Span};

/// What a token is. The text itself is cut from the file by the span.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum TokenKind {
    /// A bare word: a keyword or a name, told apart by where it stands.
    Word,
    /// `user.site`, `resource.parent.state`: one token without blanks.
    Member,
    /// A quoted text, quotes included.
    Text,
    /// Digits, with a fraction or without.
    Number,
    /// `2027-06-30`.
    Date,
    /// Punctuation or an operator.
    Symbol(Symbol),
    /// Something that is no token; reported already.
    Bad,
    /// The end of the file.
    End,
}

/// Punctuation and operators.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Symbol {
    /// `{`
    BraceOpen,
    /// `}`
    BraceClose,
    /// `(`
    ParenOpen,
    /// `)`
    ParenClose,
    /// `,`
    Comma,
    /// `:`
    Colon,
    /// `+`
    Plus,
    /// `-`
    Minus,
    /// `=`
    Equal,
    /// `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    LessEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterEqual,
}

/// A token and where it is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Token {
    /// What it is.
    pub kind: TokenKind,
    /// Where it is.
    pub span: Span,
    /// Whether nothing but white space stands before it on its line.
    pub first_on_line: bool,
}

/// The tokens of a file, ending in [`TokenKind::End`], and its comments.
pub struct Tokens {
    /// In the order of the text.
    pub tokens: Vec<Token>,
    /// Spans of comments, `#` included, line end not.
    pub comments: Vec<Span>,
    /// What could not be read.
    pub diagnostics: Diagnostics,
}

/// Cuts a text into tokens.
pub fn tokens(file: FileId, text: &str) -> Tokens {
    let mut lexer = Lexer {
        file,
        text,
        at: if text.starts_with('\u{feff}') { 3 } else { 0 },
        fresh: true,
        out: Tokens { tokens: Vec::new(), comments: Vec::new(), diagnostics: Diagnostics::new() },
    };
    lexer.run();
    let hidden = crate::hidden::check(file, text, &lexer.out.comments);
    // It is told once, and not as something without a meaning, too.
    if !hidden.is_empty() {
        lexer.out.diagnostics.retain(|d| !hidden.iter().any(|h| h.place == d.place));
    }
    lexer.out.diagnostics.extend(hidden);
    lexer.out
}

struct Lexer<'t> {
    file: FileId,
    text: &'t str,
    at: usize,
    fresh: bool,
    out: Tokens,
}

fn is_word(c: char) -> bool {
    c.is_alphanumeric() || matches!(c, '_' | '-' | '.')
}

impl Lexer<'_> {
    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn push(&mut self, kind: TokenKind, start: usize) {
        let span = Span::new(self.file, start, self.at);
        self.out.tokens.push(Token { kind, span, first_on_line: self.fresh });
        self.fresh = false;
    }

    fn bad(&mut self, start: usize, message: &str, help: &str) {
        self.push(TokenKind::Bad, start);
        let span = Span::new(self.file, start, self.at);
        self.out.diagnostics.push(Diagnostic::at(&codes::BAD_TOKEN, span, message).help(help));
    }

    fn run(&mut self) {
        while let Some(c) = self.rest().chars().next() {
            let start = self.at;
            match c {
                '\n' => {
                    self.fresh = true;
                    self.at += 1;
                }
                c if c.is_whitespace() => self.at += c.len_utf8(),
                '#' => {
                    self.at += self.rest().find('\n').unwrap_or(self.rest().len());
                    let end = start + self.text[start..self.at].trim_end().len();
                    self.out.comments.push(Span::new(self.file, start, end));
                }
                '"' => self.quoted(start),
                c if c.is_ascii_digit() => self.number(start),
                c if c.is_alphabetic() => self.word(start),
                _ => self.symbol(start, c),
            }
        }
        self.push(TokenKind::End, self.at);
    }

    /// Moves past a quoted text that starts at `self.at`; false where it is not closed on its line.
    fn skip_quoted(&mut self) -> bool {
        let mut escaped = false;
        for (i, c) in self.rest().char_indices().skip(1) {
            match c {
                '\n' => {
                    let line = self.rest()[..i].trim_end().len();
                    self.at += line;
                    return false;
                }
                _ if escaped => escaped = false,
                '\\' => escaped = true,
                '"' => {
                    self.at += i + 1;
                    return true;
                }
                _ => {}
            }
        }
        self.at = self.text.len();
        false
    }

    fn quoted(&mut self, start: usize) {
        if self.skip_quoted() {
            self.push(TokenKind::Text, start);
        } else {
            self.push(TokenKind::Bad, start);
            let span = Span::new(self.file, start, self.at);
            self.out.diagnostics.push(
                Diagnostic::at(&codes::OPEN_TEXT, span, "a text that is not closed on its line")
                    .label("begins here")
                    .help("to end the text, write `\"` after its last letter; `\\\"` is a quote inside a text"),
            );
        }
    }

    fn number(&mut self, start: usize) {
        let run = self.rest().find(|c| !is_word(c)).unwrap_or(self.rest().len());
        let run = &self.text[start..start + run];
        let shape: String = run.chars().map(|c| if c.is_ascii_digit() { '9' } else { c }).collect();
        let run = run.trim_end_matches(['.', '-']);
        self.at = start + run.len();
        if shape == "9999-99-99" {
            self.push(TokenKind::Date, start);
        } else if run.bytes().all(|b| b.is_ascii_digit() || b == b'.') && run.matches('.').count() <= 1 {
            self.push(TokenKind::Number, start);
        } else if run.bytes().all(|b| b.is_ascii_digit() || b == b'-') {
            self.bad(
                start,
                &format!("`{run}` is neither a number nor a date"),
                "a date is written as year, month and day: `2027-06-30`",
            );
        } else {
            let quoted = crate::quote::text(run);
            self.bad(
                start,
                &format!("`{run}` is no name: a bare name starts with a letter"),
                &format!("to use it as a name, quote it: `{quoted}`"),
            );
        }
    }

    fn word(&mut self, start: usize) {
        for domain in ["user.", "resource.", "session."] {
            let next = self.rest().strip_prefix(domain).and_then(|rest| rest.chars().next());
            if next.is_some_and(|c| c.is_alphabetic() || c == '"') {
                self.at += domain.len();
                return self.member(start);
            }
        }
        let run = self.rest().find(|c| !is_word(c)).unwrap_or(self.rest().len());
        let word = self.text[start..start + run].trim_end_matches(['.', '-']);
        self.at = start + word.len();
        self.push(TokenKind::Word, start);
    }

    /// The parts after `user.`, `resource.` or `session.`; how many may stand there is the parser's matter.
    fn member(&mut self, start: usize) {
        loop {
            if self.rest().starts_with('"') {
                let text = self.at;
                if !self.skip_quoted() {
                    return self.quoted_member_open(start, text);
                }
            } else {
                let is_part = |c: char| c.is_alphanumeric() || matches!(c, '_' | '-');
                let run = self.rest().find(|c| !is_part(c)).unwrap_or(self.rest().len());
                let part = self.rest()[..run].trim_end_matches('-').len();
                self.at += part;
            }
            let next = self.rest().strip_prefix('.').and_then(|rest| rest.chars().next());
            if !next.is_some_and(|c| c.is_alphabetic() || c == '"') {
                return self.push(TokenKind::Member, start);
            }
            self.at += 1;
        }
    }

    fn quoted_member_open(&mut self, start: usize, text: usize) {
        self.push(TokenKind::Bad, start);
        let span = Span::new(self.file, text, self.at);
        self.out.diagnostics.push(Diagnostic::at(&codes::OPEN_TEXT, span, "a text that is not closed on its line"));
    }

    fn symbol(&mut self, start: usize, c: char) {
        use Symbol::*;
        let two = self.text[self.at..].get(..2).unwrap_or("");
        let doubled = matches!(two, "&&" | "||");
        let (symbol, length) = match (two, c) {
            ("!=", _) => (NotEqual, 2),
            ("<=", _) => (LessEqual, 2),
            (">=", _) => (GreaterEqual, 2),
            ("==", _) => {
                self.at += 2;
                return self.bad(start, "`==` is no operator", "equality is written with one sign: `=`");
            }
            (_, '{') => (BraceOpen, 1),
            (_, '}') => (BraceClose, 1),
            (_, '(') => (ParenOpen, 1),
            (_, ')') => (ParenClose, 1),
            (_, ',') => (Comma, 1),
            (_, ':') => (Colon, 1),
            (_, '+') => (Plus, 1),
            (_, '-') => (Minus, 1),
            (_, '=') => (Equal, 1),
            (_, '<') => (Less, 1),
            (_, '>') => (Greater, 1),
            _ => {
                self.at += c.len_utf8();
                // `&&` and `||` are one mistake, not two.
                if doubled {
                    self.at += 1;
                }
                let shown: String =
                    if c.is_control() { c.escape_debug().collect() } else { self.text[start..self.at].into() };
                let help = match c {
                    '\'' | '“' | '”' | '„' | '«' | '»' => "a text is quoted by straight double quotes: `\"`",
                    ';' => "nothing ends a clause; the next one simply begins",
                    '&' => "both must hold: `and`",
                    '|' => "either may hold: `or`",
                    '!' => "the opposite is `not`, unequal is `!=`",
                    _ => "names with such characters are quoted: `\"...\"`",
                };
                return self.bad(start, &format!("`{shown}` has no meaning here"), help);
            }
        };
        self.at += length;
        self.push(TokenKind::Symbol(symbol), start);
    }
}

/// What a quoted token stands for: quotes off, `\c` is the character c.
pub fn unquote(token: &str) -> String {
    let inner = token.strip_prefix('"').unwrap_or(token);
    let inner = if token.starts_with('"') { inner.strip_suffix('"').unwrap_or(inner) } else { inner };
    if !token.starts_with('"') || !inner.contains('\\') {
        return inner.to_string();
    }
    let mut out = String::with_capacity(inner.len());
    let mut chars = inner.chars();
    while let Some(c) = chars.next() {
        out.push(if c == '\\' { chars.next().unwrap_or('\\') } else { c });
    }
    out
}

/// The inside of a quoted token with its backslashes left in, for patterns and paths.
pub fn inside(token: &str) -> &str {
    token.strip_prefix('"').and_then(|t| t.strip_suffix('"')).unwrap_or(token)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn lexes(text: &str, expected: &[(TokenKind, &str)]) {
        let out = tokens(FileId(0), text);
        let seen: Vec<(TokenKind, &str)> =
            out.tokens.iter().map(|t| (t.kind, &text[t.span.range()])).filter(|t| t.0 != TokenKind::End).collect();
        assert_eq!(seen, expected);
    }

    #[test]
    fn words_members_and_numbers() {
        use super::Symbol::{Equal, Minus};
        use TokenKind::{Bad, Date, Member, Number, Text, Word};
        lexes("tl-014 ines.varga", &[(Word, "tl-014"), (Word, "ines.varga")]);
        lexes("user.site=harbour", &[(Member, "user.site"), (TokenKind::Symbol(Equal), "="), (Word, "harbour")]);
        lexes("resource.\"5th kind\".state", &[(Member, "resource.\"5th kind\".state")]);
        lexes("today - 2 days", &[(Word, "today"), (TokenKind::Symbol(Minus), "-"), (Number, "2"), (Word, "days")]);
        lexes("2.50 2027-06-30", &[(Number, "2.50"), (Date, "2027-06-30")]);
        lexes(
            "name. # not a name\nnext-",
            &[(Word, "name"), (Bad, "."), (Word, "next"), (TokenKind::Symbol(Minus), "-")],
        );
        lexes("\"a \\\" b\" user", &[(Text, "\"a \\\" b\""), (Word, "user")]);
    }

    #[test]
    fn what_is_no_token_is_reported_and_passed() {
        for (text, code) in
            [("\"open\nnext", &codes::OPEN_TEXT), ("a == b", &codes::BAD_TOKEN), ("5th", &codes::BAD_TOKEN)]
        {
            let out = tokens(FileId(0), text);
            assert_eq!(out.diagnostics.len(), 1, "{text}");
            assert_eq!(out.diagnostics[0].code.name, code.name, "{text}");
        }
    }

    #[test]
    fn unquoting_takes_every_escape() {
        assert_eq!(unquote(r#""a\"b\\c\d""#), "a\"b\\cd");
        assert_eq!(unquote("bare"), "bare");
    }
}
