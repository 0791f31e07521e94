//! An estate in memory: people, groups, the tree of resources, and the typed policy. Dense ids,
//! interned values, columns. Knows nothing of how any of it was read or is shown.
#![warn(clippy::print_stdout)]

pub mod catalog;
pub mod column;
pub mod condition;
pub mod elements;
pub mod estate;
pub mod graph;
pub mod groups;
pub mod ids;
pub mod labels;
pub mod moment;
pub mod people;
pub mod proof;
pub mod rows;
pub mod schema;
pub mod statement;
pub mod strings;
pub mod tidy;
pub mod truth;
pub mod value;

pub use catalog::{Catalog, Source};
pub use estate::{Combining, Estate};
pub use groups::{Groups, Member};
pub use ids::*;
pub use moment::Moment;
pub use people::People;
pub use schema::Schema;
pub use statement::{Modality, Reach, Statement};
pub use truth::Truth;
pub use value::{Datum, Value};
