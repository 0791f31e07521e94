//! Bytes of a text to lines and columns of the protocol, and back.

use line_index::{LineCol, LineIndex, TextSize, WideEncoding, WideLineCol};
use lsp_types::{Position, PositionEncodingKind, Range};

/// In what columns are counted.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Encoding {
    /// Bytes of UTF-8.
    Utf8,
    /// Units of UTF-16, which every client knows.
    Utf16,
    /// Characters.
    Utf32,
}

impl Encoding {
    /// The one that suits us best of those a client knows.
    pub fn of(known: Option<&[PositionEncodingKind]>) -> Encoding {
        let known = known.unwrap_or_default();
        let knows = |kind: &PositionEncodingKind| known.contains(kind);
        match () {
            () if knows(&PositionEncodingKind::UTF8) => Encoding::Utf8,
            () if knows(&PositionEncodingKind::UTF32) && !knows(&PositionEncodingKind::UTF16) => Encoding::Utf32,
            () => Encoding::Utf16,
        }
    }

    /// As the protocol names it.
    pub fn kind(self) -> PositionEncodingKind {
        match self {
            Encoding::Utf8 => PositionEncodingKind::UTF8,
            Encoding::Utf16 => PositionEncodingKind::UTF16,
            Encoding::Utf32 => PositionEncodingKind::UTF32,
        }
    }

    fn wide(self) -> Option<WideEncoding> {
        match self {
            Encoding::Utf8 => None,
            Encoding::Utf16 => Some(WideEncoding::Utf16),
            Encoding::Utf32 => Some(WideEncoding::Utf32),
        }
    }
}

/// Where the lines of a text begin.
pub struct Lines {
    index: LineIndex,
    encoding: Encoding,
}

impl Lines {
    /// Of a text. Cost: the text once.
    pub fn new(text: &str, encoding: Encoding) -> Lines {
        Lines { index: LineIndex::new(text), encoding }
    }

    /// Where a byte stands; behind the end it is the end, and inside of a character its beginning.
    pub fn position(&self, text: &str, byte: usize) -> Position {
        let mut byte = byte.min(text.len());
        while !text.is_char_boundary(byte) {
            byte -= 1;
        }
        let at = self.index.line_col(TextSize::from(byte as u32));
        let wide = self.encoding.wide().and_then(|wide| self.index.to_wide(wide, at));
        wide.map_or(Position::new(at.line, at.col), |wide| Position::new(wide.line, wide.col))
    }

    /// The range of some bytes.
    pub fn range(&self, text: &str, bytes: std::ops::Range<usize>) -> Range {
        Range::new(self.position(text, bytes.start), self.position(text, bytes.end))
    }

    /// The byte of a position; behind the end of a line it is the end of the line, behind the last line that of the text.
    pub fn byte(&self, text: &str, at: Position) -> usize {
        let Some(line) = self.index.line(at.line) else { return text.len() };
        let (start, end) = (usize::from(line.start()), usize::from(line.end()).min(text.len()));
        let whole = &text[start..end];
        let end = start + whole.trim_end_matches(['\n', '\r']).len();
        let byte = match self.encoding.wide() {
            None => Some(start + at.character as usize),
            Some(wide) => {
                let at = WideLineCol { line: at.line, col: at.character };
                let narrow: Option<LineCol> = self.index.to_utf8(wide, at);
                narrow.map(|narrow| start + narrow.col as usize)
            }
        };
        let mut byte = byte.unwrap_or(end).min(end);
        while !text.is_char_boundary(byte) {
            byte -= 1;
        }
        byte
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn there_and_back_in_every_encoding() {
        let text = "plain\r\nzwölf \u{1f600} drei\nend";
        for encoding in [Encoding::Utf8, Encoding::Utf16, Encoding::Utf32] {
            let lines = Lines::new(text, encoding);
            for (byte, _) in text.char_indices().filter(|(_, c)| !matches!(c, '\r' | '\n')) {
                let at = lines.position(text, byte);
                assert_eq!(lines.byte(text, at), byte, "{encoding:?} {at:?}");
            }
            assert_eq!(lines.byte(text, Position::new(0, 99)), 5, "the end of a line is before its line end");
            assert_eq!(lines.byte(text, Position::new(9, 0)), text.len());
            assert_eq!(lines.position(text, 999), lines.position(text, text.len()));
        }
        let column = |encoding| Lines::new(text, encoding).position(text, text.find("drei").unwrap()).character;
        assert_eq!([Encoding::Utf8, Encoding::Utf16, Encoding::Utf32].map(column), [12, 9, 8]);
    }
}
