//! The files of an archive, read as they are asked for.

use super::packed::{Node, Packed};
use bastide_formats::manifest;
use bastide_formats::store::{Limited, MOST_UNPACKED, Store};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::{Mutex, PoisonError};

/// Opens an archive. None where it holds no estate: its manifest stands at the top, or in the only folder there that has one.
///
/// # Errors
/// It cannot be read, or has a name in it that is not to be trusted.
pub fn open(path: &Path) -> io::Result<Option<Box<dyn Store>>> {
    let file = File::open(path)?;
    let name = path.to_string_lossy();
    if name.ends_with(".zip") {
        return Ok(estate(zip(file)?));
    }
    if name.ends_with(".tar") {
        return Ok(estate(tar(file)?));
    }
    if name.ends_with(".tar.gz") || name.ends_with(".tgz") {
        let size = file.metadata()?.len();
        // It can only be read from front to back: what comes out goes into a file without a name.
        let mut unpacked = tempfile::tempfile()?;
        io::copy(&mut Limited::new(flate2::read::MultiGzDecoder::new(file), size), &mut unpacked)?;
        unpacked.seek(SeekFrom::Start(0))?;
        return Ok(estate(tar(unpacked)?));
    }
    Err(io::Error::other("its name does not tell a form that is known: `.zip`, `.tar`, `.tar.gz`"))
}

fn estate<T: Sync + Send + 'static>(packed: Packed<T>) -> Option<Box<dyn Store>> {
    let holders = packed.holders(manifest::NAME);
    match holders.as_slice() {
        _ if holders.iter().any(String::is_empty) => Some(Box::new(packed)),
        [only] => Some(Box::new(packed.of_folder(only))),
        _ => None,
    }
}

/// A path without what says the same without it.
fn tidy(path: &str) -> &str {
    path.trim_start_matches("./").trim_end_matches('/')
}

fn not_text() -> io::Error {
    io::Error::other("it holds a name that is not valid UTF-8")
}

fn tar(file: File) -> io::Result<Packed<(u64, u64)>> {
    let mut archive = tar::Archive::new(file);
    let mut found = Vec::new();
    for entry in archive.entries()? {
        let entry = entry?;
        let path = String::from_utf8(entry.path_bytes().into_owned()).map_err(|_| not_text())?;
        let node = match entry.header().entry_type() {
            tar::EntryType::Regular | tar::EntryType::Continuous => {
                Node::File((entry.raw_file_position(), entry.size()))
            }
            tar::EntryType::Directory => Node::Folder,
            tar::EntryType::Symlink | tar::EntryType::Link => Node::Not("a link"),
            tar::EntryType::XGlobalHeader | tar::EntryType::XHeader => continue,
            _ => Node::Not("no plain file"),
        };
        found.push((tidy(&path).to_string(), node));
    }
    let file = Mutex::new(archive.into_inner());
    let read = move |(at, size): &(u64, u64)| {
        let mut file = file.lock().unwrap_or_else(PoisonError::into_inner);
        file.seek(SeekFrom::Start(*at))?;
        all(Read::by_ref(&mut *file).take(*size), *size)
    };
    listed(found, Box::new(read))
}

fn zip(file: File) -> io::Result<Packed<usize>> {
    let mut archive = zip::ZipArchive::new(file).map_err(io::Error::other)?;
    let mut found = Vec::new();
    for index in 0..archive.len() {
        let entry = archive.by_index_raw(index).map_err(io::Error::other)?;
        let path = String::from_utf8(entry.name_raw().to_vec()).map_err(|_| not_text())?;
        let mode = entry.unix_mode().unwrap_or(0) & 0o170000;
        let node = match mode {
            0o120000 => Node::Not("a link"),
            _ if entry.is_dir() => Node::Folder,
            0 | 0o100000 => Node::File(index),
            _ => Node::Not("no plain file"),
        };
        found.push((tidy(&path).to_string(), node));
    }
    let archive = Mutex::new(archive);
    let read = move |index: &usize| {
        let mut archive = archive.lock().unwrap_or_else(PoisonError::into_inner);
        let entry = archive.by_index(*index).map_err(io::Error::other)?;
        let (packed, size) = (entry.compressed_size(), entry.size());
        all(Limited::new(entry, packed), size)
    };
    listed(found, Box::new(read))
}

fn listed<T>(found: Vec<(String, Node<T>)>, read: super::packed::Read<T>) -> io::Result<Packed<T>> {
    let mut packed = Packed::new(read);
    for (path, node) in found {
        if !path.is_empty() && path != "." {
            packed.put(&path, node)?;
        }
    }
    Ok(packed)
}

/// All bytes of a file that says how many they are.
fn all(from: impl Read, size: u64) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    if size > MOST_UNPACKED {
        return Err(io::Error::other("it is larger than 4 GiB"));
    }
    Limited::new(from, MOST_UNPACKED).all(&mut bytes)?;
    match bytes.len() as u64 == size {
        true => Ok(bytes),
        false => Err(io::Error::other("it holds another number of bytes than it says")),
    }
}
