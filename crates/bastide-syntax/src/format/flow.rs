//! Breaking long lines: at commas and before the words that begin a part of a sentence; inside
//! parentheses only where nothing else helps.

use super::WIDTH;

/// How much deeper a line goes on.
const HANG: usize = 8;
/// Where a blank may become a new line.
pub const BREAK: char = '\u{1}';
/// The same inside parentheses.
pub const INNER: char = '\u{2}';

/// Fingerprints a line that begins at an indent, broken where it grows too long, and what follows it.
pub fn print(out: &mut String, indent: usize, text: &str, after: &str) {
    let mut line = Flow { out, column: indent, hang: indent + HANG };
    line.out.extend(std::iter::repeat_n(' ', indent));
    let whole = indent + length(text);
    if whole <= WIDTH {
        line.out.push_str(&plain(text));
    } else {
        for (i, piece) in pieces(text, BREAK).into_iter().enumerate() {
            line.outer(piece, i == 0);
        }
    }
    let trimmed = out.trim_end_matches(' ').len();
    out.truncate(trimmed);
    out.push_str(after);
    out.push('\n');
}

struct Flow<'o> {
    out: &'o mut String,
    column: usize,
    hang: usize,
}

impl Flow<'_> {
    fn outer(&mut self, piece: &str, first: bool) {
        if self.hang + length(piece) <= WIDTH || pieces(piece, INNER).len() == 1 {
            return self.put(piece, first);
        }
        for (i, inner) in pieces(piece, INNER).into_iter().enumerate() {
            self.put(inner, first && i == 0);
        }
    }

    /// Puts a piece behind what is there, or on a new line where it does not fit.
    fn put(&mut self, piece: &str, first: bool) {
        let piece = plain(piece);
        let length = piece.trim_end().chars().count();
        if !first && self.column + 1 + length > WIDTH {
            let trimmed = self.out.trim_end_matches(' ').len();
            self.out.truncate(trimmed);
            self.out.push('\n');
            self.out.extend(std::iter::repeat_n(' ', self.hang));
            self.column = self.hang;
        } else if !first {
            self.out.push(' ');
            self.column += 1;
        }
        self.out.push_str(&piece);
        self.column += piece.chars().count();
    }
}

fn length(text: &str) -> usize {
    text.chars().count()
}

/// The text with a blank for each mark.
fn plain(text: &str) -> String {
    pieces(text, BREAK).iter().map(|p| pieces(p, INNER).join(" ")).collect::<Vec<_>>().join(" ")
}

/// The text cut at a mark. A mark inside a quoted text is part of the text.
fn pieces(text: &str, mark: char) -> Vec<&str> {
    let (mut found, mut start) = (Vec::new(), 0);
    let (mut quoted, mut escaped) = (false, false);
    for (i, c) in text.char_indices() {
        match c {
            _ if escaped => escaped = false,
            '\\' if quoted => escaped = true,
            '"' => quoted = !quoted,
            c if c == mark && !quoted => {
                found.push(&text[start..i]);
                start = i + 1;
            }
            _ => {}
        }
    }
    found.push(&text[start..]);
    found
}

/// The text with the marks of a part in parentheses: they break last.
pub fn inner(text: &str) -> String {
    pieces(text, BREAK).join(&INNER.to_string())
}
