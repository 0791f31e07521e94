//! What is wrong, as the protocol tells it, and the edits that mend it.

use crate::desk::Desk;
use crate::lines::{Encoding, Lines};
use bastide_audit::{Finding, Level};
use bastide_syntax::{Diagnostic, FileId, Span};
use lsp_types as lsp;
use std::collections::BTreeMap;

/// The name by which diagnostics say where they come from.
const SOURCE: &str = "bastide";

/// All there is to say of an estate, by the client's names of its files; each with the bytes it is about and its edits.
pub fn all(desk: &Desk, encoding: Encoding) -> BTreeMap<String, Vec<lsp::Diagnostic>> {
    let mut found: BTreeMap<String, Vec<lsp::Diagnostic>> = BTreeMap::new();
    let manifest = desk.root.join(bastide_formats::manifest::NAME);
    let manifest = crate::documents::uri_of(&manifest).map(|uri| uri.as_str().to_string()).unwrap_or_default();
    if let Some(refused) = &desk.refused {
        let told = plain(lsp::DiagnosticSeverity::ERROR, refused.clone());
        found.entry(manifest.clone()).or_default().push(told);
    }
    let Some(loaded) = desk.loaded() else { return found };
    let mut lines = Lined::default();
    let advice = desk.advice();
    for one in loaded.diagnostics.iter().chain(advice) {
        let (uri, told) = diagnostic(desk, one, &mut lines, encoding, &manifest);
        found.entry(uri).or_default().push(told);
    }
    for one in desk.later.findings.iter().flatten() {
        if let Some((uri, told)) = finding(desk, one, &mut lines, encoding) {
            found.entry(uri).or_default().push(told);
        }
    }
    found
}

/// The lines of the files that something is said of.
#[derive(Default)]
struct Lined(BTreeMap<FileId, Lines>);

impl Lined {
    fn range(&mut self, desk: &Desk, span: Span, encoding: Encoding) -> lsp::Range {
        let text = desk.sources().map_or("", |sources| sources.text(span.file));
        let lines = self.0.entry(span.file).or_insert_with(|| Lines::new(text, encoding));
        lines.range(text, span.range())
    }
}

fn plain(severity: lsp::DiagnosticSeverity, message: String) -> lsp::Diagnostic {
    lsp::Diagnostic {
        severity: Some(severity),
        source: Some(SOURCE.to_string()),
        message,
        ..lsp::Diagnostic::default()
    }
}

fn diagnostic(
    desk: &Desk,
    one: &Diagnostic,
    lines: &mut Lined,
    encoding: Encoding,
    manifest: &str,
) -> (String, lsp::Diagnostic) {
    let severity = if one.is_error() { lsp::DiagnosticSeverity::ERROR } else { lsp::DiagnosticSeverity::WARNING };
    let mut message = one.message.clone();
    if !one.label.is_empty() {
        message = format!("{message}: {}", one.label);
    }
    let notes = one.notes.iter().cloned();
    let helps = one.helps.iter().map(|help| help.text.clone());
    let more = (one.more > 0).then(|| format!("{} more of these in this file", one.more));
    for line in notes.chain(helps).chain(more) {
        message.push('\n');
        message.push_str(&line);
    }
    let mut told = plain(severity, message);
    told.code = Some(lsp::NumberOrString::String(one.code.name.to_string()));
    if one.code.name == bastide_syntax::codes::UNUSED.name {
        told.tags = Some(vec![lsp::DiagnosticTag::UNNECESSARY]);
    }
    let related = one.others.iter().filter_map(|other| {
        let location =
            lsp::Location { uri: desk.uri(other.span.file)?, range: lines.range(desk, other.span, encoding) };
        Some(lsp::DiagnosticRelatedInformation { location, message: other.text.clone() })
    });
    let related: Vec<_> = related.collect();
    told.related_information = (!related.is_empty()).then_some(related);
    let place = one.place.and_then(|place| Some((desk.uri(place.file)?, place)));
    let Some((uri, place)) = place else {
        // A file that is not there has no text to point into: it is told where files are named.
        if let Some(file) = one.file.as_ref().filter(|file| *file != bastide_formats::manifest::NAME) {
            told.message = format!("`{file}`: {}", told.message);
        }
        return (manifest.to_string(), told);
    };
    told.range = lines.range(desk, place, encoding);
    (uri.as_str().to_string(), told)
}

/// A finding of the audit at its place; none where it has none.
fn finding(desk: &Desk, one: &Finding, lines: &mut Lined, encoding: Encoding) -> Option<(String, lsp::Diagnostic)> {
    let severity = match one.level {
        Level::Error => lsp::DiagnosticSeverity::ERROR,
        Level::Warning => lsp::DiagnosticSeverity::WARNING,
        Level::Note => lsp::DiagnosticSeverity::INFORMATION,
        Level::None => return None,
    };
    let (name, line) = one.place.as_ref()?.rsplit_once(':')?;
    let (file, line) = (desk.file(name)?, line.parse::<u32>().ok()?);
    let (from, text) = desk.sources()?.line(file, line);
    let start = from as usize + (text.len() - text.trim_start().len());
    let span = Span::new(file, start, from as usize + text.trim_end().len());
    let mut message = format!("{}: {}", one.about, one.message);
    one.evidence.iter().for_each(|line| message.push_str(&format!("\n{line}")));
    let mut told = plain(severity, message);
    told.code = Some(lsp::NumberOrString::String(one.name.clone()));
    told.source = Some(format!("{SOURCE} audit"));
    told.range = lines.range(desk, span, encoding);
    Some((desk.uri(file)?.as_str().to_string(), told))
}

/// The edits that are proposed for what is wrong within some bytes of a file: what each does, and what it mends.
pub fn mending(desk: &Desk, file: FileId, bytes: &std::ops::Range<usize>, encoding: Encoding) -> Vec<lsp::CodeAction> {
    let Some(loaded) = desk.loaded() else { return Vec::new() };
    let mut lines = Lined::default();
    let touches = |span: &Span| {
        let range = span.range();
        span.file == file && range.start <= bytes.end && bytes.start <= range.end
    };
    let mut actions = Vec::new();
    let advice = desk.advice();
    for one in loaded.diagnostics.iter().chain(advice).filter(|one| one.place.as_ref().is_some_and(touches)) {
        for help in &one.helps {
            let Some((edit, uri)) = help.edit.as_ref().and_then(|edit| Some((edit, desk.uri(edit.span.file)?))) else {
                continue;
            };
            let range = lines.range(desk, edit.span, encoding);
            let edits = vec![lsp::TextEdit { range, new_text: edit.replacement.clone() }];
            let (_, told) = diagnostic(desk, one, &mut lines, encoding, "");
            actions.push(lsp::CodeAction {
                title: title(&help.text, &edit.replacement),
                kind: Some(lsp::CodeActionKind::QUICKFIX),
                diagnostics: Some(vec![told]),
                edit: Some(changes([(uri, edits)])),
                is_preferred: Some(one.helps.len() == 1),
                ..lsp::CodeAction::default()
            });
        }
    }
    actions
}

/// What an edit does, in a few words: advice begins with its goal, and asks where it only guesses.
fn title(help: &str, replacement: &str) -> String {
    if help.starts_with("did you mean") { format!("Write `{replacement}`") } else { capital(help) }
}

fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or(String::new(), |first| first.to_uppercase().chain(chars).collect())
}

/// Edits in several files.
pub fn changes(edits: impl IntoIterator<Item = (lsp::Uri, Vec<lsp::TextEdit>)>) -> lsp::WorkspaceEdit {
    let one = |(uri, edits): (lsp::Uri, Vec<lsp::TextEdit>)| lsp::TextDocumentEdit {
        text_document: lsp::OptionalVersionedTextDocumentIdentifier { uri, version: None },
        edits: edits.into_iter().map(lsp::OneOf::Left).collect(),
    };
    let all = edits.into_iter().map(one).collect();
    lsp::WorkspaceEdit { document_changes: Some(lsp::DocumentChanges::Edits(all)), ..lsp::WorkspaceEdit::default() }
}
