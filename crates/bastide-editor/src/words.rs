//! The words of a policy file by what they are, for colours.

use crate::lines::Lines;
use bastide_syntax::FileId;
use bastide_syntax::lexer::{TokenKind, tokens};
use bastide_syntax::mentions::{Sort, mentions};
use bastide_syntax::tree::File;
use lsp_types::{SemanticToken, SemanticTokenType, SemanticTokensLegend};
use std::collections::BTreeMap;

const TYPES: [SemanticTokenType; 13] = [
    SemanticTokenType::KEYWORD,
    SemanticTokenType::STRING,
    SemanticTokenType::NUMBER,
    SemanticTokenType::OPERATOR,
    SemanticTokenType::COMMENT,
    SemanticTokenType::CLASS,
    SemanticTokenType::METHOD,
    SemanticTokenType::INTERFACE,
    SemanticTokenType::TYPE,
    SemanticTokenType::ENUM_MEMBER,
    SemanticTokenType::PROPERTY,
    SemanticTokenType::NAMESPACE,
    SemanticTokenType::FUNCTION,
];

/// What the numbers of the answer mean.
pub fn legend() -> SemanticTokensLegend {
    SemanticTokensLegend { token_types: TYPES.to_vec(), token_modifiers: Vec::new() }
}

fn number(of: &SemanticTokenType) -> u32 {
    TYPES.iter().position(|known| known == of).unwrap_or_default() as u32
}

fn of_sort(sort: Sort) -> SemanticTokenType {
    match sort {
        Sort::Kind => SemanticTokenType::CLASS,
        Sort::Action | Sort::Item => SemanticTokenType::METHOD,
        Sort::Role => SemanticTokenType::INTERFACE,
        Sort::Type => SemanticTokenType::TYPE,
        Sort::TypeValue | Sort::Value => SemanticTokenType::ENUM_MEMBER,
        Sort::Attribute(_) => SemanticTokenType::PROPERTY,
        Sort::Group | Sort::User | Sort::Persona => SemanticTokenType::NAMESPACE,
        Sort::Rule | Sort::Expectation | Sort::Guarantee | Sort::Finding => SemanticTokenType::FUNCTION,
        Sort::Layer => SemanticTokenType::ENUM_MEMBER,
        Sort::Path | Sort::Id => SemanticTokenType::STRING,
    }
}

/// The words of a text that was parsed, in its order.
pub fn coloured(tree: &File, text: &str, lines: &Lines) -> Vec<SemanticToken> {
    let lexed = tokens(FileId(0), text);
    let mut found: BTreeMap<usize, (usize, u32)> = BTreeMap::new();
    for token in &lexed.tokens {
        let kind = match token.kind {
            TokenKind::Word => SemanticTokenType::KEYWORD,
            TokenKind::Member => SemanticTokenType::PROPERTY,
            TokenKind::Text => SemanticTokenType::STRING,
            TokenKind::Number | TokenKind::Date => SemanticTokenType::NUMBER,
            TokenKind::Symbol(_) => SemanticTokenType::OPERATOR,
            TokenKind::Bad | TokenKind::End => continue,
        };
        found.insert(token.span.start as usize, (token.span.end as usize, number(&kind)));
    }
    for comment in &lexed.comments {
        let kind = number(&SemanticTokenType::COMMENT);
        found.insert(comment.start as usize, (comment.end as usize, kind));
    }
    for mention in mentions(tree) {
        // Within `user.site` the attribute is a part of a word.
        let (start, end) = (mention.span.start as usize, mention.span.end as usize);
        if let Some((last, kind)) = found.get_mut(&start).filter(|(last, _)| *last == end) {
            (*last, *kind) = (end, number(&of_sort(mention.sort)));
        }
    }
    let (mut line, mut column) = (0, 0);
    let mut coloured = Vec::new();
    for (start, (end, token_type)) in found {
        let range = lines.range(text, start..end);
        if range.start.line != range.end.line {
            continue;
        }
        let delta_line = range.start.line - line;
        let delta_start = if delta_line == 0 { range.start.character - column } else { range.start.character };
        (line, column) = (range.start.line, range.start.character);
        let length = range.end.character - range.start.character;
        coloured.push(SemanticToken { delta_line, delta_start, length, token_type, token_modifiers_bitset: 0 });
    }
    coloured
}
