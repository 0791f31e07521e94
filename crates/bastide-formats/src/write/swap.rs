//! A new text and the file it replaces change places, so that what was replaced can be looked at once more.

use super::names::{fresh_name, sum};
use crate::stray::Stray;
use std::fs;
use std::io;
use std::path::Path;

/// Lets a new text and a file change places, if the file has the checksum it should. False where it has another: then all
/// is as before.
pub fn change_places(target: &Path, beside: &Path, old: &str) -> io::Result<bool> {
    if sum(&fs::read(target)?) != old {
        return Ok(false);
    }
    if exchange(target, beside)? {
        if sum(&fs::read(beside)?) == old {
            return Ok(true);
        }
        exchange(target, beside)?;
        return Ok(false);
    }
    // Where the disk cannot let two files change places, a copy of the old one is kept, to be put back if it must.
    let kept = beside.with_file_name(fresh_name()?);
    let stray = Stray::of(&kept);
    fs::copy(target, &kept)?;
    fs::rename(beside, target)?;
    fs::rename(&kept, beside)?;
    drop(stray);
    Ok(true)
}

#[cfg(target_os = "linux")]
fn exchange(a: &Path, b: &Path) -> io::Result<bool> {
    use rustix::fs::{CWD, RenameFlags, renameat_with};
    use rustix::io::Errno;
    match renameat_with(CWD, a, CWD, b, RenameFlags::EXCHANGE) {
        Ok(()) => Ok(true),
        Err(Errno::INVAL | Errno::NOSYS | Errno::OPNOTSUPP) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

#[cfg(not(target_os = "linux"))]
fn exchange(_: &Path, _: &Path) -> io::Result<bool> {
    Ok(false)
}
