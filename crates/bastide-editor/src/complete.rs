//! What is offered while somebody types: what the grammar allows there, and of names those that fit.

use crate::desk::Desk;
use crate::hover::offered;
use crate::lines::Lines;
use bastide_model::catalog::PathPattern;
use bastide_model::{Estate, ResourceId};
use bastide_syntax::lexer::{Symbol, Token, TokenKind, tokens};
use bastide_syntax::tree::Domain;
use bastide_syntax::{FileId, Wanted, quote, wanted};
use lsp_types as lsp;
use std::ops::Range;

/// So many are offered at once; of more the client asks again.
const MOST: usize = 300;

/// Something that can stand there.
struct Offer {
    text: String,
    shown: String,
    about: String,
    kind: lsp::CompletionItemKind,
}

fn offer(kind: lsp::CompletionItemKind, name: &str, about: impl Into<String>) -> Offer {
    Offer { text: quote::name(name), shown: name.to_string(), about: about.into(), kind }
}

/// Something that can stand at a place of a text.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Offered {
    /// How it is shown.
    pub shown: String,
    /// What it is.
    pub about: String,
    /// What takes the place of some bytes of the text.
    pub text: String,
    /// These bytes.
    pub range: Range<usize>,
}

/// What can stand at a byte of a policy text, by the names of an estate; for front ends of their own.
pub fn offered_in(estate: &Estate, text: &str, byte: usize) -> Vec<Offered> {
    let (range, found, _) = found(Some(estate), text, byte);
    let one = |Offer { text, shown, about, .. }: Offer| Offered { shown, about, text, range: range.clone() };
    found.into_iter().map(one).collect()
}

/// What is offered at a byte of a policy file.
pub fn offers(desk: &Desk, text: &str, lines: &Lines, byte: usize) -> lsp::CompletionList {
    let (range, found, is_incomplete) = found(desk.names(), text, byte);
    let range = lines.range(text, range);
    let item = |(at, offer): (usize, Offer)| lsp::CompletionItem {
        label: offer.shown,
        kind: Some(offer.kind),
        detail: (!offer.about.is_empty()).then_some(offer.about),
        sort_text: Some(format!("{at:04}")),
        filter_text: Some(offer.text.clone()),
        text_edit: Some(lsp::CompletionTextEdit::Edit(lsp::TextEdit { range, new_text: offer.text })),
        ..lsp::CompletionItem::default()
    };
    lsp::CompletionList { is_incomplete, items: found.into_iter().enumerate().map(item).collect() }
}

/// What is offered, the bytes whose place it takes, and whether there is more.
fn found(estate: Option<&Estate>, text: &str, byte: usize) -> (Range<usize>, Vec<Offer>, bool) {
    let lexed = tokens(FileId(0), text);
    let holds = |token: &&Token| (token.span.start as usize) < byte && byte <= token.span.end as usize;
    let here = lexed.tokens.iter().find(holds).filter(|token| match token.kind {
        TokenKind::Word | TokenKind::Member | TokenKind::Number | TokenKind::Date => true,
        TokenKind::Text | TokenKind::Bad => {
            text[token.span.range()].starts_with('"') || is_begun(&text[token.span.range()])
        }
        TokenKind::Symbol(_) | TokenKind::End => false,
    });
    let within = |start: usize| start < byte && !text[start..byte].contains('\n');
    let within_comment = lexed.comments.iter().any(|comment| within(comment.start as usize));
    if within_comment {
        return (byte..byte, Vec::new(), false);
    }
    let start = here.map_or(byte, |token| token.span.start as usize);
    let typed = &text[start..byte];
    // A quoted text that is closed on this line is replaced as a whole; what is not closed ends at the cursor.
    let end = here.filter(|token| token.kind == TokenKind::Text).map_or(byte, |token| token.span.end as usize);
    let end = if text[start..end].contains('\n') { byte } else { end };
    let wants = wanted(&text[..start]);
    let quoted = typed.starts_with('"');
    let mut all: Vec<Offer> = Vec::new();
    if let Some(estate) = estate {
        if let Some((domain, step)) = domain_of(typed) {
            attributes(estate, domain, step, &mut all);
        } else {
            for want in &wants {
                of(estate, *want, typed, (text, &lexed.tokens, start), &mut all);
            }
        }
    }
    if !quoted {
        for want in &wants {
            if let Wanted::Word(word) = want {
                let keyword = lsp::CompletionItemKind::KEYWORD;
                all.push(Offer {
                    text: word.to_string(),
                    shown: word.to_string(),
                    about: String::new(),
                    kind: keyword,
                });
            }
        }
    }
    let typed_plain = typed.trim_start_matches('"').to_lowercase();
    let fits = |offer: &Offer| {
        let plain = offer.text.trim_start_matches('"').to_lowercase();
        plain.starts_with(&typed_plain) || offer.shown.to_lowercase().contains(&typed_plain)
    };
    all.retain(fits);
    let is_incomplete = all.len() > MOST;
    all.truncate(MOST);
    for offer in all.iter_mut().filter(|offer| quoted && !offer.text.starts_with('"')) {
        offer.text = quote::text(&offer.shown);
    }
    (start..end, all, is_incomplete)
}

/// Whether what is no token is the beginning of a member: `user.`.
fn is_begun(text: &str) -> bool {
    ["user.", "resource.", "session."].iter().any(|domain| text.starts_with(domain))
}

/// The domain of an attribute that is being typed, and the step between.
fn domain_of(typed: &str) -> Option<(Domain, Option<&str>)> {
    let (domain, rest) = typed.split_once('.')?;
    let step = rest.rsplit_once('.').map(|(step, _)| step);
    match domain {
        "user" => Some((Domain::User, None)),
        "session" => Some((Domain::Session, None)),
        "resource" => Some((Domain::Resource, step)),
        _ => None,
    }
}

fn attributes(estate: &Estate, domain: Domain, step: Option<&str>, all: &mut Vec<Offer>) {
    let schema = estate.schema();
    let (declared, fixed, head): (_, &[&str], _) = match domain {
        Domain::User => (&schema.user_attributes, &["id", "name", "kind", "realm", "active"], "user"),
        Domain::Session => (&schema.session_attributes, &[], "session"),
        Domain::Resource => {
            (&schema.resource_attributes, &["id", "name", "kind", "owner", "state", "depth"], "resource")
        }
    };
    let head = step.map_or(head.to_string(), |step| format!("{head}.{step}"));
    let field = lsp::CompletionItemKind::FIELD;
    for attribute in declared {
        let text = format!("{head}.{}", member(&attribute.name));
        all.push(Offer { shown: text.clone(), text, about: schema.attribute_type(attribute), kind: field });
    }
    for name in fixed {
        let text = format!("{head}.{name}");
        all.push(Offer { shown: text.clone(), text, about: String::new(), kind: field });
    }
    if domain == Domain::Resource && step.is_none() {
        let steps = schema.kinds.iter().map(|kind| kind.name.as_str()).chain(["parent"]);
        for step in steps {
            let text = format!("resource.{}.", member(step));
            all.push(Offer { shown: text.clone(), text, about: "of the nearest above".into(), kind: field });
        }
    }
}

/// A part of `resource.a.b`.
fn member(name: &str) -> String {
    if name.contains('.') { quote::text(name) } else { quote::name(name) }
}

/// What fits where something is wanted.
fn of(estate: &Estate, want: Wanted, typed: &str, before: (&str, &[Token], usize), all: &mut Vec<Offer>) {
    use lsp::CompletionItemKind as Kind;
    let schema = estate.schema();
    match want {
        Wanted::Word(_) | Wanted::Sign(_) => {}
        Wanted::Value => {
            if let Some((domain, name)) = compared(estate, before.0, before.1, before.2) {
                let values = offered(estate, domain, &name);
                all.extend(values.iter().map(|value| offer(Kind::ENUM_MEMBER, value, format!("value of `{name}`"))));
            } else if !typed.starts_with('"') {
                for head in ["user", "resource", "session"] {
                    let text = format!("{head}.");
                    all.push(Offer {
                        shown: text.clone(),
                        text,
                        about: format!("attributes of the {head}"),
                        kind: Kind::FIELD,
                    });
                }
            }
        }
        Wanted::Name("a group id" | "a group") => {
            let groups = estate.groups();
            let about = |g| format!("{} members", groups.users(g).count_ones(..));
            all.extend(groups.all().map(|g| offer(Kind::MODULE, groups.id(g), about(g))));
        }
        Wanted::Name("a user id") => {
            let personas = estate.proofs().personas.iter().map(|p| offer(Kind::VARIABLE, &p.name, "persona"));
            all.extend(personas);
            let people = estate.people();
            let begun = typed.trim_matches('"').to_lowercase();
            let fits = |u: &bastide_model::UserId| {
                people.id(*u).to_lowercase().starts_with(&begun) || people.name(*u).to_lowercase().contains(&begun)
            };
            let found = people.all().filter(fits).take(MOST + 1);
            all.extend(found.map(|u| offer(Kind::VARIABLE, people.id(u), people.name(u))));
        }
        Wanted::Name("an action") => {
            all.extend(schema.actions.iter().map(|action| offer(Kind::METHOD, &action.name, "action")));
        }
        Wanted::Name("an action or a role, or `everything`") => {
            all.extend(schema.actions.iter().map(|action| offer(Kind::METHOD, &action.name, "action")));
            all.extend(schema.roles.iter().map(|role| offer(Kind::INTERFACE, &role.name, "role")));
        }
        Wanted::Name(
            "a kind"
            | "a kind, or `anything`"
            | "`self`, `parent`, `source` or a kind"
            | "`user`, `resource`, `session` or a kind",
        ) => {
            all.extend(schema.kinds.iter().map(|kind| offer(Kind::CLASS, &kind.name, "kind")));
        }
        Wanted::Name("a type") => {
            let plain = ["text", "number", "date", "flag"];
            all.extend(plain.map(|name| offer(Kind::STRUCT, name, "type")));
            all.extend(schema.types.iter().map(|of| offer(Kind::STRUCT, &of.name, "type")));
        }
        Wanted::Name("a layer") => {
            all.extend(
                estate.layers().iter().map(String::as_str).chain(["rest"]).map(|l| offer(Kind::CONSTANT, l, "layer")),
            );
        }
        Wanted::Name("the name of a finding") => {
            all.extend(bastide_audit::ALL.iter().map(|known| offer(Kind::EVENT, known.name, known.what)));
        }
        Wanted::Name("an attribute of users") => {
            all.extend(schema.user_attributes.iter().map(|a| offer(Kind::FIELD, &a.name, schema.attribute_type(a))));
        }
        Wanted::Name("a session attribute") => {
            all.extend(schema.session_attributes.iter().map(|a| offer(Kind::FIELD, &a.name, schema.attribute_type(a))));
        }
        Wanted::Name("a path in quotes" | "a path") => places(estate, typed, all),
        Wanted::Name("an id in quotes") => {
            let begun = typed.trim_matches('"');
            let fits = |r: &ResourceId| estate.catalog().id(*r).starts_with(begun);
            let found = estate.catalog().all().filter(fits).take(MOST + 1);
            let one = |r| {
                let mut one = offer(Kind::FOLDER, estate.catalog().id(r), estate.catalog().path(r));
                one.text = quote::text(estate.catalog().id(r));
                one
            };
            all.extend(found.map(one));
        }
        // A name that is declared here is nobody else's to offer; a reason and a pattern are free.
        Wanted::Name(_) => {}
    }
}

/// Places, one segment after the other.
fn places(estate: &Estate, typed: &str, all: &mut Vec<Offer>) {
    let catalog = estate.catalog();
    let inside = typed.strip_prefix('"').unwrap_or(typed);
    let inside = inside.strip_suffix('"').unwrap_or(inside);
    let (above, last) = inside.rsplit_once('/').map_or((None, inside), |(above, last)| (Some(above), last));
    let level: Vec<ResourceId> = match above {
        None => catalog.roots().collect(),
        Some(above) => {
            let found = catalog.matching(&PathPattern::new(above));
            found.into_iter().flat_map(|place| catalog.children(place)).collect()
        }
    };
    let last = last.to_lowercase();
    for place in
        level.into_iter().filter(|place| segment(catalog.name(*place)).to_lowercase().starts_with(&last)).take(MOST + 1)
    {
        let segment = segment(catalog.name(place));
        let path = above.map_or(segment.clone(), |above| format!("{above}/{segment}"));
        let kind = &estate.schema().kinds[catalog.kind(place).index()].name;
        let sort = if catalog.is_leaf(place) { lsp::CompletionItemKind::FILE } else { lsp::CompletionItemKind::FOLDER };
        all.push(Offer { text: format!("\"{path}\""), shown: path, about: kind.clone(), kind: sort });
    }
}

/// A name as a segment of a path: what has a meaning there behind a backslash.
fn segment(name: &str) -> String {
    let mut out = String::with_capacity(name.len());
    for c in name.chars() {
        if matches!(c, '/' | '*' | '\\' | '"') {
            out.push('\\');
        }
        out.push(c);
    }
    out
}

/// The attribute that a value at a byte is compared with: it stands before a sign, `in` or a list that is begun.
fn compared(estate: &Estate, text: &str, all: &[Token], start: usize) -> Option<(Domain, String)> {
    let mut before = all.iter().rev().filter(|token| token.span.end as usize <= start && token.kind != TokenKind::End);
    let relation = |token: &Token| match token.kind {
        TokenKind::Symbol(symbol) => matches!(
            symbol,
            Symbol::Equal
                | Symbol::NotEqual
                | Symbol::Less
                | Symbol::LessEqual
                | Symbol::Greater
                | Symbol::GreaterEqual
        ),
        TokenKind::Word => ["in", "overlaps", "covers"].contains(&&text[token.span.range()]),
        _ => false,
    };
    // The values of a list that are there already are passed over.
    let passed = |token: &Token| match token.kind {
        TokenKind::Symbol(symbol) => matches!(symbol, Symbol::ParenOpen | Symbol::Comma | Symbol::Minus),
        TokenKind::Text | TokenKind::Number | TokenKind::Date | TokenKind::Word => true,
        TokenKind::Member | TokenKind::Bad | TokenKind::End => false,
    };
    loop {
        let token = before.next()?;
        if relation(token) {
            break;
        }
        if !passed(token) {
            return None;
        }
    }
    let token = before.next()?;
    let written = &text[token.span.range()];
    match token.kind {
        TokenKind::Member => {
            let (domain, _) = domain_of(written)?;
            let name = written.rsplit_once('.').map_or(written, |(_, name)| name);
            Some((domain, bastide_syntax::lexer::unquote(name)))
        }
        // `has NAME = ...`, `session NAME = ...`
        TokenKind::Word | TokenKind::Text => {
            let name = bastide_syntax::lexer::unquote(written);
            let is_of_users = estate.schema().user_attribute(&name).is_some();
            let is_of_sessions = estate.schema().session_attribute(&name).is_some();
            let domain = if is_of_users { Domain::User } else { Domain::Session };
            (is_of_users || is_of_sessions).then_some((domain, name))
        }
        _ => None,
    }
}
