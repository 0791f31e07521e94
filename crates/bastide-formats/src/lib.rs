//! The files of an estate: what is read (manifest, policy, CSV, JSON Lines, LDIF, SCIM) becomes the
//! rows and trees that the engine links. Every mistake is a diagnostic at its place; no reader panics.
#![warn(clippy::print_stdout)]

pub mod activity;
pub mod catalog;
pub mod csv_table;
pub mod entries;
pub mod farewell;
pub mod groups;
pub mod json;
pub mod junit;
pub mod ldif;
pub mod load;
pub mod manifest;
pub mod parquet;
pub mod people;
pub mod sarif;
pub mod scim;
pub mod sheets;
pub mod store;
pub mod stray;
pub mod strict;
pub mod text;
pub mod untidy;
pub mod usage;
pub mod write;

pub use load::{Loaded, PolicyFiles, load, load_as_of, load_from, policy_files};
