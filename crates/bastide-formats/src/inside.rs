//! What lies inside a dataset, as resources of the catalog: a slice for each combination of values that occurs in some
//! columns, with the number of its rows, and perhaps each column.
//!
//! The rows are gone through once, and none is kept. Rows of a database are counted there by an import, which keeps what it
//! found as JSON Lines: the columns first, then one slice a line.

use crate::catalog::{CatalogField, CatalogSink};
use crate::csv_table::unknown_column;
use crate::data::{DataColumn, DataFormat, Each};
use crate::json::{LooseCells, lines, not_json};
use crate::manifest::InsideSource;
use crate::strict::{Keys, object};
use bastide_model::Schema;
use bastide_model::inside::{Inside, Literal, SlicedBy};
use bastide_model::rows::RowPlace;
use bastide_model::schema::{Attribute, Scalar};
use bastide_syntax::{Diagnostic, Diagnostics, FileId, codes};
use bytes::Bytes;
use hashbrown::{HashMap, HashSet};
use serde_json::Value;
use std::fmt::Write;

/// The kind of a slice, of a column, and the attribute that holds how many rows a slice has.
pub const SLICE: &str = "slice";
/// The kind of a column.
pub const COLUMN: &str = "column";
/// The attribute that holds how many rows a slice has.
pub const ROWS: &str = "rows";

/// Rows of one combination of values: how many, and where the first of them stands.
type Counted = HashMap<SliceKey, (u64, RowPlace)>;

/// The values of a slice.
type SliceKey = Box<[Option<Box<str>>]>;

/// What was found in the data.
pub struct Found {
    columns: Vec<DataColumn>,
    /// By column that rows are told apart by, which column of the data it is.
    at: Vec<Option<usize>>,
    slices: Counted,
    rows: u64,
    /// Whether there are more slices than there may be.
    too_many: bool,
}

impl Found {
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
    // Columns are known only once the first row is: their positions are looked up by a first look at it.
    let columns = columns(&data, place, source, out)?;
    let at: Vec<Option<usize>> =
        source.slices.iter().map(|by| columns.iter().position(|column| column.name == by.text)).collect();
    let mut found = Found { columns, at, slices: Counted::new(), rows: 0, too_many: false };
    if found.at.contains(&None) {
        return Some(found);
    }
    let literal = |at: &usize| (*at, found.columns[*at].literal.unwrap_or_default());
    let by: Vec<(usize, Literal)> = found.at.iter().flatten().map(literal).collect();
    let (mut key, mut zero): (Vec<Option<Box<str>>>, Option<RowPlace>) = Default::default();
    let Found { slices, rows, too_many, .. } = &mut found;
    let mut take = |cells: &[Option<&str>], place: RowPlace| {
        *rows += 1;
        key.clear();
        let cell =
            |(at, literal): &(usize, Literal)| cells.get(*at).copied().flatten().map(|text| literal.key(text).into());
        key.extend(by.iter().map(cell));
        if key.iter().flatten().any(|value| value.contains('\0')) {
            zero = zero.or(Some(place));
        }
        match slices.get_mut(key.as_slice()) {
            Some((count, _)) => *count += 1,
            None => {
                slices.insert(key.as_slice().into(), (1, place));
            }
        }
        *too_many = slices.len() > source.at_most;
        !*too_many
    };
    go(data, place, source, &mut take, out)?;
    if let Some(place) = zero {
        let message = "a value with the character U+0000, which no database takes";
        out.push(Diagnostic::at(&codes::BAD_VALUE, place.span(), message));
    }
    Some(found)
}

fn columns(data: &Data, place: RowPlace, source: &InsideSource, out: &mut Diagnostics) -> Option<Vec<DataColumn>> {
    let mut first = |_: &[Option<&str>], _: RowPlace| false;
    // What is wrong with the first row is told when all of them are read.
    let mut said = Diagnostics::new();
    let found = match data {
        Data::Text(file, format, text) => crate::data::text(*file, *format, text, &mut first, &mut said),
        Data::Parquet(bytes) => told(crate::data::parquet(bytes.clone(), place, &mut first), place, source, &mut said),
        Data::Counted(..) => None,
    };
    if found.is_none() {
        out.extend(said);
    }
    found
}

fn go(data: Data, place: RowPlace, source: &InsideSource, each: &mut Each<'_>, out: &mut Diagnostics) -> Option<()> {
    match data {
        Data::Text(file, format, text) => crate::data::text(file, format, text, each, out).map(|_| ()),
        Data::Parquet(bytes) => told(crate::data::parquet(bytes, place, each), place, source, out).map(|_| ()),
        Data::Counted(..) => None,
    }
}

fn told<T>(read: Result<T, String>, place: RowPlace, source: &InsideSource, out: &mut Diagnostics) -> Option<T> {
    read.map_err(|message| {
        let message = format!("`{}`: {message}", source.data.file.text);
        out.push(Diagnostic::at(&codes::UNREADABLE, place.span(), message));
    })
    .ok()
}

/// Reads what an import found.
fn counted(source: &InsideSource, file: FileId, text: &str, out: &mut Diagnostics) -> Option<Found> {
    let mut columns: Option<Vec<DataColumn>> = None;
    let (mut slices, mut rows) = (Counted::new(), 0);
    for (place, line) in lines(file, text) {
        let object = match object(line, Keys::Exact) {
            Ok(object) => object,
            Err(error) => {
                out.push(not_json(file, text, place.start as usize, &error));
                return None;
            }
        };
        let read = match &columns {
            None => head(&object).map(|found| columns = Some(found)),
            Some(_) => slice(source, &object).map(|(values, count)| {
                rows += count;
                slices.insert(values, (count, place));
            }),
        };
        if read.is_none() {
            let message = "this is not what an import writes of a table";
            let help = format!("to have it written anew, run `bastide import {} --write`", source.dataset.text);
            out.push(Diagnostic::at(&codes::BAD_ROW, place.span(), message).help(help));
            return None;
        }
    }
    let Some(columns) = columns else {
        let message = format!("nothing is known of the table yet: `{}` is empty", source.data.file.text);
        let help = format!("to find out, run `bastide import {} --write`", source.dataset.text);
        out.push(Diagnostic::at(&codes::MISSING_VALUE, source.data.file.span, message).help(help));
        return None;
    };
    let at = source.slices.iter().map(|by| columns.iter().position(|column| column.name == by.text)).collect();
    Some(Found { columns, at, too_many: slices.len() > source.at_most, slices, rows })
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

fn slice(source: &InsideSource, object: &serde_json::Map<String, Value>) -> Option<(SliceKey, u64)> {
    let values = object.get("values")?.as_array()?;
    let value = |value: &Value| match value {
        Value::Null => Some(None),
        Value::String(text) => Some(Some(Box::from(text.as_str()))),
        _ => None,
    };
    let values: Vec<Option<Box<str>>> = values.iter().map(value).collect::<Option<_>>()?;
    (values.len() == source.slices.len()).then_some((values.into(), object.get("rows")?.as_u64()?))
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
        let mut distinct: Vec<HashSet<&Option<Box<str>>>> = vec![HashSet::new(); source.slices.len()];
        for values in found.slices.keys() {
            distinct.iter_mut().zip(values.iter()).for_each(|(known, value)| {
                known.insert(value);
            });
        }
        let most = distinct.iter().zip(&source.slices).max_by_key(|(values, _)| values.len());
        let message = format!("more than {} combinations of values occur: so many slices are not kept", source.at_most);
        let mut told = Diagnostic::at(&codes::CUT_OFF, source.dataset.span, message);
        if let Some((values, by)) = most {
            let help =
                format!("tell rows apart by what rules ask for: `{}` alone has {} values", by.text, values.len());
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
    // In one order, whatever that of the rows.
    let mut slices: Vec<(SliceKey, (u64, RowPlace))> =
        if source.slices.is_empty() { Vec::new() } else { found.slices.into_iter().collect() };
    slices.sort_unstable_by(|(a, _), (b, _)| a.cmp(b));
    let layout = CatalogSink::layout(&fields);
    let ours: Vec<&str> = source.slices.iter().map(|by| source.data.ours(&by.text)).collect();
    let mut cells = LooseCells { texts: vec![String::new(); fields.len()], place };
    cells.texts[1].clone_from(&inside.dataset);
    cells.texts[2].push_str(SLICE);
    for (values, (count, at)) in slices {
        let texts: Vec<Option<&str>> = values.iter().map(|value| value.as_deref()).collect();
        cells.place = at;
        cells.texts[3] = inside.slice_name(&texts);
        cells.texts[0] = format!("{}#{}", inside.dataset, cells.texts[3]);
        for (cell, (ours, text)) in cells.texts[4..].iter_mut().zip(ours.iter().zip(&texts)) {
            cell.clear();
            match text.and_then(|text| source.data.value(ours, false, text)) {
                Some(word) => *cell = word,
                None => cell.push_str(text.unwrap_or_default()),
            }
        }
        let last = cells.texts.len() - 1;
        cells.texts[last].clear();
        let _ = write!(cells.texts[last], "{count}");
        catalog.many(&layout, &cells, out);
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
