//! JSON in which nothing is settled in silence: a key that stands twice in an object is an error, however deep.

use rust_decimal::Decimal;
use serde::de::{DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Value};
use std::collections::HashSet;
use std::fmt;

/// How keys are compared.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Keys {
    /// As they are written.
    Exact,
    /// Without case (RFC 7643, 2.1).
    Caseless,
}

/// The object that a text is.
///
/// # Errors
/// It is no object, an object in it has a key twice, or a number in it cannot be held exactly.
pub fn object(text: &str, keys: Keys) -> serde_json::Result<Map<String, Value>> {
    check(text, keys)?;
    if let Some(number) = inexact(text) {
        return Err(serde::de::Error::custom(format!("the number `{number}` cannot be held exactly")));
    }
    serde_json::from_str(text)
}

/// A number in a JSON text that is another one once it is read.
fn inexact(text: &str) -> Option<&str> {
    let bytes = text.as_bytes();
    let mut at = 0;
    while at < bytes.len() {
        match bytes[at] {
            b'"' => {
                at += 1;
                while at < bytes.len() && bytes[at] != b'"' {
                    at += if bytes[at] == b'\\' { 2 } else { 1 };
                }
                at += 1;
            }
            b'-' | b'0'..=b'9' => {
                let is_part = |b: &u8| matches!(b, b'0'..=b'9' | b'+' | b'-' | b'.' | b'e' | b'E');
                let length = bytes[at..].iter().take_while(|b| is_part(b)).count();
                let number = &text[at..at + length];
                if !is_exact(number) {
                    return Some(number);
                }
                at += length;
            }
            _ => at += 1,
        }
    }
    None
}

fn is_exact(number: &str) -> bool {
    if number.parse::<i64>().is_ok() || number.parse::<u64>().is_ok() {
        return true;
    }
    let decimal = |text: &str| match text.contains(['e', 'E']) {
        true => Decimal::from_scientific(text).ok(),
        false => Decimal::from_str_exact(text).ok(),
    };
    let read = serde_json::from_str::<Value>(number).ok().map(|read| read.to_string());
    matches!((decimal(number), read.and_then(|read| decimal(&read))), (Some(written), Some(read)) if written == read)
}

/// Looks for keys that stand twice.
///
/// # Errors
/// There is one, or the text is no JSON.
pub fn check(text: &str, keys: Keys) -> serde_json::Result<()> {
    let mut reader = serde_json::Deserializer::from_str(text);
    Once(keys).deserialize(&mut reader)?;
    reader.end()
}

#[derive(Clone, Copy)]
struct Once(Keys);

impl<'de> DeserializeSeed<'de> for Once {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Once {
    type Value = ();

    fn expecting(&self, formatter: &mut fmt::Formatter) -> fmt::Result {
        formatter.write_str("JSON")
    }

    fn visit_bool<E>(self, _: bool) -> Result<(), E> {
        Ok(())
    }

    fn visit_i64<E>(self, _: i64) -> Result<(), E> {
        Ok(())
    }

    fn visit_u64<E>(self, _: u64) -> Result<(), E> {
        Ok(())
    }

    fn visit_f64<E>(self, _: f64) -> Result<(), E> {
        Ok(())
    }

    fn visit_str<E>(self, _: &str) -> Result<(), E> {
        Ok(())
    }

    fn visit_unit<E>(self) -> Result<(), E> {
        Ok(())
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<(), A::Error> {
        while list.next_element_seed(self)?.is_some() {}
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(self, mut object: A) -> Result<(), A::Error> {
        let mut seen = HashSet::new();
        while let Some(key) = object.next_key::<String>()? {
            let compared = if self.0 == Keys::Caseless { key.to_lowercase() } else { key.clone() };
            if !seen.insert(compared) {
                let shown = bastide_syntax::visible(&key);
                return Err(serde::de::Error::custom(format!("the key `{shown}` stands twice in one object")));
            }
            object.next_value_seed(self)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_stands_once() {
        assert!(object(r#"{"a": [{"b": 1}, {"b": 2.5}], "B": null, "b": "x", "c": true}"#, Keys::Exact).is_ok());
        for text in [r#"{"a": 1, "a": 1}"#, r#"{"x": [{"a": 1, "\u0061": 2}]}"#] {
            let error = object(text, Keys::Exact).unwrap_err().to_string();
            assert!(error.starts_with("the key `a` stands twice in one object"), "{error}");
        }
        assert!(object(r#"{"active": true, "Active": false}"#, Keys::Exact).is_ok());
        assert!(object(r#"{"active": true, "Active": false}"#, Keys::Caseless).is_err());
    }

    #[test]
    fn numbers_are_what_is_written() {
        for text in ["0", "-1.5", "1e3", "18446744073709551615", "2.50", "0.1", "1E-7", "\"1e999\""] {
            assert!(object(&format!("{{\"n\": {text}}}"), Keys::Exact).is_ok(), "{text}");
        }
        for text in
            ["12345678901234567890.123456789", "1e999", "123456789012345678901234567890", "[0.12345678901234567891]"]
        {
            assert!(object(&format!("{{\"a\\\\\": {text}}}"), Keys::Exact).is_err(), "{text}");
        }
    }
}
