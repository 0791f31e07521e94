//! An estate that is named on the command line: a folder, an archive (`.zip`, `.tar`, `.tar.gz`), or a git revision of the
//! checkout the estate at hand lies in. Archives and revisions are read where they are: nothing is unpacked onto the disk,
//! and nothing of the working tree is touched.

mod archive;
mod packed;
mod tree;

use crate::failure::Failure;
use bastide_formats::manifest;
use bastide_formats::store::Store;
use std::fs;
use std::path::{Path, PathBuf};

/// Where an estate stands.
pub enum Place {
    /// In a folder.
    Folder(PathBuf),
    /// In something that is read as if it were one.
    Store(Box<dyn Store>),
}

/// An estate by its name.
pub struct Named {
    /// Where it stands.
    pub place: Place,
    /// How it was named.
    pub name: String,
}

/// Finds the estate of a name. `here`: the folder of the estate at hand, for revisions.
///
/// # Errors
/// Nothing has that name, what has it holds no estate, or it is not to be trusted.
pub fn named(name: &str, here: Option<&Path>) -> Result<Named, Failure> {
    let path = Path::new(name);
    let without = || Failure::Outside(format!("there is no `{}` in `{name}`", manifest::NAME));
    if path.is_dir() {
        if path.join(manifest::NAME).symlink_metadata().is_err() {
            return Err(without());
        }
        return Ok(Named { place: Place::Folder(path.to_path_buf()), name: name.to_string() });
    }
    if path.is_file() {
        let store = archive::open(path).map_err(|e| Failure::Outside(format!("`{name}` cannot be read: {e}")))?;
        return Ok(Named { place: Place::Store(store.ok_or_else(without)?), name: name.to_string() });
    }
    let unknown = |why: &str| {
        let hints = vec!["an estate is a folder, an archive, or a git revision such as `HEAD~3` or `main`".to_string()];
        Failure::Usage(format!("`{name}` is no folder, no archive and no revision{why}"), hints)
    };
    let here = here.ok_or_else(|| unknown(": there is no estate here"))?;
    let here = fs::canonicalize(here)?;
    let repository = git2::Repository::discover(&here).map_err(|_| unknown(": the estate is in no git checkout"))?;
    let tree = {
        let object = repository.revparse_single(name).map_err(|_| unknown(""))?;
        object.peel_to_tree().map_err(|_| unknown(""))?.id()
    };
    let workdir = repository.workdir().and_then(|d| fs::canonicalize(d).ok()).ok_or_else(|| unknown(""))?;
    let inside = here.strip_prefix(&workdir).unwrap_or(Path::new("")).to_path_buf();
    let store = tree::open(repository, tree, &inside)
        .map_err(|e| Failure::Outside(format!("revision `{name}` cannot be read: {e}")))?;
    match store.kind(manifest::NAME) {
        Ok(Some(_)) => {}
        Ok(None) => return Err(Failure::Outside(format!("there is no `{}` in revision `{name}`", manifest::NAME))),
        Err(error) => {
            return Err(Failure::Outside(format!("revision `{name}` cannot be read: `{}`: {error}", manifest::NAME)));
        }
    }
    Ok(Named { place: Place::Store(Box::new(store)), name: name.to_string() })
}
