//! Literals as values of a type.

use bastide_model::schema::{Scalar, read_date};
use bastide_model::value::Value;
use bastide_model::*;
use bastide_syntax::nearest::nearest;
use bastide_syntax::tree::{Literal, LiteralBody};
use bastide_syntax::{Diagnostic, Span, codes};

/// A literal as a value of a type.
///
/// # Errors
/// What was expected; for a choice or a scale with the nearest value.
pub(crate) fn literal(schema: &Schema, scalar: Scalar, written: &Literal) -> Result<Value, Diagnostic> {
    let mismatch = |help: Option<String>| {
        let expected = match scalar {
            Scalar::Named(_) => format!("a value of type `{}`", schema.type_name(scalar)),
            Scalar::Number | Scalar::Date | Scalar::Flag => format!("a {}", schema.type_name(scalar)),
            _ => schema.type_name(scalar),
        };
        let diagnostic = Diagnostic::at(
            &codes::TYPE_MISMATCH,
            written.span,
            format!("expected {expected}, found {}", shown(written)),
        );
        match help {
            Some(help) => diagnostic.help(help),
            None => diagnostic,
        }
    };
    match (scalar, &written.body) {
        (Scalar::Text, LiteralBody::Text(text)) => Ok(Value::Text(text.text.as_str().into())),
        (Scalar::Text, LiteralBody::Word(word)) => {
            Err(mismatch(Some(format!("a text is quoted: `{}`", bastide_syntax::quote::text(word)))))
        }
        (Scalar::Number, LiteralBody::Number(number)) => {
            schema.read(scalar, number).map_err(|message| Diagnostic::at(&codes::BAD_VALUE, written.span, message))
        }
        (Scalar::Date, LiteralBody::Date(date)) => match read_date(date) {
            Some(date) => Ok(Value::Date(date)),
            None => Err(bad_date(date, written.span)),
        },
        (Scalar::Flag, LiteralBody::Word(word)) if word == "yes" || word == "no" => Ok(Value::Flag(word == "yes")),
        (Scalar::State | Scalar::UserKind, LiteralBody::Word(word)) => word_value(schema, scalar, word, written.span),
        (Scalar::State | Scalar::UserKind, LiteralBody::Text(text)) => {
            word_value(schema, scalar, &text.text, written.span)
        }
        (Scalar::Named(id), LiteralBody::Word(word)) => step(schema, id, word, written.span),
        (Scalar::Named(id), LiteralBody::Text(text)) => step(schema, id, &text.text, written.span),
        _ => Err(mismatch(None)),
    }
}

pub(crate) fn bad_date(date: &str, span: Span) -> Diagnostic {
    Diagnostic::at(&codes::BAD_DATE, span, format!("the calendar has no {date}"))
}

fn word_value(schema: &Schema, scalar: Scalar, word: &str, span: Span) -> Result<Value, Diagnostic> {
    schema.read(scalar, word).map_err(|message| {
        Diagnostic::at(&codes::UNKNOWN_VALUE, span, message).suggest(nearest(word, bastide_model::schema::USER_KINDS))
    })
}

pub(crate) fn step(schema: &Schema, id: TypeId, word: &str, span: Span) -> Result<Value, Diagnostic> {
    schema.step(id, word).ok_or_else(|| {
        let of = &schema.types[id.index()];
        let values: Vec<&str> = of.values.iter().map(String::as_str).collect();
        Diagnostic::at(&codes::UNKNOWN_VALUE, span, format!("`{word}` is no value of type `{}`", of.name))
            .suggest(nearest(word, values.iter().copied()))
            .note(format!("its values are {}", values.join(", ")))
    })
}

pub(crate) fn shown(literal: &Literal) -> String {
    match &literal.body {
        LiteralBody::Text(text) => format!("the text {}", bastide_syntax::quote::text(&text.text)),
        LiteralBody::Number(number) => format!("the number {number}"),
        LiteralBody::Date(date) => format!("the date {date}"),
        LiteralBody::Word(word) => format!("`{word}`"),
    }
}
