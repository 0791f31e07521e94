//! Values of the estate as typed columns.

use bastide_model::schema::{Attribute, Scalar};
use bastide_model::{Schema as Vocabulary, Value};
use datafusion::arrow::array::{
    ArrayRef, BooleanBuilder, Date32Builder, Float64Builder, ListBuilder, StringArray, StringBuilder,
};
use datafusion::arrow::datatypes::{DataType, Field};
use jiff::civil::Date;
use rust_decimal::prelude::ToPrimitive;
use std::sync::Arc;

/// The type of an attribute's column: sets are lists.
pub fn attribute_type(attribute: &Attribute) -> DataType {
    let scalar = match attribute.scalar {
        Scalar::Number => DataType::Float64,
        Scalar::Date => DataType::Date32,
        Scalar::Flag => DataType::Boolean,
        Scalar::Text | Scalar::Named(_) | Scalar::Kind | Scalar::UserKind | Scalar::State => DataType::Utf8,
    };
    match attribute.set {
        true => DataType::List(Arc::new(Field::new_list_field(scalar, true))),
        false => scalar,
    }
}

/// Days since the first of January 1970.
pub fn days(date: Date) -> i32 {
    let epoch = Date::constant(1970, 1, 1);
    // Both lie in the calendar, so the days between them do.
    epoch.until(date).map_or(0, |span| span.get_days())
}

/// The values of an attribute as a column.
pub fn attribute_values<'v>(
    vocabulary: &Vocabulary,
    attribute: &Attribute,
    values: impl Iterator<Item = Option<&'v Value>>,
) -> ArrayRef {
    macro_rules! column {
        ($builder:expr, $read:expr) => {{
            let read = $read;
            if attribute.set {
                let mut list = ListBuilder::new($builder);
                for value in values {
                    if let Some(Value::Set(elements)) = value {
                        elements.iter().for_each(|element| list.values().append_option(read(element)));
                    }
                    list.append(matches!(value, Some(Value::Set(_))));
                }
                Arc::new(list.finish()) as ArrayRef
            } else {
                let mut column = $builder;
                values.for_each(|value| column.append_option(value.and_then(|value| read(value))));
                Arc::new(column.finish()) as ArrayRef
            }
        }};
    }
    match attribute.scalar {
        Scalar::Number => column!(Float64Builder::new(), |value: &Value| match value {
            Value::Number(number) => number.to_f64(),
            _ => None,
        }),
        Scalar::Date => column!(Date32Builder::new(), |value: &Value| match value {
            Value::Date(date) => Some(days(*date)),
            _ => None,
        }),
        Scalar::Flag => column!(BooleanBuilder::new(), |value: &Value| match value {
            Value::Flag(flag) => Some(*flag),
            _ => None,
        }),
        Scalar::Text | Scalar::Named(_) | Scalar::Kind | Scalar::UserKind | Scalar::State => {
            column!(StringBuilder::new(), |value: &Value| Some(vocabulary.show(value)))
        }
    }
}

/// The name of an attribute's column in a table that has columns of its own.
pub fn attribute_name(own: &[&str], attribute: &str) -> String {
    if own.contains(&attribute) { format!("attribute_{attribute}") } else { attribute.to_string() }
}

/// Texts as a column.
pub fn texts<'t>(texts: impl Iterator<Item = &'t str>) -> ArrayRef {
    Arc::new(StringArray::from_iter_values(texts))
}

/// Texts that may be missing as a column.
pub fn some_texts<T: AsRef<str>>(texts: impl Iterator<Item = Option<T>>) -> ArrayRef {
    Arc::new(StringArray::from_iter(texts))
}
