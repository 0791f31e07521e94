//! An estate that is kept in memory while its texts change: for whoever writes rules and wants to know at once what they do.
//!
//! Of a change in a policy file that file is read, and rules are typed anew against the data that is there; any other change
//! needs another [`resident`](crate::resident()).

use crate::loaded::Loaded;
use crate::text::line_of;
use bastide_resolve::{Draft, Kept};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Span, diagnostic, parse, tree};
use std::collections::BTreeMap;

/// An estate in memory.
pub struct Resident {
    /// What the folder came to. Its estate is there only where nothing is wrong.
    pub loaded: Loaded,
    kept: Option<Kept>,
    draft: Option<Draft>,
    trees: Vec<tree::File>,
    /// What is wrong with each policy file by itself, where it was read anew.
    parsed: BTreeMap<FileId, Vec<Diagnostic>>,
}

impl Resident {
    pub(crate) fn of(loaded: Loaded, kept: Option<(Kept, Draft)>, trees: Vec<tree::File>) -> Resident {
        let (kept, draft) = kept.unzip();
        let mut resident = Resident { loaded, kept, draft, trees, parsed: BTreeMap::new() };
        let files: Vec<FileId> = resident.trees.iter().map(|tree| tree.file).collect();
        for file in files {
            let parsed = parse(file, resident.loaded.sources.text(file)).diagnostics;
            resident.parsed.insert(file, parsed);
        }
        resident
    }

    /// The estate as far as it could be typed; none where even that is not known.
    pub fn draft(&self) -> Option<&Draft> {
        self.draft.as_ref()
    }

    /// The trees of the policy files.
    pub fn trees(&self) -> &[tree::File] {
        &self.trees
    }

    /// Puts other texts in the place of policy files'. False where that does not do: something else is named, or names come to
    /// mean something else. Then nothing is said of the estate any more, and it has to be read anew.
    pub fn write(&mut self, texts: &[(String, String)]) -> bool {
        let mut changed = Vec::new();
        for (path, text) in texts {
            let file = self.loaded.sources.find(path).filter(|file| self.loaded.tables.policy.contains(file));
            let Some(file) = file else { return false };
            let Some(tree) = self.trees.iter_mut().find(|tree| tree.file == file) else { return false };
            let parsed = parse(file, text);
            *tree = parsed.tree;
            self.parsed.insert(file, parsed.diagnostics);
            self.loaded.sources.replace(file, text.as_str());
            changed.push(file);
        }
        let Some(kept) = &mut self.kept else { return false };
        let mut out = Diagnostics::new();
        self.parsed.values().for_each(|parsed| out.extend(parsed.iter().cloned()));
        let sources = &self.loaded.sources;
        let (text, lines) = (|file| sources.text(file), |span: Span| line_of(sources, span));
        self.draft = kept.with(&self.trees, &changed, &text, &lines, &mut out);
        let mut diagnostics = out.finish();
        diagnostic::sort(&mut diagnostics);
        self.loaded.diagnostics = diagnostics;
        self.loaded.estate = self.draft.as_ref().filter(|draft| draft.whole).map(|draft| draft.estate.clone());
        self.draft.is_some()
    }
}
