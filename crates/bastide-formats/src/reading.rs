//! What whoever reads the files of a source needs, whether all at once or part by part.

use crate::manifest::{DataSource, Format};
use crate::store::Store;
use crate::{columnar, workbook};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Sources, codes};

/// Whether a file is no text, and read as a table that is made of it.
pub(crate) fn is_packed(format: Format) -> bool {
    matches!(format, Format::Workbook | Format::Parquet)
}

/// That fewer rows came of a source than the manifest says there are at least.
pub(crate) fn too_few(source: &DataSource, came: usize) -> Option<Diagnostic> {
    let (least, span) = source.at_least.filter(|(least, _)| came < *least)?;
    let message = format!("`{}` holds {came} rows, and {least} are wanted at least", source.file.text);
    let help = "an export that ends half-way looks like this; if so many are right, lower `at_least`";
    Some(Diagnostic::at(&codes::CUT_OFF, span, message).help(help))
}

/// Reads a sheet of a workbook, or a file in columns, as a table.
pub(crate) fn table_of(
    store: &dyn Store,
    path: &str,
    format: Format,
    source: &DataSource,
    sources: &mut Sources,
    out: &mut Diagnostics,
) -> Option<FileId> {
    let bytes = store.read(path).map_err(|error| format!("the file cannot be read: {error}"));
    let sheet = source.sheet.as_ref().map(|sheet| sheet.text.as_str());
    let table = bytes.and_then(|bytes| match format {
        Format::Parquet => columnar::table(bytes),
        _ => workbook::table(path, &bytes, sheet),
    });
    table
        .map(|text| sources.add(path, text))
        .map_err(|message| {
            let span = source.sheet.as_ref().map_or(source.file.span, |sheet| sheet.span);
            out.push(Diagnostic::at(&codes::UNREADABLE, span, format!("`{path}`: {message}")));
        })
        .ok()
}
