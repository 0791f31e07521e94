//! Apache Parquet, written: columns of text, streamed in groups of rows so that memory does not grow
//! with the rows.

use parquet::basic::{Compression, LogicalType, Repetition, Type as Physical};
use parquet::data_type::{ByteArray, ByteArrayType};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::Type;
use std::io::{self, Write};
use std::sync::Arc;

/// Rows of one group.
const GROUP: usize = 1 << 17;

/// A Parquet file being written. Every column is required UTF-8 text.
pub struct ParquetRows<W: Write + Send> {
    writer: SerializedFileWriter<W>,
    columns: Vec<Vec<ByteArray>>,
}

fn plain(error: ParquetError) -> io::Error {
    match error {
        ParquetError::External(inner) => match inner.downcast::<io::Error>() {
            Ok(error) => *error,
            Err(other) => io::Error::other(other),
        },
        other => io::Error::other(other),
    }
}

impl<W: Write + Send> ParquetRows<W> {
    /// Begins a file with these columns.
    ///
    /// # Errors
    /// What the writer beneath says.
    pub fn new(out: W, columns: &[&str]) -> io::Result<ParquetRows<W>> {
        let field = |name: &&str| {
            let column = Type::primitive_type_builder(name, Physical::BYTE_ARRAY)
                .with_repetition(Repetition::REQUIRED)
                .with_logical_type(Some(LogicalType::String));
            column.build().map(Arc::new).map_err(plain)
        };
        let fields: io::Result<Vec<_>> = columns.iter().map(field).collect();
        let schema = Type::group_type_builder("access").with_fields(fields?).build().map_err(plain)?;
        let properties = WriterProperties::builder().set_compression(Compression::SNAPPY).build();
        let writer = SerializedFileWriter::new(out, Arc::new(schema), Arc::new(properties)).map_err(plain)?;
        Ok(ParquetRows { writer, columns: vec![Vec::new(); columns.len()] })
    }

    /// Adds a row, a text a column.
    ///
    /// # Errors
    /// What the writer beneath says.
    pub fn row(&mut self, cells: &[&str]) -> io::Result<()> {
        for (column, cell) in self.columns.iter_mut().zip(cells) {
            column.push(ByteArray::from(*cell));
        }
        if self.columns[0].len() >= GROUP { self.flush() } else { Ok(()) }
    }

    fn flush(&mut self) -> io::Result<()> {
        if self.columns[0].is_empty() {
            return Ok(());
        }
        let mut group = self.writer.next_row_group().map_err(plain)?;
        for values in &mut self.columns {
            let Some(mut column) = group.next_column().map_err(plain)? else { break };
            column.typed::<ByteArrayType>().write_batch(values, None, None).map_err(plain)?;
            column.close().map_err(plain)?;
            values.clear();
        }
        group.close().map_err(plain)?;
        Ok(())
    }

    /// Ends the file.
    ///
    /// # Errors
    /// What the writer beneath says.
    pub fn finish(mut self) -> io::Result<()> {
        self.flush()?;
        self.writer.close().map(drop).map_err(plain)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use parquet::file::reader::{FileReader, SerializedFileReader};

    #[test]
    fn rows_come_back_in_order_across_groups() {
        let mut file = Vec::new();
        let mut rows = ParquetRows::new(&mut file, &["user", "actions"]).unwrap();
        let count = GROUP + 3;
        for i in 0..count {
            rows.row(&[&format!("u{}", i % 7), if i % 2 == 0 { "read;ünïcode" } else { "" }]).unwrap();
        }
        rows.finish().unwrap();
        let reader = SerializedFileReader::new(bytes(file)).unwrap();
        assert_eq!((reader.num_row_groups(), reader.metadata().file_metadata().num_rows()), (2, count as i64));
        for (i, row) in reader.get_row_iter(None).unwrap().enumerate() {
            let row = row.unwrap().to_string();
            let actions = if i % 2 == 0 { "read;ünïcode" } else { "" };
            assert_eq!(row, format!("{{user: \"u{}\", actions: \"{actions}\"}}", i % 7));
        }
    }

    fn bytes(file: Vec<u8>) -> bytes::Bytes {
        file.into()
    }
}
