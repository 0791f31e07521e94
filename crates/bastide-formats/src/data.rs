//! The rows of a data file (CSV, JSON Lines, Parquet), one at a time: what lies inside a dataset.
//!
//! Nothing of the rows is kept. A cell without a value is none: null in JSON and Parquet, an empty cell in CSV.

use crate::csv_table::{Cells, CsvRow, CsvTable};
use crate::json::objects;
use bastide_model::inside::Literal;
use bastide_model::rows::RowPlace;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};
use bytes::Bytes;
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::Field;
use parquet::schema::types::Type;
use serde_json::Value;
use std::collections::HashMap;

/// What a data file is.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum DataFormat {
    /// RFC 4180.
    Csv,
    /// One JSON object a line.
    JsonLines,
    /// Apache Parquet.
    Parquet,
}

impl DataFormat {
    /// The format that a file's name speaks of, `.gz` left aside.
    pub fn of_name(name: &str) -> Option<DataFormat> {
        if name.ends_with(".parquet") {
            return Some(DataFormat::Parquet);
        }
        let name = name.strip_suffix(".gz").unwrap_or(name);
        let endings = [(".csv", DataFormat::Csv), (".jsonl", DataFormat::JsonLines)];
        endings.iter().find(|(ending, _)| name.ends_with(ending)).map(|(_, format)| *format)
    }
}

/// A column of the data.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct DataColumn {
    /// Its name.
    pub name: String,
    /// How its values are written in SQL; none where rows cannot be told apart by them.
    pub literal: Option<Literal>,
}

/// A row of the data.
pub trait DataRow {
    /// The cell of a column; none where there is no value.
    fn cell(&self, column: usize) -> Option<&str>;
}

impl DataRow for CsvRow<'_> {
    fn cell(&self, column: usize) -> Option<&str> {
        Some(self.text(column)).filter(|text| !text.is_empty())
    }
}

impl DataRow for Vec<Option<String>> {
    fn cell(&self, column: usize) -> Option<&str> {
        self.get(column)?.as_deref()
    }
}

/// Is given each row: the columns, its cells, and where it stands.
pub type Each<'e> = dyn FnMut(&[DataColumn], &dyn DataRow, RowPlace) -> bool + 'e;

/// Reads a text file until `each` says no more. None where its columns cannot be read, which is reported.
pub fn text(
    file: FileId,
    format: DataFormat,
    text: &str,
    each: &mut Each<'_>,
    out: &mut Diagnostics,
) -> Option<Vec<DataColumn>> {
    match format {
        DataFormat::JsonLines => json_lines(file, text, each, out),
        DataFormat::Csv | DataFormat::Parquet => csv(file, text, each, out),
    }
}

fn csv(file: FileId, text: &str, each: &mut Each<'_>, out: &mut Diagnostics) -> Option<Vec<DataColumn>> {
    let mut table = CsvTable::open(file, text, out)?;
    let columns: Vec<DataColumn> =
        table.header.iter().map(|cell| DataColumn { name: cell.text.clone(), literal: Some(Literal::Text) }).collect();
    for (at, cell) in table.header.iter().enumerate() {
        if table.header[..at].iter().any(|other| other.text == cell.text) {
            let message = format!("column `{}` stands twice", cell.text);
            out.push(Diagnostic::at(&codes::UNKNOWN_COLUMN, cell.span, message));
            return None;
        }
    }
    let mut row = table.row();
    while table.next(&mut row, out) && each(&columns, &row, row.place()) {}
    Some(columns)
}

fn json_lines(file: FileId, text: &str, each: &mut Each<'_>, out: &mut Diagnostics) -> Option<Vec<DataColumn>> {
    // Not every object has every key: all of them are looked through for the columns first.
    let mut columns: Vec<DataColumn> = Vec::new();
    let mut known: HashMap<String, usize> = HashMap::new();
    let mut kinds: Vec<Option<Option<Literal>>> = Vec::new();
    let whole = objects(file, text, out, |_, object, _| {
        for (name, value) in &object {
            let at = *known.entry(name.clone()).or_insert_with(|| {
                columns.push(DataColumn { name: name.clone(), literal: None });
                kinds.push(None);
                columns.len() - 1
            });
            let literal = match value {
                Value::Null => continue,
                Value::String(_) => Some(Literal::Text),
                Value::Number(_) => Some(Literal::Number),
                Value::Bool(_) => Some(Literal::Flag),
                Value::Array(_) | Value::Object(_) => None,
            };
            // Of several sorts none can be compared with.
            kinds[at] = Some(kinds[at].map_or(literal, |was| if was == literal { was } else { None }));
        }
    });
    if !whole {
        return None;
    }
    for (column, kind) in columns.iter_mut().zip(kinds) {
        column.literal = kind.unwrap_or(Some(Literal::Text));
    }
    let mut goes_on = true;
    objects(file, text, out, |place, object, _| {
        if !goes_on {
            return;
        }
        let cell = |column: &DataColumn| match object.get(&column.name)? {
            Value::Null => None,
            Value::String(text) => Some(text.clone()),
            other => Some(other.to_string()),
        };
        let cells: Vec<Option<String>> = columns.iter().map(cell).collect();
        goes_on = each(&columns, &cells, place);
    });
    Some(columns)
}

/// Reads a Parquet file until `each` says no more; its rows have no place of their own.
///
/// # Errors
/// It is no such file, or is packed in a way that is not read here.
pub fn parquet(bytes: Bytes, place: RowPlace, each: &mut Each<'_>) -> Result<Vec<DataColumn>, String> {
    let told = |error: parquet::errors::ParquetError| format!("it cannot be read as Parquet: {error}");
    let reader = SerializedFileReader::new(bytes).map_err(told)?;
    let schema = reader.metadata().file_metadata().schema_descr().root_schema_ptr();
    let columns: Vec<DataColumn> = schema
        .get_fields()
        .iter()
        .map(|field| DataColumn { name: field.name().to_string(), literal: literal(field) })
        .collect();
    for row in reader.get_row_iter(None).map_err(told)? {
        let row = row.map_err(told)?;
        let cells: Vec<Option<String>> = row.get_column_iter().map(|(_, field)| cell(field)).collect();
        if !each(&columns, &cells, place) {
            break;
        }
    }
    Ok(columns)
}

fn literal(field: &Type) -> Option<Literal> {
    use parquet::basic::{ConvertedType, LogicalType, Type as Physical};
    if !field.is_primitive() {
        return None;
    }
    let info = field.get_basic_info();
    match (info.logical_type_ref(), info.converted_type(), field.get_physical_type()) {
        (Some(LogicalType::String | LogicalType::Enum), ..) => Some(Literal::Text),
        (_, ConvertedType::UTF8 | ConvertedType::ENUM, _) => Some(Literal::Text),
        (Some(LogicalType::Date), ..) | (_, ConvertedType::DATE, _) => Some(Literal::Date),
        (Some(LogicalType::Integer { .. } | LogicalType::Decimal { .. }), ..) => Some(Literal::Number),
        (None, ConvertedType::NONE, Physical::INT32 | Physical::INT64) => Some(Literal::Number),
        (None, ConvertedType::NONE, Physical::BOOLEAN) => Some(Literal::Flag),
        // Times and numbers with a floating point tell rows apart by chance.
        _ => None,
    }
}

fn cell(field: &Field) -> Option<String> {
    Some(match field {
        Field::Null => return None,
        Field::Str(text) => text.clone(),
        Field::Bool(flag) => flag.to_string(),
        Field::Byte(n) => n.to_string(),
        Field::Short(n) => n.to_string(),
        Field::Int(n) => n.to_string(),
        Field::Long(n) => n.to_string(),
        Field::UByte(n) => n.to_string(),
        Field::UShort(n) => n.to_string(),
        Field::UInt(n) => n.to_string(),
        Field::ULong(n) => n.to_string(),
        Field::Date(days) => date(*days),
        // The library shows all others as text.
        other => match other.to_string() {
            text if text.len() > 1 && text.starts_with('"') && text.ends_with('"') => {
                text[1..text.len() - 1].to_string()
            }
            text => text,
        },
    })
}

/// The day so many days after the first of January 1970.
pub(crate) fn date(days: i32) -> String {
    let epoch = jiff::civil::Date::constant(1970, 1, 1);
    let day = jiff::Span::new().try_days(days).and_then(|days| epoch.checked_add(days));
    day.map_or_else(|_| days.to_string(), |day| day.to_string())
}
