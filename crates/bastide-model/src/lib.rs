//! An estate in memory: people, groups, the tree of resources, and the typed policy. Dense ids,
//! interned values, columns. Knows nothing of how any of it was read.
//!
//! An [`Estate`] holds [`People`], [`Groups`], the [`Catalog`] of resources and the [`Statement`]s in
//! policy order; all are looked up by dense ids. Conditions have three answers ([`Truth`]):
//!
//! ```
//! use bastide_model::Truth;
//!
//! // What is not known decides nothing by itself:
//! // a permission wants true, a restriction anything but false.
//! let label_is_known = Truth::Unknown;
//! assert_eq!(label_is_known.and(Truth::False), Truth::False);
//! assert!(!label_is_known.and(Truth::True).is_true());
//! assert!(label_is_known.or(Truth::False).not_false());
//! ```
#![warn(clippy::print_stdout)]

pub mod catalog;
pub mod column;
pub mod condition;
pub mod distinct;
pub mod elements;
pub mod estate;
pub mod graph;
pub mod groups;
pub mod ids;
pub mod inside;
pub mod labels;
pub mod moment;
pub mod patterns;
pub mod people;
pub mod proof;
pub mod rows;
pub mod schema;
pub mod show;
pub mod sources;
pub mod statement;
pub mod strings;
pub mod tidy;
pub mod truth;
pub mod value;

pub use catalog::Catalog;
pub use estate::{Combining, Estate, EstateParts};
pub use groups::{Groups, Member};
pub use ids::*;
pub use moment::Moment;
pub use people::People;
pub use schema::Schema;
pub use sources::{Source, Sources};
pub use statement::{Modality, Reach, Statement};
pub use truth::Truth;
pub use value::{Datum, Value};
