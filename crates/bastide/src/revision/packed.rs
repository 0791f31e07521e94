//! Files that are listed first and read when they are asked for.

use bastide_formats::store::{Kind, Name, Store};
use std::collections::BTreeMap;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::io;

/// More names than this are not listed.
const MOST: usize = 1_000_000;
/// A path of more segments than this is refused.
const DEEPEST: usize = 200;

/// What stands at a path.
pub enum Node<T> {
    /// A folder.
    Folder,
    /// A file, and where its bytes are.
    File(T),
    /// Something that is not followed, by what it is.
    Not(&'static str),
}

/// How the bytes of a file come.
pub type Read<T> = Box<dyn Fn(&T) -> io::Result<Vec<u8>> + Sync + Send>;

/// Files by their paths.
pub struct Packed<T> {
    nodes: BTreeMap<String, Node<T>>,
    read: Read<T>,
}

impl<T> Packed<T> {
    /// No files yet.
    pub fn new(read: Read<T>) -> Packed<T> {
        Packed { nodes: BTreeMap::from([(String::new(), Node::Folder)]), read }
    }

    /// Takes something in. Paths that would lead anywhere else are refused, and so is what stands twice.
    pub fn put(&mut self, path: &str, node: Node<T>) -> io::Result<()> {
        is_harmless(path)?;
        if self.nodes.len() > MOST {
            return Err(io::Error::other(format!("it holds more than {MOST} files")));
        }
        // What holds it is a folder, named before or not.
        let mut above = path;
        while let Some((folder, _)) = above.rsplit_once('/') {
            match self.nodes.get(folder) {
                Some(Node::Folder) => break,
                Some(_) => return Err(io::Error::other(format!("`{path}` lies in something that is no folder"))),
                None => drop(self.nodes.insert(folder.to_string(), Node::Folder)),
            }
            above = folder;
        }
        match (self.nodes.get(path), &node) {
            (None, _) => drop(self.nodes.insert(path.to_string(), node)),
            (Some(Node::Folder), Node::Folder) => {}
            // One of the two would have to be passed over.
            (Some(_), _) => return Err(io::Error::other(format!("`{path}` stands in it twice"))),
        }
        Ok(())
    }

    /// The files of one folder, as if it were all.
    pub fn of_folder(self, folder: &str) -> Packed<T> {
        let begin = format!("{folder}/");
        let inside =
            self.nodes.into_iter().filter_map(|(path, node)| Some((path.strip_prefix(&begin)?.to_string(), node)));
        let nodes = inside.chain([(String::new(), Node::Folder)]).collect();
        Packed { nodes, read: self.read }
    }

    /// The folders that hold a name, of those right inside the first one and that itself.
    pub fn holders(&self, name: &str) -> Vec<String> {
        let holds = |path: &&String| match path.rsplit_once('/') {
            None => *path == name,
            Some((folder, last)) => last == name && !folder.contains('/'),
        };
        let folder = |path: &String| path.rsplit_once('/').map_or(String::new(), |(folder, _)| folder.to_string());
        self.nodes.keys().filter(holds).map(folder).collect()
    }
}

/// # Errors
/// A path would lead out of where it belongs, or into what belongs to somebody else.
pub fn is_harmless(path: &str) -> io::Result<()> {
    let shown = bastide_syntax::visible(path);
    if path.split('/').count() > DEEPEST {
        return Err(io::Error::other("it holds folders nested more than 200 deep"));
    }
    for segment in path.split('/') {
        let why = match segment {
            "" | "." | ".." => "leads out of its folder",
            name if name.eq_ignore_ascii_case(".git") => "would be taken for a repository",
            name if name.contains('\\') => "has a backslash in it, which parts names on some systems",
            name if name.contains('\0') => "has a NUL in it",
            _ => continue,
        };
        return Err(io::Error::other(format!("the name `{shown}` in it {why}: it is not to be trusted")));
    }
    Ok(())
}

impl<T: Sync> Store for Packed<T> {
    fn kind(&self, path: &str) -> io::Result<Option<Kind>> {
        match self.nodes.get(path) {
            None => {
                // What lies beyond a link or a submodule is not nothing.
                let mut above = path;
                while let Some((folder, _)) = above.rsplit_once('/') {
                    if let Some(Node::Not(what)) = self.nodes.get(folder) {
                        return Err(io::Error::other(format!("it lies in {what}, which is not followed")));
                    }
                    above = folder;
                }
                Ok(None)
            }
            Some(Node::Folder) => Ok(Some(Kind::Folder)),
            Some(Node::File(_)) => Ok(Some(Kind::File)),
            Some(Node::Not(what)) => Err(io::Error::other(format!("it is {what}, which is not followed"))),
        }
    }

    fn list(&self, folder: &str) -> io::Result<Vec<Name>> {
        let begin = if folder.is_empty() { String::new() } else { format!("{folder}/") };
        let under = self.nodes.range(begin.clone()..).take_while(|(path, _)| path.starts_with(&begin));
        let names = under.filter_map(|(path, _)| path.strip_prefix(&begin)).filter(|rest| !rest.is_empty());
        let own = names.filter(|rest| !rest.contains('/'));
        Ok(own.map(|name| Name { text: name.to_string(), is_text: !name.contains('\u{fffd}') }).collect())
    }

    fn read(&self, path: &str) -> io::Result<Vec<u8>> {
        match self.nodes.get(path) {
            Some(Node::File(at)) => (self.read)(at),
            _ => Err(io::ErrorKind::NotFound.into()),
        }
    }

    fn identity(&self, folder: &str) -> io::Result<(u64, u64)> {
        let mut hasher = DefaultHasher::new();
        folder.hash(&mut hasher);
        Ok((folder.len() as u64, hasher.finish()))
    }

    fn is_outside(&self, _: &str) -> io::Result<bool> {
        Ok(false)
    }
}
