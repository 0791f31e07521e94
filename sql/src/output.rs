//! Answers on their way out.

use crate::ground::Fault;
use clap::ValueEnum;
use datafusion::arrow::array::{Array, ArrayRef, AsArray, RecordBatch};
use datafusion::arrow::datatypes::{DataType, SchemaRef};
use datafusion::arrow::ipc::writer::FileWriter;
use datafusion::arrow::util::display::{ArrayFormatter, FormatOptions};
use datafusion::error::{DataFusionError, Result};
use datafusion::parquet::arrow::ArrowWriter;
use datafusion::parquet::basic::Compression;
use datafusion::parquet::file::properties::WriterProperties;
use datafusion::physical_plan::SendableRecordBatchStream;
use futures::StreamExt;
use std::io::{self, BufWriter, Write};
use std::path::Path;

/// How to print.
#[derive(Clone, Copy, PartialEq, Eq, Debug, ValueEnum)]
pub enum Format {
    /// Aligned columns
    Table,
    /// RFC 4180; of a list the elements, with `;` between them
    Csv,
    /// One array of objects
    Json,
    /// One object a line
    Jsonl,
    /// Apache Parquet
    Parquet,
    /// Arrow IPC, the file format
    Arrow,
}

/// What there is to say of an answer besides its rows.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct Written {
    /// How many rows it has.
    pub rows: usize,
}

/// How an answer is written.
#[derive(Clone, Copy, Debug)]
pub struct How {
    /// The form.
    pub format: Format,
    /// More rows are an error.
    pub limit: usize,
    /// Whether CSV cells are written so that no spreadsheet runs them.
    pub guard: bool,
    /// Whether a table may be coloured.
    pub color: bool,
}

fn outside(error: impl std::fmt::Display) -> DataFusionError {
    Fault::outside(error).into()
}

/// Writes an answer to a file, which is there only once it is whole, or to the standard output.
///
/// # Errors
/// It cannot be written, has more rows than it may, or the question fails on the way.
pub async fn write(rows: SendableRecordBatchStream, how: How, file: Option<&Path>) -> Result<Written> {
    match file {
        None => {
            let out = BufWriter::with_capacity(1 << 16, io::stdout());
            into(rows, how, out).await.map(|(written, _)| written)
        }
        Some(path) => {
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
            let named = |error: io::Error| outside(format!("`{}` cannot be written: {error}", path.display()));
            let temporary = tempfile::NamedTempFile::new_in(folder).map_err(named)?;
            let out = BufWriter::with_capacity(1 << 16, temporary);
            let (written, out) = into(rows, how, out).await?;
            let temporary = out.into_inner().map_err(|error| named(error.into_error()))?;
            temporary.persist(path).map_err(|error| named(error.error))?;
            Ok(written)
        }
    }
}

async fn into<W: Write + Send>(mut rows: SendableRecordBatchStream, how: How, out: W) -> Result<(Written, W)> {
    let schema = rows.schema();
    let mut target = Target::new(how, schema, out)?;
    let mut count = 0;
    while let Some(batch) = rows.next().await {
        let batch = batch?;
        count += batch.num_rows();
        if count > how.limit {
            return Err(Fault::usage(format!(
                "the answer has more than {} rows: count or narrow it in the question, end it with `limit`, or raise \
                 `--limit-rows`",
                how.limit
            ))
            .into());
        }
        target.batch(batch)?;
    }
    Ok((Written { rows: count }, target.finish()?))
}

enum Target<W: Write + Send> {
    Table { rows: Vec<RecordBatch>, schema: SchemaRef, how: How, out: W },
    Csv { csv: csv::Writer<W>, guard: bool },
    Json(arrow_json::ArrayWriter<W>),
    Lines(arrow_json::LineDelimitedWriter<W>),
    Parquet(ArrowWriter<W>),
    Arrow(FileWriter<W>),
}

impl<W: Write + Send> Target<W> {
    fn new(how: How, schema: SchemaRef, out: W) -> Result<Target<W>> {
        Ok(match how.format {
            Format::Table => Target::Table { rows: Vec::new(), schema, how, out },
            Format::Csv => {
                let mut csv = csv::Writer::from_writer(out);
                csv.write_record(schema.fields().iter().map(|field| field.name())).map_err(outside)?;
                Target::Csv { csv, guard: how.guard }
            }
            Format::Json => Target::Json(arrow_json::WriterBuilder::new().with_explicit_nulls(true).build(out)),
            Format::Jsonl => Target::Lines(arrow_json::WriterBuilder::new().with_explicit_nulls(true).build(out)),
            Format::Parquet => {
                let properties = WriterProperties::builder().set_compression(Compression::SNAPPY).build();
                Target::Parquet(ArrowWriter::try_new(out, schema, Some(properties)).map_err(outside)?)
            }
            Format::Arrow => Target::Arrow(FileWriter::try_new(out, &schema)?),
        })
    }

    fn batch(&mut self, batch: RecordBatch) -> Result<()> {
        match self {
            Target::Table { rows, .. } => rows.push(batch),
            Target::Csv { csv, guard } => {
                let columns = batch.columns().iter().map(|column| cells(column, "")).collect::<Result<Vec<_>>>()?;
                for row in 0..batch.num_rows() {
                    let cell = |cells: &Vec<String>| match guard {
                        true => bastide_formats::sheets::guarded(&cells[row]),
                        false => cells[row].clone(),
                    };
                    csv.write_record(columns.iter().map(cell)).map_err(outside)?;
                }
            }
            Target::Json(json) => json.write(&batch)?,
            Target::Lines(json) => json.write(&batch)?,
            Target::Parquet(parquet) => parquet.write(&batch).map_err(outside)?,
            Target::Arrow(arrow) => arrow.write(&batch)?,
        }
        Ok(())
    }

    fn finish(self) -> Result<W> {
        let mut out = match self {
            Target::Table { rows, schema, how, mut out } => {
                out.write_all(table(&rows, &schema, how.color)?.as_bytes()).map_err(outside)?;
                out
            }
            Target::Csv { csv, .. } => csv.into_inner().map_err(outside)?,
            Target::Json(mut json) => {
                json.finish()?;
                let mut out = json.into_inner();
                out.write_all(b"\n").map_err(outside)?;
                out
            }
            Target::Lines(mut json) => {
                json.finish()?;
                json.into_inner()
            }
            Target::Parquet(parquet) => parquet.into_inner().map_err(outside)?,
            Target::Arrow(arrow) => arrow.into_inner()?,
        };
        out.flush().map_err(outside)?;
        Ok(out)
    }
}

/// The cells of a column as texts.
fn cells(column: &ArrayRef, missing: &str) -> Result<Vec<String>> {
    if let DataType::List(_) = column.data_type() {
        let lists = column.as_list::<i32>();
        let list = |row: usize| {
            if lists.is_null(row) {
                return Ok(missing.to_string());
            }
            let elements = cells(&lists.value(row), missing)?;
            Ok(bastide_formats::cells::join_set(elements.iter().map(String::as_str)))
        };
        return (0..lists.len()).map(list).collect();
    }
    if let DataType::Boolean = column.data_type() {
        let flags = column.as_boolean();
        let flag = |row: usize| match flags.is_null(row) {
            true => missing.to_string(),
            false => if flags.value(row) { "yes" } else { "no" }.to_string(),
        };
        return Ok((0..flags.len()).map(flag).collect());
    }
    let options = FormatOptions::new().with_null(missing);
    let formatter = ArrayFormatter::try_new(column, &options)?;
    (0..column.len()).map(|row| formatter.value(row).try_to_string().map_err(DataFusionError::from)).collect()
}

/// The lines of a cell, in which nothing acts on a terminal.
fn lines(cell: &str) -> Vec<String> {
    cell.trim_end_matches('\n').split('\n').map(|line| bastide_syntax::visible(line).into_owned()).collect()
}

/// Aligned columns, numbers to the right, under their names.
fn table(batches: &[RecordBatch], schema: &SchemaRef, color: bool) -> Result<String> {
    let mut columns: Vec<Vec<String>> = schema.fields().iter().map(|field| vec![field.name().clone()]).collect();
    for batch in batches {
        for (column, cells_of) in columns.iter_mut().zip(batch.columns()) {
            let cells = cells(cells_of, "-")?;
            column.extend(cells);
        }
    }
    let numeric: Vec<bool> = schema.fields().iter().map(|field| field.data_type().is_numeric()).collect();
    let grouped = |text: &str| match text.parse::<i64>() {
        Ok(number) => {
            let sign = if number < 0 { "-" } else { "" };
            format!("{sign}{}", bastide_model::show::grouped(number.unsigned_abs()))
        }
        Err(_) => text.to_string(),
    };
    for (column, numeric) in columns.iter_mut().zip(&numeric) {
        if *numeric {
            column.iter_mut().skip(1).for_each(|cell| *cell = grouped(cell));
        }
    }
    let width = |column: &Vec<String>| {
        column
            .iter()
            .flat_map(|cell| lines(cell))
            .map(|line| unicode_width::UnicodeWidthStr::width(line.as_str()))
            .max()
    };
    let widths: Vec<usize> = columns.iter().map(|column| width(column).unwrap_or(0)).collect();
    let mut out = String::new();
    let rows = columns.first().map_or(0, Vec::len);
    // A cell of several lines takes several.
    let lines: Vec<Vec<Vec<String>>> =
        columns.iter().map(|column| column.iter().map(|cell| lines(cell)).collect()).collect();
    let all = (0..rows).flat_map(|row| {
        let most = lines.iter().map(|column| column[row].len()).max().unwrap_or(0);
        (0..most).map(move |line| (row, line))
    });
    for (row, part) in all {
        let mut line = String::new();
        for (at, column) in lines.iter().enumerate() {
            let cell = column[row].get(part).map_or("", String::as_str);
            let pad = " ".repeat(widths[at] - unicode_width::UnicodeWidthStr::width(cell));
            if at > 0 {
                line.push_str("  ");
            }
            if numeric[at] {
                line.push_str(&pad);
                line.push_str(cell);
            } else {
                line.push_str(cell);
                line.push_str(&pad);
            }
        }
        let line = line.trim_end();
        if row == 0 && color {
            out.push_str(&format!("\u{1b}[1m{line}\u{1b}[0m\n"));
        } else {
            out.push_str(line);
            out.push('\n');
        }
    }
    Ok(out)
}
