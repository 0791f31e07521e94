//! Rows of data files: values of every type are the texts that a query has to name.

use bastide_formats::data::{self, DataColumn, DataFormat};
use bastide_model::inside::Literal;
use bastide_model::rows::RowPlace;
use bastide_syntax::{Diagnostics, FileId};
use parquet::basic::{LogicalType, Repetition, Type as Physical};
use parquet::data_type::{BoolType, ByteArray, ByteArrayType, DoubleType, Int32Type, Int64Type};
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::Type;
use std::sync::Arc;

type Cells = Vec<Vec<Option<String>>>;

fn gathered(read: impl FnOnce(&mut data::Each<'_>) -> Vec<DataColumn>) -> (Vec<(String, Option<Literal>)>, Cells) {
    let mut rows = Cells::new();
    let columns = read(&mut |columns, row, _| {
        rows.push((0..columns.len()).map(|at| row.cell(at).map(str::to_string)).collect());
        true
    });
    (columns.into_iter().map(|column| (column.name, column.literal)).collect(), rows)
}

fn text(format: DataFormat, text: &str) -> (Vec<(String, Option<Literal>)>, Cells) {
    gathered(|each| {
        let mut out = Diagnostics::new();
        let columns = data::text(FileId(0), format, text, each, &mut out).expect("it can be read");
        assert!(out.is_empty(), "{out:?}");
        columns
    })
}

fn some(cells: &[Option<&str>]) -> Vec<Option<String>> {
    cells.iter().map(|cell| cell.map(str::to_string)).collect()
}

/// A Parquet file with a column of each type, three rows, the last one without values.
fn parquet() -> Vec<u8> {
    let column = |name: &str, physical: Physical, logical: Option<LogicalType>, scale: i32, precision: i32| {
        let column = Type::primitive_type_builder(name, physical).with_repetition(Repetition::OPTIONAL);
        let column = column.with_logical_type(logical).with_scale(scale).with_precision(precision);
        Arc::new(column.build().expect("a column"))
    };
    let fields = vec![
        column("house", Physical::BYTE_ARRAY, Some(LogicalType::String), 0, 0),
        column("level", Physical::INT64, None, 0, 0),
        column("price", Physical::INT32, Some(LogicalType::decimal(2, 9)), 2, 9),
        column("day", Physical::INT32, Some(LogicalType::Date), 0, 0),
        column("ok", Physical::BOOLEAN, None, 0, 0),
        column("measure", Physical::DOUBLE, None, 0, 0),
    ];
    let schema = Type::group_type_builder("rows").with_fields(fields).build().expect("a schema");
    let properties = Arc::new(WriterProperties::builder().build());
    let mut out = Vec::new();
    let mut writer = SerializedFileWriter::new(&mut out, Arc::new(schema), properties).expect("a file");
    let mut group = writer.next_row_group().expect("a group");
    let there = [1i16, 1, 0];
    macro_rules! write {
        ($type:ty, $values:expr) => {
            let mut column = group.next_column().expect("it can be written").expect("a column");
            column.typed::<$type>().write_batch(&$values, Some(&there), None).expect("values");
            column.close().expect("it closes");
        };
    }
    write!(ByteArrayType, [ByteArray::from("harbour"), ByteArray::from("it's \"odd\"")]);
    write!(Int64Type, [7, -3]);
    write!(Int32Type, [1250, -5]);
    write!(Int32Type, [20_000, -1]);
    write!(BoolType, [true, false]);
    write!(DoubleType, [1.5, 2.5]);
    group.close().expect("it closes");
    writer.close().expect("it closes");
    out
}

#[test]
fn every_type_of_parquet_is_what_a_query_names() {
    let place = RowPlace { file: FileId(0), line: 1, start: 0, end: 0 };
    let (columns, rows) = gathered(|each| data::parquet(parquet().into(), place, each).expect("it can be read"));
    let literals: Vec<(&str, Option<Literal>)> =
        columns.iter().map(|(name, literal)| (name.as_str(), *literal)).collect();
    assert_eq!(
        literals,
        [
            ("house", Some(Literal::Text)),
            ("level", Some(Literal::Number)),
            ("price", Some(Literal::Number)),
            ("day", Some(Literal::Date)),
            ("ok", Some(Literal::Flag)),
            ("measure", None),
        ]
    );
    assert_eq!(rows.len(), 3);
    assert_eq!(rows[0][..5], some(&[Some("harbour"), Some("7"), Some("12.50"), Some("2024-10-04"), Some("true")]));
    assert_eq!(
        rows[1][..5],
        some(&[Some("it's \"odd\""), Some("-3"), Some("-0.05"), Some("1969-12-31"), Some("false")])
    );
    assert_eq!(rows[2], some(&[None; 6]));
    assert!(data::parquet(b"PAR1 no such thing PAR1".to_vec().into(), place, &mut |_, _, _| true).is_err());
}

#[test]
fn rows_of_text_files() {
    let (columns, rows) = text(DataFormat::Csv, "a;\"b c\"\n1;\"x;y\"\n;\n");
    assert_eq!(columns, [("a".to_string(), Some(Literal::Text)), ("b c".to_string(), Some(Literal::Text))]);
    assert_eq!(rows, [some(&[Some("1"), Some("x;y")]), some(&[None, None])]);
    let lines =
        "{\"a\":1,\"b\":true,\"c\":\"\",\"d\":[1],\"e\":1}\n\n{\"c\":null,\"a\":2.50,\"e\":\"1\",\"f\":\"late\"}\n";
    let (columns, rows) = text(DataFormat::JsonLines, lines);
    let literal = |name: &str| columns.iter().find(|(known, _)| known == name).map(|(_, literal)| *literal);
    assert_eq!(literal("a"), Some(Some(Literal::Number)));
    assert_eq!(literal("b"), Some(Some(Literal::Flag)));
    assert_eq!(literal("c"), Some(Some(Literal::Text)));
    assert_eq!(literal("d"), Some(None), "a list tells no rows apart");
    assert_eq!(literal("e"), Some(None), "values of two sorts");
    let cell = |row: usize, name: &str| rows[row][columns.iter().position(|(known, _)| known == name).unwrap()].clone();
    assert_eq!(cell(0, "c").as_deref(), Some(""), "an empty text is a value");
    assert_eq!(cell(1, "c"), None);
    assert_eq!(cell(1, "b"), None);
    assert_eq!(cell(1, "f").as_deref(), Some("late"));
    let mut out = Diagnostics::new();
    let read = data::text(FileId(0), DataFormat::JsonLines, "{\"a\":1}\n{\"a\":\n", &mut |_, _, _| true, &mut out);
    assert!(read.is_none() && out.len() == 1, "{out:?}");
}
