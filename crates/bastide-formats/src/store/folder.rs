//! A folder on a disk, read as it is at one moment.

use super::{Kind, Name, Store, bucket::Buckets, find, room, settled};
use bastide_net::Failed;
use bastide_net::objects::{SCHEME, Settings};
use bastide_syntax::{Diagnostics, FileId, Span};
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::fs::{self, File, Metadata};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock, PoisonError};

/// A smaller file is read by one core.
const LARGE: u64 = 8 << 20;
/// A large file is read in pieces of so many bytes.
const PIECE: usize = 4 << 20;

/// What tells whether a file is still the one that was read.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct Stamp {
    place: (u64, u64),
    size: u64,
    changed: Vec<Option<std::time::SystemTime>>,
    inner: (i64, i64),
}

impl Stamp {
    fn of(about: &Metadata) -> Stamp {
        #[cfg(unix)]
        let (place, inner) = {
            use std::os::unix::fs::MetadataExt;
            ((about.dev(), about.ino()), (about.ctime(), about.ctime_nsec()))
        };
        #[cfg(not(unix))]
        let (place, inner) = ((0, 0), (0, 0));
        Stamp { place, size: about.len(), changed: vec![about.modified().ok(), about.created().ok()], inner }
    }
}

/// A folder of a disk. Every file is opened once; afterwards [`Folder::changed`] says whether anything of what was read is
/// another by now.
pub struct Folder {
    root: PathBuf,
    /// The folder without links, once it was asked for.
    real: OnceLock<PathBuf>,
    /// Texts that are read in the place of what stands on the disk.
    instead: BTreeMap<String, PathBuf>,
    /// As each file was when it was read first.
    read: Mutex<BTreeMap<String, Stamp>>,
    found: Mutex<BTreeMap<(String, bool), Vec<String>>>,
    /// Whether other machines may be asked, and what of a catalog lies there.
    near: bool,
    buckets: OnceLock<Buckets>,
}

impl Folder {
    /// The folder at a path.
    pub fn at(root: &Path) -> Folder {
        Folder::through(root, BTreeMap::new())
    }

    /// The same, with other files in the place of some.
    pub(crate) fn through(root: &Path, instead: BTreeMap<String, PathBuf>) -> Folder {
        Folder {
            root: root.to_path_buf(),
            real: OnceLock::new(),
            instead,
            read: Mutex::default(),
            found: Mutex::default(),
            near: false,
            buckets: OnceLock::new(),
        }
    }

    /// The same, where no other machine is asked.
    pub(crate) fn near(self) -> Folder {
        Folder { near: true, ..self }
    }

    /// Where a file is.
    pub fn path(&self, path: &str) -> PathBuf {
        self.instead.get(path).cloned().unwrap_or_else(|| self.root.join(path))
    }

    /// A file that was read, or a pattern, of which the disk says something else by now.
    pub fn changed(&self) -> Option<String> {
        let read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        for (path, stamp) in read.iter() {
            if fs::metadata(self.path(path)).map(|about| Stamp::of(&about)).ok().as_ref() != Some(stamp) {
                return Some(path.clone());
            }
        }
        let found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        let nowhere = Span::new(FileId(0), 0, 0);
        for ((pattern, outside), files) in found.iter() {
            let again = Folder::through(&self.root, self.instead.clone());
            if find(&again, pattern, *outside, nowhere, &mut Diagnostics::new()) != *files {
                return Some(pattern.clone());
            }
        }
        self.buckets.get().and_then(Buckets::changed)
    }
}

/// Opens a file. What is no file is refused without waiting for anybody at its other end.
fn open(path: &Path) -> io::Result<(File, Metadata)> {
    let mut options = fs::OpenOptions::new();
    options.read(true);
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt;
        let flags = rustix::fs::OFlags::NONBLOCK | rustix::fs::OFlags::NOCTTY;
        options.custom_flags(flags.bits() as i32);
    }
    let file = options.open(path)?;
    let about = file.metadata()?;
    if !about.is_file() {
        return Err(io::Error::other("it is no file"));
    }
    Ok((file, about))
}

/// The bytes of a file as it is. A large one is read by all cores: it takes less time to read than to make room for.
fn bytes(file: &File, size: u64) -> io::Result<Vec<u8>> {
    let size = room::fits(size)?;
    let mut bytes = Vec::new();
    bytes.try_reserve_exact(size).map_err(|_| room::too_large())?;
    if (size as u64) < LARGE || rayon::current_num_threads() == 1 || cfg!(not(unix)) {
        // One byte more would be a file that grows.
        let mut file = file;
        Read::take(&mut file, size as u64 + 1).read_to_end(&mut bytes)?;
        return if bytes.len() > size { Err(io::Error::other("it grows while it is read")) } else { Ok(bytes) };
    }
    bytes.resize(size, 0);
    #[cfg(unix)]
    {
        use std::os::unix::fs::FileExt;
        let read = |(piece, bytes): (usize, &mut [u8])| file.read_exact_at(bytes, (piece * PIECE) as u64);
        bytes.par_chunks_mut(PIECE).enumerate().try_for_each(read)?;
    }
    Ok(bytes)
}

/// Something other than a file or a folder, by what it is.
fn other(about: &Metadata) -> &'static str {
    #[cfg(unix)]
    {
        use std::os::unix::fs::FileTypeExt;
        let kind = about.file_type();
        if kind.is_fifo() {
            return "a pipe";
        }
        if kind.is_socket() {
            return "a socket";
        }
        if kind.is_block_device() || kind.is_char_device() {
            return "a device";
        }
    }
    let _ = about;
    "something else"
}

impl Store for Folder {
    fn kind(&self, path: &str) -> io::Result<Option<Kind>> {
        let real = self.path(path);
        match fs::metadata(&real) {
            Ok(about) if about.is_file() => Ok(Some(Kind::File)),
            Ok(about) if about.is_dir() => Ok(Some(Kind::Folder)),
            Ok(about) => Ok(Some(Kind::Other(other(&about)))),
            Err(error) if fs::symlink_metadata(&real).is_ok_and(|about| about.is_symlink()) => {
                let what = match error.kind() {
                    io::ErrorKind::NotFound => "it is a link that leads nowhere",
                    io::ErrorKind::PermissionDenied => "it is a link to a place that may not be entered",
                    _ => "it is a link that leads round in a circle",
                };
                Err(io::Error::new(error.kind(), what))
            }
            Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => Ok(None),
            Err(error) => Err(error),
        }
    }

    fn list(&self, folder: &str) -> io::Result<Vec<Name>> {
        let names = fs::read_dir(self.root.join(folder))?.map(|entry| {
            let name = entry?.file_name();
            let text = name.to_string_lossy().into_owned();
            Ok(Name { is_text: name.to_str().is_some(), text })
        });
        names.collect()
    }

    fn read(&self, path: &str) -> io::Result<Vec<u8>> {
        if path.starts_with(SCHEME) {
            let buckets = self.buckets.get().ok_or_else(|| io::Error::other("no storage was made ready"))?;
            return buckets.read(path);
        }
        let real = self.path(path);
        let (mut file, mut about) = open(&real)?;
        if settled::wait(&about) {
            // What is written from here on has a later time than what was written before.
            (file, about) = open(&real)?;
        }
        let stamp = Stamp::of(&about);
        let bytes = bytes(&file, about.len())?;
        self.read.lock().unwrap_or_else(PoisonError::into_inner).entry(path.to_string()).or_insert(stamp);
        Ok(bytes)
    }

    #[cfg(unix)]
    fn identity(&self, folder: &str) -> io::Result<(u64, u64)> {
        use std::os::unix::fs::MetadataExt;
        fs::metadata(self.root.join(folder)).map(|about| (about.dev(), about.ino()))
    }

    #[cfg(not(unix))]
    fn identity(&self, folder: &str) -> io::Result<(u64, u64)> {
        use std::hash::{DefaultHasher, Hash, Hasher};
        let mut hasher = DefaultHasher::new();
        fs::canonicalize(self.root.join(folder))?.hash(&mut hasher);
        Ok((0, hasher.finish()))
    }

    fn is_outside(&self, path: &str) -> io::Result<bool> {
        // What lies in storage is named there, and belongs to the estate.
        if self.instead.contains_key(path) || path.starts_with(SCHEME) {
            return Ok(false);
        }
        let real = match self.real.get() {
            Some(real) => real,
            None => {
                let real = fs::canonicalize(&self.root)?;
                self.real.get_or_init(|| real)
            }
        };
        Ok(!fs::canonicalize(self.root.join(path))?.starts_with(real))
    }

    fn reach(&self, storage: &Settings) -> Result<(), Failed> {
        if self.near {
            return Err(Failed::new("parts of this catalog lie in object storage, and no other machine is asked here"));
        }
        let buckets = Buckets::open(storage, &self.root)?;
        drop(self.buckets.set(buckets));
        Ok(())
    }

    fn objects(&self, pattern: &str) -> Result<Vec<String>, Failed> {
        self.buckets.get().ok_or_else(|| Failed::new("no storage was made ready"))?.find(pattern)
    }

    fn found(&self, pattern: &str, outside: bool, files: &[String]) {
        let mut found = self.found.lock().unwrap_or_else(PoisonError::into_inner);
        found.insert((pattern.to_string(), outside), files.to_vec());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Read by several cores, a file is what it is.
    #[test]
    fn large_files_are_read_in_pieces() {
        let dir = tempfile::tempdir().unwrap();
        for more in [0, 1, 12_345] {
            let text: Vec<u8> = (0..LARGE as usize + more).map(|i| (i / 7 % 251) as u8).collect();
            fs::write(dir.path().join("large.csv"), &text).unwrap();
            let pool = rayon::ThreadPoolBuilder::new().num_threads(3).build().unwrap();
            let read = pool.install(|| Folder::at(dir.path()).read("large.csv")).unwrap();
            assert!(read == text, "{more}");
        }
        assert!(Folder::at(dir.path()).read("none.csv").is_err());
    }

    /// Whatever is done to a file that was read is seen: written over in the same length, replaced, taken away.
    #[test]
    fn what_changes_afterwards_is_seen() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("a.csv");
        fs::write(&file, "one").unwrap();
        for _ in 0..50 {
            let folder = Folder::at(dir.path());
            folder.read("a.csv").unwrap();
            assert_eq!(folder.changed(), None);
            fs::write(&file, "two").unwrap();
            assert_eq!(folder.changed().as_deref(), Some("a.csv"));
        }
        let folder = Folder::at(dir.path());
        folder.read("a.csv").unwrap();
        fs::rename(&file, dir.path().join("b.csv")).unwrap();
        assert!(folder.changed().is_some());
    }
}
