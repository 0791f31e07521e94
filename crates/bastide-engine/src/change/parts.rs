//! The parts of a change that is written as one word: `USER:GROUP`, `user:ID.ATTRIBUTE=VALUE`.
//!
//! A part that holds what parts them may be quoted as in the language: `ann:"urn:dept:x"`. Without quotes a text may be cut
//! in several ways; it is taken where only one of them leads to things that are there.

use bastide_syntax::quote;
use std::borrow::Cow;

/// The positions of a character outside quotes.
pub fn cuts(text: &str, at: char) -> Vec<usize> {
    let (mut found, mut quoted, mut escaped) = (Vec::new(), false, false);
    for (position, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if quoted => escaped = true,
            // A quote that does not begin a part is a character like any other.
            '"' if quoted => quoted = false,
            '"' => quoted = text[..position].chars().next_back().is_none_or(|before| matches!(before, ':' | '.' | '=')),
            c if c == at && !quoted => found.push(position),
            _ => {}
        }
    }
    found
}

/// What a part says: what stands inside its quotes, or the part as it is.
pub fn said(part: &str) -> Cow<'_, str> {
    let inside = part.strip_prefix('"').and_then(|rest| rest.strip_suffix('"'));
    let Some(inside) = inside else { return Cow::Borrowed(part) };
    let mut out = String::with_capacity(inside.len());
    let mut chars = inside.chars();
    while let Some(c) = chars.next() {
        match c {
            '\\' => out.extend(chars.next()),
            '"' => return Cow::Borrowed(part),
            c => out.push(c),
        }
    }
    Cow::Owned(out)
}

/// A part in quotes.
pub fn quoted(part: &str) -> String {
    quote::text(part)
}

/// What reads back as what is meant: the plain word where that does, else the one in quotes.
pub fn told(plain: String, in_quotes: impl FnOnce() -> String, reads_back: impl Fn(&str) -> bool) -> String {
    if reads_back(&plain) { plain } else { in_quotes() }
}

/// The only thing among readings of a text; `None` where none leads anywhere.
///
/// # Errors
/// Several different things.
pub fn only<T: PartialEq>(readings: impl IntoIterator<Item = T>) -> Result<Option<T>, ()> {
    let mut found: Option<T> = None;
    for reading in readings {
        match &found {
            Some(known) if *known != reading => return Err(()),
            _ => found = Some(reading),
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quotes_keep_parts_together() {
        assert_eq!(cuts("ann:\"urn:dept:x\"", ':'), [3]);
        assert_eq!(cuts("ann:urn:x", ':'), [3, 7]);
        assert_eq!(cuts(r#"user:"a\".b".x=1.5"#, '.'), [12, 16]);
        assert_eq!(cuts("5\"x:y", ':'), [3], "a quote inside a word is none");
        assert_eq!(said(r#""a\"b\\c""#), r#"a"b\c"#);
        assert_eq!((said("a"), said("\"a"), said("\"")), ("a".into(), "\"a".into(), "\"".into()));
        assert_eq!((only([1, 1]), only([1, 2]), only::<u8>([])), (Ok(Some(1)), Err(()), Ok(None)));
    }
}
