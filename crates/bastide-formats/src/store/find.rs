//! The files that a path or a pattern names.

use super::{Kind, Name, Store, inside, is_own};
use bastide_net::objects::SCHEME;
use bastide_syntax::{Diagnostic, Diagnostics, Span, codes, visible};
use std::collections::BTreeSet;

/// Folders nested deeper than this are not looked through.
const DEEPEST: usize = 100;

/// Links may lead to the same folders over and over: after so many the search ends.
const MOST_FOLDERS: usize = 20_000;

/// One segment of a pattern.
enum Segment {
    /// A name as it is.
    Name(String),
    /// A name with `*`, `?` or `[...]` in it.
    Like(glob::Pattern),
    /// `**`: any number of folders.
    Any,
}

/// The files that a path or pattern of the manifest names, in byte order of their relative paths.
///
/// None found is an error: a file that went missing must not silently take its statements along. So is whatever fits and
/// is no file that can be read, and what lies outside of the estate unless that is allowed.
pub fn find(store: &dyn Store, pattern: &str, outside: bool, place: Span, out: &mut Diagnostics) -> Vec<String> {
    if pattern.starts_with(SCHEME) {
        return objects(store, pattern, place, out);
    }
    let segments = match segments(pattern, outside) {
        Ok(segments) => segments,
        Err((message, help)) => {
            let diagnostic = Diagnostic::at(&codes::MANIFEST, place, message);
            out.push(if help.is_empty() { diagnostic } else { diagnostic.help(help) });
            return Vec::new();
        }
    };
    let mut walk =
        Walk { store, outside, chain: Vec::new(), entered: 0, found: BTreeSet::new(), problems: BTreeSet::new() };
    walk.chain.extend(store.identity("").ok());
    walk.folder("", &segments);
    for (path, problem) in &walk.problems {
        let message = format!("`{}`, which `{pattern}` names, {problem}", visible(path));
        out.push(Diagnostic::at(&codes::UNREADABLE, place, message));
    }
    let found: Vec<String> = walk.found.into_iter().collect();
    if found.is_empty() && walk.problems.is_empty() {
        let wild = pattern.contains(['*', '?', '[']);
        let message = if wild { format!("no file fits `{pattern}`") } else { format!("there is no file `{pattern}`") };
        let help = "paths are relative to the folder of `bastide.toml`";
        out.push(Diagnostic::at(&codes::MISSING_FILE, place, message).help(help));
    }
    store.found(pattern, outside, &found);
    found
}

fn segments(pattern: &str, outside: bool) -> Result<Vec<Segment>, (String, &'static str)> {
    if pattern.starts_with('/') || std::path::Path::new(pattern).is_absolute() {
        return Err((format!("`{pattern}` is not relative to the manifest"), ""));
    }
    if pattern.contains(['\\', '\0']) {
        return Err((format!("`{pattern}` is no path"), "the segments of a path are parted by `/`"));
    }
    let mut segments = Vec::new();
    for segment in pattern.split('/').filter(|s| !matches!(*s, "" | ".")) {
        segments.push(match segment {
            ".." if !outside => {
                let help = "to read files from outside, write `outside = true` under `[allow]`";
                return Err((format!("`{pattern}` leads out of the estate"), help));
            }
            "**" => Segment::Any,
            name if name.contains(['*', '?', '[']) => Segment::Like(
                glob::Pattern::new(name)
                    .map_err(|e| (format!("`{pattern}` is no pattern of file names: {}", e.msg), ""))?,
            ),
            name => Segment::Name(name.to_string()),
        });
    }
    if segments.is_empty() {
        return Err((format!("`{pattern}` names no file"), ""));
    }
    Ok(segments)
}

/// The objects that an address names. What lies in storage is no more allowed to be missing than a file is.
fn objects(store: &dyn Store, pattern: &str, place: Span, out: &mut Diagnostics) -> Vec<String> {
    let told = match store.objects(pattern) {
        Ok(found) if !found.is_empty() => return found,
        Ok(_) => Diagnostic::at(&codes::MISSING_FILE, place, format!("no object fits `{}`", visible(pattern))),
        Err(failed) => {
            // A storage says what it likes.
            let why = failed.to_string();
            Diagnostic::at(
                &codes::UNREADABLE,
                place,
                format!("`{}` cannot be listed: {}", visible(pattern), visible(&why)),
            )
        }
    };
    out.push(told);
    Vec::new()
}

struct Walk<'s> {
    store: &'s dyn Store,
    outside: bool,
    /// The folders from the estate's down to the one at hand.
    chain: Vec<(u64, u64)>,
    /// How many folders were entered.
    entered: usize,
    found: BTreeSet<String>,
    problems: BTreeSet<(String, String)>,
}

impl Walk<'_> {
    fn problem(&mut self, path: &str, problem: impl Into<String>) {
        self.problems.insert((path.to_string(), problem.into()));
    }

    fn folder(&mut self, folder: &str, segments: &[Segment]) {
        let Some((first, rest)) = segments.split_first() else { return };
        match first {
            Segment::Name(name) => self.step(inside(folder, name), rest, false),
            Segment::Like(pattern) => {
                for name in self.names(folder) {
                    if !pattern.matches(&name.text) {
                        continue;
                    }
                    let path = inside(folder, &name.text);
                    if name.is_text { self.step(path, rest, true) } else { self.problem(&path, NOT_TEXT) }
                }
            }
            Segment::Any => {
                if !rest.is_empty() {
                    self.folder(folder, rest);
                }
                for name in self.names(folder) {
                    let path = inside(folder, &name.text);
                    let kind = if name.is_text { self.store.kind(&path) } else { Ok(None) };
                    match kind {
                        Ok(Some(Kind::Folder)) => self.enter(path, segments),
                        // At the end of a pattern it names everything beneath.
                        _ if rest.is_empty() && name.is_text => self.step(path, rest, true),
                        _ if rest.is_empty() => self.problem(&path, NOT_TEXT),
                        // What is no folder is a matter of the segments behind; what cannot be looked into is not.
                        Err(error) if error.kind() == std::io::ErrorKind::PermissionDenied => {
                            self.problem(&path, format!("cannot be read: {error}"));
                        }
                        _ => {}
                    }
                }
            }
        }
    }

    fn names(&mut self, folder: &str) -> Vec<Name> {
        match self.store.list(folder) {
            Ok(mut names) => {
                // What is ours while it is written is no part of the estate.
                names.retain(|name| !is_own(&name.text));
                names.sort();
                names
            }
            Err(error) => {
                let shown = if folder.is_empty() { "." } else { folder };
                self.problem(shown, format!("is a folder that cannot be read: {error}"));
                Vec::new()
            }
        }
    }

    /// Goes on at a path whose name fits; `listed` where it was met and not named.
    fn step(&mut self, path: String, rest: &[Segment], listed: bool) {
        let last = rest.is_empty();
        match self.store.kind(&path) {
            // Between listing and looking it went away.
            Ok(None) => {}
            Err(error) if last || !listed => {
                // An editor's mark that a file is being edited is a link to nowhere, and no file.
                let mark = path.rsplit('/').next().is_some_and(|name| name.starts_with(".#"));
                if !(mark && listed && error.kind() == std::io::ErrorKind::NotFound) {
                    self.problem(&path, format!("cannot be read: {error}"));
                }
            }
            Err(_) => {}
            Ok(Some(Kind::File)) if last => match self.store.is_outside(&path) {
                Ok(true) if !self.outside => self.problem(&path, OUTSIDE),
                Ok(_) => drop(self.found.insert(path)),
                Err(error) => self.problem(&path, format!("cannot be read: {error}")),
            },
            Ok(Some(Kind::Folder)) if last => self.problem(&path, "is a folder and no file"),
            Ok(Some(Kind::Other(what))) if last => self.problem(&path, format!("is {what} and no file")),
            Ok(Some(Kind::Folder)) => self.enter(path, rest),
            Ok(Some(_)) => {}
        }
    }

    fn enter(&mut self, path: String, segments: &[Segment]) {
        if !self.outside && self.store.is_outside(&path).unwrap_or(true) {
            self.problem(&path, OUTSIDE);
            return;
        }
        let identity = match self.store.identity(&path) {
            Ok(identity) => identity,
            Err(error) => return self.problem(&path, format!("cannot be read: {error}")),
        };
        // A path upward (`..`) leads to folders above on purpose.
        let upward = path.split('/').all(|segment| segment == "..");
        if self.chain.contains(&identity) && !upward {
            return self.problem(&path, "is a link that leads back to a folder above it");
        }
        if self.chain.len() > DEEPEST {
            return self.problem(&path, format!("lies more than {DEEPEST} folders deep"));
        }
        self.entered += 1;
        if self.entered > MOST_FOLDERS {
            if self.entered == MOST_FOLDERS + 1 {
                self.problem(
                    &path,
                    format!("is reached after {MOST_FOLDERS} folders: links lead to the same ones over and over"),
                );
            }
            return;
        }
        self.chain.push(identity);
        self.folder(&path, segments);
        self.chain.pop();
    }
}

const NOT_TEXT: &str = "has a name that is not valid UTF-8";
const OUTSIDE: &str = "lies outside of the estate: to read files from outside, write `outside = true` under `[allow]`";
