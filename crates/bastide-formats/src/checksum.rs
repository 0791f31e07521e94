//! What tells one state of an estate's files from another.

use bastide_syntax::{FileId, Sources};
use sha2::{Digest, Sha256};

/// What a file holds.
#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Held<'t> {
    Text(&'t str),
    Sum([u8; 32]),
}

/// SHA-256 over the names and the texts of all files, in the order of their names; of a part of the catalog over the SHA-256 of
/// its text, so that it comes to the same whether `parts` were read together or, as `one_by_one` tells, each by itself.
pub fn of(sources: &Sources, parts: &[FileId], one_by_one: &[(String, [u8; 32])]) -> [u8; 32] {
    let held = |file: FileId| match parts.contains(&file) {
        true => Held::Sum(Sha256::digest(sources.text(file)).into()),
        false => Held::Text(sources.text(file)),
    };
    let files = (0..sources.len() as u32).map(FileId).map(|file| (sources.name(file), held(file)));
    let apart = one_by_one.iter().map(|(name, sum)| (name.as_str(), Held::Sum(*sum)));
    let mut files: Vec<(&str, Held)> = files.chain(apart).collect();
    files.sort_unstable();
    files.dedup();
    let mut sum = Sha256::new();
    for (name, held) in files {
        // Lengths keep what is a name from being taken for a text.
        sum.update((name.len() as u64).to_le_bytes());
        sum.update(name);
        match held {
            Held::Text(text) => {
                sum.update((text.len() as u64).to_le_bytes());
                sum.update(text);
            }
            Held::Sum(of) => {
                sum.update(u64::MAX.to_le_bytes());
                sum.update(of);
            }
        }
    }
    sum.finalize().into()
}

/// Bytes as they are written in answers.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
