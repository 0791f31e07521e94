//! The moment asked about: a date and a session. Time never comes from a clock here.

use crate::schema::Schema;
use crate::value::Value;
use jiff::civil::Date;

/// A date and what is known of the session.
#[derive(Clone, PartialEq, Debug)]
pub struct Moment {
    /// The day.
    pub date: Date,
    /// One place a session attribute; none: missing. Defaults are applied.
    pub session: Vec<Option<Value>>,
}

impl Moment {
    /// A session in which only defaults are known.
    pub fn on(date: Date, schema: &Schema) -> Moment {
        let session = schema.session_attributes.iter().map(|a| a.default.clone()).collect();
        Moment { date, session }
    }
}
