//! Answers for programs (`bastide.NAME/1`): what is published as JSON, and what its schemas are made from.
//!
//! They are types of their own, apart from the engine's. Who renames a field there does not change what programs read: it does
//! not compile before [`answer!`] is told where the value comes from now. Nothing is computed here; an answer is made from a
//! reference to the engine's value, and copies it.
//!
//! | module | answers about |
//! |---|---|
//! | [`access`] | who can do what: a person, a place, a table, a statement, totals, two people side by side |
//! | [`explain`] | one decision |
//! | [`difference`] | what changes |
//! | [`remedy`] | what would turn a decision |
//! | [`prove`] | what must always hold |
//! | [`audit`] | what is wrong |
//!
//! ```
//! use bastide_answers::difference::Radius;
//!
//! let found = bastide_engine::difference::Radius { users: 2, resources: 3, gained: 6, lost: 0 };
//! let answer = Radius::from(&found);
//! assert_eq!(serde_json::to_string(&answer).unwrap(), r#"{"users":2,"resources":3,"gained":6,"lost":0}"#);
//! ```
#![warn(clippy::print_stdout)]

pub mod access;
pub mod audit;
pub mod difference;
pub mod explain;
pub mod prove;
pub mod remedy;

use serde_json::{Map, Value};
use std::collections::BTreeMap;
use std::sync::Arc;

/// What has an answer for programs.
pub trait Tell<Answer> {
    /// The answer.
    fn tell(&self) -> Answer;
}

macro_rules! as_it_is {
    ($($type:ty)*) => { $(
        impl Tell<$type> for $type {
            fn tell(&self) -> $type {
                self.clone()
            }
        }
    )* };
}

as_it_is! { String bool u16 u32 u64 usize f64 }

impl Tell<String> for Arc<str> {
    fn tell(&self) -> String {
        self.to_string()
    }
}

impl<A: Tell<B>, B> Tell<Vec<B>> for Vec<A> {
    fn tell(&self) -> Vec<B> {
        self.iter().map(Tell::tell).collect()
    }
}

impl<A: Tell<B>, B> Tell<Option<B>> for Option<A> {
    fn tell(&self) -> Option<B> {
        self.as_ref().map(Tell::tell)
    }
}

impl<A: Tell<B>, B> Tell<Box<B>> for Box<A> {
    fn tell(&self) -> Box<B> {
        Box::new((**self).tell())
    }
}

impl<A: Tell<B>, B, const N: usize> Tell<[B; N]> for [A; N] {
    fn tell(&self) -> [B; N] {
        self.each_ref().map(Tell::tell)
    }
}

impl<A: Tell<C>, B: Tell<D>, C, D> Tell<(C, D)> for (A, B) {
    fn tell(&self) -> (C, D) {
        (self.0.tell(), self.1.tell())
    }
}

/// Counts by name, in the order of the list.
impl Tell<Map<String, Value>> for Vec<(String, u64)> {
    fn tell(&self) -> Map<String, Value> {
        self.iter().map(|(name, count)| (name.clone(), Value::from(*count))).collect()
    }
}

impl<A: Tell<B>, B> Tell<BTreeMap<String, B>> for BTreeMap<String, A> {
    fn tell(&self) -> BTreeMap<String, B> {
        self.iter().map(|(name, value)| (name.clone(), value.tell())).collect()
    }
}

/// Declares answers, each of another type, as `pub struct Answer of path::Type { .. }` or `pub enum Answer of path::Type { .. }`:
/// with the same fields or variants, of which none may be left out, and with [`From`] a reference to that type.
#[macro_export]
macro_rules! answer {
    () => {};
    (
        $(#[$meta:meta])*
        pub struct $name:ident of $from:ty { $($(#[$about:meta])* pub $field:ident: $type:ty),* $(,)? }
        $($rest:tt)*
    ) => {
        #[derive(Clone, Debug, serde::Serialize, schemars::JsonSchema)]
        $(#[$meta])*
        pub struct $name { $($(#[$about])* pub $field: $type),* }

        impl From<&$from> for $name {
            fn from(of: &$from) -> $name {
                type Of = $from;
                let Of { $($field),* } = of;
                $name { $($field: $crate::Tell::tell($field)),* }
            }
        }

        impl $crate::Tell<$name> for $from {
            fn tell(&self) -> $name {
                $name::from(self)
            }
        }

        $crate::answer! { $($rest)* }
    };
    (
        $(#[$meta:meta])*
        pub enum $name:ident of $from:ty { $($(#[$about:meta])* $variant:ident),* $(,)? }
        $($rest:tt)*
    ) => {
        #[derive(Clone, Copy, Debug, serde::Serialize, schemars::JsonSchema)]
        $(#[$meta])*
        pub enum $name { $($(#[$about])* $variant),* }

        impl From<&$from> for $name {
            fn from(of: &$from) -> $name {
                type Of = $from;
                match of { $(Of::$variant => $name::$variant),* }
            }
        }

        impl $crate::Tell<$name> for $from {
            fn tell(&self) -> $name {
                $name::from(self)
            }
        }

        $crate::answer! { $($rest)* }
    };
}
