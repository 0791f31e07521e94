//! A table in Apache Parquet as the text of a table, a row a line, so that places in it are said by the numbers of its rows.
//!
//! Columns hold texts, whole numbers, numbers with a floating point, days or flags, or lists of these, which become sets. A
//! few rows are read at a time. Cost: all values once.

use crate::cells::join_set;
use crate::data::date;
use crate::store::most;
use bytes::Bytes;
use parquet::basic::{ConvertedType, LogicalType, Type as Physical};
use parquet::column::reader::{ColumnReader, ColumnReaderImpl};
use parquet::data_type::{ByteArray, DataType};
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::schema::types::ColumnDescriptor;
use std::borrow::Cow;

/// So many rows are read at a time.
const STEP: usize = 1 << 14;

/// What the values of a column are.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Sort {
    Text,
    Number,
    Day,
    Flag,
}

/// A column: its name, and what it holds.
struct ColumnShape {
    name: String,
    sort: Sort,
    /// Whether it holds lists.
    lists: bool,
    /// The level at which a value is there.
    there: i16,
}

/// The text of a file as a table parted by commas.
///
/// # Errors
/// It is no such file, is packed in a way that is not read here, has columns that a table cannot have, or is too large.
pub fn table(bytes: Vec<u8>) -> Result<String, String> {
    let told = |error: parquet::errors::ParquetError| format!("it cannot be read as Parquet: {error}");
    let size = bytes.len();
    let reader = SerializedFileReader::new(Bytes::from(bytes)).map_err(told)?;
    let schema = reader.metadata().file_metadata().schema_descr_ptr();
    let shapes: Vec<ColumnShape> =
        schema.columns().iter().map(|column| shape(column)).collect::<Result<_, String>>()?;
    let mut out = String::new();
    line(&mut out, shapes.iter().map(|shape| Cow::from(&shape.name)));
    let most = usize::try_from(most(size as u64)).unwrap_or(usize::MAX);
    for at in 0..reader.num_row_groups() {
        let group = reader.get_row_group(at).map_err(told)?;
        let rows = usize::try_from(group.metadata().num_rows()).map_err(|_| "it has no rows that can be counted")?;
        let mut columns: Vec<ColumnReader> =
            (0..shapes.len()).map(|at| group.get_column_reader(at)).collect::<Result<_, _>>().map_err(told)?;
        let mut read = 0;
        // A few rows at a time: what a file says of its rows may come to anything.
        while read < rows {
            let wanted = STEP.min(rows - read);
            let step: Vec<Column> = columns
                .iter_mut()
                .zip(&shapes)
                .map(|(of, shape)| column(of, shape, wanted))
                .collect::<Result<_, _>>()?;
            for row in 0..wanted {
                line(&mut out, step.iter().map(|column| column.cell(row)));
                if out.len() > most {
                    return Err("it comes to more text than a file of its size may: cut it into several".to_string());
                }
            }
            read += wanted;
        }
    }
    Ok(out)
}

/// What a column is.
fn shape(column: &ColumnDescriptor) -> Result<ColumnShape, String> {
    let path = column.path().parts();
    let name = path.first().cloned().unwrap_or_default();
    let lists = column.max_rep_level() == 1;
    let wrong = |what: &str| Err(format!("column `{name}` holds {what}, which no table of the estate does"));
    if column.max_rep_level() > 1 || (!lists && path.len() > 1) || (lists && path.len() > 3) {
        return wrong("what has parts of its own");
    }
    let sort = match (column.logical_type_ref(), column.converted_type(), column.physical_type()) {
        (Some(LogicalType::Date), ..) | (_, ConvertedType::DATE, _) => Sort::Day,
        (Some(LogicalType::String | LogicalType::Enum), ..) => Sort::Text,
        (_, ConvertedType::UTF8 | ConvertedType::ENUM, _) => Sort::Text,
        (Some(LogicalType::Integer { .. }), ..) => Sort::Number,
        // Nothing but nulls.
        (Some(LogicalType::Unknown), ..) => Sort::Number,
        (None, ConvertedType::NONE, Physical::BYTE_ARRAY) => Sort::Text,
        (None, ConvertedType::NONE, Physical::INT32 | Physical::INT64) => Sort::Number,
        (None, ConvertedType::NONE, Physical::FLOAT | Physical::DOUBLE) => Sort::Number,
        (None, ConvertedType::NONE, Physical::BOOLEAN) => Sort::Flag,
        _ => return wrong("times, decimals or bytes"),
    };
    Ok(ColumnShape { name, sort, lists, there: column.max_def_level() })
}

/// The values of a column in some rows.
struct Column {
    texts: Vec<Cow<'static, str>>,
    bytes: Vec<ByteArray>,
    /// Of each row the values it has, and of which list it is.
    rows: Vec<(u32, u32)>,
    lists: bool,
}

impl Column {
    fn value(&self, at: u32) -> &str {
        match self.bytes.get(at as usize) {
            // Looked at when it was read.
            Some(bytes) => bytes.as_utf8().unwrap_or_default(),
            None => &self.texts[at as usize],
        }
    }

    fn cell(&self, row: usize) -> Cow<'_, str> {
        let (from, to) = self.rows[row];
        match self.lists {
            true => join_set((from..to).map(|at| self.value(at))).into(),
            false if from == to => "".into(),
            false => self.value(from).into(),
        }
    }
}

fn column(reader: &mut ColumnReader, shape: &ColumnShape, rows: usize) -> Result<Column, String> {
    let (mut texts, mut bytes) = (Vec::new(), Vec::new());
    let day = shape.sort == Sort::Day;
    let levels = match reader {
        ColumnReader::ByteArrayColumnReader(reader) => {
            let levels;
            (levels, bytes) = all(reader, rows)?;
            if let Some(wrong) = bytes.iter().find(|bytes: &&ByteArray| bytes.as_utf8().is_err()) {
                let near = String::from_utf8_lossy(wrong.data()).into_owned();
                return Err(format!("column `{}` holds bytes that are no text, as in `{near}`", shape.name));
            }
            levels
        }
        ColumnReader::Int32ColumnReader(reader) => {
            let (levels, values) = all(reader, rows)?;
            texts.extend(values.iter().map(|n| Cow::from(if day { date(*n) } else { n.to_string() })));
            levels
        }
        ColumnReader::Int64ColumnReader(reader) => {
            let (levels, values) = all(reader, rows)?;
            texts.extend(values.iter().map(|n| Cow::from(n.to_string())));
            levels
        }
        ColumnReader::FloatColumnReader(reader) => {
            let (levels, values) = all(reader, rows)?;
            texts.extend(values.iter().map(|n| Cow::from(n.to_string())));
            levels
        }
        ColumnReader::DoubleColumnReader(reader) => {
            let (levels, values) = all(reader, rows)?;
            texts.extend(values.iter().map(|n| Cow::from(n.to_string())));
            levels
        }
        ColumnReader::BoolColumnReader(reader) => {
            let (levels, values) = all(reader, rows)?;
            texts.extend(values.iter().map(|flag| Cow::from(if *flag { "yes" } else { "no" })));
            levels
        }
        _ => return Err(format!("column `{}` holds what no table of the estate does", shape.name)),
    };
    let count = texts.len().max(bytes.len()) as u32;
    let mut spans: Vec<(u32, u32)> = Vec::with_capacity(rows);
    let mut value = 0;
    if levels.0.is_empty() && levels.1.is_empty() {
        spans.extend((0..count).map(|at| (at, at + 1)));
    } else {
        // Without definition levels every value is there.
        let entries = levels.0.len().max(levels.1.len());
        for at in 0..entries {
            let there = levels.0.get(at).is_none_or(|level| *level == shape.there);
            match levels.1.get(at) {
                Some(level) if *level > 0 => {}
                _ => spans.push((value, value)),
            }
            if there {
                value += 1;
                spans.last_mut().ok_or("it begins inside a list")?.1 = value;
            }
        }
    }
    if spans.len() != rows || spans.last().is_some_and(|(_, to)| *to > count) {
        return Err(format!("column `{}` has another number of rows than the file says", shape.name));
    }
    Ok(Column { texts, bytes, rows: spans, lists: shape.lists })
}

/// The definition levels and the repetition levels of a column, then its values.
type Read<T> = ((Vec<i16>, Vec<i16>), Vec<T>);

fn all<T: DataType>(reader: &mut ColumnReaderImpl<T>, rows: usize) -> Result<Read<T::T>, String> {
    let (mut definition, mut repetition, mut values) = (Vec::new(), Vec::new(), Vec::new());
    let mut read = 0;
    while read < rows {
        let records = reader.read_records(rows - read, Some(&mut definition), Some(&mut repetition), &mut values);
        let (records, ..) = records.map_err(|error| format!("it cannot be read as Parquet: {error}"))?;
        if records == 0 {
            break;
        }
        read += records;
    }
    Ok(((definition, repetition), values))
}

/// Writes a row as RFC 4180 has it.
fn line<'c>(out: &mut String, cells: impl Iterator<Item = Cow<'c, str>>) {
    for (at, cell) in cells.enumerate() {
        if at > 0 {
            out.push(',');
        }
        if cell.contains([',', '"', '\n', '\r']) {
            out.push('"');
            out.push_str(&cell.replace('"', "\"\""));
            out.push('"');
        } else {
            out.push_str(&cell);
        }
    }
    out.push('\n');
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::parquet::{Cell, CellKind, ParquetRows};

    #[test]
    fn a_table_comes_back_as_it_was_written() {
        let mut file = Vec::new();
        let columns = [("id", CellKind::Text), ("tags", CellKind::Texts), ("name", CellKind::Text)];
        let mut rows = ParquetRows::new(&mut file, &columns, &[]).unwrap();
        rows.row(&[Cell::Text("a"), Cell::Texts(&["x", "y;z"]), Cell::Text("Quay, \"old\"")]).unwrap();
        rows.row(&[Cell::Text("b"), Cell::Texts(&[]), Cell::Text("")]).unwrap();
        rows.row(&[Cell::Text("c"), Cell::Texts(&["w"]), Cell::Text("Mole")]).unwrap();
        rows.finish().unwrap();
        let set = join_set(["x", "y;z"]);
        let set = if set.contains('"') { format!("\"{}\"", set.replace('"', "\"\"")) } else { set };
        assert_eq!(table(file).unwrap(), format!("id,tags,name\na,{set},\"Quay, \"\"old\"\"\"\nb,,\nc,w,Mole\n"));
        // More rows than are read at a time, in several groups.
        let mut file = Vec::new();
        let mut rows = ParquetRows::new(&mut file, &[("id", CellKind::Text), ("tags", CellKind::Texts)], &[]).unwrap();
        let count = 150_000;
        for i in 0..count {
            rows.row(&[Cell::Text(&i.to_string()), Cell::Texts(&["x", "y"][..i % 3])]).unwrap();
        }
        rows.finish().unwrap();
        let text = table(file).unwrap();
        let wanted = |i: usize| format!("{i},{}", ["", "x", "x;y"][i % 3]);
        assert!(text.lines().skip(1).enumerate().all(|(i, line)| line == wanted(i)));
        assert_eq!(text.lines().count(), count + 1);
        // A small file that comes to very much.
        let mut file = Vec::new();
        let mut rows = ParquetRows::new(&mut file, &[("id", CellKind::Text)], &[]).unwrap();
        let long = "x".repeat(1 << 16);
        for _ in 0..6000 {
            rows.row(&[Cell::Text(&long)]).unwrap();
        }
        rows.finish().unwrap();
        assert!(file.len() < 1 << 22, "it is packed");
        assert!(table(file).unwrap_err().contains("more text than a file of its size may"));
        assert!(table(b"PAR1 and nothing".to_vec()).unwrap_err().starts_with("it cannot be read as Parquet"));
    }
}
