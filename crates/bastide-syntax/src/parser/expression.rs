//! Expressions: `or` binds loosest, then `and`, then `not`, then one comparison.

use super::{DEEPEST, Failed, Parse, Parser, Wanted};
use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::lexer::{Symbol, TokenKind, inside, unquote};
use crate::tree::*;

impl Parser<'_> {
    pub(super) fn expression(&mut self) -> Parse<Expr> {
        self.chain("or", |p| p.chain("and", Self::negation, ExprBody::And), ExprBody::Or)
    }

    fn chain(
        &mut self,
        word: &'static str,
        inner: impl Fn(&mut Self) -> Parse<Expr>,
        join: impl Fn(Vec<Expr>) -> ExprBody,
    ) -> Parse<Expr> {
        let first = inner(self)?;
        if !self.is(word) {
            return Ok(first);
        }
        let start = first.span;
        let mut parts = vec![first];
        while self.take(word).is_some() {
            parts.push(inner(self)?);
        }
        Ok(Expr { body: join(parts), span: start.to(self.before()) })
    }

    /// Runs a nested part, counting how deep it lies.
    fn nested<T>(&mut self, inner: impl FnOnce(&mut Self) -> Parse<T>) -> Parse<T> {
        if self.depth == DEEPEST {
            let span = self.span();
            let message = format!("an expression nested deeper than {DEEPEST} levels");
            return Err(self.error(&codes::TOO_DEEP, span, message));
        }
        self.depth += 1;
        let result = inner(self);
        self.depth -= 1;
        result
    }

    fn negation(&mut self) -> Parse<Expr> {
        match self.take("not") {
            Some(start) => {
                let inner = self.nested(Self::negation)?;
                Ok(Expr { body: ExprBody::Not(Box::new(inner)), span: start.to(self.before()) })
            }
            None => self.comparison(),
        }
    }

    fn comparison(&mut self) -> Parse<Expr> {
        let start = self.span();
        let body = if self.take_symbol(Symbol::ParenOpen) {
            let inner = self.nested(Self::expression)?;
            self.expect_symbol(Symbol::ParenClose, ")")?;
            ExprBody::Group(Box::new(inner))
        } else if self.take("holds").is_some() {
            let action = self.name("an action")?;
            self.expect("on")?;
            ExprBody::Holds(Box::new((action, self.target(true)?)))
        } else if self.take("user").is_some() {
            self.about_user()?
        } else {
            self.relation()?
        };
        Ok(Expr { body, span: start.to(self.before()) })
    }

    fn about_user(&mut self) -> Parse<ExprBody> {
        if self.take("member").is_some() {
            self.expect("of")?;
            return Ok(ExprBody::MemberOf(self.name("a group id")?));
        }
        if self.take("is").is_some() {
            if self.take("owner").is_none() {
                return Err(self.unexpected("`owner`", &["owner"]));
            }
            return Ok(ExprBody::IsOwner);
        }
        Err(self.unexpected("`member of`, `is owner`, or an attribute as in `user.site`", &["member", "is"]))
    }

    fn relation(&mut self) -> Parse<ExprBody> {
        let left = self.operand()?;
        if self.take("is").is_some() {
            self.wants_words(&["set", "missing", "empty"]);
            let test = match self.word() {
                "set" => Test::Set,
                "missing" => Test::Missing,
                "empty" => Test::Empty,
                _ => return Err(self.unexpected("`set`, `missing` or `empty`", &["set", "missing", "empty"])),
            };
            self.advance();
            return Ok(ExprBody::Is(left, test));
        }
        if self.take("like").is_some() {
            return Ok(ExprBody::Like(left, Box::new(self.quoted("a pattern in quotes")?)));
        }
        self.wants_words(&["in", "overlaps", "covers"]);
        let set = match self.word() {
            "in" => Some(SetRelation::In),
            "overlaps" => Some(SetRelation::Overlaps),
            "covers" => Some(SetRelation::Covers),
            _ => None,
        };
        if let Some(relation) = set {
            self.advance();
            self.wants([Wanted::Sign("(")]);
            let right = if self.is_symbol(Symbol::ParenOpen) {
                SetOperand::Values(self.values()?)
            } else {
                SetOperand::Operand(self.operand()?)
            };
            return Ok(ExprBody::Sets(left, relation, Box::new(right)));
        }
        let Some(comparison) = self.comparison_sign() else {
            return Ok(ExprBody::Flag(left));
        };
        self.advance();
        let right = self.operand()?;
        if self.comparison_sign().is_some() {
            let span = self.span();
            self.report(
                Diagnostic::at(&codes::CHAINED, span, "comparisons do not chain")
                    .help("to compare with both, join two comparisons by `and`"),
            );
            return Err(Failed);
        }
        Ok(ExprBody::Compare(left, comparison, right))
    }

    fn comparison_sign(&self) -> Option<Comparison> {
        self.wants(["=", "!=", "<", "<=", ">", ">="].map(Wanted::Sign));
        match self.token().kind {
            TokenKind::Symbol(Symbol::Equal) => Some(Comparison::Equal),
            TokenKind::Symbol(Symbol::NotEqual) => Some(Comparison::NotEqual),
            TokenKind::Symbol(Symbol::Less) => Some(Comparison::Less),
            TokenKind::Symbol(Symbol::LessEqual) => Some(Comparison::LessEqual),
            TokenKind::Symbol(Symbol::Greater) => Some(Comparison::Greater),
            TokenKind::Symbol(Symbol::GreaterEqual) => Some(Comparison::GreaterEqual),
            _ => None,
        }
    }

    fn operand(&mut self) -> Parse<Operand> {
        let start = self.span();
        let body = if self.token().kind == TokenKind::Member {
            OperandBody::Member(Box::new(self.member()?))
        } else if self.take("today").is_some() {
            OperandBody::Today(self.offset()?)
        } else {
            OperandBody::Literal(Box::new(self.literal()?))
        };
        Ok(Operand { body, span: start.to(self.before()) })
    }

    fn offset(&mut self) -> Parse<Today> {
        let (sign, shown) = if self.take_symbol(Symbol::Plus) {
            (1, '+')
        } else if self.take_symbol(Symbol::Minus) {
            (-1, '-')
        } else {
            return Ok(Today { days: 0, raw: "today".to_string() });
        };
        let token = self.token();
        let count = (token.kind == TokenKind::Number).then(|| self.slice(token).parse::<i64>().ok()).flatten();
        // From any day of our age it stays within the calendar, which ends with the year 9999.
        let Some(count) = count.filter(|c| *c <= 400_000) else {
            return Err(self.unexpected("a whole number of days or weeks", &[]));
        };
        self.advance();
        self.wants_words(&["day", "days", "week", "weeks"]);
        let days = match self.word() {
            "day" | "days" => count,
            "week" | "weeks" => count * 7,
            _ => return Err(self.unexpected("`days` or `weeks`", &["day", "days", "week", "weeks"])),
        };
        let raw = format!("today {shown} {} {}", self.slice(token), self.word());
        self.advance();
        Ok(Today { days: sign * days, raw })
    }

    /// Cuts a member token into domain, step and attribute.
    fn member(&mut self) -> Parse<Member> {
        let token = self.advance();
        let (whole, from) = (self.slice(token).to_string(), token.span.start as usize);
        let mut parts: Vec<Name> = Vec::new();
        let mut at = 0;
        while at <= whole.len() {
            let rest = &whole[at..];
            let length = if rest.starts_with('"') { closing(rest) } else { rest.find('.').unwrap_or(rest.len()) };
            let piece = &rest[..length];
            let span = crate::Span::new(token.span.file, from + at, from + at + length);
            parts.push(Name { text: unquote(piece), span, quoted: piece.starts_with('"') });
            at += length + 1;
        }
        let domain = match parts[0].text.as_str() {
            "user" => Domain::User,
            "session" => Domain::Session,
            _ => Domain::Resource,
        };
        let most = if domain == Domain::Resource { 3 } else { 2 };
        if parts.len() > most {
            let message = format!("`{whole}` has too many parts");
            let diagnostic = Diagnostic::at(&codes::UNEXPECTED, token.span, message)
                .help("an attribute whose name holds a dot is quoted: `user.\"a.b\"`");
            self.report(diagnostic);
            return Err(Failed);
        }
        let attribute = parts.pop().expect("a member token has a part after its domain");
        let step = if parts.len() == 2 { parts.pop() } else { None };
        Ok(Member { raw: whole, domain, step, attribute })
    }

    pub(super) fn literal(&mut self) -> Parse<Literal> {
        self.wants([Wanted::Value]);
        let token = self.token();
        let written = self.slice(token).to_string();
        let body = match token.kind {
            TokenKind::Text => {
                LiteralBody::Text(Text { text: unquote(&written), raw: inside(&written).to_string(), span: token.span })
            }
            TokenKind::Number => LiteralBody::Number(written),
            TokenKind::Date => LiteralBody::Date(written),
            TokenKind::Symbol(Symbol::Minus) if self.ahead().kind == TokenKind::Number => {
                self.advance();
                LiteralBody::Number(format!("-{}", self.slice(self.token())))
            }
            TokenKind::Word if written.starts_with("today-") => {
                let message = format!("expected a value, found `{written}`");
                let diagnostic = Diagnostic::at(&codes::UNEXPECTED, token.span, message)
                    .help("to count from today, put blanks around the sign: `today - 2 days`");
                self.report(diagnostic);
                return Err(Failed);
            }
            TokenKind::Word if self.is_name() => LiteralBody::Word(written),
            _ => return Err(self.unexpected("an attribute or a value", &["holds", "not", "today", "user"])),
        };
        self.advance();
        Ok(Literal { body, span: token.span.to(self.before()) })
    }

    /// One literal, or a list of them in parentheses.
    pub(super) fn values(&mut self) -> Parse<Values> {
        let start = self.span();
        let list = self.take_symbol(Symbol::ParenOpen);
        let mut literals = vec![self.literal()?];
        if list {
            while self.take_symbol(Symbol::Comma) {
                literals.push(self.literal()?);
            }
            self.expect_symbol(Symbol::ParenClose, ")")?;
        }
        Ok(Values { literals, list, span: start.to(self.before()) })
    }
}

/// The length of the quoted text that starts here.
fn closing(text: &str) -> usize {
    let mut escaped = false;
    for (i, c) in text.char_indices().skip(1) {
        match c {
            _ if escaped => escaped = false,
            '\\' => escaped = true,
            '"' => return i + 1,
            _ => {}
        }
    }
    text.len()
}
