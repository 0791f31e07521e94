//! Writing names and texts the way the language reads them.

/// Words that cannot stand bare where a name is wanted.
pub const RESERVED: [&str; 15] = [
    "anyone",
    "user",
    "members",
    "owner",
    "not",
    "holds",
    "today",
    "resource",
    "session",
    "always",
    "never",
    "only",
    "everything",
    "anything",
    "self",
];

/// Reserved words beyond [`RESERVED`] that name targets.
pub const RESERVED_TARGETS: [&str; 2] = ["parent", "source"];

/// Whether a word is reserved, so that it must be quoted where it is a name.
pub fn is_reserved(word: &str) -> bool {
    RESERVED.contains(&word) || RESERVED_TARGETS.contains(&word)
}

/// Whether a name can be written without quotes.
pub fn is_bare(name: &str) -> bool {
    let mut chars = name.chars();
    chars.next().is_some_and(char::is_alphabetic)
        && chars.all(|c| c.is_alphanumeric() || matches!(c, '_' | '-' | '.'))
        && !name.ends_with(['.', '-'])
        && !is_reserved(name)
        && !["user.", "resource.", "session."].iter().any(|domain| name.starts_with(domain))
}

/// A name as the language writes it: bare where it may be, else quoted.
pub fn name(name: &str) -> String {
    if is_bare(name) { name.to_string() } else { text(name) }
}

/// A quoted text.
pub fn text(value: &str) -> String {
    let mut out = String::with_capacity(value.len() + 2);
    out.push('"');
    for c in value.chars() {
        if matches!(c, '"' | '\\') {
            out.push('\\');
        }
        out.push(c);
    }
    out.push('"');
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_quoted_only_where_they_must() {
        for (plain, written) in [
            ("tl-014", "tl-014"),
            ("ines.varga", "ines.varga"),
            ("5th floor", "\"5th floor\""),
            ("owner", "\"owner\""),
            ("user.smith", "\"user.smith\""),
            ("ends.", "\"ends.\""),
            ("say \"so\"", "\"say \\\"so\\\"\""),
            ("", "\"\""),
        ] {
            assert_eq!(name(plain), written);
        }
    }
}
