//! The files of a git revision, read from where git keeps them.

use super::packed::{Node, Packed};
use bastide_formats::store::MOST_UNPACKED;
use git2::{ObjectType, Oid, Repository};
use std::io;
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

/// The files of a folder in a tree.
///
/// # Errors
/// The tree cannot be read, or has a name in it that is not to be trusted.
pub fn open(repository: Repository, tree: Oid, inside: &Path) -> io::Result<Packed<Oid>> {
    let repository = Arc::new(Mutex::new(repository));
    let of_files = Arc::clone(&repository);
    let read = move |id: &Oid| {
        let repository = of_files.lock().unwrap_or_else(PoisonError::into_inner);
        let size = repository.odb().and_then(|odb| odb.read_header(*id)).map_err(io::Error::other)?.0;
        if size as u64 > MOST_UNPACKED {
            return Err(io::Error::other("it is larger than 4 GiB"));
        }
        repository.find_blob(*id).map(|blob| blob.content().to_vec()).map_err(io::Error::other)
    };
    let mut packed = Packed::new(Box::new(read));
    let repository = repository.lock().unwrap_or_else(PoisonError::into_inner);
    let mut folder = tree;
    for name in inside {
        let name = name.to_str().ok_or_else(|| io::Error::other("the estate's path is not valid UTF-8"))?;
        let tree = repository.find_tree(folder).map_err(io::Error::other)?;
        let entry = tree.get_name(name).ok_or_else(|| io::Error::other(format!("it has no folder `{name}`")))?;
        if entry.kind() != Some(ObjectType::Tree) {
            return Err(io::Error::other(format!("`{name}` is no folder in it")));
        }
        folder = entry.id();
    }
    take_in(&repository, folder, "", &mut packed)?;
    Ok(packed)
}

fn take_in(repository: &Repository, folder: Oid, above: &str, packed: &mut Packed<Oid>) -> io::Result<()> {
    let tree = repository.find_tree(folder).map_err(io::Error::other)?;
    for entry in &tree {
        let name = String::from_utf8_lossy(entry.name_bytes());
        if name.contains('/') {
            let shown = bastide_syntax::visible(&name);
            return Err(io::Error::other(format!("the name `{shown}` in it has a slash: it is not to be trusted")));
        }
        let path = if above.is_empty() { name.into_owned() } else { format!("{above}/{name}") };
        let node = match (entry.filemode(), entry.kind()) {
            (0o120000, _) => Node::Not("a link"),
            (_, Some(ObjectType::Tree)) => Node::Folder,
            (_, Some(ObjectType::Blob)) => Node::File(entry.id()),
            (_, Some(ObjectType::Commit)) => Node::Not("a submodule"),
            _ => Node::Not("nothing that is known"),
        };
        let is_folder = matches!(node, Node::Folder);
        packed.put(&path, node)?;
        if is_folder {
            take_in(repository, entry.id(), &path, packed)?;
        }
    }
    Ok(())
}
