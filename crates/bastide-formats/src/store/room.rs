//! Whether there is room for a file.

use std::io;

/// A file as large as a span can tell.
const LARGEST: u64 = u32::MAX as u64;

/// The size of a file, where it can be held.
///
/// # Errors
/// It is larger than 4 GiB, or than the memory that is left.
pub fn fits(size: u64) -> io::Result<usize> {
    if size >= LARGEST {
        let message = "it is larger than 4 GiB: cut it into several files and name them by a pattern";
        return Err(io::Error::new(io::ErrorKind::FileTooLarge, message));
    }
    // A small file is not worth asking for.
    if size > 64 << 20 && left().is_some_and(|left| size > left) {
        return Err(too_large());
    }
    usize::try_from(size).map_err(|_| too_large())
}

/// The memory that is left does not hold it.
pub fn too_large() -> io::Error {
    io::Error::new(io::ErrorKind::OutOfMemory, "it is larger than the memory that is left")
}

/// The bytes of memory that can still be had, where the system says so.
fn left() -> Option<u64> {
    let Ok(mut system) = sysinfo::System::new() else { return None };
    system.refresh_memory();
    let free = system.available_memory();
    let limit = system.cgroup_limits().map(|limits| limits.free_memory);
    let left = limit.map_or(free, |limit| limit.min(free));
    (left > 0).then_some(left)
}
