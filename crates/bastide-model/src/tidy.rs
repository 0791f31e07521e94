//! Ids and names in one form: NFC, no blanks at the ends, nothing in them that does not show.

use bastide_syntax::hidden::{Hidden, hidden};
use std::sync::LazyLock;
use unicode_normalization::char::canonical_combining_class;
use unicode_normalization::{UnicodeNormalization, is_nfc};

/// What keeps an id or a name from being in its form, and what it would be there; none where it is. Costs a look at every
/// byte where the text is ASCII.
pub fn untidy(text: &str) -> Option<(String, String)> {
    let plain = text.bytes().all(|b| matches!(b, b' '..=b'~'));
    if plain && !text.starts_with(' ') && !text.ends_with(' ') {
        return None;
    }
    let better = || {
        let kept: String = text.chars().filter(|c| hidden(*c).is_none_or(|h| h == Hidden::LineEnd)).collect();
        kept.nfc().collect::<String>().trim().to_string()
    };
    if text.trim() != text {
        return Some(("has blanks at its ends".to_string(), better()));
    }
    if let Some(c) = text.chars().find(|c| hidden(*c).is_some() || matches!(c, '\n' | '\t')) {
        let what = match hidden(c) {
            Some(Hidden::Turn) => "turns the direction of text",
            Some(Hidden::Invisible) => "does not show",
            _ => "is no letter of a name",
        };
        return Some((format!("holds U+{:04X}, which {what}", c as u32), better()));
    }
    if !is_nfc(text) {
        return Some(("is not in the normal form NFC: letters and their marks are apart".to_string(), better()));
    }
    None
}

/// An untidy name with everything in it made visible that keeps it from being tidy.
pub fn shown(text: &str) -> String {
    let apart = !is_nfc(text);
    let odd = |c: char| hidden(c).is_some() || (c.is_whitespace() && c != ' ');
    let part = |c: char| match c {
        c if odd(c) || (apart && canonical_combining_class(c) != 0) => c.escape_unicode().to_string(),
        c => c.to_string(),
    };
    text.chars().map(part).collect()
}

/// What keeps a text of an attribute from being compared: it looks like another one and is not. Signs of which a picture is
/// made up, and ends of lines, may stand in it.
pub fn uncomparable(text: &str) -> Option<String> {
    if text.bytes().all(|b| matches!(b, b' '..=b'~')) {
        return None;
    }
    let mut before = ' ';
    for (at, c) in text.char_indices() {
        let ends = c == '\r' && text[at + 1..].starts_with('\n');
        let joins = matches!(c, '\u{200d}' | '\u{fe0e}' | '\u{fe0f}') && is_picture(before);
        if hidden(c).is_some() && !joins && !ends {
            return Some(format!("it holds U+{:04X}, which does not show", c as u32));
        }
        before = c;
    }
    (!is_nfc(text)).then(|| "it is not in the normal form NFC: letters and their marks are apart".to_string())
}

fn is_picture(c: char) -> bool {
    matches!(c, '#' | '*' | '0'..='9' | '\u{a9}' | '\u{ae}' | '\u{203c}'..='\u{3299}' | '\u{fe0f}' | '\u{1f000}'..='\u{1faff}')
}

/// What each ASCII character looks like: none of them joins with its neighbours.
static LOOKS: LazyLock<[String; 128]> =
    LazyLock::new(|| std::array::from_fn(|byte| full_look((byte as u8 as char).encode_utf8(&mut [0; 4]))));

/// A text by what it looks like: capitals and look-alike letters (UTS #39, section 4) are one. Cost: a look at every byte
/// where the text is ASCII, otherwise some tables for every character.
pub fn look(text: &str) -> String {
    if text.is_ascii() {
        return text.bytes().map(|byte| LOOKS[usize::from(byte)].as_str()).collect();
    }
    full_look(text)
}

fn full_look(text: &str) -> String {
    let folded: String = caseless::default_case_fold_str(text);
    let skeleton: String = unicode_security::skeleton(&folded).collect();
    // What looks like a capital is folded, too.
    caseless::default_case_fold_str(&skeleton)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_have_one_form() {
        for text in ["ann", "Søren Ø", "日本 1", "a  b", ""] {
            assert_eq!(untidy(text), None, "{text}");
        }
        for (text, better) in [
            (" ann", "ann"),
            ("ann\u{a0}", "ann"),
            ("a\u{200b}nn", "ann"),
            ("a\u{202e}nn", "ann"),
            ("ann\u{7f}", "ann"),
            ("Jose\u{301}", "José"),
            ("a\u{e0041}", "a"),
            ("a\tb", "ab"),
        ] {
            assert_eq!(
                untidy(text).map(|(_, better)| better).as_deref().map(|b| b.replace('\t', "")),
                Some(better.to_string()),
                "{text:?}"
            );
        }
    }

    #[test]
    fn bytes_look_as_characters_do() {
        let mut rng = fastrand::Rng::with_seed(20261201);
        for _ in 0..20_000 {
            let text: String = (0..rng.usize(..9)).map(|_| char::from(rng.u8(..128))).collect();
            assert_eq!(look(&text), full_look(&text), "{text:?}");
        }
        assert_eq!(look("L0m"), look("lorn"));
    }

    #[test]
    fn texts_are_what_they_look_like() {
        for text in ["desk", "two\nlines\r\nand a\ttab", "José", "❤\u{fe0f}", "👩\u{200d}💻", "日本"] {
            assert_eq!(uncomparable(text), None, "{text}");
        }
        for text in ["de\u{200b}sk", "desk\u{202e}", "Jose\u{301}", "a\u{200d}b", "a\u{1b}b", "a\rb", "a\u{2028}b"] {
            assert!(uncomparable(text).is_some(), "{text:?}");
        }
    }

    #[test]
    fn names_that_look_alike_have_one_look() {
        for (a, b) in [("paul", "pau1"), ("Ann", "ann"), ("аnn", "ann"), ("Rebecca", "Rebecсa"), ("bob", "ｂob")] {
            assert_eq!(look(a), look(b), "{a} {b}");
        }
        assert_ne!(look("ann"), look("anna"));
    }
}
