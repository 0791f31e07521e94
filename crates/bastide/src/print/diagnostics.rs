//! Diagnostics drawn with their lines.

use super::text::{bad, count, doubt, good, grouped, visible};
use crate::terminal::Terminal;
use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Origin, Renderer, Snippet};
use bastide_syntax::diagnostic::MOST_LISTED;
use bastide_syntax::{Diagnostic, Severity, Sources, Span};
use std::ops::Range;

/// More than these of one code are counted, not shown.
const MOST_ALIKE: usize = 12;
/// A line longer than this is shown in part.
const LONGEST_SHOWN: usize = 400;

/// All diagnostics, drawn, warnings before errors, with a closing line that counts them.
pub fn report(sources: &Sources, diagnostics: &[&Diagnostic], terminal: &Terminal) -> String {
    let mut out = String::new();
    let (mut seen, mut shown): (Vec<(&str, usize)>, Vec<usize>) = Default::default();
    // Errors come last: on a terminal that is where the eye is.
    let (errors, warnings): (Vec<&Diagnostic>, Vec<&Diagnostic>) = diagnostics.iter().partition(|d| d.is_error());
    for diagnostic in warnings.into_iter().chain(errors) {
        let code = diagnostic.code.name;
        let at = seen.iter().position(|(name, _)| *name == code).unwrap_or_else(|| {
            seen.push((code, 0));
            shown.push(0);
            seen.len() - 1
        });
        seen[at].1 += 1 + diagnostic.more;
        shown[at] += 1;
        if shown[at] <= MOST_ALIKE {
            out.push_str(&draw(sources, diagnostic, terminal));
            out.push_str("\n\n");
        }
    }
    for ((code, number), shown) in seen.iter().zip(shown).filter(|((_, n), _)| *n > MOST_ALIKE) {
        let listed = if shown < *number { format!("the first {MOST_LISTED} of a file") } else { "all".to_string() };
        let more = grouped((number - MOST_ALIKE) as u64);
        out.push_str(&format!("{more} more of `{code}` are not shown: `--format json` lists {listed}\n\n"));
    }
    out.push_str(&closing(diagnostics));
    out
}

/// "2 errors, 1 warning".
pub fn closing(diagnostics: &[&Diagnostic]) -> String {
    let number = |is: bool| diagnostics.iter().filter(|d| d.is_error() == is).map(|d| 1 + d.more).sum::<usize>();
    let (errors, warnings) = (number(true), number(false));
    let mut parts = Vec::new();
    if errors > 0 {
        parts.push(bad(&count(errors, "error")));
    }
    if warnings > 0 {
        parts.push(doubt(&count(warnings, "warning")));
    }
    match (errors, parts.is_empty()) {
        (_, true) => format!("{}\n", good("no mistakes")),
        (0, _) => format!("{}\n", parts.join(", ")),
        _ => format!("{}: nothing is evaluated until the errors are mended\n", parts.join(", ")),
    }
}

fn draw(sources: &Sources, diagnostic: &Diagnostic, terminal: &Terminal) -> String {
    let level = match diagnostic.severity() {
        Severity::Error => Level::ERROR,
        Severity::Warning => Level::WARNING,
    };
    let message = visible(&diagnostic.message).into_owned();
    let title = level.primary_title(message).id(diagnostic.code.name);
    let mut group = match (diagnostic.place, &diagnostic.file) {
        // Of what lies outside of the estate, no line is shown.
        (Some(place), _) if sources.is_hidden(place.file) => {
            let at = sources.position(place);
            let path = format!("{}:{}:{}", visible(sources.name(place.file)), at.line, at.column);
            title.element(Origin::path(path))
        }
        (Some(place), _) => title.elements(snippets(sources, place, diagnostic)),
        (None, Some(file)) => title.element(Origin::path(visible(file).into_owned())),
        (None, None) => Group::with_title(title),
    };
    for note in &diagnostic.notes {
        group = group.element(Level::NOTE.message(visible(note).into_owned()));
    }
    for help in &diagnostic.helps {
        group = group.element(Level::HELP.message(visible(&help.text).into_owned()));
    }
    let renderer = if terminal.color() { Renderer::styled() } else { Renderer::plain() };
    renderer.decor_style(DecorStyle::Ascii).term_width(terminal.width()).render(&[group])
}

/// One piece a file, the primary place first.
fn snippets(
    sources: &Sources,
    place: Span,
    diagnostic: &Diagnostic,
) -> Vec<Snippet<'static, annotate_snippets::Annotation<'static>>> {
    let mut pieces: Vec<Vec<(Span, &str, AnnotationKind)>> =
        vec![vec![(place, &diagnostic.label, AnnotationKind::Primary)]];
    for other in diagnostic.others.iter().filter(|other| !sources.is_hidden(other.span.file)) {
        let line = |span: Span| sources.position(span).line;
        let near = |p: &&mut Vec<(Span, &str, AnnotationKind)>| {
            p[0].0.file == other.span.file && line(p[0].0).abs_diff(line(other.span)) < 8
        };
        let mark = (other.span, other.text.as_str(), AnnotationKind::Context);
        match pieces.iter_mut().find(near) {
            Some(piece) => piece.push(mark),
            None => pieces.push(vec![mark]),
        }
    }
    pieces.iter().map(|marks| snippet(sources, marks)).collect()
}

fn snippet(
    sources: &Sources,
    marks: &[(Span, &str, AnnotationKind)],
) -> Snippet<'static, annotate_snippets::Annotation<'static>> {
    let file = marks[0].0.file;
    let text = sources.text(file);
    let clamp = |at: u32| (at as usize).min(text.len());
    let from = marks.iter().map(|m| clamp(m.0.start)).min().unwrap_or(0);
    let upto = marks.iter().map(|m| clamp(m.0.end)).max().unwrap_or(0);
    let start = text[..from].rfind('\n').map_or(0, |i| i + 1);
    let end = text[upto..].find('\n').map_or(text.len(), |i| upto + i);
    // A very long line is cut around what is marked.
    let (start, end) = if end - start > LONGEST_SHOWN && !text[start..end].contains('\n') {
        let left = floor(text, from.saturating_sub(LONGEST_SHOWN / 2).max(start));
        (left, floor(text, (left + LONGEST_SHOWN).min(end)))
    } else {
        (start, end)
    };
    let shown: String = text[start..end].chars().map(harmless).collect();
    let line = sources.position(Span::new(file, start, start)).line as usize;
    let mut snippet = Snippet::source(shown.clone()).line_start(line).path(visible(sources.name(file)).into_owned());
    for (span, label, kind) in marks {
        let range = within(span.range(), text, start, end, &shown);
        let annotation = kind.span(range);
        let label = visible(label).into_owned();
        snippet = snippet.annotation(if label.is_empty() { annotation } else { annotation.label(label) });
    }
    snippet
}

/// Characters that would act on a terminal, in the place of each one that is shown instead.
fn harmless(c: char) -> char {
    match c {
        '\n' | '\t' => c,
        '\r' => ' ',
        c if visible(c.encode_utf8(&mut [0; 4])) != c.to_string() => '\u{fffd}',
        c => c,
    }
}

fn floor(text: &str, mut at: usize) -> usize {
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

/// A range of the text as a range of the piece shown, whose characters may have other lengths.
fn within(range: Range<usize>, text: &str, start: usize, end: usize, shown: &str) -> Range<usize> {
    let inside = |at: usize| text[start..floor(text, at.clamp(start, end))].chars().count();
    let byte = |chars: usize| shown.char_indices().nth(chars).map_or(shown.len(), |(i, _)| i);
    let (from, upto) = (byte(inside(range.start)), byte(inside(range.end)));
    from..upto.max(from)
}
