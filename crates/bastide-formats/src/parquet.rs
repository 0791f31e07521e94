//! Apache Parquet, written: columns of text and of lists of text, streamed in groups of rows so that memory does not grow
//! with the rows.

use parquet::basic::{Compression, LogicalType, Repetition, Type as Physical};
use parquet::data_type::{ByteArray, ByteArrayType};
use parquet::errors::ParquetError;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::Type;
use std::io::{self, Write};
use std::sync::Arc;

/// Rows of one group.
const GROUP: usize = 1 << 17;

/// What a column holds.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum CellKind {
    /// A UTF-8 text in every row.
    Text,
    /// A list of such texts, perhaps an empty one, in every row.
    Texts,
}

/// A Parquet file being written.
pub struct ParquetRows<W: Write + Send> {
    writer: SerializedFileWriter<W>,
    columns: Vec<Written>,
    rows: usize,
}

/// What is gathered of a column: values, and of a list the levels that say where rows begin and which are empty.
#[derive(Default)]
struct Written {
    values: Vec<ByteArray>,
    definition: Vec<i16>,
    repetition: Vec<i16>,
}

/// A cell of a row.
#[derive(Clone, Copy, Debug)]
pub enum Cell<'a> {
    /// A text.
    Text(&'a str),
    /// A list of texts.
    Texts(&'a [&'a str]),
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
    /// Begins a file with these columns. `about` is kept with it as keys and values.
    ///
    /// # Errors
    /// What the writer beneath says.
    pub fn new(out: W, columns: &[(&str, CellKind)], about: &[(String, String)]) -> io::Result<ParquetRows<W>> {
        let text = |name: &str| {
            let column = Type::primitive_type_builder(name, Physical::BYTE_ARRAY)
                .with_repetition(Repetition::REQUIRED)
                .with_logical_type(Some(LogicalType::String));
            column.build().map(Arc::new).map_err(plain)
        };
        let field = |(name, holds): &(&str, CellKind)| match holds {
            CellKind::Text => text(name),
            // The three levels that the format wants of a list.
            CellKind::Texts => {
                let inner = Type::group_type_builder("list").with_repetition(Repetition::REPEATED);
                let inner = inner.with_fields(vec![text("element")?]).build().map_err(plain)?;
                let outer = Type::group_type_builder(name).with_repetition(Repetition::REQUIRED);
                let outer = outer.with_logical_type(Some(LogicalType::List)).with_fields(vec![Arc::new(inner)]);
                outer.build().map(Arc::new).map_err(plain)
            }
        };
        let fields: io::Result<Vec<_>> = columns.iter().map(field).collect();
        let schema = Type::group_type_builder("access").with_fields(fields?).build().map_err(plain)?;
        let about = about.iter().map(|(key, value)| KeyValue::new(key.clone(), value.clone())).collect();
        let properties = WriterProperties::builder().set_compression(Compression::SNAPPY);
        let properties = properties.set_key_value_metadata(Some(about)).build();
        let writer = SerializedFileWriter::new(out, Arc::new(schema), Arc::new(properties)).map_err(plain)?;
        Ok(ParquetRows { writer, columns: columns.iter().map(|_| Written::default()).collect(), rows: 0 })
    }

    /// Adds a row, a cell a column, each of what the column holds.
    ///
    /// # Errors
    /// What the writer beneath says.
    pub fn row(&mut self, cells: &[Cell]) -> io::Result<()> {
        for (column, cell) in self.columns.iter_mut().zip(cells) {
            match cell {
                Cell::Text(text) => column.values.push(ByteArray::from(*text)),
                Cell::Texts([]) => {
                    column.definition.push(0);
                    column.repetition.push(0);
                }
                Cell::Texts(texts) => {
                    for (at, text) in texts.iter().enumerate() {
                        column.values.push(ByteArray::from(*text));
                        column.definition.push(1);
                        column.repetition.push(i16::from(at > 0));
                    }
                }
            }
        }
        self.rows += 1;
        if self.rows >= GROUP { self.flush() } else { Ok(()) }
    }

    fn flush(&mut self) -> io::Result<()> {
        if self.rows == 0 {
            return Ok(());
        }
        let mut group = self.writer.next_row_group().map_err(plain)?;
        self.rows = 0;
        for written in &mut self.columns {
            let Some(mut column) = group.next_column().map_err(plain)? else { break };
            let Written { values, definition, repetition } = std::mem::take(written);
            let levels = |levels: Vec<i16>| Some(levels).filter(|levels| !levels.is_empty());
            let (definition, repetition) = (levels(definition), levels(repetition));
            let typed = column.typed::<ByteArrayType>();
            typed.write_batch(&values, definition.as_deref(), repetition.as_deref()).map_err(plain)?;
            column.close().map_err(plain)?;
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
        let about = [("estate".to_string(), "Four Tides".to_string())];
        let columns = [("user", CellKind::Text), ("actions", CellKind::Texts), ("reason", CellKind::Text)];
        let mut rows = ParquetRows::new(&mut file, &columns, &about).unwrap();
        let count = GROUP + 3;
        let lists: [&[&str]; 3] = [&["read", "x;ünïcode"], &[], &["read"]];
        for i in 0..count {
            rows.row(&[Cell::Text(&format!("u{}", i % 7)), Cell::Texts(lists[i % 3]), Cell::Text("r")]).unwrap();
        }
        rows.finish().unwrap();
        let reader = SerializedFileReader::new(bytes(file)).unwrap();
        assert_eq!((reader.num_row_groups(), reader.metadata().file_metadata().num_rows()), (2, count as i64));
        for (i, row) in reader.get_row_iter(None).unwrap().enumerate() {
            let row = row.unwrap().to_string();
            let actions = ["[\"read\", \"x;ünïcode\"]", "[]", "[\"read\"]"][i % 3];
            assert_eq!(row, format!("{{user: \"u{}\", actions: {actions}, reason: \"r\"}}", i % 7));
        }
        let kept = reader.metadata().file_metadata().key_value_metadata().unwrap();
        assert!(kept.iter().any(|k| k.key == "estate" && k.value.as_deref() == Some("Four Tides")));
    }

    fn bytes(file: Vec<u8>) -> bytes::Bytes {
        file.into()
    }
}
