//! JSON with the name of its schema on top.

use bastide_syntax::escaped_json;
use serde::Serialize;
use std::borrow::Cow;

/// An answer: its schema's name first, then what it says of itself, then its own fields.
#[derive(Serialize)]
struct Document<'d, A, V> {
    schema: String,
    about: &'d A,
    #[serde(flatten)]
    value: &'d V,
}

/// A value with fields as JSON, its schema's name first, then what it says of itself.
pub fn document(schema: &str, about: &impl Serialize, value: &impl Serialize) -> String {
    let document = Document { schema: format!("bastide.{schema}/1"), about, value };
    let mut text = serde_json::to_string_pretty(&document).expect("plain values with fields always serialise");
    text.push('\n');
    let escaped = match escaped_json(&text) {
        Cow::Borrowed(_) => None,
        Cow::Owned(escaped) => Some(escaped),
    };
    escaped.unwrap_or(text)
}
