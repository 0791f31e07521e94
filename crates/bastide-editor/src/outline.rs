//! The outline of a policy file, and what can be folded in it.

use crate::lines::Lines;
use bastide_syntax::tree::{ClauseBody, Declaration, File, Rule};
use lsp_types as lsp;

fn kind(declaration: &Declaration) -> lsp::SymbolKind {
    match declaration {
        Declaration::Kind(_) => lsp::SymbolKind::CLASS,
        Declaration::Action(_) => lsp::SymbolKind::METHOD,
        Declaration::Type(_) => lsp::SymbolKind::ENUM,
        Declaration::Attribute(_) => lsp::SymbolKind::FIELD,
        Declaration::Role(_) => lsp::SymbolKind::INTERFACE,
        Declaration::Group(_) => lsp::SymbolKind::NAMESPACE,
        Declaration::Rule(_) => lsp::SymbolKind::FUNCTION,
        Declaration::Apart(_) | Declaration::Alike(_) => lsp::SymbolKind::OPERATOR,
        Declaration::Persona(_) => lsp::SymbolKind::OBJECT,
        Declaration::Waive(_) => lsp::SymbolKind::EVENT,
        Declaration::Expect(_) | Declaration::Guarantee(_) => lsp::SymbolKind::BOOLEAN,
    }
}

/// What a rule says first of all.
fn modality(rule: &Rule) -> Option<&'static str> {
    rule.clauses.iter().find_map(|clause| match &clause.body {
        ClauseBody::May(modality, _) => Some(modality.words()),
        _ => None,
    })
}

/// The declarations, as an outline.
pub fn symbols(tree: &File, text: &str, lines: &Lines) -> Vec<lsp::DocumentSymbol> {
    let one = |declaration: &Declaration| {
        let range = declaration.span().range();
        let (sort, name, at) = match declaration {
            Declaration::Kind(d) => ("kind", d.name.text.clone(), &d.name),
            Declaration::Action(d) => ("action", d.name.text.clone(), &d.name),
            Declaration::Type(d) => ("type", d.name.text.clone(), &d.name),
            Declaration::Attribute(d) => ("attribute", d.name.text.clone(), &d.name),
            Declaration::Role(d) => ("role", d.name.text.clone(), &d.name),
            Declaration::Group(d) => ("group", d.name.text.clone(), &d.name),
            Declaration::Rule(d) => (modality(d).unwrap_or("rule"), d.name.text.clone(), &d.name),
            Declaration::Apart(d) => ("apart", joined(&d.actions), d.actions.first()?),
            Declaration::Alike(d) => ("alike", joined(&d.actions), d.actions.first()?),
            Declaration::Expect(d) => ("expect", d.name.text.clone(), &d.name),
            Declaration::Persona(d) => ("persona", d.name.text.clone(), &d.name),
            Declaration::Waive(d) => ("waive", d.name.text.clone(), &d.name),
            Declaration::Guarantee(d) => ("guarantee", d.name.text.clone(), &d.name),
        };
        #[allow(deprecated, reason = "the field is there, and is left out of the message")]
        Some(lsp::DocumentSymbol {
            name,
            detail: Some(sort.to_string()),
            kind: kind(declaration),
            tags: None,
            deprecated: None,
            range: lines.range(text, range),
            selection_range: lines.range(text, at.span.range()),
            children: None,
        })
    };
    tree.declarations.iter().filter_map(one).collect()
}

fn joined(names: &[bastide_syntax::tree::Name]) -> String {
    names.iter().map(|name| name.text.as_str()).collect::<Vec<_>>().join(", ")
}

/// What can be folded: declarations and comments of several lines.
pub fn folds(tree: &File, text: &str, lines: &Lines) -> Vec<lsp::FoldingRange> {
    let fold = |from: usize, upto: usize, kind: Option<lsp::FoldingRangeKind>| {
        let (start, end) = (lines.position(text, from).line, lines.position(text, upto).line);
        (start < end).then(|| lsp::FoldingRange {
            start_line: start,
            end_line: end,
            kind,
            ..lsp::FoldingRange::default()
        })
    };
    let mut folds: Vec<lsp::FoldingRange> = tree
        .declarations
        .iter()
        .filter_map(|declaration| fold(declaration.span().start as usize, declaration.span().end as usize, None))
        .collect();
    // Comments on lines that follow each other are one.
    let mut block: Option<(usize, usize)> = None;
    for comment in tree.comments.iter().map(|span| span.range()) {
        let alone = text[..comment.start].rsplit('\n').next().is_some_and(|before| before.trim().is_empty());
        match &mut block {
            Some((_, end)) if alone && text[*end..comment.start].matches('\n').count() == 1 => *end = comment.end,
            _ => {
                folds.extend(block.take().and_then(|(a, b)| fold(a, b, Some(lsp::FoldingRangeKind::Comment))));
                block = alone.then_some((comment.start, comment.end));
            }
        }
    }
    folds.extend(block.and_then(|(a, b)| fold(a, b, Some(lsp::FoldingRangeKind::Comment))));
    folds
}
