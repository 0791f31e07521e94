//! The texts that are open in the editor, as they are there.

use crate::lines::{Encoding, Lines};
use lsp_types::{TextDocumentContentChangeEvent, Uri};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// An open text.
pub struct Document {
    /// Where it is.
    pub path: PathBuf,
    /// The folder of the estate it belongs to, if any.
    pub root: Option<PathBuf>,
    /// The text.
    pub text: String,
    /// Which version of it the client says it is.
    pub version: i32,
    /// Its lines.
    pub lines: Lines,
}

/// All of them, by the client's name.
#[derive(Default)]
pub struct Documents {
    all: BTreeMap<String, Document>,
}

/// The path that a client's name for a text stands for; none where it is no file.
pub fn path_of(uri: &Uri) -> Option<PathBuf> {
    let url = url::Url::parse(uri.as_str()).ok()?;
    if url.scheme() == "file" { url.to_file_path().ok() } else { None }
}

/// The name of a file for a client.
pub fn uri_of(path: &Path) -> Option<Uri> {
    url::Url::from_file_path(path).ok()?.as_str().parse().ok()
}

/// The nearest folder upward that holds a manifest.
fn root_of(path: &Path) -> Option<PathBuf> {
    let is_there = |dir: &&Path| dir.join(bastide_formats::manifest::NAME).symlink_metadata().is_ok();
    path.ancestors().skip(1).find(is_there).map(Path::to_path_buf)
}

impl Documents {
    /// Takes a text in that was opened. None where it is no file, or has no place in an estate.
    pub fn open(&mut self, uri: Uri, text: String, version: i32, encoding: Encoding) -> Option<&Document> {
        let path = path_of(&uri)?;
        let (root, lines) = (root_of(&path), Lines::new(&text, encoding));
        let key = uri.as_str().to_string();
        self.all.insert(key.clone(), Document { path, root, text, version, lines });
        self.all.get(&key)
    }

    /// Makes changes in a text.
    pub fn change(
        &mut self,
        uri: &Uri,
        version: i32,
        changes: Vec<TextDocumentContentChangeEvent>,
        encoding: Encoding,
    ) -> Option<&Document> {
        let document = self.all.get_mut(uri.as_str())?;
        for change in changes {
            match change.range {
                None => document.text = change.text,
                Some(range) => {
                    let from = document.lines.byte(&document.text, range.start);
                    let upto = document.lines.byte(&document.text, range.end).max(from);
                    document.text.replace_range(from..upto, &change.text);
                }
            }
            document.lines = Lines::new(&document.text, encoding);
        }
        document.version = version;
        Some(document)
    }

    /// A text is closed: what counts from here on is the file.
    pub fn close(&mut self, uri: &Uri) -> Option<Document> {
        self.all.remove(uri.as_str())
    }

    /// An open text.
    pub fn get(&self, uri: &Uri) -> Option<&Document> {
        self.all.get(uri.as_str())
    }

    /// The open text of a file.
    pub fn at(&self, path: &Path) -> Option<&Document> {
        self.all.values().find(|document| document.path == path)
    }

    /// The open texts of an estate.
    pub fn of<'d>(&'d self, root: &'d Path) -> impl Iterator<Item = &'d Document> {
        self.all.values().filter(move |document| document.root.as_deref() == Some(root))
    }
}

impl Document {
    /// Its path within its estate, as files are named there.
    pub fn name(&self) -> Option<String> {
        let inside = self.path.strip_prefix(self.root.as_ref()?).ok()?;
        let parts: Option<Vec<&str>> = inside.components().map(|part| part.as_os_str().to_str()).collect();
        Some(parts?.join("/"))
    }
}
