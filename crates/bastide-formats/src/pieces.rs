//! What processes tell each other that work on one estate together: which one it is, and what pieces of it came to.

use crate::checksum;
use bastide_model::Estate;
use bastide_syntax::Sources;
use serde::{Deserialize, Serialize};
use std::io::{self, ErrorKind, Read, Write};
use std::path::{Path, PathBuf};

/// Which estate is asked, as of when: what another process needs to ask the same.
#[derive(Clone, PartialEq, Eq, Hash, Serialize, Deserialize, Debug)]
pub struct Ground {
    /// The folder.
    pub root: PathBuf,
    /// The day, as in 2026-11-24.
    pub day: String,
    /// Attributes of the session.
    pub session: Vec<(String, String)>,
    /// The checksum of what was read: all of it, or what its parts share.
    pub checksum: String,
    /// The parts of the catalog, and the checksum of each.
    pub parts: Vec<(String, String)>,
    /// How many users there are.
    pub users: usize,
    /// How many resources.
    pub resources: usize,
    /// How many actions.
    pub actions: usize,
}

impl Ground {
    /// An estate that was read from `sources`, or what the parts of its catalog share; `parts` are these with their checksums.
    pub fn of(
        root: &Path,
        (day, session): (String, &[(String, String)]),
        estate: &Estate,
        sources: &Sources,
        resources: usize,
        parts: Vec<(String, String)>,
    ) -> Ground {
        Ground {
            root: root.to_path_buf(),
            day,
            session: session.to_vec(),
            checksum: checksum::hex(&checksum::of(sources, &[], &[])),
            parts,
            users: estate.people().len(),
            resources,
            actions: estate.schema().actions.len(),
        }
    }
}

/// What is counted.
#[derive(Clone, Copy, PartialEq, Eq, Serialize, Deserialize, Debug)]
pub enum Tallies {
    /// Totals of everything.
    Summary,
    /// Allowed pairs by user.
    Users,
    /// Allowed pairs by resource.
    Resources,
}

impl Tallies {
    /// All of them, with the words they are asked for by.
    pub const ALL: [(&str, Tallies); 3] =
        [("summary", Tallies::Summary), ("users", Tallies::Users), ("resources", Tallies::Resources)];

    /// The word.
    pub fn word(self) -> &'static str {
        Tallies::ALL.iter().find(|(_, of)| *of == self).map_or("", |(word, _)| word)
    }
}

/// What a message of a piece holds.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Holds {
    /// Some of what it comes to, as JSON, cut anywhere.
    Some,
    /// Fingerprints of rows of the matrix, 16 bytes each, the least byte first.
    Prints,
    /// Nothing more: the piece is whole.
    End,
}

impl Holds {
    /// Its number.
    pub fn number(self) -> u8 {
        self as u8
    }

    /// What a number stands for.
    pub fn of(number: u8) -> Option<Holds> {
        [Holds::Some, Holds::Prints, Holds::End].into_iter().find(|holds| holds.number() == number)
    }
}

/// Some bytes of a piece with a number. Messages of one piece come in order; between them may come those of others.
#[derive(Debug)]
pub struct Message {
    /// The number of the piece.
    pub piece: u32,
    /// What it holds.
    pub holds: Holds,
    /// The bytes.
    pub bytes: Vec<u8>,
}

/// No message is longer: 64 MiB.
const LONGEST: usize = 1 << 26;

impl Message {
    /// Writes it: the number of the piece, what it holds, how long it is, its bytes.
    ///
    /// # Errors
    /// Whoever reads has gone away.
    pub fn write(piece: u32, holds: Holds, bytes: &[u8], out: &mut dyn Write) -> io::Result<()> {
        out.write_all(&piece.to_le_bytes())?;
        out.write_all(&[holds.number()])?;
        out.write_all(&(bytes.len() as u32).to_le_bytes())?;
        out.write_all(bytes)
    }

    /// Reads one; none where there are no more.
    ///
    /// # Errors
    /// It ends in the middle, or is no message.
    pub fn read(from: &mut dyn Read) -> io::Result<Option<Message>> {
        let mut head = [0; 9];
        let begun = from.read(&mut head)?;
        if begun == 0 {
            return Ok(None);
        }
        from.read_exact(&mut head[begun..])?;
        let [a, b, c, d, holds, length @ ..] = head;
        let (piece, length) = (u32::from_le_bytes([a, b, c, d]), u32::from_le_bytes(length) as usize);
        let holds = Holds::of(holds).filter(|_| length <= LONGEST);
        let holds = holds.ok_or_else(|| io::Error::new(ErrorKind::InvalidData, "this is no message of a piece"))?;
        let mut bytes = vec![0; length];
        from.read_exact(&mut bytes)?;
        Ok(Some(Message { piece, holds, bytes }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn messages_are_read_as_they_were_written() {
        let mut bytes = Vec::new();
        for (piece, holds, text) in [(7, Holds::Some, "[1,"), (0, Holds::Prints, ""), (7, Holds::End, "")] {
            Message::write(piece, holds, text.as_bytes(), &mut bytes).unwrap();
        }
        let mut from = bytes.as_slice();
        let mut found = Vec::new();
        while let Some(message) = Message::read(&mut from).unwrap() {
            found.push((message.piece, message.holds, message.bytes.len()));
        }
        assert_eq!(found, [(7, Holds::Some, 3), (0, Holds::Prints, 0), (7, Holds::End, 0)]);
        for cut in [1, 8, 11] {
            let mut from = &bytes[..cut];
            assert!(Message::read(&mut from).is_err(), "{cut}");
        }
        assert!(Message::read(&mut &[0, 0, 0, 0, 9, 0, 0, 0, 0][..]).is_err());
        assert!(Message::read(&mut &[0, 0, 0, 0, 0, 255, 255, 255, 255][..]).is_err());
    }
}
