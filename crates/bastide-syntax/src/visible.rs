//! Names from data, so that they do nothing where they are shown.

use std::borrow::Cow;
use std::fmt::Write;

/// A text from data with everything that could act on a terminal made visible: control
/// characters, and marks that turn the direction of what follows.
pub fn visible(text: &str) -> Cow<'_, str> {
    let acts = |c: char| {
        c.is_control() || matches!(c, '\u{200e}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
    };
    if !text.contains(acts) {
        return Cow::Borrowed(text);
    }
    let mut out = String::new();
    for c in text.chars() {
        if acts(c) { write!(out, "{}", c.escape_default()).expect("a string takes everything") } else { out.push(c) }
    }
    Cow::Owned(out)
}
