//! Names from data, so that they do nothing where they are shown.

use crate::hidden::hidden;
use std::borrow::Cow;
use std::fmt::Write;

/// A text from data with everything made visible that could act on a terminal, or that does not show: control characters,
/// marks that turn the direction of what follows, characters without a width.
pub fn visible(text: &str) -> Cow<'_, str> {
    let acts = |c: char| matches!(c, '\n' | '\t') || hidden(c).is_some();
    // Nearly every text is plain: bytes are looked at many at a time.
    let plain = text.bytes().fold(true, |plain, byte| plain & matches!(byte, b' '..=b'~'));
    if plain || !text.contains(acts) {
        return Cow::Borrowed(text);
    }
    let mut out = String::new();
    for c in text.chars() {
        if acts(c) { write!(out, "{}", c.escape_default()).expect("a string takes everything") } else { out.push(c) }
    }
    Cow::Owned(out)
}

/// A whole output, in which no line begins with what a system that runs it takes for a command to itself: `::`, or `##` and a
/// word in brackets.
pub fn no_commands(text: &str) -> Cow<'_, str> {
    if !text.contains("::") && !text.contains("##") {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len());
    for line in text.split_inclusive('\n') {
        let begins = line.len() - behind_colours(line).len();
        let (blank, rest) = line.split_at(begins);
        out.push_str(blank);
        let word = rest.strip_prefix("##").map(|rest| rest.trim_start_matches(|c: char| c.is_ascii_alphabetic()));
        // Our own frames have a place of another file so: nothing else can be read into it.
        let frame = rest.strip_prefix("::: ").is_some_and(|place| !place.contains("::"));
        if (rest.starts_with("::") && !frame) || word.is_some_and(|rest| rest.starts_with('[')) {
            let first = rest.chars().next().unwrap_or(' ');
            write!(out, "{}", first.escape_unicode()).expect("a string takes everything");
            out.push_str(&rest[first.len_utf8()..]);
        } else {
            out.push_str(rest);
        }
    }
    Cow::Owned(out)
}

/// JSON in which nothing acts on whoever looks at it: the same values, what does not show written by its number.
pub fn escaped_json(text: &str) -> Cow<'_, str> {
    let plain = text.bytes().fold(true, |plain, byte| plain & matches!(byte, b' '..=b'~' | b'\n'));
    if plain || !text.contains(|c| hidden(c).is_some()) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if hidden(c).is_none() {
            out.push(c);
            continue;
        }
        for unit in c.encode_utf16(&mut [0; 2]) {
            write!(out, "\\u{unit:04x}").expect("a string takes everything");
        }
    }
    Cow::Owned(out)
}

/// A line behind the blanks and colours that it begins with.
fn behind_colours(line: &str) -> &str {
    let mut rest = line.trim_start();
    while let Some((_, behind)) = rest.strip_prefix("\u{1b}[").and_then(|rest| rest.split_once('m')) {
        rest = behind.trim_start();
    }
    rest
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_line_is_a_command() {
        assert_eq!(no_commands("a ::b\n  c"), "a ::b\n  c");
        assert_eq!(no_commands("::a\n  ::b\n\u{1b}[1m::c\n"), "\\u{3a}:a\n  \\u{3a}:b\n\u{1b}[1m\\u{3a}:c\n");
        assert_eq!(no_commands(" ::: a.csv:1:1\n ::: a::b\n"), " ::: a.csv:1:1\n \\u{3a}:: a::b\n");
        assert_eq!(no_commands("##[x]y\n##abc[z]\n## head\n"), "\\u{23}#[x]y\n\\u{23}#abc[z]\n## head\n");
    }

    #[test]
    fn json_says_the_same() {
        assert_eq!(
            escaped_json("{\"a\": \"\u{7f}\u{202e}\u{e0041}é\"}\n"),
            "{\"a\": \"\\u007f\\u202e\\udb40\\udc41é\"}\n"
        );
    }

    #[test]
    fn what_does_not_show_is_shown() {
        assert_eq!(visible("a\u{200b}\u{61c}\u{e0041}\u{85}\u{7f}b"), "a\\u{200b}\\u{61c}\\u{e0041}\\u{85}\\u{7f}b");
        assert!(matches!(visible("Søren – 日本"), Cow::Borrowed(_)));
    }
}
