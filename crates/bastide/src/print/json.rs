//! JSON with the name of its schema on top.

use bastide_syntax::escaped_json;
use serde::Serialize;
use serde_json::{Value, json};

/// A value as JSON, its schema's name first, then what it says of itself.
pub fn document(schema: &str, about: &impl Serialize, value: &impl Serialize) -> String {
    let mut top = serde_json::Map::new();
    top.insert("schema".to_string(), json!(format!("bastide.{schema}/1")));
    top.insert("about".to_string(), json!(about));
    match serde_json::to_value(value) {
        Ok(Value::Object(fields)) => top.extend(fields),
        Ok(other) => drop(top.insert("value".to_string(), other)),
        Err(error) => unreachable!("plain values always serialise: {error}"),
    }
    let mut text = serde_json::to_string_pretty(&Value::Object(top)).unwrap_or_default();
    text.push('\n');
    escaped_json(&text).into_owned()
}
