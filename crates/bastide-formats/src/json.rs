//! JSON values as cells, and a catalog with one JSON object a line.

use crate::catalog::{CatalogField, CatalogSink};
use crate::cells::{LooseCells, join_set};
use crate::csv_table::unknown_column;
use crate::manifest::DataSource;
use crate::shape::look;
use crate::strict::{Keys, object};
use crate::text::LONGEST_LINE;
use bastide_model::rows::RowPlace;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, Span, codes};
use serde_json::{Map, Value};

/// A value as a cell holds it. An object stands for its `value`; a list for its elements.
///
/// # Errors
/// What cannot stand in a cell.
pub fn cell(value: &Value) -> Result<String, String> {
    match value {
        Value::Null => Ok(String::new()),
        Value::Bool(flag) => Ok(if *flag { "yes" } else { "no" }.to_string()),
        Value::Number(number) => Ok(number.to_string()),
        Value::String(text) => Ok(text.clone()),
        Value::Object(inner) => match inner.get("value") {
            Some(value) if !value.is_object() => cell(value),
            _ => Err("expected a single value, found an object without `value`".to_string()),
        },
        Value::Array(list) => {
            let elements: Result<Vec<String>, String> = list.iter().map(cell).collect();
            Ok(join_set(elements?.iter().map(String::as_str)))
        }
    }
}

/// The lines of a text that hold something, with their places.
pub fn lines(file: FileId, text: &str) -> impl Iterator<Item = (RowPlace, &str)> {
    let mut start = if text.starts_with('\u{feff}') { 3 } else { 0 };
    text[start..].split_inclusive('\n').enumerate().filter_map(move |(i, whole)| {
        let from = start;
        start += whole.len();
        let line = whole.trim_end_matches(['\r', '\n']);
        let place = RowPlace { file, line: i as u32 + 1, start: from as u32, end: (from + line.len()) as u32 };
        (!line.trim().is_empty()).then_some((place, line))
    })
}

/// Gives every object of a text to `each`, one a line. Lines that are too long or no object are reported, and left out; false
/// where there were any.
pub fn objects(
    file: FileId,
    text: &str,
    out: &mut Diagnostics,
    mut each: impl FnMut(RowPlace, Map<String, Value>, &mut Diagnostics),
) -> bool {
    let mut whole = true;
    for (place, line) in lines(file, text) {
        if line.len() > LONGEST_LINE {
            let span = Span::new(file, place.start as usize, place.start as usize + 1);
            out.push(Diagnostic::at(&codes::LINE_TOO_LONG, span, "a line of more than 16 MiB"));
            whole = false;
            continue;
        }
        match object(line, Keys::Exact) {
            Ok(object) => each(place, object, out),
            Err(error) => {
                out.push(not_json(file, text, place.start as usize, &error));
                whole = false;
            }
        }
    }
    whole
}

/// The diagnostic of text that is not JSON. `from` is the byte at which the parsed part begins.
pub fn not_json(file: FileId, text: &str, from: usize, error: &serde_json::Error) -> Diagnostic {
    let part = &text[from..];
    let before: usize = part.split_inclusive('\n').take(error.line().saturating_sub(1)).map(str::len).sum();
    let mut at = (from + before + error.column().saturating_sub(1)).min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    let end = text[at..].chars().next().map_or(at, |c| at + c.len_utf8());
    let message = error.to_string();
    let message = message.rsplit_once(" at line ").map_or(message.as_str(), |(message, _)| message);
    let message = match error.classify() {
        serde_json::error::Category::Data => message.to_string(),
        _ => message.to_lowercase(),
    };
    let message = match error.classify() {
        serde_json::error::Category::Data => message,
        _ => format!("this is not JSON: {message}"),
    };
    Diagnostic::at(&codes::BAD_ROW, Span::new(file, at, end), message)
}

/// Reads a catalog with one object a line; keys are the columns of the CSV form.
pub fn catalog(file: FileId, text: &str, source: &DataSource, sink: &mut CatalogSink, out: &mut Diagnostics) {
    look(source, &sink.known(), out);
    if source.by_path {
        let message = "parents that are given as paths are read of tables alone";
        out.push(Diagnostic::at(&codes::UNSUPPORTED, source.file.span, message));
    }
    let mut told: Vec<String> = Vec::new();
    objects(file, text, out, |place, object, out| {
        let (mut fields, mut texts) = (Vec::new(), Vec::new());
        for (key, value) in &object {
            if source.ignores(key) {
                continue;
            }
            let ours = source.ours(key);
            let field = sink.field(ours);
            if field.is_none() && !told.contains(key) {
                told.push(key.clone());
                out.push(unknown_column(key, place.span(), &sink.known()));
            }
            match cell(value) {
                Ok(text) => {
                    fields.push(field);
                    texts.push(source.value(ours, sink.is_set(ours), &text).unwrap_or(text));
                }
                Err(message) => {
                    out.push(Diagnostic::at(&codes::BAD_VALUE, place.span(), format!("`{key}`: {message}")))
                }
            }
        }
        let kind = fields.iter().position(|field| *field == Some(CatalogField::Kind));
        if let (Some(given), None) = (&source.kind, kind.filter(|at| !texts[*at].is_empty())) {
            fields.push(Some(CatalogField::Kind));
            texts.push(given.text.clone());
        }
        sink.loose(&fields, &LooseCells { texts, place }, out);
    });
}
