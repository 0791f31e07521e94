//! How many different fingerprints there are among any number of them, in memory that does not grow with their number.
//!
//! Fingerprints go into heaps by how they begin. What is held in memory is written to a file of each heap as soon as it is too
//! much; in the end the heaps are sorted one by one.

use std::fs::File;
use std::io::{self, BufReader, BufWriter, Read, Seek, SeekFrom, Write};

/// So many heaps.
const HEAPS: usize = 64;
/// So many fingerprints are held in memory at most: 32 MiB.
const MOST: usize = 1 << 21;

/// Fingerprints that are being gathered.
pub struct Distinct {
    heaps: Vec<Vec<u128>>,
    held: usize,
    most: usize,
    files: Vec<Option<File>>,
}

impl Default for Distinct {
    fn default() -> Distinct {
        Distinct::holding(MOST)
    }
}

impl Distinct {
    /// None yet; so many are held in memory at most.
    pub fn holding(most: usize) -> Distinct {
        let files = (0..HEAPS).map(|_| None).collect();
        Distinct { heaps: vec![Vec::new(); HEAPS], held: 0, most, files }
    }

    /// Adds some.
    ///
    /// # Errors
    /// A file for them cannot be written.
    pub fn add(&mut self, prints: impl IntoIterator<Item = u128>) -> io::Result<()> {
        for print in prints {
            self.heaps[(print >> 122) as usize].push(print);
            self.held += 1;
        }
        if self.held >= self.most {
            self.spill()?;
        }
        Ok(())
    }

    fn spill(&mut self) -> io::Result<()> {
        for (heap, file) in self.heaps.iter_mut().zip(&mut self.files) {
            let file = match file {
                Some(file) => file,
                None => file.insert(tempfile::tempfile()?),
            };
            let mut out = BufWriter::new(file);
            for print in heap.drain(..) {
                out.write_all(&print.to_le_bytes())?;
            }
            out.flush()?;
        }
        self.held = 0;
        Ok(())
    }

    /// How many different ones there were, and those that came more than once.
    ///
    /// # Errors
    /// A file with them cannot be read.
    pub fn finish(mut self) -> io::Result<(usize, Vec<u128>)> {
        let (mut count, mut twice) = (0, Vec::new());
        for (mut heap, file) in std::mem::take(&mut self.heaps).into_iter().zip(self.files) {
            if let Some(mut file) = file {
                let bytes = file.seek(SeekFrom::End(0))?;
                file.seek(SeekFrom::Start(0))?;
                heap.reserve(bytes as usize / 16);
                let mut reader = BufReader::new(file);
                let mut print = [0; 16];
                for _ in 0..bytes / 16 {
                    reader.read_exact(&mut print)?;
                    heap.push(u128::from_le_bytes(print));
                }
            }
            heap.sort_unstable();
            for same in heap.chunk_by(|a, b| a == b) {
                count += 1;
                twice.extend((same.len() > 1).then_some(same[0]));
            }
        }
        Ok((count, twice))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_is_held_the_count_is_the_same() {
        let print = |n: u128| n.wrapping_mul(0x9e37_79b9_7f4a_7c15_f39c_c060_5ced_c835);
        for most in [1, 7, 1 << 20] {
            let mut all = Distinct::holding(most);
            for from in 0..10 {
                all.add((from * 10..from * 10 + 15).map(print)).unwrap();
            }
            let (count, mut twice) = all.finish().unwrap();
            let mut wanted: Vec<u128> = (0..9).flat_map(|from| from * 10 + 10..from * 10 + 15).map(print).collect();
            wanted.sort_unstable();
            twice.sort_unstable();
            assert_eq!((count, twice), (105, wanted), "{most}");
        }
    }
}
