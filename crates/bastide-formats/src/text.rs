//! Files to text: found, unpacked, checked to be UTF-8, and entered into the table of sources.

use crate::store::{Limited, Store};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Position, Sources, Span, codes};
use std::string::FromUtf8Error;

/// A line longer than this is an error.
pub const LONGEST_LINE: usize = 16 << 20;

/// A text and where it stands.
#[derive(Clone, Debug)]
pub struct Placed {
    /// The text.
    pub text: String,
    /// Where.
    pub span: Span,
}

/// Reads a file into the table of sources, unpacking `.gz`. None where it cannot be used, which is
/// reported.
pub fn read(store: &dyn Store, path: &str, sources: &mut Sources, out: &mut Diagnostics) -> Option<FileId> {
    take(path, text(store, path), sources, out)
}

/// Why a file is of no use.
pub enum Useless {
    /// It cannot be read, or not be unpacked.
    Unread(std::io::Error),
    /// It is no text.
    NotText(FromUtf8Error),
}

/// The text of a file, unpacked where it is a `.gz`.
///
/// # Errors
/// Why it cannot be used.
pub fn text(store: &dyn Store, path: &str) -> Result<String, Useless> {
    let mut bytes = store.read(path).map_err(Useless::Unread)?;
    if path.ends_with(".gz") {
        let packed = std::mem::take(&mut bytes);
        let unpacking = flate2::read::MultiGzDecoder::new(packed.as_slice());
        Limited::new(unpacking, packed.len() as u64).all(&mut bytes).map_err(Useless::Unread)?;
    }
    String::from_utf8(bytes).map_err(Useless::NotText)
}

/// Takes in a file that was read.
pub fn take(path: &str, text: Result<String, Useless>, sources: &mut Sources, out: &mut Diagnostics) -> Option<FileId> {
    let refuse = |code, message: String| Diagnostic::file(code, path, message);
    let refused = match text {
        Ok(text) => return Some(sources.add(path, text)),
        Err(Useless::Unread(error)) => refuse(&codes::UNREADABLE, format!("the file cannot be read: {error}")),
        Err(Useless::NotText(error)) => not_utf8(path, &error, sources),
    };
    out.push(refused);
    None
}

/// Points at the first byte that is not UTF-8. The text goes in with its bad bytes replaced, so
/// that the place can be shown.
fn not_utf8(shown: &str, error: &FromUtf8Error, sources: &mut Sources) -> Diagnostic {
    let at = error.utf8_error().valid_up_to();
    let byte = error.as_bytes()[at];
    let file = sources.add(shown, String::from_utf8_lossy(error.as_bytes()));
    let span = Span::new(file, at, at + '\u{fffd}'.len_utf8());
    Diagnostic::at(&codes::NOT_UTF8, span, format!("byte {byte:#04x} is not valid UTF-8"))
        .help("save the file as UTF-8; older spreadsheets write another encoding unless told otherwise")
}

/// Counts lines as a reader goes through a text from front to back.
pub struct Lines<'t> {
    /// The text.
    pub text: &'t str,
    /// The byte that was asked for last.
    pub at: usize,
    /// Its line.
    pub line: u32,
}

impl<'t> Lines<'t> {
    /// At the beginning.
    pub fn new(text: &'t str) -> Self {
        Lines { text, at: 0, line: 1 }
    }

    /// The line (from 1) of a byte that lies no further back than the last one asked for.
    pub fn line(&mut self, at: usize) -> u32 {
        let passed = &self.text.as_bytes()[self.at.min(at)..at];
        // Counted in bytes, of which many fit into one register.
        let count = |piece: &[u8]| u32::from(piece.iter().map(|b| u8::from(*b == b'\n')).sum::<u8>());
        self.line += passed.chunks(255).map(count).sum::<u32>();
        self.at = at;
        self.line
    }
}

/// The line of a span, for places that are looked up singly.
pub fn line_of(sources: &Sources, span: Span) -> u32 {
    let Position { line, .. } = sources.position(span);
    line
}
