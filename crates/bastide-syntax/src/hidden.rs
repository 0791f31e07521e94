//! Characters that do not show, or show something else than is there.

use crate::codes;
use crate::diagnostic::{Diagnostic, Diagnostics};
use crate::source::{FileId, Span};
use unicode_normalization::{UnicodeNormalization, is_nfc};

/// A character that a reader does not see, by what it does.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Hidden {
    /// It ends a line for some programs and not for others.
    LineEnd,
    /// It turns the direction of the text around it.
    Turn,
    /// It takes no room.
    Invisible,
    /// It is no text at all.
    Control,
}

/// What a character hides, if anything. Blanks and the ends of lines that everybody agrees on hide nothing.
pub fn hidden(c: char) -> Option<Hidden> {
    Some(match c {
        '\t' | '\n' | ' '..='~' => return None,
        '\r' | '\u{b}' | '\u{c}' | '\u{85}' | '\u{2028}' | '\u{2029}' => Hidden::LineEnd,
        '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => Hidden::Turn,
        '\u{ad}'
        | '\u{34f}'
        | '\u{115f}'
        | '\u{1160}'
        | '\u{17b4}'
        | '\u{17b5}'
        | '\u{180b}'..='\u{180f}'
        | '\u{200b}'..='\u{200d}'
        | '\u{2060}'..='\u{206f}'
        | '\u{3164}'
        | '\u{fe00}'..='\u{fe0f}'
        | '\u{feff}'
        | '\u{ffa0}'
        | '\u{fff0}'..='\u{fffb}'
        | '\u{1bca0}'..='\u{1bca3}'
        | '\u{1d173}'..='\u{1d17a}'
        | '\u{e0000}'..='\u{e0fff}' => Hidden::Invisible,
        c if c.is_control() => Hidden::Control,
        _ => return None,
    })
}

/// What is hidden in a text that people read and write by hand. In comments, which are not in order of anything, what only
/// takes no room is let pass.
pub fn check(file: FileId, text: &str, comments: &[Span]) -> Diagnostics {
    let start = if text.starts_with('\u{feff}') { 3 } else { 0 };
    let suspicious = |b: &u8| !matches!(b, b'\t' | b'\n' | b' '..=b'~');
    if !text.as_bytes()[start..].iter().any(suspicious) {
        return Diagnostics::new();
    }
    let mut found = Diagnostics::new();
    for (i, c) in text[start..].char_indices() {
        let at = start + i;
        let Some(what) = hidden(c) else { continue };
        if c == '\r' && text[at + 1..].starts_with('\n') {
            continue;
        }
        let in_comment = || {
            let next = comments.partition_point(|span| span.start as usize <= at);
            next > 0 && comments[next - 1].end as usize > at
        };
        if what == Hidden::Invisible && in_comment() {
            continue;
        }
        let shown = format!("U+{:04X}", c as u32);
        let (message, help) = match what {
            Hidden::LineEnd => (
                format!("{shown} ends a line for some programs and not for others"),
                "end lines by a line feed: what stands behind this could be taken for a part of a comment",
            ),
            Hidden::Turn => (
                format!("{shown} turns the direction of the text around it"),
                "take it out: with it, a line shows something else than it says",
            ),
            Hidden::Invisible => {
                (format!("{shown} does not show"), "take it out: two names could look the same and be different")
            }
            Hidden::Control => (format!("{shown} is a control character and no text"), "take it out"),
        };
        let span = Span::new(file, at, at + c.len_utf8());
        found.push(Diagnostic::at(&codes::HIDDEN_CHARACTER, span, message).help(help));
    }
    let mut from = 0;
    for line in text.split_inclusive('\n') {
        let at = from;
        from += line.len();
        if line.is_ascii() || is_nfc(line) {
            continue;
        }
        let apart = line.chars().zip(line.nfc()).take_while(|(is, should)| is == should).map(|(c, _)| c.len_utf8());
        let at = at + apart.sum::<usize>();
        if comments.iter().any(|span| span.range().contains(&at)) {
            continue;
        }
        let letter = text[at..].chars().next().map_or(at, |c| at + c.len_utf8());
        let message = "a letter and its mark are apart: this is not the normal form NFC";
        let help = "write them as one character: texts that look the same would not be equal";
        found.push(Diagnostic::at(&codes::HIDDEN_CHARACTER, Span::new(file, at, letter), message).help(help));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_hides_is_told_and_what_shows_is_not() {
        let told = |text: &str| check(FileId(0), text, &[]).len();
        assert_eq!(told("\u{feff}rule a {\r\n\tmay read # Søren, 日本, ﷺ\n}\n"), 0);
        for c in [
            "\r",
            "\u{b}",
            "\u{c}",
            "\u{85}",
            "\u{2028}",
            "\u{202e}",
            "\u{61c}",
            "\u{200b}",
            "\u{e0041}",
            "\u{7f}",
            "\0",
        ] {
            assert_eq!(told(&format!("a{c}b")), 1, "{c:?}");
        }
        assert_eq!(told("who user jose\u{301}"), 1);
        let comment = Span::new(FileId(0), 2, 20);
        assert!(check(FileId(0), "a # \u{1f469}\u{200d}\u{1f4bb}", &[comment]).is_empty());
        assert_eq!(check(FileId(0), "a # \u{202e}x", &[comment]).len(), 1);
    }
}
