//! Ids and names out of what a system calls its things: tidy, and never two of one.

use bastide_syntax::hidden::hidden;
use unicode_normalization::{UnicodeNormalization, is_nfc};

/// An id of names from the root down. What an id may not hold, and what would make two of them one, is written as `%` and
/// the number of its byte.
pub fn id<'n>(prefix: &str, names: impl IntoIterator<Item = &'n [u8]>) -> String {
    let names: Vec<String> = names.into_iter().map(segment).collect();
    format!("{prefix}{}", names.join("/"))
}

/// One name as a part of an id.
pub fn segment(name: &[u8]) -> String {
    let escape = |text: &str| text.bytes().map(|b| format!("%{b:02X}")).collect::<String>();
    let mut out = String::new();
    for chunk in name.utf8_chunks() {
        let valid = chunk.valid();
        let ink = |c: char| !c.is_whitespace();
        let (first, last) = (valid.find(ink).unwrap_or(0), valid.rfind(ink).unwrap_or(0));
        let composed = is_nfc(valid);
        for (at, c) in valid.char_indices() {
            let is_tidy = composed || c.is_ascii();
            let is_plain = is_shown(c) && !matches!(c, '%' | '/');
            let is_inside = !c.is_whitespace() || (first..=last).contains(&at);
            if is_tidy && is_plain && is_inside {
                out.push(c);
            } else {
                out.push_str(&escape(c.encode_utf8(&mut [0; 4])));
            }
        }
        out.extend(chunk.invalid().iter().map(|b| format!("%{b:02X}")));
    }
    out
}

fn is_shown(c: char) -> bool {
    !c.is_control() && hidden(c).is_none()
}

/// A name as it can be shown, for people.
pub fn name(name: &[u8]) -> String {
    let text: String = String::from_utf8_lossy(name).nfc().collect();
    let shown: String = text.chars().map(|c| if is_shown(c) { c } else { '\u{fffd}' }).collect();
    let shown = shown.trim();
    if shown.is_empty() { segment(name) } else { shown.to_string() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_are_tidy_and_never_two_of_one() {
        let names: [&[u8]; 10] =
            [b"a/b", b"a", b"a%2Fb", b" a", b"a ", b"a b", "e\u{301}".as_bytes(), "\u{e9}".as_bytes(), b"\xff", b"%FF"];
        let ids: Vec<String> = names.iter().map(|name| id("x:", [*name])).collect();
        for (at, id) in ids.iter().enumerate() {
            assert!(bastide_model::tidy::untidy(id).is_none(), "{id}");
            assert!(!ids[..at].contains(id), "{id}");
        }
        assert_eq!(ids[0], "x:a%2Fb");
        assert_eq!(id("", [b"a".as_slice(), b"b"]), "a/b");
        assert_eq!(name("e\u{301}\u{7}".as_bytes()), "\u{e9}\u{fffd}");
    }
}
