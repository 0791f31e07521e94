//! Places in text: files, spans and the table that turns them into names, lines and columns.

use std::sync::{Arc, OnceLock};

/// A file of one run, dense from 0 in the order of loading.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct FileId(pub u32);

/// A half-open range of bytes in one file.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Debug)]
pub struct Span {
    /// The file.
    pub file: FileId,
    /// First byte.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

impl Span {
    /// The span from `start` to `end` (bytes).
    pub fn new(file: FileId, start: usize, end: usize) -> Self {
        Span { file, start: start as u32, end: end as u32 }
    }

    /// The smallest span that holds both; they must lie in one file.
    pub fn to(self, other: Span) -> Span {
        Span { file: self.file, start: self.start.min(other.start), end: self.end.max(other.end) }
    }

    /// The bytes as a range.
    pub fn range(self) -> std::ops::Range<usize> {
        self.start as usize..self.end as usize
    }
}

/// A place as people count it: both from 1, columns in characters.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Position {
    /// Line, from 1.
    pub line: u32,
    /// Column in characters, from 1.
    pub column: u32,
}

/// All texts of one run. Texts are at most 4 GiB each.
#[derive(Clone, Default)]
pub struct Sources {
    files: Vec<Source>,
}

#[derive(Clone)]
struct Source {
    name: String,
    text: Arc<String>,
    lines: OnceLock<Vec<u32>>,
    hidden: bool,
}

impl Sources {
    /// An empty table.
    pub fn new() -> Self {
        Self::default()
    }

    /// Takes a text in under the name it is shown by (a path relative to the estate).
    pub fn add(&mut self, name: impl Into<String>, text: impl Into<String>) -> FileId {
        self.files.push(Source {
            name: name.into(),
            text: Arc::new(text.into()),
            lines: OnceLock::new(),
            hidden: false,
        });
        FileId(self.files.len() as u32 - 1)
    }

    /// Puts another text in the place of a file's.
    pub fn replace(&mut self, file: FileId, text: impl Into<String>) {
        let source = &mut self.files[file.0 as usize];
        (source.text, source.lines) = (Arc::new(text.into()), OnceLock::new());
    }

    /// The file of a name.
    pub fn find(&self, name: &str) -> Option<FileId> {
        self.files.iter().position(|source| source.name == name).map(|at| FileId(at as u32))
    }

    /// Lets no line of a file be shown: it does not belong to the estate.
    pub fn hide(&mut self, file: FileId) {
        self.files[file.0 as usize].hidden = true;
    }

    /// Whether no line of a file may be shown.
    pub fn is_hidden(&self, file: FileId) -> bool {
        self.files[file.0 as usize].hidden
    }

    /// How many files there are.
    pub fn len(&self) -> usize {
        self.files.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.files.is_empty()
    }

    /// The shown name of a file.
    pub fn name(&self, file: FileId) -> &str {
        &self.files[file.0 as usize].name
    }

    /// The text of a file; empty once it was released.
    pub fn text(&self, file: FileId) -> &str {
        &self.files[file.0 as usize].text
    }

    /// Line and column of the start of a span.
    pub fn position(&self, span: Span) -> Position {
        let source = &self.files[span.file.0 as usize];
        let starts = source.starts();
        let line = starts.partition_point(|&s| s <= span.start).max(1);
        let from = starts[line - 1] as usize;
        let upto = (span.start as usize).min(source.text.len());
        let column = source.text.get(from..upto).map_or(0, |t| t.chars().count()) as u32 + 1;
        Position { line: line as u32, column }
    }

    /// The bytes of a line (from 1), without its end.
    pub fn line(&self, file: FileId, line: u32) -> (u32, &str) {
        let source = &self.files[file.0 as usize];
        let starts = source.starts();
        let from = starts[(line as usize - 1).min(starts.len() - 1)];
        let text = &source.text[from as usize..];
        let text = text.split('\n').next().unwrap_or("");
        (from, text.strip_suffix('\r').unwrap_or(text))
    }

    /// `file:line` of a span, as statements and findings name their place.
    pub fn place(&self, span: Span) -> String {
        format!("{}:{}", self.name(span.file), self.position(span).line)
    }

    /// Lets go of a text that nothing will be shown from any more (a large data file).
    pub fn release(&mut self, file: FileId) {
        self.files[file.0 as usize].text = Arc::default();
    }
}

impl Source {
    fn starts(&self) -> &[u32] {
        self.lines.get_or_init(|| {
            let ends = self.text.bytes().enumerate().filter(|(_, b)| *b == b'\n');
            std::iter::once(0).chain(ends.map(|(i, _)| i as u32 + 1)).collect()
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_and_columns_count_characters_from_one() {
        let mut sources = Sources::new();
        let file = sources.add("a", "one\nzwölf drei\r\nend");
        let at = |start: usize| sources.position(Span::new(file, start, start + 1));
        assert_eq!(at(0), Position { line: 1, column: 1 });
        assert_eq!(at(11), Position { line: 2, column: 7 });
        assert_eq!(sources.line(file, 2).1, "zwölf drei");
        assert_eq!(sources.place(Span::new(file, 18, 18)), "a:3");
    }
}
