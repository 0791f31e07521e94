//! Breaking long lines: at commas and before the words that begin a part of a sentence.

use super::WIDTH;

/// How much deeper a line goes on.
const HANG: usize = 8;

/// Prints a line that begins at an indent, broken where it grows too long. Break places are marked
/// by `\u{1}` in the text: there a blank may become a new line.
pub fn print(out: &mut String, indent: usize, text: &str, after: &str) {
    let pieces = pieces(text);
    let whole = pieces.iter().map(|p| p.chars().count()).sum::<usize>() + pieces.len() - 1 + indent;
    let mut column = indent;
    out.extend(std::iter::repeat_n(' ', indent));
    for (i, piece) in pieces.iter().enumerate() {
        let length = piece.trim_end().chars().count();
        if i > 0 && whole > WIDTH && column + 1 + length > WIDTH {
            let trimmed = out.trim_end_matches(' ').len();
            out.truncate(trimmed);
            out.push('\n');
            out.extend(std::iter::repeat_n(' ', indent + HANG));
            column = indent + HANG;
        } else if i > 0 {
            out.push(' ');
            column += 1;
        }
        out.push_str(piece);
        column += piece.chars().count();
    }
    let trimmed = out.trim_end_matches(' ').len();
    out.truncate(trimmed);
    out.push_str(after);
    out.push('\n');
}

/// The text cut at its marks. A mark inside a quoted text is part of the text.
fn pieces(text: &str) -> Vec<&str> {
    let (mut found, mut start) = (Vec::new(), 0);
    let (mut quoted, mut escaped) = (false, false);
    for (i, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if quoted => escaped = true,
            '"' => quoted = !quoted,
            '\u{1}' if !quoted => {
                found.push(&text[start..i]);
                start = i + 1;
            }
            _ => {}
        }
    }
    found.push(&text[start..]);
    found
}
