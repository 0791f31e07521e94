//! Whether a file can be replaced, and that its new text is its own in all but the words.

use std::fs::{self, File, Metadata};
use std::io;
use std::path::{Path, PathBuf};

/// Where a file is, links followed, relative to the folder of the estate (both as the system names them).
///
/// # Errors
/// Why it is better left alone.
pub fn target(root: &Path, file: &str) -> Result<PathBuf, String> {
    let path = fs::canonicalize(root.join(file)).map_err(|e| e.to_string())?;
    let inside = path.strip_prefix(root).map_err(|_| "it lies outside of the estate: change it where it is")?;
    let about = fs::metadata(&path).map_err(|e| e.to_string())?;
    if !about.is_file() {
        return Err("it is no file".to_string());
    }
    if inside.iter().any(|part| part.as_encoded_bytes().starts_with(b".")) {
        return Err("it leads to a hidden place: change it where it is".to_string());
    }
    may_be_replaced(&path, &about)?;
    Ok(inside.to_path_buf())
}

/// Whether a file may be replaced by another one of its name.
///
/// # Errors
/// Why not.
pub fn may_be_replaced(path: &Path, about: &Metadata) -> Result<(), String> {
    if about.permissions().readonly() {
        return Err("it is read-only".to_string());
    }
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt;
        if about.nlink() > 1 {
            return Err("it has a second name (a hard link), which would keep the old text".to_string());
        }
        rustix::fs::access(path, rustix::fs::Access::WRITE_OK).map_err(|_| "you may not write to it".to_string())?;
    }
    let _ = path;
    Ok(())
}

/// Gives a new file the mode, the owner, the group and the other attributes of the one it will replace.
///
/// # Errors
/// Some of it cannot be kept.
pub fn keep(new: &File, old: &Path) -> io::Result<()> {
    let about = fs::metadata(old)?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::{MetadataExt, fchown};
        let now = new.metadata()?;
        if (now.uid(), now.gid()) != (about.uid(), about.gid()) {
            fchown(new, Some(about.uid()), Some(about.gid())).map_err(|_| {
                io::Error::other(format!(
                    "its owner and group (user {}, group {}) cannot be kept",
                    about.uid(),
                    about.gid()
                ))
            })?;
        }
    }
    new.set_permissions(about.permissions())?;
    #[cfg(target_os = "linux")]
    attributes(new, old)?;
    Ok(())
}

/// Access lists and whatever else is noted beside a file.
#[cfg(target_os = "linux")]
fn attributes(new: &File, old: &Path) -> io::Result<()> {
    use rustix::fs::{XattrFlags, fsetxattr, getxattr, listxattr};
    use rustix::io::Errno;
    const MOST: usize = 1 << 16;
    // Names and values are no longer than this on any disk.
    let (mut names, mut value) = (vec![0_u8; MOST], vec![0_u8; MOST]);
    let size = match listxattr(old, &mut names[..]) {
        Ok(size) => size,
        // Such a disk notes nothing beside a file.
        Err(Errno::NOTSUP | Errno::NOSYS) => 0,
        Err(error) => return Err(error.into()),
    };
    for name in names[..size].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let size = match getxattr(old, name, &mut value[..]) {
            Ok(size) => size,
            // Some are for the system alone.
            Err(Errno::NODATA | Errno::PERM | Errno::ACCESS) => continue,
            Err(error) => return Err(error.into()),
        };
        let set = fsetxattr(new, name, &value[..size], XattrFlags::empty());
        // What the system itself gives every file need not be given again.
        if set.is_err() && (name.starts_with(b"user.") || name.starts_with(b"system.posix_acl")) {
            let name = String::from_utf8_lossy(name).into_owned();
            return Err(io::Error::other(format!("its attribute `{name}` cannot be kept")));
        }
    }
    Ok(())
}
