//! What is packed, unpacked within a limit.

use std::io::{self, Read};

/// No more bytes than this come out of one packed file.
pub const MOST: u64 = u32::MAX as u64;

/// How much something of so many bytes may come to.
pub fn most(packed: u64) -> u64 {
    packed.saturating_mul(RATIO).clamp(ALWAYS, MOST)
}
/// So much may come out of anything.
const ALWAYS: u64 = 256 << 20;
/// More than that only out of something that is not smaller by more than this: tables of text pack to a twentieth.
const RATIO: u64 = 250;

/// A reader that ends with an error where more comes out than can be meant.
pub struct Limited<R> {
    from: R,
    left: u64,
}

impl<R: Read> Limited<R> {
    /// Of something that was packed into so many bytes.
    pub fn new(from: R, packed: u64) -> Limited<R> {
        Limited { from, left: most(packed) }
    }

    /// Something else within the same limit: what is left of it.
    pub fn with<S>(self, from: S) -> Limited<S> {
        Limited { from, left: self.left }
    }

    /// All that comes out.
    ///
    /// # Errors
    /// It cannot be unpacked, there is no memory for it, or it is more than can be meant.
    pub fn all(mut self, out: &mut Vec<u8>) -> io::Result<()> {
        let mut piece = vec![0; 1 << 16];
        loop {
            let number = self.read(&mut piece)?;
            if number == 0 {
                return Ok(());
            }
            out.try_reserve(number).map_err(|_| super::room::too_large())?;
            out.extend_from_slice(&piece[..number]);
        }
    }
}

impl<R: Read> Read for Limited<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let number = self.from.read(into)?;
        self.left = self.left.checked_sub(number as u64).ok_or_else(|| {
            let message = "it unpacks to far more than tables of text do: more than 256 MiB, and 250 times its size";
            io::Error::new(io::ErrorKind::FileTooLarge, message)
        })?;
        Ok(number)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn much_comes_out_of_much_and_not_of_little() {
        let out = |bytes: u64, packed| io::copy(&mut Limited::new(io::repeat(0).take(bytes), packed), &mut io::sink());
        assert!(out(ALWAYS, 1).is_ok());
        assert!(out(ALWAYS + 1, 1).is_err());
        assert!(out(2 * ALWAYS, (2 * ALWAYS).div_ceil(RATIO)).is_ok());
        assert!(out(2 * ALWAYS + 1, 2 * ALWAYS / RATIO).is_err());
        let mut all = Vec::new();
        Limited::new(&b"abc"[..], 3).all(&mut all).unwrap();
        assert_eq!(all, b"abc");
    }
}
