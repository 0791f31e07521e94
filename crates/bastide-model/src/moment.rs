//! The moment asked about: a date and a session. Time never comes from a clock here.

use crate::ids::{SessionAttributeId, UserId};
use crate::people::People;
use crate::schema::Schema;
use crate::value::Value;
use jiff::civil::Date;

/// A date and what is known of the session.
#[derive(Clone, PartialEq, Debug)]
pub struct Moment {
    /// The day.
    pub date: Date,
    /// One place a session attribute; none: missing. Defaults are applied.
    session: Vec<Option<Value>>,
    /// Of which attributes the value was given: it holds for everybody, however they sign in.
    given: Vec<bool>,
}

impl Moment {
    /// A session of which nothing is given: users are as they sign in, as far as the estate knows it, and otherwise
    /// defaults hold.
    pub fn on(date: Date, schema: &Schema) -> Moment {
        let session: Vec<_> = schema.session_attributes.iter().map(|a| a.default.clone()).collect();
        Moment { date, given: vec![false; session.len()], session }
    }

    /// The same session on another day.
    pub fn on_day(&self, date: Date) -> Moment {
        Moment { date, ..self.clone() }
    }

    /// Gives an attribute a value, or none, for everybody.
    pub fn give(&mut self, attribute: SessionAttributeId, value: Option<Value>) {
        self.session[attribute.index()] = value;
        self.given[attribute.index()] = true;
    }

    /// Whether an attribute was given, and is the same for everybody.
    pub fn is_given(&self, attribute: SessionAttributeId) -> bool {
        self.given[attribute.index()]
    }

    /// The value of an attribute that was given, or its default.
    pub fn value(&self, attribute: SessionAttributeId) -> Option<&Value> {
        self.session[attribute.index()].as_ref()
    }

    /// The value of an attribute in the session of a user: the given one, or that of the user's sign-in.
    pub fn value_for<'v>(
        &'v self,
        people: &'v People,
        attribute: SessionAttributeId,
        user: UserId,
    ) -> Option<&'v Value> {
        match people.sign_in(attribute) {
            Some(column) if !self.is_given(attribute) => column.get(user.index()),
            _ => self.value(attribute),
        }
    }
}
