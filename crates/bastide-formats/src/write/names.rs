//! Names and checksums of new texts that stand beside their files.

use crate::store::OWN;
use sha2::{Digest, Sha256};
use std::io;

/// The checksum of a text.
pub fn sum(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A name of our own form that nobody can guess.
///
/// # Errors
/// The system has no randomness to give.
pub fn fresh_name() -> io::Result<String> {
    let mut bytes = [0; 12];
    getrandom::fill(&mut bytes).map_err(io::Error::other)?;
    Ok(format!("{OWN}{}", bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>()))
}

/// Whether a name is of our own form.
pub fn is_own_name(name: &str) -> bool {
    name.strip_prefix(OWN).is_some_and(|rest| rest.len() == 24 && rest.bytes().all(|b| b.is_ascii_hexdigit()))
}
