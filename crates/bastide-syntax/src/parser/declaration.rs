//! Declarations, and where to go on after a mistake.

use super::{Failed, Parse, Parser, Wanted};
use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::lexer::{Symbol, TokenKind};
use crate::source::Span;
use crate::tree::*;

/// The words that declarations begin with.
pub const DECLARATIONS: [&str; 13] = [
    "kind",
    "action",
    "type",
    "attribute",
    "role",
    "group",
    "rule",
    "apart",
    "alike",
    "persona",
    "waive",
    "expect",
    "guarantee",
];

impl Parser<'_> {
    pub(super) fn declarations(&mut self) -> (Vec<Declaration>, Vec<Unread>) {
        let (mut declarations, mut unread) = (Vec::new(), Vec::new());
        self.wants_words(&DECLARATIONS);
        while self.token().kind != TokenKind::End {
            let (start, word) = (self.span(), self.slice(self.token()).to_string());
            match self.declaration() {
                Ok(declaration) => {
                    declarations.push(declaration);
                    self.wants_words(&DECLARATIONS);
                }
                Err(Failed) => {
                    self.skip_to_declaration();
                    unread.push(Unread { word, span: start.to(self.span()) });
                }
            }
        }
        (declarations, unread)
    }

    /// Whether a declaration seems to begin here: its keyword is the first word of its line.
    pub(super) fn at_declaration(&self) -> bool {
        self.token().first_on_line && DECLARATIONS.contains(&self.word())
    }

    fn skip_to_declaration(&mut self) {
        if !self.at_declaration() {
            self.advance();
        }
        while self.token().kind != TokenKind::End && !self.at_declaration() {
            self.advance();
        }
        self.close();
    }

    fn declaration(&mut self) -> Parse<Declaration> {
        let start = self.span();
        let keyword = self.word().to_string();
        let parse: fn(&mut Self, Span) -> Parse<Declaration> = match keyword.as_str() {
            "kind" => Self::kind,
            "action" => Self::action,
            "type" => Self::named_type,
            "attribute" => Self::attribute,
            "role" => Self::role,
            "group" => Self::group,
            "rule" => Self::rule,
            "apart" => Self::apart,
            "alike" => Self::alike,
            "persona" => Self::persona,
            "waive" => Self::waiver,
            "expect" => Self::expectation,
            "guarantee" => Self::guarantee,
            _ => {
                let expected = format!("a declaration ({})", DECLARATIONS.map(|d| format!("`{d}`")).join(", "));
                return Err(self.unexpected(&expected, &DECLARATIONS));
            }
        };
        self.advance();
        parse(self, start)
    }

    fn kind(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the kind")?;
        let containers = if self.take("in").is_some() { self.names("a kind")? } else { Vec::new() };
        let base = if self.take("is").is_some() { Some(self.name("a kind")?) } else { None };
        Ok(Declaration::Kind(Kind { name, containers, base, span: start.to(self.before()) }))
    }

    fn action(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the action")?;
        let on = if self.take("on").is_some() { self.names("a kind")? } else { Vec::new() };
        let mut needs = Vec::new();
        if self.take("needs").is_some() {
            loop {
                let action = self.name("an action")?;
                let target = if self.take("on").is_some() { Some(self.target(false)?) } else { None };
                needs.push(Need { action, target });
                if !self.take_symbol(Symbol::Comma) {
                    break;
                }
            }
        }
        Ok(Declaration::Action(Action { name, on, needs, span: start.to(self.before()) }))
    }

    /// `self`, `parent`, `source`, a kind; a path too where `holds` asks.
    pub(super) fn target(&mut self, path: bool) -> Parse<Target> {
        if let Some(span) = self.take("self") {
            return Ok(Target::Own(span));
        }
        if let Some(span) = self.take("parent") {
            return Ok(Target::Parent(span));
        }
        if let Some(span) = self.take("source") {
            return Ok(Target::Source(span));
        }
        if path {
            self.wants([Wanted::Name("a path in quotes")]);
        }
        if path && self.token().kind == TokenKind::Text {
            return Ok(Target::Path(self.quoted("a path")?));
        }
        Ok(Target::Kind(self.name("`self`, `parent`, `source` or a kind")?))
    }

    fn named_type(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the type")?;
        self.expect_symbol(Symbol::Equal, "=")?;
        self.wants_words(&["choice", "scale"]);
        let scale = match self.word() {
            "choice" => false,
            "scale" => true,
            _ => return Err(self.unexpected("`choice` or `scale`", &["choice", "scale"])),
        };
        self.advance();
        let (joint, other, shown) =
            if scale { (Symbol::Less, Symbol::Comma, "<") } else { (Symbol::Comma, Symbol::Less, ",") };
        let mut values = vec![self.name("a value")?];
        while self.take_symbol(joint) {
            values.push(self.name("a value")?);
        }
        if self.is_symbol(other) {
            let form = if scale { "a scale" } else { "a choice" };
            return Err(self.unexpected(&format!("`{shown}` between the values of {form}"), &[]));
        }
        Ok(Declaration::Type(Type { name, scale, values, span: start.to(self.before()) }))
    }

    fn attribute(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the attribute")?;
        self.expect("of")?;
        let mut domains = vec![self.domain()?];
        while self.take_symbol(Symbol::Comma) {
            domains.push(self.domain()?);
        }
        self.expect_symbol(Symbol::Colon, ":")?;
        let set = self.is("set") && self.word_at(self.ahead()) == "of";
        if set {
            self.advance();
            self.advance();
        }
        let value_type = self.name("a type")?;
        let default = if self.take("default").is_some() { Some(self.literal()?) } else { None };
        let (mut inherit, mut highest, mut required, mut caseless) = (None, None, None, None);
        loop {
            self.wants_words(&["inherit", "highest", "required", "caseless"]);
            let slot = match self.word() {
                "inherit" => &mut inherit,
                "highest" => &mut highest,
                "required" => &mut required,
                "caseless" => &mut caseless,
                _ => break,
            };
            *slot = Some(self.tokens[self.at].span);
            self.advance();
        }
        let span = start.to(self.before());
        if let (Some(a), Some(b)) = (inherit, highest) {
            let message = "an attribute travels by `inherit` or by `highest`, not by both";
            self.report(Diagnostic::at(&codes::CONTRADICTORY, a.to(b), message));
        }
        Ok(Declaration::Attribute(Attribute {
            name,
            domains,
            set,
            value_type,
            default,
            inherit,
            highest,
            required,
            caseless,
            span,
        }))
    }

    fn domain(&mut self) -> Parse<Name> {
        let token = self.token();
        self.wants_words(&["user", "resource", "session"]);
        if matches!(self.word(), "user" | "resource" | "session") {
            self.advance();
            return Ok(Name { text: self.slice(token).to_string(), span: token.span, quoted: false });
        }
        self.name("`user`, `resource`, `session` or a kind")
    }

    fn role(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the role")?;
        self.expect_symbol(Symbol::Equal, "=")?;
        let items = self.items()?;
        let locked = self.take("locked");
        let off = self.take("off");
        if off.is_some() && locked.is_none() && self.is("locked") {
            return Err(self.unexpected("`locked` before `off`", &[]));
        }
        Ok(Declaration::Role(Role { name, items, locked, off, span: start.to(self.before()) }))
    }

    pub(super) fn items(&mut self) -> Parse<Items> {
        if let Some(span) = self.take("everything") {
            return Ok(Items::Everything(span));
        }
        Ok(Items::Names(self.names("an action or a role, or `everything`")?))
    }

    fn group(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the group")?;
        self.expect_symbol(Symbol::Equal, "=")?;
        let body = if self.is("holders") && self.word_at(self.ahead()) == "of" {
            self.advance();
            self.advance();
            let action = self.name("an action")?;
            self.expect("on")?;
            GroupBody::Holders(action, self.place()?)
        } else {
            GroupBody::Who(self.who()?)
        };
        Ok(Declaration::Group(Group { name, body, span: start.to(self.before()) }))
    }

    fn apart(&mut self, start: Span) -> Parse<Declaration> {
        let actions = self.two_or_more("apart")?;
        let on = if self.take("on").is_some() { self.names("a kind")? } else { Vec::new() };
        Ok(Declaration::Apart(Apart { actions, on, span: start.to(self.before()) }))
    }

    fn alike(&mut self, start: Span) -> Parse<Declaration> {
        let actions = self.two_or_more("alike")?;
        Ok(Declaration::Alike(Alike { actions, span: start.to(self.before()) }))
    }

    fn two_or_more(&mut self, keyword: &'static str) -> Parse<Vec<Name>> {
        let actions = self.names("an action")?;
        if let [only] = actions.as_slice() {
            let message = format!("`{keyword}` names at least two actions");
            self.report(Diagnostic::at(&codes::CONTRADICTORY, only.span, message));
        }
        Ok(actions)
    }
}
