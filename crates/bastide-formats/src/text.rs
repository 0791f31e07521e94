//! Files to text: found, unpacked, checked to be UTF-8, and entered into the table of sources.

use bastide_syntax::{Diagnostic, FileId, Position, Sources, Span, codes};
use rayon::prelude::*;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::string::FromUtf8Error;

/// A line longer than this is an error.
pub const LONGEST_LINE: usize = 16 << 20;

/// A file of the estate, by the name it is shown by and where it is.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct FilePath {
    /// Relative to the estate, `/` between segments. Sorts by bytes.
    pub shown: String,
    /// Where it is.
    pub real: PathBuf,
}

/// The files that a path or glob of the manifest names, in byte order of their relative paths.
/// None found is an error: a file that went missing must not silently take its statements along.
pub fn find(root: &Path, pattern: &str, place: Span, out: &mut Vec<Diagnostic>) -> Vec<FilePath> {
    if Path::new(pattern).is_absolute() {
        let message = format!("`{pattern}` is not relative to the manifest");
        out.push(Diagnostic::at(&codes::MANIFEST, place, message));
        return Vec::new();
    }
    let whole = format!("{}/{pattern}", glob::Pattern::escape(&root.to_string_lossy()));
    let paths = match glob::glob(&whole) {
        Ok(paths) => paths,
        Err(error) => {
            let message = format!("`{pattern}` is no pattern of file names: {}", error.msg);
            out.push(Diagnostic::at(&codes::MANIFEST, place, message));
            return Vec::new();
        }
    };
    let mut found: Vec<FilePath> = paths
        .filter_map(Result::ok)
        .filter(|path| path.is_file())
        .map(|real| {
            let relative = real.strip_prefix(root).unwrap_or(&real);
            let shown: Vec<String> = relative.iter().map(|s| s.to_string_lossy().into_owned()).collect();
            FilePath { shown: shown.join("/"), real }
        })
        .collect();
    found.sort();
    if found.is_empty() {
        let wild = pattern.contains(['*', '?', '[']);
        let message = if wild { format!("no file fits `{pattern}`") } else { format!("there is no file `{pattern}`") };
        out.push(
            Diagnostic::at(&codes::MISSING_FILE, place, message)
                .help("paths are relative to the folder of `bastide.toml`"),
        );
    }
    found
}

/// Reads a file into the table of sources, unpacking `.gz`. None where it cannot be used, which is
/// reported.
pub fn read(path: &FilePath, sources: &mut Sources, out: &mut Vec<Diagnostic>) -> Option<FileId> {
    take(path, text(path), sources, out)
}

/// Why a file is of no use.
pub enum Useless {
    /// It cannot be read, or not be unpacked.
    Unread(std::io::Error),
    /// Its bytes cannot be counted.
    TooLarge,
    /// It is no text.
    NotText(FromUtf8Error),
}

/// The text of a file, unpacked where it is a `.gz`.
///
/// # Errors
/// Why it cannot be used.
pub fn text(path: &FilePath) -> Result<String, Useless> {
    let mut bytes = bytes(&path.real).map_err(Useless::Unread)?;
    if path.shown.ends_with(".gz") {
        let packed = std::mem::take(&mut bytes);
        let mut unpacking = flate2::read::MultiGzDecoder::new(packed.as_slice());
        unpacking.read_to_end(&mut bytes).map_err(Useless::Unread)?;
    }
    if u32::try_from(bytes.len()).is_err() {
        return Err(Useless::TooLarge);
    }
    String::from_utf8(bytes).map_err(Useless::NotText)
}

/// Takes in a file that was read.
pub fn take(
    path: &FilePath,
    text: Result<String, Useless>,
    sources: &mut Sources,
    out: &mut Vec<Diagnostic>,
) -> Option<FileId> {
    let refuse = |code, message: String| Diagnostic::file(code, &path.shown, message);
    let refused = match text {
        Ok(text) => return Some(sources.add(&path.shown, text)),
        Err(Useless::Unread(error)) => refuse(&codes::MISSING_FILE, format!("the file cannot be read: {error}")),
        Err(Useless::TooLarge) => refuse(&codes::UNSUPPORTED, "a file of more than 4 GiB".to_string())
            .help("to read it, cut it into several files and name them by a glob"),
        Err(Useless::NotText(error)) => not_utf8(&path.shown, &error, sources),
    };
    out.push(refused);
    None
}

/// A smaller file is read by one core.
const LARGE: u64 = 8 << 20;
/// A large file is read in pieces of so many bytes.
const PIECE: usize = 4 << 20;

/// The bytes of a file as it is. A large one is read by all cores: it takes less time to read than to make room for.
fn bytes(path: &Path) -> std::io::Result<Vec<u8>> {
    let about = std::fs::metadata(path)?;
    if !about.is_file() || about.len() < LARGE || rayon::current_num_threads() == 1 {
        return std::fs::read(path);
    }
    let mut bytes = vec![0; usize::try_from(about.len()).map_err(std::io::Error::other)?];
    let read = |(piece, bytes): (usize, &mut [u8])| {
        let mut file = std::fs::File::open(path)?;
        file.seek(SeekFrom::Start((piece * PIECE) as u64))?;
        file.read_exact(bytes)
    };
    bytes.par_chunks_mut(PIECE).enumerate().try_for_each(read)?;
    Ok(bytes)
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

#[cfg(test)]
mod tests {
    use super::*;

    /// Read by several cores, a file is what it is.
    #[test]
    fn large_files_are_read_in_pieces() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("large.csv");
        for more in [0, 1, 12_345] {
            let text: Vec<u8> = (0..LARGE as usize + more).map(|i| (i / 7 % 251) as u8).collect();
            std::fs::write(&path, &text).unwrap();
            let pool = rayon::ThreadPoolBuilder::new().num_threads(3).build().unwrap();
            let read = pool.install(|| bytes(&path)).unwrap();
            assert!(read == text, "{more}");
        }
        assert!(bytes(&dir.path().join("none.csv")).is_err());
    }
}
