//! What goes over each byte of an output, which may be hundreds of megabytes.

use anstream::adapter::strip_str;
use std::borrow::Cow;

/// A text without colours.
///
/// ```
/// assert_eq!(bastide_rows::text::plain("\u{1b}[1mread\u{1b}[0m\n"), "read\n");
/// ```
pub fn plain(text: &str) -> Cow<'_, str> {
    // Most texts have none: bytes are looked at many at a time.
    let shows = |byte: u8| byte >= b' ' && byte != 0x7f || matches!(byte, b'\n' | b'\t');
    if text.bytes().fold(true, |all, byte| all & shows(byte)) {
        return Cow::Borrowed(text);
    }
    #[expect(clippy::disallowed_methods, reason = "this package is compiled for speed")]
    Cow::Owned(strip_str(text).to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[expect(clippy::disallowed_methods, reason = "it is what is compared with")]
    fn what_is_looked_at_quickly_comes_to_the_same() {
        let all = (0..0x3000).chain([0xfeff, 0x1f600, 0xe0041]).filter_map(char::from_u32);
        for c in all {
            for text in [format!("{c}"), format!("a{c}b\n"), format!("\u{1b}[1m{c}\u{1b}[0m"), format!("\u{1b}{c}x")] {
                assert_eq!(plain(&text), strip_str(&text).to_string(), "{text:?}");
            }
        }
        assert!(matches!(plain("Søren\t日本\n"), Cow::Borrowed(_)));
    }
}
