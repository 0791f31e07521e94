//! What stands in braces: rules, expectations and guarantees, with the who- and what-clauses.

use super::{Failed, Parse, Parser, Wanted};
use crate::codes;
use crate::diagnostic::Diagnostic;
use crate::lexer::{Symbol, TokenKind};
use crate::source::Span;
use crate::tree::*;

const RULE: [&str; 8] = ["because", "layer", "who", "may", "what", "while", "from", "until"];
const EXPECT: [&str; 7] = ["because", "user", "on", "session", "can", "cannot", "reaches"];
const PERSONA: [&str; 3] = ["because", "member", "has"];
const WAIVE: [&str; 3] = ["because", "of", "until"];
const GUARANTEE: [&str; 5] = ["because", "only", "none", "can", "what"];

impl Parser<'_> {
    /// `{ clauses }`. A clause with a mistake is left out and the next one that begins a line goes on.
    fn clauses<T>(
        &mut self,
        known: &[&'static str],
        mut clause: impl FnMut(&mut Self) -> Parse<T>,
    ) -> Parse<(Vec<T>, bool)> {
        self.expect_symbol(Symbol::BraceOpen, "{")?;
        let mut clauses = Vec::new();
        let mut whole = true;
        loop {
            if self.take_symbol(Symbol::BraceClose) {
                return Ok((clauses, whole));
            }
            self.wants_words(known);
            if self.token().kind == TokenKind::End || self.at_declaration() {
                if whole {
                    return Err(self.unexpected("`}`", &[]));
                }
                return Ok((clauses, whole));
            }
            let parsed = if known.contains(&self.word()) {
                clause(self)
            } else {
                let expected = known.iter().map(|k| format!("`{k}`")).collect::<Vec<_>>().join(", ");
                Err(self.unexpected(&format!("a clause ({expected}) or `}}`"), known))
            };
            match parsed {
                Ok(clause) => clauses.push(clause),
                Err(Failed) => {
                    whole = false;
                    self.skip_to_clause(known);
                }
            }
        }
    }

    fn skip_to_clause(&mut self, known: &[&str]) {
        if !self.is_symbol(Symbol::BraceClose) && !self.at_declaration() {
            self.advance();
        }
        loop {
            let token = self.token();
            let next = token.first_on_line && known.contains(&self.word());
            self.close();
            if next || token.kind == TokenKind::End || self.is_symbol(Symbol::BraceClose) || self.at_declaration() {
                return;
            }
            self.advance();
        }
    }

    pub(super) fn rule(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the rule")?;
        let off = self.take("off");
        let (clauses, whole) = self.clauses(&RULE, Self::clause)?;
        self.check_clauses(&name, &clauses, whole);
        Ok(Declaration::Rule(Rule { name, off, clauses, span: start.to(self.before()) }))
    }

    /// Exactly one `who`, `may` and `what`; every other clause at most once.
    fn check_clauses(&mut self, name: &Name, clauses: &[Clause], whole: bool) {
        let keyword = |clause: &Clause| match clause.body {
            ClauseBody::Because(_) => "because",
            ClauseBody::Layer(_) => "layer",
            ClauseBody::Who(_) => "who",
            ClauseBody::May(..) => "may",
            ClauseBody::What(_) => "what",
            ClauseBody::While(_) => "while",
            ClauseBody::From(_) => "from",
            ClauseBody::Until(_) => "until",
        };
        for (i, clause) in clauses.iter().enumerate() {
            let word = keyword(clause);
            if let Some(first) = clauses[..i].iter().find(|c| keyword(c) == word) {
                let message = format!("a second `{word}` in rule `{}`", name.text);
                let mut diagnostic =
                    Diagnostic::at(&codes::CLAUSE_TWICE, clause.span, message).other(first.span, "the first");
                if word == "may" {
                    diagnostic = diagnostic.help("to say two things, write two rules: each has one modality");
                }
                self.report(diagnostic);
            }
        }
        if whole {
            for (word, example) in [("who", "who anyone"), ("may", "may read"), ("what", "what anything")] {
                if !clauses.iter().any(|c| keyword(c) == word) {
                    let message = format!("rule `{}` does not say `{word}`", name.text);
                    let help = format!("every rule says `who`, `may` and `what`, for example `{example}`");
                    self.report(Diagnostic::at(&codes::CLAUSE_MISSING, name.span, message).help(help));
                }
            }
        }
    }

    fn clause(&mut self) -> Parse<Clause> {
        let keyword = self.advance();
        let body = match self.slice(keyword) {
            "because" => ClauseBody::Because(self.quoted("the reason in quotes")?),
            "layer" => ClauseBody::Layer(self.name("a layer")?),
            "who" => ClauseBody::Who(self.who()?),
            "may" => {
                self.wants_words(&["not", "always", "never", "only"]);
                let modality = match self.word() {
                    "not" => Modality::MayNot,
                    "always" => Modality::MayAlways,
                    "never" => Modality::MayNever,
                    "only" => Modality::MayOnly,
                    _ => Modality::May,
                };
                if modality != Modality::May {
                    self.advance();
                }
                ClauseBody::May(modality, self.items()?)
            }
            "what" => ClauseBody::What(self.what()?),
            "while" => ClauseBody::While(self.expression()?),
            "from" => ClauseBody::From(self.date()?),
            _ => ClauseBody::Until(self.date()?),
        };
        Ok(Clause { body, span: keyword.span.to(self.before()) })
    }

    pub(super) fn who(&mut self) -> Parse<Who> {
        let start = self.span();
        let (mut terms, mut worded): (Vec<Term>, Vec<bool>) = (Vec::new(), Vec::new());
        loop {
            let bare = self.is_name();
            match terms.last() {
                Some(Term::User(_)) => self.wants([Wanted::Name("a user id")]),
                Some(Term::Members(_)) => self.wants([Wanted::Name("a group id")]),
                Some(Term::Anyone(_) | Term::Owner(_)) | None => {}
            }
            worded.push(!bare);
            let term = if let Some(span) = self.take("anyone") {
                Term::Anyone(span)
            } else if let Some(span) = self.take("owner") {
                Term::Owner(span)
            } else if self.take("user").is_some() {
                Term::User(self.name("a user id")?)
            } else if self.take("members").is_some() {
                self.expect("of")?;
                Term::Members(self.name("a group id")?)
            } else if bare && matches!(terms.last(), Some(Term::User(_))) {
                Term::User(self.name("a user id")?)
            } else if bare && matches!(terms.last(), Some(Term::Members(_))) {
                Term::Members(self.name("a group id")?)
            } else {
                let known = ["anyone", "owner", "user", "members"];
                return Err(self.unexpected("`anyone`, `owner`, `user ...` or `members of ...`", &known));
            };
            terms.push(term);
            if !self.take_symbol(Symbol::Comma) {
                break;
            }
        }
        let condition = if self.take("where").is_some() { Some(self.expression()?) } else { None };
        Ok(Who { terms, worded, condition, span: start.to(self.before()) })
    }

    fn what(&mut self) -> Parse<What> {
        let start = self.span();
        let kinds = if self.take("anything").is_some() { None } else { Some(self.names("a kind, or `anything`")?) };
        self.wants_words(&["under", "below", "at"]);
        let reach = match self.word() {
            "under" => Some(Reach::Under),
            "below" => Some(Reach::Below),
            "at" => Some(Reach::At),
            _ => None,
        };
        let places = match reach {
            Some(reach) => {
                self.advance();
                Some((reach, self.places()?))
            }
            None => None,
        };
        let condition = if self.take("where").is_some() { Some(self.expression()?) } else { None };
        Ok(What { kinds, places, condition, span: start.to(self.before()) })
    }

    pub(super) fn expectation(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the expectation")?;
        let (clauses, whole) = self.clauses(&EXPECT, Self::expect_clause)?;
        if whole && !clauses.iter().any(|c| matches!(c.body, ExpectClauseBody::User(_))) {
            let message = format!("expectation `{}` does not say `user`", name.text);
            self.report(Diagnostic::at(&codes::CLAUSE_MISSING, name.span, message));
        }
        self.once(&name, &clauses, |c| match c.body {
            ExpectClauseBody::Because(_) => Some("because"),
            ExpectClauseBody::User(_) => Some("user"),
            ExpectClauseBody::On(_) => Some("on"),
            ExpectClauseBody::Session(_) => Some("session"),
            _ => None,
        });
        Ok(Declaration::Expect(Expect { name, clauses, span: start.to(self.before()) }))
    }

    pub(super) fn persona(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the persona")?;
        let (clauses, _) = self.clauses(&PERSONA, Self::persona_clause)?;
        self.once(&name, &clauses, |c| match c.body {
            PersonaClauseBody::Because(_) => Some("because"),
            PersonaClauseBody::Member(_) => Some("member of"),
            PersonaClauseBody::Has(_) => Some("has"),
        });
        Ok(Declaration::Persona(Persona { name, clauses, span: start.to(self.before()) }))
    }

    fn persona_clause(&mut self) -> Parse<PersonaClause> {
        let keyword = self.advance();
        let body = match self.slice(keyword) {
            "because" => PersonaClauseBody::Because(self.quoted("the reason in quotes")?),
            "member" => {
                self.expect("of")?;
                PersonaClauseBody::Member(self.names("a group")?)
            }
            _ => PersonaClauseBody::Has(self.pairs("an attribute of users")?),
        };
        Ok(PersonaClause { body, span: keyword.span.to(self.before()) })
    }

    pub(super) fn waiver(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of a finding")?;
        let (clauses, whole) = self.clauses(&WAIVE, Self::waive_clause)?;
        let word = |c: &WaiveClause| match c.body {
            WaiveClauseBody::Because(_) => Some("because"),
            WaiveClauseBody::Of(_) => Some("of"),
            WaiveClauseBody::Until(_) => Some("until"),
        };
        for wanted in WAIVE {
            if whole && !clauses.iter().any(|c| word(c) == Some(wanted)) {
                let message = format!("the waiver of `{}` does not say `{wanted}`", name.text);
                self.report(Diagnostic::at(&codes::CLAUSE_MISSING, name.span, message));
            }
        }
        self.once(&name, &clauses, word);
        Ok(Declaration::Waive(Waive { name, clauses, span: start.to(self.before()) }))
    }

    fn waive_clause(&mut self) -> Parse<WaiveClause> {
        let keyword = self.advance();
        let body = match self.slice(keyword) {
            "because" => WaiveClauseBody::Because(self.quoted("the reason in quotes")?),
            "of" => WaiveClauseBody::Of(self.names("what the finding is about")?),
            _ => WaiveClauseBody::Until(self.date()?),
        };
        Ok(WaiveClause { body, span: keyword.span.to(self.before()) })
    }

    /// `name = value, ...`
    fn pairs(&mut self, what: &'static str) -> Parse<Vec<(Name, Values)>> {
        let mut pairs = Vec::new();
        loop {
            let name = self.name(what)?;
            self.expect_symbol(Symbol::Equal, "=")?;
            pairs.push((name, self.values()?));
            if !self.take_symbol(Symbol::Comma) {
                return Ok(pairs);
            }
        }
    }

    fn once<T>(&mut self, name: &Name, clauses: &[T], keyword: impl Fn(&T) -> Option<&'static str>) {
        let words: Vec<_> = clauses.iter().filter_map(keyword).collect();
        for (i, word) in words.iter().enumerate() {
            if words[..i].contains(word) {
                let message = format!("a second `{word}` in `{}`", name.text);
                self.report(Diagnostic::at(&codes::CLAUSE_TWICE, name.span, message));
            }
        }
    }

    fn expect_clause(&mut self) -> Parse<ExpectClause> {
        let keyword = self.advance();
        let body = match self.slice(keyword) {
            "because" => ExpectClauseBody::Because(self.quoted("the reason in quotes")?),
            "user" => ExpectClauseBody::User(self.name("a user id")?),
            "on" => ExpectClauseBody::On(self.date()?),
            "session" => ExpectClauseBody::Session(self.pairs("a session attribute")?),
            "reaches" => {
                let bound = if self.take("exactly").is_some() {
                    Bound::Exactly
                } else {
                    self.expect("at")?;
                    self.wants_words(&["least", "most"]);
                    match self.word() {
                        "least" => Bound::AtLeast,
                        "most" => Bound::AtMost,
                        _ => return Err(self.unexpected("`least` or `most`", &["least", "most"])),
                    }
                };
                if bound != Bound::Exactly {
                    self.advance();
                }
                if self.token().kind != TokenKind::Number {
                    return Err(self.unexpected("a number", &[]));
                }
                let number = self.advance();
                let (count, at) = (self.slice(number).to_string(), number.span);
                let what = self.what()?;
                self.expect("by")?;
                ExpectClauseBody::Reaches { bound, count, at, what, by: self.items()? }
            }
            word => {
                let allowed = word == "can";
                let items = self.items()?;
                ExpectClauseBody::Can(allowed, items, self.places()?)
            }
        };
        Ok(ExpectClause { body, span: keyword.span.to(self.before()) })
    }

    pub(super) fn guarantee(&mut self, start: Span) -> Parse<Declaration> {
        let name = self.name("the name of the guarantee")?;
        let (clauses, whole) = self.clauses(&GUARANTEE, Self::guarantee_clause)?;
        let word = |c: &GuaranteeClause| match c.body {
            GuaranteeClauseBody::Because(_) => "because",
            GuaranteeClauseBody::Only(_) | GuaranteeClauseBody::NoneOf(_) => "only",
            GuaranteeClauseBody::Can(_) => "can",
            GuaranteeClauseBody::What(_) => "what",
        };
        self.once(&name, &clauses, |c| Some(word(c)));
        if whole {
            for (needed, shown) in [("only", "`only` or `none of`"), ("can", "`can`"), ("what", "`what`")] {
                if !clauses.iter().any(|c| word(c) == needed) {
                    let message = format!("guarantee `{}` does not say {shown}", name.text);
                    self.report(Diagnostic::at(&codes::CLAUSE_MISSING, name.span, message));
                }
            }
        }
        Ok(Declaration::Guarantee(Guarantee { name, clauses, span: start.to(self.before()) }))
    }

    fn guarantee_clause(&mut self) -> Parse<GuaranteeClause> {
        let keyword = self.advance();
        let body = match self.slice(keyword) {
            "because" => GuaranteeClauseBody::Because(self.quoted("the reason in quotes")?),
            "only" => GuaranteeClauseBody::Only(self.who()?),
            "none" => {
                self.expect("of")?;
                GuaranteeClauseBody::NoneOf(self.who()?)
            }
            "can" => GuaranteeClauseBody::Can(self.items()?),
            _ => GuaranteeClauseBody::What(self.what()?),
        };
        Ok(GuaranteeClause { body, span: keyword.span.to(self.before()) })
    }
}
