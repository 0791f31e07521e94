//! What lies inside a dataset, as resources of the catalog: a slice for each combination of values that occurs in some
//! columns, with the number of its rows, and perhaps each column.
//!
//! The rows are gone through once, and none is kept. Rows of a database are counted there by an import, which keeps what it
//! found as JSON Lines: the columns first, then one slice a line.

use crate::catalog::{CatalogField, CatalogSink, Layout};
use crate::cells::LooseCells;
use crate::combinations::Combinations;
use crate::csv_table::unknown_column;
use crate::data::{DataColumn, DataFormat, DataRow, Each};
use crate::json::{lines, not_json};
use crate::manifest::InsideSource;
use crate::strict::{Keys, object};
use bastide_model::Schema;
use bastide_model::inside::{Inside, Literal, SlicedBy};
use bastide_model::rows::RowPlace;
use bastide_model::schema::{Attribute, Scalar};
use bastide_model::strings::Strings;
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};
use bytes::Bytes;
use serde_json::Value;
use std::fmt::Write;

/// The kind of a slice, of a column, and the attribute that holds how many rows a slice has.
pub const SLICE: &str = "slice";
/// The kind of a column.
pub const COLUMN: &str = "column";
/// The attribute that holds how many rows a slice has.
pub const ROWS: &str = "rows";

/// What was found in the data.
pub struct Found {
    columns: Vec<DataColumn>,
    /// By column that rows are told apart by, which column of the data it is.
    at: Vec<Option<usize>>,
    slices: Combinations,
    rows: u64,
    /// Whether there are more slices than there may be.
    too_many: bool,
}

impl Found {
    /// Nothing yet, in data with such columns.
    fn of(source: &InsideSource, columns: Vec<DataColumn>) -> Found {
        let at: Vec<Option<usize>> =
            source.slices.iter().map(|by| columns.iter().position(|column| column.name == by.text)).collect();
        let literal = |at: &Option<usize>| at.and_then(|at| columns[at].literal).unwrap_or_default();
        let slices = Combinations::new(at.iter().map(literal));
        Found { columns, at, slices, rows: 0, too_many: false }
    }

    /// How many rows there are.
    pub fn rows(&self) -> u64 {
        self.rows
    }
}

/// Where the rows of a source are.
pub enum Data<'d> {
    /// In a text, by its file.
    Text(FileId, DataFormat, &'d str),
    /// In a Parquet file.
    Parquet(Bytes),
    /// In a database: what an import found there.
    Counted(FileId, &'d str),
}

/// Goes through the data of a source. None where it cannot be read, which is reported. `place`: where the source is named.
pub fn count(source: &InsideSource, data: Data, place: RowPlace, out: &mut Diagnostics) -> Option<Found> {
    if let Data::Counted(file, text) = data {
        return counted(source, file, text, out);
    }
    let mut found: Option<Found> = None;
    let mut by: Vec<usize> = Vec::new();
    let mut take = |columns: &[DataColumn], row: &dyn DataRow, place: RowPlace| {
        let found = found.get_or_insert_with(|| {
            let begun = Found::of(source, columns.to_vec());
            by = begun.at.iter().copied().flatten().collect();
            begun
        });
        if found.at.contains(&None) {
            return false;
        }
        found.rows += 1;
        found.slices.add(by.iter().map(|at| row.cell(*at)), 1, place);
        found.too_many = found.slices.len() > source.at_most;
        !found.too_many
    };
    let columns = go(data, place, source, &mut take, out)?;
    let found = found.unwrap_or_else(|| Found::of(source, columns));
    if let Some(place) = found.slices.zero() {
        let message = "a value with the character U+0000, which no database takes";
        out.push(Diagnostic::at(&codes::BAD_VALUE, place.span(), message));
    }
    Some(found)
}

fn go(
    data: Data,
    place: RowPlace,
    source: &InsideSource,
    each: &mut Each<'_>,
    out: &mut Diagnostics,
) -> Option<Vec<DataColumn>> {
    match data {
        Data::Text(file, format, text) => crate::data::text(file, format, text, each, out),
        Data::Parquet(bytes) => match crate::data::parquet(bytes, place, each) {
            Ok(columns) => Some(columns),
            Err(message) => {
                let message = format!("`{}`: {message}", source.data.file.text);
                out.push(Diagnostic::at(&codes::UNREADABLE, place.span(), message));
                None
            }
        },
        Data::Counted(..) => None,
    }
}

/// Reads what an import found.
fn counted(source: &InsideSource, file: FileId, text: &str, out: &mut Diagnostics) -> Option<Found> {
    let mut found: Option<Found> = None;
    for (place, line) in lines(file, text) {
        let object = match object(line, Keys::Exact) {
            Ok(object) => object,
            Err(error) => {
                out.push(not_json(file, text, place.start as usize, &error));
                return None;
            }
        };
        let read = match &mut found {
            None => head(&object).map(|columns| found = Some(Found::of(source, columns))),
            Some(found) => slice(source, &object).map(|(values, count)| {
                found.rows += count;
                found.slices.add(values, count, place);
            }),
        };
        if read.is_none() {
            let message = "this is not what an import writes of a table";
            let help = format!("to have it written anew, run `bastide import {} --write`", source.dataset.text);
            out.push(Diagnostic::at(&codes::BAD_ROW, place.span(), message).help(help));
            return None;
        }
    }
    let Some(mut found) = found else {
        let message = format!("nothing is known of the table yet: `{}` is empty", source.data.file.text);
        let help = format!("to find out, run `bastide import {} --write`", source.dataset.text);
        out.push(Diagnostic::at(&codes::MISSING_VALUE, source.data.file.span, message).help(help));
        return None;
    };
    found.too_many = found.slices.len() > source.at_most;
    Some(found)
}

fn head(object: &serde_json::Map<String, Value>) -> Option<Vec<DataColumn>> {
    let column = |value: &Value| {
        let literal = match value.get("type")?.as_str()? {
            "other" => None,
            name => Some(Literal::NAMES.iter().find(|(known, _)| *known == name)?.1),
        };
        Some(DataColumn { name: value.get("name")?.as_str()?.to_string(), literal })
    };
    object.get("columns")?.as_array()?.iter().map(column).collect()
}

fn slice<'o>(source: &InsideSource, object: &'o serde_json::Map<String, Value>) -> Option<(Vec<Option<&'o str>>, u64)> {
    let values = object.get("values")?.as_array()?;
    let value = |value: &'o Value| match value {
        Value::Null => Some(None),
        Value::String(text) => Some(Some(text.as_str())),
        _ => None,
    };
    let values: Vec<Option<&str>> = values.iter().map(value).collect::<Option<_>>()?;
    (values.len() == source.slices.len()).then_some((values, object.get("rows")?.as_u64()?))
}

/// Puts what was found into the catalog.
pub fn take_in(
    source: &InsideSource,
    path: &str,
    found: Found,
    schema: &Schema,
    place: RowPlace,
    catalog: &mut CatalogSink,
    out: &mut Diagnostics,
) -> Option<Inside> {
    let names: Vec<String> = found.columns.iter().map(|column| column.name.clone()).collect();
    let mut whole = true;
    for (by, at) in source.slices.iter().zip(&found.at) {
        let literal = at.map(|at| found.columns[at].literal);
        match literal {
            None => out.push(unknown_column(&by.text, by.span, &names)),
            Some(None) => {
                let message = format!(
                    "rows are not told apart by `{}`: its values are no texts, whole numbers, days or flags",
                    by.text
                );
                out.push(Diagnostic::at(&codes::BAD_VALUE, by.span, message));
            }
            Some(Some(_)) => continue,
        }
        whole = false;
    }
    if found.too_many {
        let distinct = source.slices.iter().enumerate().map(|(at, by)| (found.slices.distinct(at), by));
        let most = distinct.max_by_key(|(values, _)| *values);
        let message = format!("more than {} combinations of values occur: so many slices are not kept", source.at_most);
        let mut told = Diagnostic::at(&codes::CUT_OFF, source.dataset.span, message);
        if let Some((values, by)) = most {
            let help = format!("tell rows apart by what rules ask for: `{}` alone has {values} values", by.text);
            told = told.help(help);
        }
        out.push(told);
        return None;
    }
    let declared = Declared::of(source, schema, out)?;
    if !whole {
        return None;
    }
    let by: Vec<SlicedBy> = source
        .slices
        .iter()
        .zip(&found.at)
        .map(|(by, at)| SlicedBy {
            name: by.text.clone(),
            attribute: source.data.ours(&by.text).to_string(),
            literal: at.and_then(|at| found.columns[at].literal).unwrap_or_default(),
        })
        .collect();
    let inside = Inside {
        dataset: source.dataset.text.clone(),
        by,
        columns: names,
        by_column: source.columns,
        rows: found.rows,
        empty_is_none: DataFormat::of_name(path) == Some(DataFormat::Csv),
        file: path.to_string(),
        table: source.table.clone().unwrap_or_default(),
        origin: Some(place.origin()),
    };
    let mut fields =
        vec![Some(CatalogField::Id), Some(CatalogField::Parent), Some(CatalogField::Kind), Some(CatalogField::Name)];
    let plain = fields.clone();
    fields.extend(declared.attributes.iter().copied());
    if !source.slices.is_empty() {
        slices(source, &inside, &found.slices, &CatalogSink::layout(&fields), catalog, out);
    }
    if source.columns {
        for (column, _) in source.marked.iter().filter(|(column, _)| !inside.columns.contains(&column.text)) {
            out.push(unknown_column(&column.text, column.span, &inside.columns));
        }
        let known = catalog.known();
        for name in &inside.columns {
            let encoded = bastide_model::inside::encoded(name);
            let mut fields = plain.clone();
            let mut texts = vec![inside.column_id(name), inside.dataset.clone(), COLUMN.to_string(), encoded];
            let marks = source.marked.iter().filter(|(column, _)| column.text == *name).flat_map(|(_, marks)| marks);
            for (attribute, value) in marks {
                match catalog.field(&attribute.text) {
                    Some(field @ (CatalogField::Attribute(_) | CatalogField::Owner | CatalogField::State)) => {
                        fields.push(Some(field));
                        texts.push(value.text.clone());
                    }
                    _ => out.push(unknown_column(&attribute.text, attribute.span, &known)),
                }
            }
            catalog.loose(&fields, &LooseCells { texts, place }, out);
        }
    }
    Some(inside)
}

/// Takes the slices in, in one order, whatever that of the rows. What stands in their cells is made once for each value.
fn slices(
    source: &InsideSource,
    inside: &Inside,
    slices: &Combinations,
    layout: &Layout,
    catalog: &mut CatalogSink,
    out: &mut Diagnostics,
) {
    // By column and value: how it stands in the name of a slice, and in the cell of its attribute.
    let parts: Vec<(Strings, Strings)> = (source.slices.iter().enumerate().zip(&inside.by))
        .map(|((at, column), by)| {
            let mut texts = (Strings::default(), Strings::default());
            let ours = source.data.ours(&column.text);
            for value in slices.values(at) {
                texts.0.push(&by.part(value));
                let word = value.and_then(|text| source.data.value(ours, false, text));
                texts.1.push(word.as_deref().or(value).unwrap_or_default());
            }
            texts
        })
        .collect();
    let order = slices.in_order();
    let last = 4 + parts.len();
    catalog.in_chunks(layout, order.len(), out, |chunk, take| {
        let place = RowPlace { file: FileId(0), line: 0, start: 0, end: 0 };
        let mut cells = LooseCells { texts: vec![String::new(); last + 1], place };
        cells.texts[1].clone_from(&inside.dataset);
        cells.texts[2].push_str(SLICE);
        let mut values = Vec::new();
        for slice in &order[chunk] {
            slices.parts(*slice, &mut values);
            let (count, place) = slices.counted(*slice);
            cells.place = place;
            cells.texts.iter_mut().skip(3).for_each(String::clear);
            for (at, ((names, texts), value)) in parts.iter().zip(&values).enumerate() {
                if at > 0 {
                    cells.texts[3].push(';');
                }
                cells.texts[3].push_str(names.get(*value as usize));
                cells.texts[4 + at].push_str(texts.get(*value as usize));
            }
            let (id, rest) = cells.texts.split_at_mut(1);
            id[0].clear();
            id[0].extend([&inside.dataset, "#", &rest[2]]);
            let _ = write!(cells.texts[last], "{count}");
            if !take(&cells) {
                return;
            }
        }
    });
}

/// What the estate must declare for it.
struct Declared {
    /// The fields of the values of a slice, and of its rows.
    attributes: Vec<Option<CatalogField>>,
}

impl Declared {
    fn of(source: &InsideSource, schema: &Schema, out: &mut Diagnostics) -> Option<Declared> {
        let span = source.dataset.span;
        let mut whole = true;
        let mut lacks = |message: String, help: String, out: &mut Diagnostics| {
            out.push(Diagnostic::at(&codes::UNKNOWN_KIND, span, message).help(help));
            whole = false;
        };
        if !source.slices.is_empty() && schema.kind(SLICE).is_none() {
            lacks(
                "there is no kind `slice`, which rows told apart by their values are".into(),
                "to declare it, write `kind slice in ...`, with the kind of the dataset".into(),
                out,
            );
        }
        if source.columns && schema.kind(COLUMN).is_none() {
            lacks(
                "there is no kind `column`".into(),
                "to declare it, write `kind column in ...`, with the kind of the dataset".into(),
                out,
            );
        }
        let Some(kind) = schema.kind(SLICE).filter(|_| whole && !source.slices.is_empty()) else {
            return whole.then(|| Declared { attributes: Vec::new() });
        };
        let mut attributes = Vec::new();
        let known: Vec<String> = schema.resource_attributes.iter().map(|a| a.name.clone()).collect();
        let mut missing = |name: &str, kind_of: &str, span, is: &dyn Fn(&Attribute) -> bool, out: &mut Diagnostics| {
            let found = schema.resource_attribute(name);
            let declared = found.map(|id| &schema.resource_attributes[id.index()]);
            match declared {
                Some(attribute) if is(attribute) && schema.is_any(kind, attribute.kinds.as_deref()) => {
                    attributes.push(found.map(CatalogField::Attribute));
                }
                _ => {
                    let message = format!("slices have no attribute `{name}` that could hold it");
                    let told = Diagnostic::at(&codes::UNKNOWN_ATTRIBUTE, span, message);
                    let near = bastide_syntax::nearest::nearest(name, known.iter().map(String::as_str));
                    let mut help = format!(
                        "to declare it, write `attribute {} of slice: {kind_of}`",
                        bastide_syntax::quote::name(name)
                    );
                    if let Some(near) = near.filter(|near| *near != name) {
                        help = format!("{help}; is it `{near}`? then map it: `attributes = {{ {name} = \"{near}\" }}`");
                    }
                    out.push(told.help(help));
                    whole = false;
                }
            }
        };
        for by in &source.slices {
            let ours = source.data.ours(&by.text);
            missing(ours, "text", by.span, &|attribute| !attribute.set, out);
        }
        missing(ROWS, "number", span, &|attribute| attribute.scalar == Scalar::Number && !attribute.set, out);
        whole.then_some(Declared { attributes })
    }
}
