//! Rows that another program gives as CSV.

use crate::columns::some_texts;
use crate::ground::Fault;
use datafusion::arrow::array::{ArrayRef, RecordBatch};
use datafusion::arrow::datatypes::SchemaRef;
use datafusion::error::Result;

/// The columns of a schema of texts, found by their names in CSV. Empty cells of columns that may be missing are.
///
/// # Errors
/// A column is not there, or a row cannot be read.
pub fn csv(text: &[u8], schema: SchemaRef) -> Result<RecordBatch> {
    let mut reader = csv::Reader::from_reader(text);
    let wrong = |error: csv::Error| Fault::outside(format!("what the program gave cannot be read: {error}"));
    let header = reader.headers().map_err(wrong)?.clone();
    let mut columns: Vec<(usize, Vec<String>)> = Vec::new();
    for field in schema.fields() {
        let at = header.iter().position(|name| name == field.name());
        let at = at.ok_or_else(|| Fault::outside(format!("the program gave no column `{}`", field.name())))?;
        columns.push((at, Vec::new()));
    }
    for row in reader.records() {
        let row = row.map_err(wrong)?;
        columns.iter_mut().for_each(|(at, cells)| cells.push(row.get(*at).unwrap_or_default().to_string()));
    }
    let arrays = schema.fields().iter().zip(&columns).map(|(field, (_, cells))| -> ArrayRef {
        some_texts(cells.iter().map(|cell| Some(cell).filter(|cell| !(field.is_nullable() && cell.is_empty()))))
    });
    Ok(RecordBatch::try_new(schema.clone(), arrays.collect())?)
}
