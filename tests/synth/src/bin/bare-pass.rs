//! A bare pass of the `csv` crate over CSV files: what everything else is measured against.
#![allow(clippy::print_stdout, reason = "a tool that says what it found")]

use std::io;

fn main() -> io::Result<()> {
    let (mut rows, mut cells) = (0u64, 0u64);
    for path in std::env::args().skip(1) {
        let mut reader = csv::Reader::from_path(&path).map_err(io::Error::other)?;
        let mut record = csv::ByteRecord::new();
        while reader.read_byte_record(&mut record).map_err(io::Error::other)? {
            rows += 1;
            cells += record.len() as u64;
        }
    }
    println!("{rows} rows, {cells} cells");
    Ok(())
}
