//! An estate that is named on the command line: a folder, an archive (`.zip`, `.tar`, `.tar.gz`), or a
//! git revision of the checkout the estate at hand lies in. Archives and revisions are unpacked into a
//! temporary folder; the working tree is not touched.

use crate::failure::Failure;
use bastide_formats::manifest;
use bastide_formats::stray::Stray;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// Where an estate stands, and what must be kept while it is read.
pub struct Named {
    /// Its folder.
    pub root: PathBuf,
    /// How it was named.
    pub name: String,
    _unpacked: Option<(TempDir, Stray)>,
}

/// Files larger than this are not unpacked.
const LARGEST: u64 = 4 << 30;

/// Finds the estate of a name. `here`: the folder of the estate at hand, for revisions.
///
/// # Errors
/// Nothing has that name, or what has it holds no estate.
pub fn named(name: &str, here: Option<&Path>) -> Result<Named, Failure> {
    let path = Path::new(name);
    if path.is_dir() {
        if !path.join(manifest::NAME).is_file() {
            return Err(Failure::Outside(format!("there is no `{}` in `{name}`", manifest::NAME)));
        }
        return Ok(Named { root: path.to_path_buf(), name: name.to_string(), _unpacked: None });
    }
    let unpacked = tempfile::tempdir()?;
    let stray = Stray::of(unpacked.path());
    if path.is_file() {
        unpack(path, unpacked.path()).map_err(|e| Failure::Outside(format!("`{name}` cannot be unpacked: {e}")))?;
        let root = holder(unpacked.path())
            .ok_or_else(|| Failure::Outside(format!("there is no `{}` in `{name}`", manifest::NAME)))?;
        return Ok(Named { root, name: name.to_string(), _unpacked: Some((unpacked, stray)) });
    }
    let unknown = |why: &str| {
        let hints = vec!["an estate is a folder, an archive, or a git revision such as `HEAD~3` or `main`".to_string()];
        Failure::Usage(format!("`{name}` is no folder, no archive and no revision{why}"), hints)
    };
    let here = here.ok_or_else(|| unknown(": there is no estate here"))?;
    let here = fs::canonicalize(here)?;
    let repository = git2::Repository::discover(&here).map_err(|_| unknown(": the estate is in no git checkout"))?;
    let object = repository.revparse_single(name).map_err(|_| unknown(""))?;
    let tree = object.peel_to_tree().map_err(|_| unknown(""))?;
    let workdir = repository.workdir().and_then(|d| fs::canonicalize(d).ok()).ok_or_else(|| unknown(""))?;
    let inside = here.strip_prefix(&workdir).unwrap_or(Path::new(""));
    check_out(&repository, &tree, inside, unpacked.path())
        .map_err(|e| Failure::Outside(format!("revision `{name}` cannot be read: {e}")))?;
    if !unpacked.path().join(manifest::NAME).is_file() {
        return Err(Failure::Outside(format!("there is no `{}` in revision `{name}`", manifest::NAME)));
    }
    Ok(Named { root: unpacked.path().to_path_buf(), name: name.to_string(), _unpacked: Some((unpacked, stray)) })
}

/// Writes the files of one folder of a tree.
fn check_out(repository: &git2::Repository, tree: &git2::Tree, inside: &Path, to: &Path) -> Result<(), git2::Error> {
    let entry;
    let folder;
    let tree = if inside.as_os_str().is_empty() {
        tree
    } else {
        entry = tree.get_path(inside)?;
        folder = entry.to_object(repository)?.peel_to_tree()?;
        &folder
    };
    let outside = |error: io::Error| git2::Error::from_str(&error.to_string());
    for entry in tree {
        let Some(name) = entry.name().ok().map(str::to_string) else { continue };
        let target = to.join(&name);
        match entry.kind() {
            Some(git2::ObjectType::Tree) => {
                fs::create_dir_all(&target).map_err(outside)?;
                let inner = entry.to_object(repository)?.peel_to_tree()?;
                check_out(repository, &inner, Path::new(""), &target)?;
            }
            Some(git2::ObjectType::Blob) => {
                let blob = repository.find_blob(entry.id())?;
                fs::write(&target, blob.content()).map_err(outside)?;
            }
            _ => {}
        }
    }
    Ok(())
}

fn unpack(path: &Path, to: &Path) -> io::Result<()> {
    let file = fs::File::open(path)?;
    if file.metadata()?.len() > LARGEST {
        return Err(io::Error::other("it is larger than 4 GiB"));
    }
    let name = path.to_string_lossy();
    if name.ends_with(".zip") {
        // Names that lead out of the folder are refused by the reader.
        return zip::ZipArchive::new(file).and_then(|mut zip| zip.extract(to)).map_err(io::Error::other);
    }
    if name.ends_with(".tar.gz") || name.ends_with(".tgz") {
        return tar::Archive::new(flate2::read::GzDecoder::new(file)).unpack(to);
    }
    if name.ends_with(".tar") {
        return tar::Archive::new(file).unpack(to);
    }
    Err(io::Error::other("the name does not tell a form that is known: `.zip`, `.tar`, `.tar.gz`"))
}

/// The folder that holds the manifest: the one unpacked into, or the only one inside it.
fn holder(unpacked: &Path) -> Option<PathBuf> {
    if unpacked.join(manifest::NAME).is_file() {
        return Some(unpacked.to_path_buf());
    }
    let inner = fs::read_dir(unpacked).ok()?.filter_map(Result::ok).map(|e| e.path());
    let mut holders = inner.filter(|p| p.join(manifest::NAME).is_file());
    holders.next().filter(|_| holders.next().is_none())
}
