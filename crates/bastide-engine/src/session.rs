//! Session values from text, as `NAME=VALUE` gives them.

use bastide_model::schema::{Attribute, Scalar};
use bastide_model::*;
use bastide_syntax::nearest::nearest;

/// Something wrong with a session value. Facts only; the caller gives advice.
#[derive(Debug, thiserror::Error)]
pub enum SessionError {
    /// No session attribute has the name.
    #[error("the session has no attribute `{name}`")]
    Unknown {
        /// As given.
        name: String,
        /// The nearest declared one.
        near: Option<String>,
    },
    /// The value is not of the attribute's type.
    #[error("`{name}`: {message}")]
    Value {
        /// The attribute.
        name: String,
        /// What was expected.
        message: String,
    },
    /// Two values for an attribute that is no set.
    #[error("`{name}` holds one value and is given twice")]
    Twice {
        /// The attribute.
        name: String,
    },
}

/// The moment of a date and of given session values; several for one set attribute add up.
///
/// # Errors
/// An unknown name, a value of another type, two values for a single one.
pub fn moment(schema: &Schema, date: jiff::civil::Date, given: &[(String, String)]) -> Result<Moment, SessionError> {
    let mut moment = Moment::on(date, schema);
    let mut sets: Vec<Vec<Value>> = vec![Vec::new(); schema.session_attributes.len()];
    let mut set_already = vec![false; schema.session_attributes.len()];
    for (name, text) in given {
        let Some(id) = schema.session_attribute(name) else {
            let known = schema.session_attributes.iter().map(|a| a.name.as_str());
            return Err(SessionError::Unknown { name: name.clone(), near: nearest(name, known).map(str::to_string) });
        };
        let attribute: &Attribute = &schema.session_attributes[id.index()];
        let scalar: Scalar = attribute.scalar;
        let value = schema.read(scalar, text).map_err(|message| SessionError::Value { name: name.clone(), message })?;
        if attribute.set {
            sets[id.index()].push(value);
            moment.give(id, Some(Value::set(sets[id.index()].iter().cloned())));
        } else if std::mem::replace(&mut set_already[id.index()], true) {
            return Err(SessionError::Twice { name: name.clone() });
        } else {
            moment.give(id, Some(value));
        }
    }
    Ok(moment)
}
