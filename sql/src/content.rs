//! The catalog as a table, a piece at a time.

use crate::columns::{attribute_name, attribute_type, attribute_values, some_texts, texts};
use crate::ground::View;
use bastide_model::schema::Travel;
use bastide_model::{Estate, ResourceId, Value};
use datafusion::arrow::array::{ArrayRef, BooleanArray, Int32Array, RecordBatch, RecordBatchOptions};
use datafusion::arrow::datatypes::{DataType, Field, Schema, SchemaRef};
use datafusion::error::Result;
use std::sync::Arc;

/// Columns of its own, before those of attributes.
const OWN: [&str; 9] = ["id", "path", "name", "kind", "parent", "owner", "state", "depth", "inherits"];

/// What is before the name of an attribute that travels, where its own value is meant.
const OWN_VALUE: &str = "own_";

/// The columns: of an attribute that travels the value that holds, and the resource's own.
pub fn schema(estate: &Estate) -> SchemaRef {
    let field = |name: &str| match name {
        "depth" => Field::new(name, DataType::Int32, false),
        "inherits" => Field::new(name, DataType::Boolean, false),
        _ => Field::new(name, DataType::Utf8, matches!(name, "parent" | "owner" | "state")),
    };
    let mut fields: Vec<Field> = OWN.into_iter().map(field).collect();
    for attribute in &estate.schema().resource_attributes {
        let name = attribute_name(&OWN, &attribute.name);
        let of = attribute_type(attribute);
        fields.push(Field::new(&name, of.clone(), true));
        if attribute.travel != Travel::Stays {
            fields.push(Field::new(format!("{OWN_VALUE}{name}"), of, true));
        }
    }
    Arc::new(Schema::new(fields))
}

/// Some columns of some resources.
///
/// # Errors
/// None that is known: a column would have another type than it says.
pub fn rows(view: &View, schema: &SchemaRef, projection: &[usize], resources: &[ResourceId]) -> Result<RecordBatch> {
    let estate = view.snapshot.estate();
    let projected = Arc::new(schema.project(projection)?);
    let columns: Vec<ArrayRef> =
        projected.fields().iter().map(|field| column(estate, field.name(), resources)).collect();
    let options = RecordBatchOptions::new().with_row_count(Some(resources.len()));
    Ok(RecordBatch::try_new_with_options(projected, columns, &options)?)
}

fn column(estate: &Estate, name: &str, resources: &[ResourceId]) -> ArrayRef {
    let catalog = estate.catalog();
    let all = || resources.iter().copied();
    let show = |value: &Value| estate.schema().show(value);
    match name {
        "id" => texts(all().map(|r| catalog.id(r))),
        "path" => some_texts(all().map(|r| Some(catalog.path(r)))),
        "name" => texts(all().map(|r| catalog.name(r))),
        "kind" => texts(all().map(|r| estate.schema().kinds[catalog.kind(r).index()].name.as_str())),
        "parent" => some_texts(all().map(|r| catalog.parent(r).map(|parent| catalog.id(parent)))),
        "owner" => some_texts(all().map(|r| catalog.owners.get(r.index()).map(show))),
        "state" => some_texts(all().map(|r| catalog.states.get(r.index()).map(show))),
        "depth" => Arc::new(all().map(|r| Some(i32::from(catalog.depth(r)))).collect::<Int32Array>()),
        "inherits" => Arc::new(all().map(|r| Some(!catalog.barriers.contains(r.index()))).collect::<BooleanArray>()),
        name => {
            let attributes = &estate.schema().resource_attributes;
            let of = |name: &str| attributes.iter().position(|a| attribute_name(&OWN, &a.name) == name);
            let (at, column) = match of(name) {
                Some(at) => (at, Some(&catalog.attributes[at])),
                None => {
                    let at = name.strip_prefix(OWN_VALUE).and_then(of).unwrap_or_default();
                    (at, catalog.own[at].as_ref())
                }
            };
            let value = |r: ResourceId| column.and_then(|column| column.get(r.index()));
            attribute_values(estate.schema(), &attributes[at], all().map(value))
        }
    }
}
